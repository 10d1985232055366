package files

import (
	"sync/atomic"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// AccessEvent is what somebody did over the wire, or was refused.
type AccessEvent struct {
	Kind   AccessKind
	User   identity.ID // 0: nobody in the records, who came with UID
	UID    uint32
	Via    site.Protocol
	From   string      // the client's address
	Path   string      // folder and path
	Target string      // what it was renamed to, likewise
	Gate   access.Gate // that refused
}

// AccessKind says what an AccessEvent is.
type AccessKind string

// The kinds of AccessEvent. Reads and writes are told of in folders that ask for it, when a file is first
// read or written by somebody who has it open; who took something away, or renamed it, is told of everywhere.
const (
	Refused AccessKind = "refused"
	Read    AccessKind = "read"
	Wrote   AccessKind = "wrote"
	Removed AccessKind = "removed"
	Renamed AccessKind = "renamed"
)

// EventSink is told of access events. Saw must not wait for anything.
type EventSink interface {
	Saw(AccessEvent)
	// Arrived is told that a user has come by NFS from an address, where nobody signs in: once for each guest.
	Arrived(user identity.ID, from string)
}

// ReportTo sets who is told of access events; before anything is served.
func (n *Namespace) ReportTo(w EventSink) { n.sink = w }

// tell reports an access event of the view's subject.
func (v view) tell(kind AccessKind, path string, gate access.Gate) {
	if v.sink == nil || (kind == Read || kind == Wrote) && !v.folder.LogAccess {
		return
	}
	v.tellOf(AccessEvent{Kind: kind, Path: v.display(path), Gate: gate})
}

// gone tells who has taken something away.
func (v view) gone(path string) { v.tell(Removed, path, access.Passed) }

// carried tells who has renamed something.
func (v view) carried(from, to string) {
	if v.sink != nil {
		v.tellOf(AccessEvent{Kind: Renamed, Path: v.display(from), Target: v.display(to), Gate: access.Passed})
	}
}

// tellOf tells of an access event of the view's subject.
func (v view) tellOf(d AccessEvent) {
	if v.sub.trial() {
		return
	}
	d.User, d.Via, d.From = v.sub.User, v.sub.Via, v.sub.From
	if g := v.sub.Guest; g != nil {
		d.UID, d.From = g.Said.UID, g.Origin.Address.String()
		if v.nfs != nil {
			d.User = v.nfs.User
		}
	}
	v.sink.Saw(d)
}

// refuse is the error for what a verdict withholds on a path.
func (v view) refuse(gate access.Gate, path string) error {
	v.tell(Refused, path, gate)
	return &Denied{Gate: gate, Path: v.display(path)}
}

// did tells once of what is done to an open file.
func (h *Handle) did(kind AccessKind, told *atomic.Bool) {
	if h.ns.sink == nil || told.Load() || told.Swap(true) {
		return
	}
	if v, err := h.ns.view(h.sub, h.share); err == nil {
		v.tell(kind, h.Path(), access.Passed)
	}
}
