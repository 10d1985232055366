package files

import (
	"sync/atomic"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// Deed is what somebody did over the wire, or was refused.
type Deed struct {
	Kind DeedKind
	User identity.ID // 0: nobody in the records, who came with UID
	UID  uint32
	Via  site.Protocol
	From string      // the client's address
	Path string      // folder and path
	Gate access.Gate // that refused
}

// DeedKind says what a Deed is.
type DeedKind string

// The kinds of Deed. Reads and writes are told of in folders that ask for it, when a file is first
// read or written by somebody who has it open.
const (
	Refused DeedKind = "refused"
	Read    DeedKind = "read"
	Wrote   DeedKind = "wrote"
)

// Witness is told of deeds. Saw must not wait for anything.
type Witness interface{ Saw(Deed) }

// TellOf sets who is told of deeds; before anything is served.
func (n *Namespace) TellOf(w Witness) { n.witness = w }

// tell reports a deed of the view's subject.
func (v view) tell(kind DeedKind, path string, gate access.Gate) {
	if v.witness == nil || kind != Refused && !v.folder.LogAccess {
		return
	}
	d := Deed{Kind: kind, User: v.sub.User, Via: v.sub.Via, From: v.sub.From, Path: v.display(path), Gate: gate}
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
