package service

import (
	"context"
	"log/slog"
	"slices"

	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/telling"
)

// stored is what the audit is told of what is stored.
func (s *Service) stored() audit.Stored {
	var out audit.Stored
	p := s.Policy()
	if s.asOf.IsZero() || s.drafting != nil {
		out.Unwritten, out.Away, out.Hashes = s.TroubleSays(), s.awayVolumes(), s.HashesProblem()
		for name, lost := range map[string]error{store.UsesFileName: s.uses.Lost, store.EventsFileName: s.Log.Store().Lost} {
			if lost != nil {
				out.InMemory = append(out.InMemory, name)
			}
		}
		slices.Sort(out.InMemory)
	}
	if s.asOf.IsZero() {
		out.Strangers = s.strangers()
		out.Overdue = s.overdue()
	}
	if !s.asOf.IsZero() && s.drafting == nil || len(p.Limits.Limits) == 0 && s.counts.Aside() == "" && len(s.ledger.Folders()) == 0 {
		return out
	}
	for _, by := range []Subject{ByUser, ByGroup, ByFolder, ByTree} {
		uses, err := s.Uses(context.Background(), by)
		if err != nil {
			continue // it is what the audit is told, and not what it is for
		}
		for _, u := range uses {
			who := u.Name
			if by != ByUser {
				who = string(by) + " " + u.Name
			}
			if by == ByTree {
				who = u.Name
			}
			for _, st := range u.Standings {
				if !st.Counting {
					out.Held = append(out.Held, audit.Held{Who: who, Standing: st})
				}
			}
		}
	}
	for _, u := range p.Directory.Users() {
		if u.Left.IsZero() {
			continue
		}
		use := s.ledger.Use(limit.Counter{Of: limit.Owned, Number: u.UID})
		for _, h := range p.Holdings { // what is kept there is not left behind
			if f := p.Folder(h.FolderID); f != nil && h.UID == u.UID {
				use = use.Minus(s.ledger.Use(limit.Counter{Of: limit.Owned, Number: u.UID, Volume: f.VolumeID, Folder: f.ID}))
				break // by folder, however often somebody left
			}
		}
		if use.Files > 0 {
			out.Left = append(out.Left, audit.LeftBehind{User: u.Name, UID: u.UID, Files: use.Files})
		}
	}
	out.Unheld = s.unheld()
	for _, v := range p.Volumes {
		bears := slices.ContainsFunc(p.Limits.Limits, func(l limit.Limit) bool {
			f := p.Folder(l.Folder)
			return l.Volume == v.ID || f != nil && f.VolumeID == v.ID || l.Volume == 0 && l.Folder == 0 && l.Kind != limit.OfFolder
		})
		holds := false
		for _, f := range p.Folders {
			holds = holds || f.VolumeID == v.ID
		}
		if !v.Counting.On() && bears && holds {
			out.Off = append(out.Off, v.Name)
		}
		out.Promised = append(out.Promised, s.promised(v)...)
	}
	s.untold(&out)
	out.Aside = s.counts.Aside()
	differing := s.counts.Differing()
	for _, f := range p.Folders {
		if last, ok := differing[f.ID]; ok {
			v, _ := p.Volume(f.VolumeID)
			out.Differed = append(out.Differed, audit.Differed{Folder: f.Name, Volume: v.Name, Says: last.String()})
		}
	}
	return out
}

// untold says who is not told what they should be.
func (s *Service) untold(out *audit.Stored) {
	p := s.Policy()
	out.Dropped = s.Dropped()
	out.Unheard = p.Notices.Mail.Server != "" && len(p.Limits.Limits) > 0 && !slices.ContainsFunc(p.Directory.Users(), func(u identity.User) bool {
		return u.Role == identity.Administrator && telling.HasMail(&u, s.Now())
	})
	unsent, err := s.Unsent(context.Background())
	if err != nil {
		slog.Error("what could not be sent cannot be looked up", "error", err)
	}
	for _, u := range unsent {
		i := slices.IndexFunc(out.Unsent, func(have audit.Unsent) bool { return have.To == u.Target })
		if i < 0 {
			i = len(out.Unsent)
			out.Unsent = append(out.Unsent, audit.Unsent{To: u.Target})
		}
		out.Unsent[i].Count++
		out.Unsent[i].Problem = u.Problem
	}
}

// unheld are the defaults that bind nobody.
func (s *Service) unheld() (out []*limit.Limit) {
	p := s.Policy()
	held := make(map[int64]bool)
	any := false
	for i := range p.Limits.Limits {
		any = any || p.Limits.Limits[i].Kind == limit.Default
	}
	if !any {
		return nil
	}
	for _, c := range p.Limits.Reaches(limit.Owned) {
		for _, u := range p.Directory.Users() {
			c.Number = u.UID
			for _, l := range p.Limits.Of(c) {
				held[l.ID] = true
			}
		}
	}
	for i := range p.Limits.Limits {
		if l := &p.Limits.Limits[i]; l.Kind == limit.Default && !held[l.ID] && !l.None() {
			out = append(out, l)
		}
	}
	return out
}

// promised says to whom the limits that reach a volume let more be stored than it holds, by hard limits, or soft ones where there are none.
func (s *Service) promised(v site.Volume) (out []audit.Promised) {
	if _, away := s.VolumeAway(v.ID); away {
		return nil
	}
	p, id, name := s.Policy(), v.ID, v.Name
	space, err := files.VolumeSpace(v.Location())
	if err != nil {
		return nil
	}
	size := int64(min(space.Total, 1<<62))
	most := func(l *limit.Limit) int64 {
		if n, ok := l.Hard(limit.Bytes); ok {
			return n
		}
		n, _ := l.Soft(limit.Bytes)
		return n
	}
	var folders, users limit.Amount
	for i := range p.Limits.Limits {
		l := &p.Limits.Limits[i]
		if f := p.Folder(l.Folder); l.Kind == limit.OfFolder && l.Path == "" && f != nil && f.VolumeID == id {
			folders = folders.Plus(limit.Amount{Bytes: most(l)})
		}
	}
	for _, c := range []limit.Counter{{Of: limit.Owned, Volume: id}, {Of: limit.Owned}} {
		for _, u := range p.Directory.Users() {
			c.Number = u.UID
			least := int64(-1)
			for _, l := range p.Limits.Of(c) {
				if n := most(l); l.HardBytes != nil || l.SoftBytes != nil {
					if least < 0 || n < least {
						least = n
					}
				}
			}
			users = users.Plus(limit.Amount{Bytes: max(least, 0)})
		}
	}
	for _, of := range []struct {
		to string
		a  limit.Amount
	}{{"folders", folders}, {"users", users}} {
		if of.a.Bytes > size {
			out = append(out, audit.Promised{Volume: name, To: of.to, Size: size, Granted: of.a.Bytes})
		}
	}
	return out
}
