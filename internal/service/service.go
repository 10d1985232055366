// Package service holds the use cases: everything that can be asked of the
// gateway's records, and the only writer of them. A change is validated, written
// and journalled in one transaction, compiled, committed, and then the new policy is
// swapped in; nothing is half done, and open sessions see it at their next request.
package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/accesslog"
	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/counting"
	"amber.example/gatekeeper/internal/hostnames"
	"amber.example/gatekeeper/internal/job"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/review"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/telling"
	"amber.example/gatekeeper/internal/usage"
)

// Service is the open gateway, less its protocols.
type Service struct {
	*signin.Desk
	*accesslog.Log
	asking.Answers
	review.Reviews
	*telling.Teller

	state      string
	store      *store.Store
	keys       secret.Sealer
	hosts      *hostnames.Names
	meter      *meter.Meter
	series     *store.Series
	jobs       *job.Runner
	background *background
	ledger     *usage.Ledger
	uses       *store.Uses
	counts     *counting.Counting
	week       *week
	unwritten  *unwritten
	volumes    *volumes
	hashes     *hashes       // nil: sent nowhere
	keepSeen   time.Duration // for how long what was done at the wire is kept

	refuseUnrecorded bool          // nobody is served while nothing can be written down
	newKey           bool          // a key that is missing is made anew
	looking          chan struct{} // directories of the host are looked at, so many at once
	changed          bell          // rung when other records come into force
	past             *pastOnes     // states of the records that were asked about
	roots            []string      // directories of the host that volumes must be below; none for anywhere

	asOf     time.Time // a past moment that it stands for; zero for now
	drafting *drafting // changes are tried out and never committed; nil where they count

	homes atomic.Pointer[ownMaker] // makes the directories that people have of their own; nil before anything is served

	writing sync.Mutex // one change at a time, from reading the records to swapping what is in force
	force   atomic.Pointer[inForce]
}

// inForce is the records, and the policy compiled from them.
type inForce struct {
	records site.Records
	numbers site.Numbers // the last that were given
	policy  *site.Policy
}

// Open opens the state directory, making it with mode 0700 if there is none.
func Open(ctx context.Context, state string, with ...Option) (*Service, error) {
	state, err := filepath.Abs(state)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, fmt.Errorf("state directory: %w", err)
	}
	s := &Service{state: state, hosts: hostnames.New(net.DefaultResolver), meter: new(meter.Meter), background: newBackground(), week: &week{}, unwritten: newUnwritten(), volumes: newVolumes(), looking: make(chan struct{}, mostLooking), past: &pastOnes{}}
	for _, option := range with {
		option(s)
	}
	if s.keys, err = secret.Open(state, s.newKey); err != nil {
		return nil, err
	}
	st, err := openStore(ctx, state)
	if err != nil {
		return nil, err
	}
	s.store = st
	s.Desk = signin.NewDesk(s, st, s.keys)
	s.answer()
	s.jobs = job.New(st, s.jobKinds()...)
	for _, step := range []func(context.Context) error{s.settleRoots, s.openCounting, s.openSeries, s.openLog, s.openTelling, s.load, s.openHashes} { // each needs those before
		if err = step(ctx); err != nil {
			break
		}
	}
	if err != nil {
		st.Close()
		if s.uses != nil {
			s.uses.Close()
		}
		if s.series != nil {
			s.series.Close()
		}
		if s.Log != nil {
			s.Log.Store().Close()
		}
		return nil, err
	}
	s.keepReserve()
	s.background.wait.Go(s.runProbes)
	s.awaitLook(s.lookAtVolumes())
	s.background.wait.Go(s.runVolumes)
	s.background.wait.Go(s.runUse)
	s.background.wait.Go(s.keepHistory)
	s.background.wait.Go(s.runDue)
	if s.hashes != nil {
		s.background.wait.Go(s.runHashes)
	}
	return s, nil
}

// Close stops what is going on and closes the records.
func (s *Service) Close() error {
	s.WindDown()
	s.jobs.Close()
	s.background.close()
	return errors.Join(s.counts.Close(), s.series.Close(), s.Log.Store().Close(), s.store.Close())
}

// openTelling takes up what has been told.
func (s *Service) openTelling(ctx context.Context) (err error) {
	s.Teller, err = telling.Open(ctx, s, s.store, s.uses, s.ledger)
	return err
}

// answer has questions, and reviews, be about this service.
func (s *Service) answer() {
	s.Answers, s.Reviews = asking.Answers{Gateway: s}, review.New(s, s.keys.Derive("review signatures"))
}

// openLog opens the record of access.
func (s *Service) openLog(ctx context.Context) (err error) {
	s.Log, err = accesslog.Open(ctx, s.state, s.keepSeen, func(id identity.ID) string { return s.Policy().Directory.Name(identity.UserPrincipal(id)) })
	return err
}

