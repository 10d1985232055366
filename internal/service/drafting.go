package service

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// drafting is what changes are made on before they are written down, or instead: a draft, and what would be other on disk.
type drafting struct {
	draft  *site.Draft
	of     *Service // the one that it is made of
	real   bool     // it is to be written down
	behind bool     // the policy does not have the latest rules yet
	failed error    // why it cannot have them
	names  []title
	also   []func(*store.Tx) error
	after  []func() // once it is in force

	modes  map[objectAt]*posix.Attributes // what SetMode would have left
	made   map[string]bool                // directories that would have been made, by their path on the host
	marked map[string]bool                // marks that volumes would carry

	found map[placeAt]placeFound // what was looked for on disk
}

type placeAt struct {
	at   site.Location
	path string
}

type placeFound struct {
	place files.Place
	err   error
}

type objectAt struct {
	folder int64
	path   string
}

// Preview makes changes and takes them back: do is given a service that starts from what is in force
// and on which every use case works, and which afterwards still answers questions as of after
// the changes. Nothing is written down, nothing on disk is touched, and nobody waits for it: it works on a draft of
// its own. Whoever may look may try.
func (s *Service) Preview(ctx context.Context, do func(ctx context.Context, draft *Service) error) (*Service, error) {
	draft := s.draft(s.force.Load(), false)
	if err := do(ctx, draft); err != nil {
		return draft, err
	}
	draft.Policy()
	return draft, draft.drafting.failed
}

// draft is a service on a draft of what is in force.
func (s *Service) draft(of *inForce, real bool) *Service {
	out := s.beside(s.asOf)
	out.drafting = &drafting{draft: site.NewDraft(of.records, of.numbers), of: s, real: real,
		modes: make(map[objectAt]*posix.Attributes), made: make(map[string]bool), marked: make(map[string]bool), found: make(map[placeAt]placeFound)}
	out.force.Store(of)
	return out
}

// take is change, on a draft.
func (t *drafting) take(s *Service, name title, fn func(*site.Draft) error, also []func(*store.Tx) error) error {
	if err := fn(t.draft); err != nil {
		return err
	}
	t.names, t.also = append(t.names, name), append(t.also, also...)
	if t.behind = true; t.draft.Stirred() {
		s.Policy()
		return t.failed
	}
	return check(t.draft)
}

// catchUp compiles what has been drafted since that was last done.
func (t *drafting) catchUp(s *Service) {
	t.behind = false
	is, err := s.force.Load().next(t.draft)
	if err != nil {
		t.failed = err
		return
	}
	s.force.Store(is)
}

// tried says whether the service is one on which changes are only tried out.
func (s *Service) tried() bool { return s.drafting != nil && !s.drafting.real }

// later has something be done that is no effect on disk, once what is being changed is in force: now, where it is no draft; never, where it is only tried out.
func (s *Service) later(do func()) {
	switch {
	case s.drafting == nil:
		do()
	case s.drafting.real:
		s.drafting.after = append(s.drafting.after, do)
	}
}

// beside is a service that answers from other records than those in force, and writes none.
func (s *Service) beside(asOf time.Time) *Service {
	out := &Service{state: s.state, store: s.store, keys: s.keys, Desk: s.Desk, hosts: s.hosts, roots: s.roots, asOf: asOf, ledger: s.ledger, uses: s.uses, week: s.week, counts: s.counts,
		jobs: s.jobs, background: s.background, Teller: s.Teller, Log: s.Log, unwritten: s.unwritten, volumes: s.volumes, hashes: s.hashes, looking: s.looking, past: s.past}
	out.answer()
	return out
}

