// Package telling tells people how they stand with limits: it looks who is close, writes down what there is to tell, and brings letters and webhooks'
// messages to where they belong.
package telling

import (
	"cmp"
	"context"
	"encoding/json"
	"log/slog"
	"reflect"
	"slices"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/usage"
)

// How often it is looked who is close to a limit, of those whose use has changed and of those above a soft limit;
// how often administrators get a letter, whatever there is to tell; and what is kept of what was told.
const (
	tellEvery   = time.Second
	graceEvery  = time.Minute
	DigestEvery = 5 * time.Minute
	keepNotices = 90 * 24 * time.Hour
	mostNotices = 10_000
	MostOutbox  = 10_000
	mostJournal = 8 // notices of one moment that get a row of their own
)

type toldKey struct {
	counter limit.Counter
	limit   int64
}

// Gateway is whose people are told.
type Gateway interface {
	Policy() *site.Policy
	// MailServer is where mail is handed in; one without an address where nobody is sent any.
	MailServer(ctx context.Context) (notice.Server, error)
	// HookSecrets is what a webhook is called by, and what its messages are signed with.
	HookSecrets(ctx context.Context, id int64) (url, secret string, err error)
}

// Teller tells.
type Teller struct {
	gateway Gateway
	store   *store.Store
	uses    *store.Uses
	ledger  *usage.Ledger
	telling *told
	outbox  *outbox
}

// Open takes up what has been told, and what waits.
func Open(ctx context.Context, g Gateway, st *store.Store, uses *store.Uses, ledger *usage.Ledger) (*Teller, error) {
	t := &Teller{gateway: g, store: st, uses: uses, ledger: ledger, telling: newTold(), outbox: newOutbox()}
	return t, t.open(ctx)
}

// Pace has it looked every so often, letters to administrators be so far apart, and what could not be brought be tried again after such pauses: for
// tests.
func (t *Teller) Pace(every, gap time.Duration, pauses ...time.Duration) {
	t.telling.every, t.telling.gap, t.outbox.pauses = every, gap, pauses
}

// Dropped is how many letters and messages there was no room for.
func (t *Teller) Dropped() int64 { return t.outbox.dropped.Load() }

// told is what has been told, for the one goroutine that tells.
type told struct {
	told     map[toldKey]limit.Told
	table    *limit.Table // as of which it was last tidied up
	digested int64        // the last notice that administrators have had a letter about
	digestAt time.Time    // when that was
	news     bool         // there are later ones
	passes   atomic.Int64 // how often it has been looked
	wake     chan struct{}
	every    time.Duration
	gap      time.Duration // between letters to administrators
}

func newTold() *told {
	return &told{told: make(map[toldKey]limit.Told), wake: make(chan struct{}, 1), every: tellEvery, gap: DigestEvery}
}

// textDigest is the name of the text that says how far administrators have been told.
const textDigest = "digest"

type digest struct {
	Notice int64     `json:"notice"`
	At     time.Time `json:"at"`
}

func (s *Teller) open(ctx context.Context) error {
	kept, err := s.uses.Told(ctx)
	if err != nil {
		return err
	}
	for _, k := range kept {
		s.telling.told[toldKey{k.Counter, k.Limit}] = k.Told
	}
	raw, err := s.uses.Text(ctx, textDigest)
	if err != nil {
		return err
	}
	var d digest
	if raw != "" {
		err = json.Unmarshal([]byte(raw), &d)
	}
	s.telling.digested, s.telling.digestAt, s.telling.news = d.Notice, d.At, true
	return err
}

// Tell tells people how they stand with limits until the context ends.
func (s *Teller) Tell(ctx context.Context) {
	s.ledger.StirAll()
	graces, complained := time.Now(), time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.telling.wake:
		case <-time.After(s.telling.every):
		}
		if time.Since(graces) >= graceEvery {
			s.ledger.StirGraces()
			graces = time.Now()
		}
		contain.Run("telling", func() {
			if err := s.tell(ctx); err != nil && ctx.Err() == nil && time.Since(complained) > time.Minute {
				complained = time.Now()
				slog.Error("who is close to a limit cannot be told", "error", err)
			}
		})
		s.telling.passes.Add(1)
	}
}

// AwaitTold waits until all that has happened so far has been looked at, for at most ten seconds.
func (s *Teller) AwaitTold(ctx context.Context) {
	from := s.telling.passes.Load()
	for range 1000 {
		if s.telling.passes.Load() >= from+2 || ctx.Err() != nil { // one may be going on
			return
		}
		poke(s.telling.wake)
		time.Sleep(10 * time.Millisecond)
	}
}