func (s *Service) load(ctx context.Context) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		records, numbers, err := tx.Records(ctx)
		if err != nil {
			return err
		}
		var rows int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM journal`).Scan(&rows); err != nil {
			return err
		}
		if rows == 0 { // what a new database holds is the first row, so that the journal alone rebuilds it
			changes, err := store.Compare(site.Records{}, records)
			if err != nil {
				return err
			}
			if err := tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: Itself.Name, Action: "begin", Changes: changes}); err != nil {
				return err
			}
		}
		if err := s.checkVolumes(records.Volumes); err != nil {
			return err
		}
		policy, err := site.Compile(records)
		if err != nil {
			return fmt.Errorf("compile policy: %w", err)
		}
		s.force.Store(&inForce{records, numbers, policy})
		s.ledger.SetTable(policy.Limits)
		return nil
	})
	if err != nil {
		return err
	}
	if err := s.spellNames(ctx); err != nil {
		return err
	}
	s.forgetSecrets(ctx)
	if err := s.settleEffects(ctx); err != nil {
		return err
	}
	if err := s.settleMoves(ctx, true); err != nil {
		return err
	}
	return s.jobs.Resume(ctx)
}

// Policy is the compiled policy now in force, or of a draft as it is now.
func (s *Service) Policy() *site.Policy {
	if s.drafting != nil && s.drafting.behind {
		s.drafting.catchUp(s)
	}
	return s.known()
}

// known is the policy as far as people and places are concerned: on a draft, what is written on paths, limits and what nobody is found by may be behind.
func (s *Service) known() *site.Policy { return s.force.Load().policy }

// Now is the moment as of which it answers.
func (s *Service) Now() time.Time {
	if !s.asOf.IsZero() {
		return s.asOf
	}
	return time.Now()
}

func check(d *site.Draft) error {
	if fault := d.Check(); fault != nil {
		return &Error{Kind: Conflict, Field: fault.Field, Message: fault.Error()}
	}
	return nil
}

// next is what comes into force with a draft that was made from what is.
func (f *inForce) next(d *site.Draft) (*inForce, error) {
	if err := check(d); err != nil {
		return nil, err
	}
	policy, err := f.policy.Next(d)
	if errors.Is(err, identity.ErrCycle) || errors.Is(err, identity.ErrDuplicate) || errors.Is(err, identity.ErrAbsent) {
		return nil, &Error{Kind: Conflict, Message: err.Error()}
	}
	if err != nil {
		return nil, err
	}
	return &inForce{d.Records(), d.Numbers(), policy}, nil
}

// HandleKey is the key that authenticates NFS file handles. It stays the same over restarts,
// as handles do.
func (s *Service) HandleKey() []byte { return s.keys.Derive("NFS file handles") }

// NamesOf gives the host names of an address as far as the client rules in force care; false where nobody can say that it has no others.
func (s *Service) NamesOf(ctx context.Context, addr netip.Addr) ([]string, bool) {
	spelt, any := s.Policy().HostNames()
	if !any {
		return nil, true
	}
	return s.hosts.Of(ctx, addr.Unmap(), spelt)
}

// Journal gives the administrative acts that match.
func (s *Service) Journal(ctx context.Context, m store.Match) ([]store.JournalRow, error) {
	return s.store.Journal(ctx, m)
}

// Row gives the row of the journal with a number; false where there is none.
func (s *Service) Row(ctx context.Context, seq int64) (store.JournalRow, bool, error) {
	return s.store.Row(ctx, seq)
}

// Act gives one row, with what it changed in words.
func (s *Service) Act(ctx context.Context, seq int64) (row store.JournalRow, told []site.Told, err error) {
	row, there, err := s.store.Row(ctx, seq)
	if err != nil {
		return row, nil, err
	}
	if !there {
		return row, nil, notFound("row", "amber journal list", "the journal has no row %d", seq)
	}
	if len(row.Changes) == 0 {
		return row, nil, nil
	}
	was, err := s.store.RecordsAt(ctx, seq-1)
	if err != nil {
		return row, nil, err
	}
	is, err := s.store.RecordsAt(ctx, seq)
	if err != nil {
		return row, nil, err
	}
	before, after := was.Names(), is.Names()
	for _, c := range row.Changes {
		if c.Kind == store.DeedKind {
			continue
		}
		t, err := site.Tell(site.Key{Kind: c.Kind, ID: c.ID}, c.Before, c.After, before, after)
		if err != nil {
			return row, nil, err
		}
		told = append(told, t)
	}
	return row, told, nil
}

// EachRow visits them one by one, however many they are.
func (s *Service) EachRow(ctx context.Context, m store.Match, visit func(store.JournalRow) error) error {
	return s.store.EachRow(ctx, m, visit)
}

// VerifyJournal follows the journal's chain; see store.VerifyJournal.
func (s *Service) VerifyJournal(ctx context.Context) (int64, error) {
	return s.store.VerifyJournal(ctx)
}
