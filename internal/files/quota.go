package files

import (
	"slices"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// within narrows the room on a volume to what the limits leave the asker at a path: what there is in all is then what they may have
// in all, by the limit that leaves least.
func (v view) within(s Space, path string) Space {
	book := v.ledger.Folder(v.folder.ID)
	if book == nil {
		return s
	}
	who := v.credential()
	o := usage.Owner{UID: who.UID, GID: who.GID, Own: true}
	if r := book.Room(o, path, limit.Bytes); r.Left != nil {
		s.Available = min(s.Available, uint64(*r.Left))
		s.Free = min(s.Free, uint64(*r.Left))
		s.Total = min(s.Total, uint64(*r.Most))
	}
	if r := book.Room(o, path, limit.Files); r.Left != nil {
		s.FreeFiles = min(s.FreeFiles, uint64(*r.Left))
		s.Files = min(s.Files, uint64(*r.Most))
	}
	return s
}

// Space reads the room on a share's volume, as far as the subject may use it.
func (n *Namespace) Space(sub Subject, share string) (Space, error) {
	v, err := n.view(sub, share)
	if err != nil {
		return Space{}, err
	}
	s, err := space(v.folder.At)
	if err != nil {
		return Space{}, err
	}
	return v.within(s, ""), nil
}

// Quota is how a user, or a group, stands in a folder: by the limit that leaves least. Where there is none, Limited is false.
type Quota struct {
	Number  uint32
	Limited bool
	Use     limit.Amount
	limit.Bounds
	// Left is how long the grace still is, where one is running; over is 0.
	Left [limit.Dimensions]time.Duration
}

// quota gives how what a counter of somebody's counts stands.
func (n *Namespace) quota(f *site.PublishedFolder, of limit.Counted, number uint32) Quota {
	q := Quota{Number: number}
	book := n.ledger.Folder(f.ID)
	if book == nil {
		return q
	}
	now := n.ledger.Now()
	q.Use = n.ledger.Use(limit.Counter{Of: of, Number: number, Volume: f.VolumeID, Folder: f.ID})
	least := int64(-1)
	for _, c := range []limit.Counter{{Volume: f.VolumeID, Folder: f.ID}, {Volume: f.VolumeID}, {}} {
		c.Of, c.Number = of, number
		for _, s := range n.ledger.Against(c) {
			left, ok := s.Left(limit.Bytes, now)
			if !ok {
				left = 1<<63 - 1
			}
			if s.Counting || q.Limited && left >= least {
				continue
			}
			least = left
			q = Quota{Number: number, Limited: true, Use: s.Use, Bounds: s.Limit.Bounds}
			for d := range limit.Dimensions {
				if ends, running := s.Ends(d); running {
					q.Left[d] = max(ends.Sub(now), 0)
				}
			}
		}
	}
	return q
}

// UserQuota gives how a uid, as the guest's host has it, stands in the folder of an export: to whoever it is, and to administrators; ErrDenied to others.
func (n *Namespace) UserQuota(g *Guest, uid uint32) (Quota, error) {
	v, err := n.view(g.Subject(), "")
	if err != nil {
		return Quota{}, err
	}
	said := uid
	uid, known := v.numbers().UserHere(said)
	if v.nfs.Rule == nil || !known || v.nfs.Unix.UID != uid && !administers(v.policy, v.nfs.User) {
		return Quota{}, ErrDenied
	}
	q := n.quota(v.folder, limit.Owned, uid)
	q.Number = said
	return q, nil
}

// GroupQuota gives how a gid stands: to its members, and to administrators.
func (n *Namespace) GroupQuota(g *Guest, gid uint32) (Quota, error) {
	v, err := n.view(g.Subject(), "")
	if err != nil {
		return Quota{}, err
	}
	said := gid
	gid, known := v.numbers().GroupHere(said)
	member := v.nfs.Unix.GID == gid || slices.Contains(v.nfs.Unix.Groups, gid)
	if v.nfs.Rule == nil || !known || !member && !administers(v.policy, v.nfs.User) {
		return Quota{}, ErrDenied
	}
	q := n.quota(v.folder, limit.Grouped, gid)
	q.Number = said
	return q, nil
}

func administers(p *site.Policy, user identity.ID) bool {
	u := p.Directory.User(user)
	return u != nil && u.Role == identity.Administrator
}

// Quotas gives how users stand in the folder of a share, in order of their records: all whom there is anything to say of to an
// administrator, and to others themselves.
func (n *Namespace) Quotas(sub Subject, share string) (map[identity.ID]Quota, error) {
	v, err := n.view(sub, share)
	if err != nil {
		return nil, err
	}
	if err := v.require("", false, 0); err != nil {
		return nil, err
	}
	out := make(map[identity.ID]Quota)
	all := administers(v.policy, sub.User)
	for _, u := range v.policy.Directory.Users() {
		if u.ID != sub.User && !all {
			continue
		}
		if q := n.quota(v.folder, limit.Owned, u.UID); q.Limited || q.Use != (limit.Amount{}) || u.ID == sub.User {
			out[u.ID] = q
		}
	}
	return out, nil
}

// Class is what RFC 8881 section 5.8.2 calls the class of an object: what counts together with it for its owner.
type Class struct{ Used, AvailableHard, AvailableSoft uint64 }

// Class gives what may still be added for the owner of the object, where it is; false where nothing bounds it.
func (o *Object) Class() (c Class, bounded bool) {
	book := o.w.v.ledger.Folder(o.w.v.folder.ID)
	if book == nil {
		return c, false
	}
	fd, err := o.descriptor()
	if err != nil {
		return c, false
	}
	now := o.w.v.ledger.Now()
	for _, s := range book.Bearing(o.w.v.unixFacts().countsFor(fd, &o.st), o.path) {
		left, ok := s.Left(limit.Bytes, now)
		if !ok || bounded && uint64(left) >= c.AvailableHard {
			continue
		}
		c, bounded = Class{uint64(max(s.Use.Bytes, 0)), uint64(left), uint64(left)}, true
		if soft, has := s.Limit.Soft(limit.Bytes); has {
			c.AvailableSoft = uint64(max(min(soft-s.Use.Bytes, left), 0))
		}
	}
	return c, bounded
}
