package service

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"strconv"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/usage"
)

// Room gives how it stands with the limits on what would grow: of what is there, for whom it counts; of what would be made, for
// who makes it. Nil where nothing is counted.
func (s *Service) Room(f *site.PublishedFolder, at files.Place, user *identity.User, nfs *access.Arrival) []limit.Standing {
	book := s.ledger.Folder(f.ID)
	if book == nil || !s.asOf.IsZero() {
		return nil
	}
	d := s.Policy().Directory
	o := usage.Owner{UID: user.UID, GID: site.Anonymous, Own: true}
	if nfs != nil {
		o.UID, o.GID = nfs.Unix.UID, nfs.Unix.GID
	} else if g := d.Group(user.Primary); g != nil {
		o.GID = g.GID
	}
	if at.Exists && at.File {
		if own, ok := s.FactsOf(f).OwnerOf(at.Path); ok && own.User != identity.None && own.Group != identity.None {
			o.UID, o.GID = d.Users()[own.User].UID, d.Groups()[own.Group].GID
		} else if !ok {
			o = usage.Owner{}
		}
	}
	out := s.bearing(book, o, at.Path)
	if out == nil {
		out = []limit.Standing{}
	}
	return out
}

// bearing is Folder.Bearing under the limits of this service's own policy: a draft's, where it is one.
func (s *Service) bearing(book *usage.Folder, o usage.Owner, path string) []limit.Standing {
	if s.drafting == nil {
		return book.Bearing(o, plain.Unspell(path))
	}
	var out []limit.Standing
	for _, c := range book.Counters(o, plain.Unspell(path)) {
		out = append(out, s.against(c)...)
	}
	return out
}

// against gives how what is counted stands against the limits of this service's policy.
func (s *Service) against(c limit.Counter) []limit.Standing {
	if s.drafting == nil {
		return s.ledger.Against(c)
	}
	var out []limit.Standing
	now := s.ledger.Against(c)
	for _, l := range s.Policy().Limits.Of(c) {
		st := limit.Standing{Limit: l, Use: s.ledger.Use(c)}
		for _, have := range now {
			if have.Limit.ID == l.ID {
				st.Since = have.Since
			}
		}
		for d := range limit.Dimensions { // as it would be from now on
			if soft, ok := l.Soft(d); ok && st.Use.Of(d) > soft && st.Since[d].IsZero() {
				st.Since[d] = s.ledger.Now()
			}
		}
		out = append(out, st)
	}
	return out
}

// Subject says what a use is of.
type Subject = usage.Subject

// What uses are listed by.
const (
	ByUser   = usage.ByUser
	ByGroup  = usage.ByGroup
	ByFolder = usage.ByFolder
	ByTree   = usage.ByTree
	ByVolume = usage.ByVolume
)

// Use is how much is counted for somebody or in something.
type Use struct {
	Subject Subject
	Name    string // "uid 4711" for a number that nobody in the records has
	Known   bool   // it is a record's name
	Key     string // by which its samples are kept
	Amount  limit.Amount
	// Standings are how it stands with each limit, the one that leaves least first; Reach is of each.
	Standings []limit.Standing
	Week      *limit.Amount // by how much more than a week ago; nil where that is not known
	Counting  bool          // what there is has not all been counted yet
}

// Tightest is how it stands with the limit that leaves least; nil without one.
func (u *Use) Tightest() *limit.Standing {
	if len(u.Standings) == 0 {
		return nil
	}
	return &u.Standings[0]
}

// Share is how full it is by that limit.
func (u *Use) Share() float64 {
	if s := u.Tightest(); s != nil {
		share, _ := s.Share()
		return share
	}
	return 0
}

