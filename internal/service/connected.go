package service

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/live"
)

// LiveQuery narrows what is connected or open; what is empty narrows nothing.
type LiveQuery struct {
	Who  string // a user's name, or the number that came
	From string // an address or network, or a host's name
	Via  site.Protocol
	On   string // a folder, or a path in it
}

// Known is a person of a session as the records have them.
type Known struct {
	Name string // "" for nobody in the records
	UID  *uint32
}

func (k Known) is(who string) bool {
	return strings.EqualFold(k.Name, who) || k.UID != nil && fmt.Sprint(*k.UID) == who
}

// String is what a reader calls them.
func (k Known) String() string {
	switch {
	case k.Name != "":
		return k.Name
	case k.UID != nil:
		return fmt.Sprintf("uid %d", *k.UID)
	}
	return "nobody"
}

// LiveSession is a session with the names of who and what it is about.
type LiveSession struct {
	live.Session
	Host  string // its name; "" where none is known
	Known []Known
}

// LiveOpen is an open with the names of who and what it is about.
type LiveOpen struct {
	live.Open
	Host  string
	Known Known
	Where string // folder and path; the pipe's name
}

// hostsWithin is how long a list waits for what hosts are called.
const hostsWithin = 300 * time.Millisecond

// Sessions of the wire and their opens are not records: they are asked of the doors each time.

// Connected gives the sessions that there are, those that began last at the end.
func (s *Service) Connected(doors live.Doors, q LiveQuery) []LiveSession {
	all := doors.Sessions()
	hosts := s.called(addressesOf(all, func(one *live.Session) string { return one.Address }))
	var out []LiveSession
	for _, one := range all {
		is := LiveSession{Session: one, Host: hosts[one.Address]}
		for _, p := range one.Who {
			is.Known = append(is.Known, s.knownAs(p))
		}
		if q.fits(one.Via, one.Address, is.Host) && (q.Who == "" || slices.ContainsFunc(is.Known, func(k Known) bool { return k.is(q.Who) })) && s.reaches(one, q.On) {
			out = append(out, is)
		}
	}
	return out
}

// OpenNow gives what is open, what was opened last at the end.
func (s *Service) OpenNow(doors live.Doors, q LiveQuery) []LiveOpen {
	all := doors.Opens()
	hosts := s.called(addressesOf(all, func(one *live.Open) string { return one.Address }))
	var out []LiveOpen
	for _, one := range all {
		is := LiveOpen{Open: one, Host: hosts[one.Address], Known: s.knownAs(one.Who), Where: s.where(one)}
		if q.fits(one.Via, one.Address, is.Host) && (q.Who == "" || is.Known.is(q.Who)) && (q.On == "" || one.Pipe == "" && below(is.Where, q.On)) {
			out = append(out, is)
		}
	}
	return out
}

func (s *Service) knownAs(p live.Person) Known {
	k := Known{UID: p.UID}
	if u := s.Policy().Directory.User(p.User); u != nil {
		k.Name = u.Name
	}
	return k
}

func (s *Service) where(o live.Open) string {
	if o.Pipe != "" {
		return o.Pipe
	}
	f := s.Policy().Folder(o.Folder)
	if f == nil {
		return o.Path
	}
	return strings.TrimSuffix(f.Name+"/"+o.Path, "/")
}

// below says whether a path is another, or lies below it.
func below(path, at string) bool {
	at = strings.TrimSuffix(at, "/")
	return strings.EqualFold(path, at) || len(path) > len(at) && path[len(at)] == '/' && strings.EqualFold(path[:len(at)], at)
}

// reaches says whether a session has come to a folder.
func (s *Service) reaches(one live.Session, on string) bool {
	if on == "" {
		return true
	}
	folder, _, _ := strings.Cut(on, "/")
	f := s.Policy().FolderNamed(folder)
	if f == nil {
		return false
	}
	p := s.Policy()
	return slices.ContainsFunc(one.Through, func(name string) bool {
		if one.Via == site.SMB {
			sh := p.ShareNamed(name)
			return sh != nil && sh.Folder.ID == f.ID
		}
		e := p.ExportAt(name)
		return e != nil && e.Folder.ID == f.ID
	})
}