// AsOf gives a service that answers as of a past moment, from the journal. What is on disk is as
// it is today.
func (s *Service) AsOf(ctx context.Context, at time.Time) (*Service, error) {
	if at.After(time.Now()) {
		return nil, invalid("at", "%s is still to come: the journal tells of the past", at.Format(time.RFC3339))
	}
	seq, err := s.store.Until(ctx, at)
	if err != nil {
		return nil, err
	}
	if seq == 0 { // the day on which it begins is its first
		first, err := s.store.Journal(ctx, store.Match{Most: 1})
		if err != nil {
			return nil, err
		}
		if len(first) == 0 || first[0].At.Sub(at) >= 24*time.Hour {
			begins := "now"
			if len(first) > 0 {
				begins = "on " + first[0].At.UTC().Format("2 Jan 2006, 15:04 MST")
			}
			return nil, invalid("at", "the journal begins %s: nothing is known of what was before", begins)
		}
		seq, at = first[0].Seq, first[0].At
	}
	was, err := s.past.of(seq, func() (*inForce, error) {
		records, err := s.store.RecordsAt(ctx, seq)
		if err != nil {
			return nil, err
		}
		policy, err := site.Compile(records)
		if err != nil {
			return nil, fmt.Errorf("policy as of %s: %w", at, err)
		}
		return &inForce{records, nil, policy}, nil
	})
	if err != nil {
		return nil, err
	}
	past := s.beside(at)
	past.force.Store(was)
	return past, nil
}

// pastOnes are the last few states of the records that were asked about, by the row of the journal after which they held: who looks
// at the past asks many things about the same moment.
type pastOnes struct {
	mu    sync.Mutex
	known []pastOne
}

type pastOne struct {
	seq int64
	was *inForce
}

// mostPast is how many are kept.
const mostPast = 2

// of gives the state after a row; it is worked out where it is not known. Those that are worked out are so one after the other.
func (p *pastOnes) of(seq int64, work func() (*inForce, error)) (*inForce, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, one := range p.known {
		if one.seq == seq {
			p.known = append(slices.Delete(p.known, i, i+1), one)
			return one.was, nil
		}
	}
	was, err := work()
	if err != nil {
		return nil, err
	}
	if len(p.known) == mostPast {
		p.known = p.known[1:]
	}
	p.known = append(p.known, pastOne{seq, was})
	return was, nil
}

// facts is what the audit is told of the disk: with what a draft would have changed there.
type facts struct {
	files.Facts
	folder    int64
	root      string
	directory *identity.Directory
	drafting  *drafting
}

func (f facts) UnixOf(path string) (*posix.Attributes, bool) {
	if a := f.drafting.modes[objectAt{f.folder, path}]; a != nil {
		return a, true
	}
	return f.Facts.UnixOf(path)
}

// Altered lists the paths of which a draft changes owner, mode or ACL.
func (f facts) Altered() (paths []string) {
	for at := range f.drafting.modes {
		if at.folder == f.folder {
			paths = append(paths, at.path)
		}
	}
	slices.Sort(paths)
	return paths
}

// Kind takes what would have been made for being there.
func (f facts) Kind(path string) (exists, file bool) {
	if f.drafting.made[filepath.Join(f.root, path)] {
		return true, false
	}
	return f.Facts.Kind(path)
}

func (f facts) OwnerOf(path string) (acl.Ownership, bool) {
	if a := f.drafting.modes[objectAt{f.folder, path}]; a != nil {
		return acl.Ownership{User: f.directory.UserIndexByUID(a.UID), Group: f.directory.GroupIndexByGID(a.GID)}, true
	}
	return f.Facts.OwnerOf(path)
}

// awayFacts are those about a folder whose volume is away: nothing is told, and no disk is asked.
type awayFacts struct{}

func (awayFacts) OwnerOf(string) (acl.Ownership, bool)    { return acl.Ownership{}, false }
func (awayFacts) UnixOf(string) (*posix.Attributes, bool) { return nil, false }
func (awayFacts) Kind(string) (exists, file bool)         { return true, false }
func (awayFacts) Away() bool                              { return true }