// Uses lists what is stored, by users, groups, folders, trees with limits, or volumes.
func (s *Service) Uses(ctx context.Context, by Subject) ([]Use, error) {
	p := s.Policy()
	var out []Use
	switch by {
	case ByUser, ByGroup:
		out = s.usesOf(by)
	case ByFolder:
		for _, f := range p.Folders {
			if s.ledger.Folder(f.ID) == nil {
				continue
			}
			c := limit.Counter{Volume: f.VolumeID, Folder: f.ID}
			out = append(out, Use{Subject: by, Name: f.Name, Known: true, Key: key(by, f.ID), Amount: s.ledger.Use(c), Standings: s.against(c), Counting: !s.ledger.Folder(f.ID).Counted()})
		}
	case ByTree:
		for _, l := range p.Limits.Limits {
			f := p.Folder(l.Folder)
			if l.Kind != limit.OfFolder || l.Path == "" || f == nil || s.ledger.Folder(f.ID) == nil {
				continue
			}
			c := limit.Counter{Volume: f.VolumeID, Folder: f.ID, Tree: l.ID}
			u := Use{Subject: by, Name: f.Display(l.Path), Known: true, Key: key(by, l.ID), Amount: s.ledger.Use(c), Standings: s.against(c)}
			u.Counting = len(u.Standings) > 0 && u.Standings[0].Counting
			out = append(out, u)
		}
	case ByVolume:
		for _, v := range p.Volumes {
			if v.Counting.On() {
				c := limit.Counter{Volume: v.ID}
				out = append(out, Use{Subject: by, Name: v.Name, Known: true, Key: key(by, v.ID), Amount: s.ledger.Use(c)})
			}
		}
	default:
		return nil, invalid("by", "%q is not one of user, group, folder, tree, volume", by)
	}
	now := s.ledger.Now()
	ago, err := s.weekAgo(ctx, now)
	if err != nil {
		return nil, err
	}
	for i := range out {
		u := &out[i]
		slices.SortStableFunc(u.Standings, func(a, b limit.Standing) int { return access.CompareStandings(&b, &a, now) })
		if was, ok := ago[u.Key]; ok {
			more := u.Amount.Minus(was.Amount)
			u.Week = &more
		}
	}
	slices.SortStableFunc(out, func(a, b Use) int {
		return cmp.Or(cmp.Compare(b.Share(), a.Share()), cmp.Compare(b.Amount.Bytes, a.Amount.Bytes), cmp.Compare(a.Name, b.Name))
	})
	return out, nil
}

// week is what was in use a week ago, as looked up at a moment.
type week struct {
	mu  sync.Mutex
	ago map[string]store.Sample
	at  time.Time
}

// weekAgo gives what was in use a week ago. It is looked up once for a while: there may be many samples.
func (s *Service) weekAgo(ctx context.Context, now time.Time) (map[string]store.Sample, error) {
	const holds = 10 * time.Minute
	c := s.week
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ago != nil && now.Sub(c.at) < holds {
		return c.ago, nil
	}
	ago, err := s.uses.SamplesAt(ctx, now.Add(-7*24*time.Hour))
	if err == nil {
		c.ago, c.at = ago, now
	}
	return ago, err
}

// forget has it looked up anew: samples have been added.
func (c *week) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ago = nil
}

func key[N int64 | uint32](by Subject, n N) string {
	return string(by) + ":" + strconv.FormatInt(int64(n), 10)
}

// usesOf lists the uses of users, or of groups: all of whom anything is counted, and all in the records who have a limit.
func (s *Service) usesOf(by Subject) []Use {
	p := s.Policy()
	of := limit.Owned
	if by == ByGroup {
		of = limit.Grouped
	}
	amounts := make(map[uint32]limit.Amount)
	s.ledger.Each(func(c limit.Counter, a limit.Amount) {
		if c.Of == of && c.Volume == 0 && c.Folder == 0 && a != (limit.Amount{}) {
			amounts[c.Number] = a
		}
	})
	reaches := p.Limits.Reaches(of)
	for i := range reaches { // the ledger counts in a folder of a volume
		if f := p.Folder(reaches[i].Folder); f != nil {
			reaches[i].Volume = f.VolumeID
		}
	}
	var out []Use
	add := func(number uint32, name string, known bool) {
		u := Use{Subject: by, Name: name, Known: known, Key: key(by, number), Amount: amounts[number]}
		for _, c := range reaches {
			c.Number = number
			u.Standings = append(u.Standings, s.against(c)...)
		}
		if u.Amount != (limit.Amount{}) || len(u.Standings) > 0 {
			out = append(out, u)
		}
		delete(amounts, number)
	}
	if by == ByUser {
		for _, u := range p.Directory.Users() {
			add(u.UID, u.Name, true)
		}
	} else {
		for _, g := range p.Directory.Groups() {
			add(g.GID, g.Name, true)
		}
	}
	for number := range amounts {
		add(number, usage.NumberName(by, number), false)
	}
	return out
}

