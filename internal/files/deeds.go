package files

import (
	"sync/atomic"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// Deed is what somebody did over the wire, or was refused.
type Deed struct {
	Kind   DeedKind
	User   identity.ID // 0: nobody in the records, who came with UID
	UID    uint32
	Via    site.Protocol
	From   string      // the client's address
	Path   string      // folder and path
	Target string      // what it was renamed to, likewise
	Gate   access.Gate // that refused
}

// DeedKind says what a Deed is.
type DeedKind string

// The kinds of Deed. Reads and writes are told of in folders that ask for it, when a file is first
// read or written by somebody who has it open; who took something away, or renamed it, is told of everywhere.
const (
	Refused DeedKind = "refused"
	Read    DeedKind = "read"
	Wrote   DeedKind = "wrote"
	Removed DeedKind = "removed"
	Renamed DeedKind = "renamed"
)

// Witness is told of deeds. Saw must not wait for anything.
type Witness interface{ Saw(Deed) }

// TellOf sets who is told of deeds; before anything is served.
func (n *Namespace) TellOf(w Witness) { n.witness = w }

// tell reports a deed of the view's subject.
func (v view) tell(kind DeedKind, path string, gate access.Gate) {
	if v.witness == nil || (kind == Read || kind == Wrote) && !v.folder.LogAccess {
		return
	}
	v.tellOf(Deed{Kind: kind, Path: v.display(path), Gate: gate})
}

// gone tells who has taken something away.
func (v view) gone(path string) { v.tell(Removed, path, access.Open) }

// carried tells who has renamed something.
func (v view) carried(from, to string) {
	if v.witness != nil {
		v.tellOf(Deed{Kind: Renamed, Path: v.display(from), Target: v.display(to), Gate: access.Open})
	}
}

// tellOf tells of a deed of the view's subject.
func (v view) tellOf(d Deed) {
	d.User, d.Via, d.From = v.sub.User, v.sub.Via, v.sub.From
	if g := v.sub.Guest; g != nil {
		d.UID, d.From = g.Said.UID, g.Origin.Address.String()
		if v.nfs != nil {
			d.User = v.nfs.User
		}
	}
	v.witness.Saw(d)
}

// refuse is the error for what a verdict withholds on a path.
func (v view) refuse(gate access.Gate, path string) error {
	v.tell(Refused, path, gate)
	return &Denied{Gate: gate, Path: v.display(path)}
}

// did tells once of what is done to an open file.
func (h *Handle) did(kind DeedKind, told *atomic.Bool) {
	if h.ns.witness == nil || told.Load() || told.Swap(true) {
		return
	}
	if v, err := h.ns.view(h.sub, h.share); err == nil {
		v.tell(kind, h.Path(), access.Open)
	}
}
