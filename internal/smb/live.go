package smb

import (
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/live"
)

// What sessions and opens are called to who looks after things: this, and a number that goes up.
const livePrefix = "smb-"

func liveID(n uint64) string { return livePrefix + strconv.FormatUint(n, 10) }

// liveNumber is the number of an ID; false for one of another door.
func liveNumber(id string) (uint64, bool) {
	digits, ok := strings.CutPrefix(id, livePrefix)
	n, err := strconv.ParseUint(digits, 10, 64)
	return n, ok && err == nil
}

var dialectNames = map[uint16]string{dialect21: "2.1", dialect30: "3.0", dialect302: "3.0.2", dialect311: "3.1.1"}

var signingNames = map[uint16]string{signHMAC: "HMAC-SHA256", signCMAC: "AES-CMAC", signGMAC: "AES-GMAC"}

// signedIn gives the sessions of people; what the service tries by itself is none.
func (s *Server) signedIn() []*session {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]*session, 0, len(s.sessions))
	for _, one := range s.sessions {
		if one.conn.trial == nil {
			out = append(out, one)
		}
	}
	return out
}

// openNow gives what a session has open, and its trees.
func (s *session) openNow() (opens []*open, trees []*tree) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.opens {
		opens = append(opens, o)
	}
	for _, t := range s.trees {
		trees = append(trees, t)
	}
	return opens, trees
}

func (s *session) person() live.Person { return live.Person{User: s.user} }

// Sessions is live.Door's.
func (s *Server) Sessions() []live.Session {
	var out []live.Session
	for _, one := range s.signedIn() {
		opens, trees := one.openNow()
		is := live.Session{
			ID: liveID(one.number), Via: site.SMB, Version: dialectNames[one.conn.dialect], Who: []live.Person{one.person()},
			Address: one.conn.address, Signing: signingNames[one.conn.signing], Since: one.since, Count: one.traffic.Count(), Opens: len(opens),
		}
		if is.Guest = one.guest; one.signer == nil {
			is.Signing = ""
		}
		if one.sealing != nil && one.sealing.used.Load() {
			is.Sealing = cipherNames[one.sealing.cipher]
		}
		for _, o := range opens {
			if o.handle != nil {
				is.Locks += len(o.handle.Live().Locks)
			}
		}
		for _, t := range trees {
			if t.share != "" {
				is.Through = append(is.Through, t.share)
			}
		}
		slices.Sort(is.Through)
		is.Through = slices.Compact(is.Through)
		out = append(out, is)
	}
	return out
}

// Opens is live.Door's.
func (s *Server) Opens() []live.Open {
	var out []live.Open
	for _, one := range s.signedIn() {
		opens, _ := one.openNow()
		for _, o := range opens {
			var is live.Open
			if o.handle != nil {
				is = o.handle.Live()
			} else {
				is.Pipe = o.pipe.name
			}
			is.ID, is.Session, is.Via, is.Who, is.Address, is.Since = liveID(o.id), liveID(one.number), site.SMB, one.person(), one.conn.address, o.since
			out = append(out, is)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, k := range s.orphans { // kept for clients that have no connection
		is := k.o.handle.Live()
		is.ID, is.Session, is.Via, is.Who, is.Address, is.Since = liveID(id), liveID(k.number), site.SMB, live.Person{User: k.user}, k.from, k.o.since
		out = append(out, is)
	}
	return out
}

// EndSession is live.Door's: the client finds its session deleted (MS-SMB2 section 3.3.5.2.9), and may sign in again where it still may.
func (s *Server) EndSession(id string) bool {
	n, ok := liveNumber(id)
	if !ok {
		return false
	}
	for _, one := range s.signedIn() {
		if one.number == n {
			one.conn.log.Info("session ended by an administrator", "user", one.name)
			opens, _ := one.openNow()
			var wait sync.WaitGroup
			for _, o := range opens {
				if o.handle != nil {
					wait.Go(func() { o.handle.WriteBack(writeBackTime) })
				}
			}
			wait.Wait()
			one.end()
			return true
		}
	}
	return false
}

// CloseOpen is live.Door's: what the client asks of the handle afterwards is answered with STATUS_FILE_CLOSED (MS-SMB2 section 3.3.5.2.10).
func (s *Server) CloseOpen(id string) bool {
	n, ok := liveNumber(id)
	if !ok {
		return false
	}
	for _, one := range s.signedIn() {
		if o := one.find(n); o != nil {
			one.conn.log.Info("open closed by an administrator", "user", one.name, "open", n)
			if o.handle != nil {
				o.handle.WriteBack(writeBackTime)
			}
			one.drop(o)
			return true
		}
	}
	return s.dropOrphan(n, nil)
}

// writeBackTime is how long a client is waited for that has not written all yet of what an administrator closes.
const writeBackTime = 5 * time.Second

// drop closes one of a session's opens, if it has it still.
func (s *session) drop(o *open) {
	s.mu.Lock()
	had := s.opens[o.id] == o
	delete(s.opens, o.id)
	s.mu.Unlock()
	if had {
		s.conn.stopWaiting(func(a *asyncOp) bool { return a.file == o.id })
		o.close()
	}
}

// Stirs is live.Door's.
func (s *Server) Stirs() uint64 { return s.stirs.Load() }

// Via is live.Door's.
func (s *Server) Via() string { return "SMB" }

// Load is live.Door's.
func (s *Server) Load() live.Load {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := live.Load{Connections: len(s.conns)}
	for c := range s.conns {
		out.Working += c.slots.Held()
	}
	return out
}