// How long samples are kept, and when they are thinned out to one a day.
const (
	sampleEvery = time.Hour
	keepSamples = 90 * 24 * time.Hour
	hourlyFor   = 14 * 24 * time.Hour
)

// sample writes down what is in use of all that has changed since it last was.
func (s *Service) sample(ctx context.Context, last map[string]limit.Amount) error {
	now := s.ledger.Now()
	changed := make(map[string][]store.Sample)
	for _, by := range []Subject{ByUser, ByGroup, ByFolder, ByTree, ByVolume} {
		uses, err := s.Uses(ctx, by)
		if err != nil {
			return err
		}
		for _, u := range uses {
			if was, ok := last[u.Key]; !ok || was != u.Amount {
				changed[u.Key] = []store.Sample{{At: now, Amount: u.Amount}}
			}
		}
	}
	if len(changed) == 0 {
		return nil
	}
	if err := s.uses.AddSamples(ctx, changed); err != nil {
		return err
	}
	for k, samples := range changed {
		last[k] = samples[0].Amount
	}
	s.week.forget()
	return s.uses.RollUp(ctx, now.Add(-hourlyFor), 24*time.Hour, now.Add(-keepSamples))
}

// sampling does it every hour.
func (s *Service) sampling() {
	last := make(map[string]limit.Amount)
	for {
		wait := time.Until(time.Now().Truncate(sampleEvery).Add(sampleEvery))
		select {
		case <-s.background.ctx.Done():
			return
		case <-time.After(wait):
		}
		if err := s.sample(s.background.ctx, last); err != nil && s.background.ctx.Err() == nil {
			slog.Error("what is in use cannot be written down", "error", err)
		}
		s.forgetSecrets(s.background.ctx)
	}
}

// History is the use of one subject over time.
type History struct {
	Use
	Samples []store.Sample // oldest first, the last is now
	FullAt  time.Time      // when it will be at its limit if it goes on as in the last week; zero for never
}

// History gives how the use of a subject went since a moment.
func (s *Service) History(ctx context.Context, by Subject, name string, from time.Time) (History, error) {
	all, err := s.Uses(ctx, by)
	if err != nil {
		return History{}, err
	}
	i := slices.IndexFunc(all, func(u Use) bool { return identity.Fold(u.Name) == identity.Fold(name) })
	if i < 0 {
		return History{}, notFound("name", "amber use --by "+string(by), "nothing is counted for %s %q", by, name)
	}
	h := History{Use: all[i]}
	if h.Samples, err = s.uses.Samples(ctx, h.Key, from); err != nil {
		return History{}, err
	}
	now := s.ledger.Now()
	h.Samples = append(h.Samples, store.Sample{At: now, Amount: h.Amount})
	if st := h.Tightest(); st != nil {
		_, d := st.Share()
		bound, ok := st.Limit.Hard(d)
		if !ok {
			bound, ok = st.Limit.Soft(d)
		}
		var points []limit.Point
		for _, sample := range h.Samples {
			if now.Sub(sample.At) <= 7*24*time.Hour {
				points = append(points, limit.Point{At: sample.At, Use: sample.Amount.Of(d)})
			}
		}
		if ok {
			h.FullAt, _ = limit.Forecast(points, bound, now)
		}
	}
	return h, nil
}

// RememberUses writes down made-up uses of the past, for the demo.
func (s *Service) RememberUses(ctx context.Context, by Subject, name string, samples []store.Sample) error {
	all, err := s.Uses(ctx, by)
	if err != nil {
		return err
	}
	for _, u := range all {
		if u.Name == name {
			defer s.week.forget()
			return s.uses.AddSamples(ctx, map[string][]store.Sample{u.Key: samples})
		}
	}
	return notFound("name", "", "nothing is counted for %s %q", by, name)
}