// FactsOf is what is known of what lies in a folder.
func (s *Service) FactsOf(f *site.PublishedFolder) access.Facts {
	if _, away := s.VolumeAway(f.VolumeID); away {
		return awayFacts{}
	}
	known := files.FactsOf(s.Policy(), f)
	if s.drafting != nil {
		return facts{known, f.ID, f.Root, s.Policy().Directory, s.drafting}
	}
	return known
}

// Audit begins an audit of what is in force.
func (s *Service) Audit() *audit.Audit { return s.auditAt(s.Now()) }

func (s *Service) auditAt(now time.Time) *audit.Audit {
	a := audit.New(s.Policy(), now, s.FactsOf)
	a.Stored = s.stored
	return a
}

// Effect is what changes would do.
type Effect struct {
	Before, After *identity.Directory
	Changes       []audit.Change
	Powers        []audit.Power
	Added         int             // entries written
	Removed       int             // entries gone
	Warnings      []audit.Finding // what would be wrong that is not
	Fixed         []audit.Finding // what is wrong that would not be
	Whence        []string        // what would be another about from where, and how, clients come in
}

// Effect compares a draft with what is in force.
func (s *Service) Effect(draft *Service) Effect {
	now := s.Now()
	e := became(s.auditAt(now), draft.auditAt(now))
	// A new group is empty and unused until the next command.
	e.Warnings = slices.DeleteFunc(e.Warnings, func(f audit.Finding) bool { return f.Kind == audit.EmptyGroup || f.Kind == audit.UnusedGroup })
	return e
}

// Became compares what one service stands for with what a later one does.
func (s *Service) Became(later *Service) Effect { return became(s.Audit(), later.Audit()) }

func became(before, after *audit.Audit) Effect {
	c := audit.Compare(before, after)
	e := Effect{Before: before.Policy.Directory, After: after.Policy.Directory, Changes: c.Difference(), Powers: c.Powers(),
		Whence: site.Whence(before.Policy, after.Policy)}
	e.Warnings, e.Fixed = c.FindingsApart()
	was, is := entriesOf(before.Policy), entriesOf(after.Policy)
	for id := range is {
		if !was[id] {
			e.Added++
		}
	}
	for id := range was {
		if !is[id] {
			e.Removed++
		}
	}
	return e
}

// entriesOf is the numbers of all entries on paths.
func entriesOf(p *site.Policy) map[int64]bool {
	out := make(map[int64]bool)
	for _, f := range p.Folders {
		for i := range f.Rules {
			for j := range f.Rules[i].Entries {
				if id := f.Rules[i].Entries[j].ID; id > 0 {
					out[id] = true
				}
			}
		}
	}
	return out
}

// AcceptFinding notes that somebody lives with a finding until a moment.
func (s *Service) AcceptFinding(ctx context.Context, by Actor, key, reason string, until time.Time) error {
	if strings.TrimSpace(reason) == "" || len(reason) > 500 {
		return invalid("reason", "say why, in at most 500 bytes")
	}
	if !until.After(s.Now()) {
		return invalid("until", "%s has passed already", until.Format(time.RFC3339))
	}
	return s.change(ctx, by, "accept finding", key, func(d *site.Draft) error {
		for _, f := range s.Audit().Findings() {
			if f.Key != key {
				continue
			}
			a := site.Acceptance{Finding: key, Reason: reason, Until: instant(until), By: by.Name}
			for _, old := range d.Records().Acceptances {
				if old.Finding == key {
					a.ID = old.ID
				}
			}
			site.Put(d, a)
			return nil
		}
		return notFound("name", "amber finding list --all", "there is no finding %q", key)
	})
}

// ReopenFinding takes an acceptance back.
func (s *Service) ReopenFinding(ctx context.Context, by Actor, key string) error {
	return s.change(ctx, by, "reopen finding", key, func(d *site.Draft) error {
		for _, a := range d.Records().Acceptances {
			if a.Finding == key {
				site.Delete[site.Acceptance](d, a.ID)
				return nil
			}
		}
		return notFound("name", "amber finding list --all", "no finding %q is accepted", key)
	})
}