func (q *LiveQuery) fits(via site.Protocol, address, host string) bool {
	if q.Via != 0 && q.Via != via {
		return false
	}
	if q.From == "" || strings.EqualFold(q.From, host) || q.From == address {
		return true
	}
	network, err := site.ParseNetwork(q.From)
	if err != nil {
		return false
	}
	a, err := netip.ParseAddr(address)
	return err == nil && network.Contains(a.Unmap())
}

// addressesOf are those of a list, each once.
func addressesOf[T any](list []T, of func(*T) string) []netip.Addr {
	seen := make(map[netip.Addr]bool)
	for i := range list {
		if a, err := netip.ParseAddr(of(&list[i])); err == nil {
			seen[a] = true
		}
	}
	return slices.Collect(maps.Keys(seen))
}

// called gives what hosts are called, by address.
func (s *Service) called(addrs []netip.Addr) map[string]string {
	out := make(map[string]string, len(addrs))
	for a, name := range s.hosts.Called(addrs, hostsWithin) {
		out[a.String()] = name
	}
	return out
}

// EndConnected ends a session of the wire, and writes it down first.
func (s *Service) EndConnected(ctx context.Context, by Actor, doors live.Doors, id string) error {
	for _, one := range doors.Sessions() { // what hosts are called is of no moment
		if one.ID != id {
			continue
		}
		who := make([]string, 0, len(one.Who))
		for _, p := range one.Who {
			who = append(who, s.knownAs(p).String())
		}
		about := fmt.Sprintf("%s from %s over %s %s", strings.Join(who, ", "), one.Address, one.Via, one.Version)
		return s.endLive(ctx, by, "end session", about, func() bool { return doors.EndSession(id) })
	}
	return noSession(id)
}

// CloseOpened closes what somebody holds open, and writes it down first.
func (s *Service) CloseOpened(ctx context.Context, by Actor, doors live.Doors, id string) error {
	for _, one := range doors.Opens() {
		if one.ID == id {
			about := fmt.Sprintf("%s, open for %s from %s", s.where(one), s.knownAs(one.Who), one.Address)
			return s.endLive(ctx, by, "close open", about, func() bool { return doors.CloseOpen(id) })
		}
	}
	return noOpen(id)
}

// EndOverWire is EndConnected for an administrator who asks for it over SMB.
func (s *Service) EndOverWire(ctx context.Context, by identity.ID, doors live.Doors, id string) error {
	who, err := s.administrator(by)
	if err != nil {
		return err
	}
	return s.EndConnected(ctx, who, doors, id)
}

// CloseOverWire is CloseOpened for one who does.
func (s *Service) CloseOverWire(ctx context.Context, by identity.ID, doors live.Doors, id string) error {
	who, err := s.administrator(by)
	if err != nil {
		return err
	}
	return s.CloseOpened(ctx, who, doors, id)
}

// administrator is an administrator as one who acts.
func (s *Service) administrator(id identity.ID) (Actor, error) {
	u := s.Policy().Directory.User(id)
	switch {
	case u == nil:
		return Actor{}, files.ErrGone
	case u.Role != identity.Administrator:
		return Actor{}, files.ErrDenied
	}
	return Actor{ID: u.ID, Name: u.Name, Role: u.Role}, nil
}

func noSession(id string) error {
	return notFound("id", "amber session list", "there is no session %s, or it has ended", id)
}

func noOpen(id string) error {
	return notFound("id", "amber open list", "nothing is open as %s, or it is closed", id)
}

func (s *Service) endLive(ctx context.Context, by Actor, action, about string, end func() bool) error {
	return s.atOnce(ctx, by, action, about, "what is connected is so now: it is neither tried out nor past",
		by.Name+" may not "+action+"s: that takes an administrator", func() error {
			end() // what has ended by itself meanwhile is as it was to be
			return nil
		})
}