// piece is one thing to be told, with whom it is about.
type piece struct {
	notice.Notice
	person *identity.User // nil where it is nobody's own
}

// tell looks at all that has changed, and tells what there is to tell: it writes it down, and has letters and webhooks' messages wait.
func (s *Teller) tell(ctx context.Context) error {
	t := s.telling
	now := s.ledger.Now()
	p := s.gateway.Policy()
	marks := p.Notices.Marks()
	stirred := s.ledger.Stirred()
	changed := make(map[toldKey]limit.Told)
	var pieces []piece
	for _, st := range stirred {
		if st.Standing.Counting {
			continue
		}
		key := toldKey{st.Counter, st.Limit.ID}
		told, news := marks.Next(t.told[key], &st.Standing, st.Refused, now)
		if !reflect.DeepEqual(told, t.told[key]) {
			changed[key] = told
		}
		for _, n := range news {
			pieces = append(pieces, s.pieceOf(p, st, n, now))
		}
	}
	slices.SortStableFunc(pieces, func(a, b piece) int { return cmp.Or(cmp.Compare(a.By, b.By), cmp.Compare(a.Name, b.Name)) })
	if t.table != p.Limits { // what is told of limits that are gone is nothing
		for key := range t.told {
			if p.Limits.Limit(key.limit) == nil {
				changed[key] = limit.Told{}
			}
		}
	}
	digesting := (t.news || len(pieces) > 0) && now.Sub(t.digestAt) >= t.gap
	if len(changed) > 0 || len(pieces) > 0 || digesting {
		last, err := s.writeTold(ctx, changed, pieces, digesting, now)
		if err != nil {
			s.ledger.Unstirred(stirred)
			return err
		}
		for key, told := range changed {
			if told.Nothing() {
				delete(t.told, key)
			} else {
				t.told[key] = told
			}
		}
		t.news = t.news || len(pieces) > 0
		if digesting {
			if last != t.digested {
				t.digestAt = now
			}
			t.digested, t.news = last, false
		}
		poke(s.outbox.wake)
	}
	t.table = p.Limits
	return s.journalPieces(ctx, pieces)
}

// pieceOf spells a notice.
func (s *Teller) pieceOf(p *site.Policy, st usage.Stirred, n limit.Notice, now time.Time) piece {
	l := st.Limit
	var out piece
	out.At, out.Kind, out.Limit, out.Percent, out.Dimension = now.UTC().Truncate(time.Second), string(n.Kind), access.LimitSubject(p, l), n.Percent, n.Dimension.String()
	out.UsedBytes, out.UsedFiles = st.Use.Bytes, st.Use.Files
	out.SoftBytes, out.HardBytes, out.SoftFiles, out.HardFiles = l.SoftBytes, l.HardBytes, l.SoftFiles, l.HardFiles
	if ends, ok := st.Ends(n.Dimension); ok {
		ends = ends.UTC().Truncate(time.Second)
		out.GraceEnds = &ends
	}
	switch {
	case st.Counter.Tree != 0 || st.Counter.Of == limit.Everything:
		out.By = string(usage.ByFolder)
		if l.Path != "" {
			out.By = string(usage.ByTree)
		}
		if f := p.Folder(l.Folder); f != nil {
			out.Name, out.person = f.Display(l.Path), p.Directory.User(f.Owner)
		}
	case st.Counter.Of == limit.Grouped:
		out.By, out.Name = string(usage.ByGroup), usage.NumberName(usage.ByGroup, st.Counter.Number)
		if i := p.Directory.GroupIndexByGID(st.Counter.Number); i != identity.None {
			out.Name = p.Directory.Groups()[i].Name
		}
	default:
		out.By, out.Name = string(usage.ByUser), usage.NumberName(usage.ByUser, st.Counter.Number)
		if i := p.Directory.UserIndexByUID(st.Counter.Number); i != identity.None {
			out.person = &p.Directory.Users()[i]
			out.Name = out.person.Name
		}
	}
	out.Name = plain.Text(out.Name)
	who := out.Name
	if out.By != string(usage.ByUser) {
		who = out.By + " " + who
	}
	if out.By == string(usage.ByTree) {
		who = out.Name
	}
	out.Says = notice.Words(n, &st.Standing, who, plain.Text(out.Limit), now)
	return out
}

// Notices gives what was told after a number, oldest first; with back, the last before it, newest first, all for 0.
func (s *Teller) Notices(ctx context.Context, from int64, back bool, most int) ([]notice.Notice, error) {
	rows, err := s.uses.Notices(ctx, from, back, most)
	if err != nil {
		return nil, err
	}
	return noticesOf(rows)
}
