package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/report"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/usage"
)

// How often it is looked who is close to a limit, of those whose use has changed and of those above a soft limit;
// how often administrators get a letter, whatever there is to tell; and what is kept of what was told.
const (
	tellEvery   = time.Second
	graceEvery  = time.Minute
	digestEvery = 5 * time.Minute
	keepNotices = 90 * 24 * time.Hour
	mostNotices = 10_000
	mostOutbox  = 10_000
	mostJournal = 8 // notices of one moment that get a row of their own
)

type toldKey struct {
	counter limit.Counter
	limit   int64
}

// telling is what has been told, for the one goroutine that tells.
type telling struct {
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

func newTelling() *telling {
	return &telling{told: make(map[toldKey]limit.Told), wake: make(chan struct{}, 1), every: tellEvery, gap: digestEvery}
}

// textDigest is the name of the text that says how far administrators have been told.
const textDigest = "digest"

type digest struct {
	Notice int64     `json:"notice"`
	At     time.Time `json:"at"`
}

func (s *Service) openTelling(ctx context.Context) error {
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

// runTelling tells people how they stand with limits until the service is wound down.
func (s *Service) runTelling() {
	ctx := s.background.ctx
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
func (s *Service) AwaitTold(ctx context.Context) {
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
func (s *Service) tell(ctx context.Context) error {
	t := s.telling
	now := s.ledger.Now()
	p := s.Policy()
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
func (s *Service) pieceOf(p *site.Policy, st usage.Stirred, n limit.Notice, now time.Time) piece {
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
		out.By = string(ByFolder)
		if l.Path != "" {
			out.By = string(ByTree)
		}
		if f := p.Folder(l.Folder); f != nil {
			out.Name, out.person = f.Display(l.Path), p.Directory.User(f.Owner)
		}
	case st.Counter.Of == limit.Grouped:
		out.By, out.Name = string(ByGroup), numberName(ByGroup, st.Counter.Number)
		if i := p.Directory.GroupIndexByGID(st.Counter.Number); i != identity.None {
			out.Name = p.Directory.Groups()[i].Name
		}
	default:
		out.By, out.Name = string(ByUser), numberName(ByUser, st.Counter.Number)
		if i := p.Directory.UserIndexByUID(st.Counter.Number); i != identity.None {
			out.person = &p.Directory.Users()[i]
			out.Name = out.person.Name
		}
	}
	out.Name = plain.Text(out.Name)
	who := out.Name
	if out.By != string(ByUser) {
		who = out.By + " " + who
	}
	if out.By == string(ByTree) {
		who = out.Name
	}
	out.Says = notice.Words(n, &st.Standing, who, plain.Text(out.Limit), now)
	return out
}

// message is what waits in the outbox.
type message struct {
	ID      string          `json:"id"`
	To      string          `json:"to,omitempty"` // an address
	Subject string          `json:"subject,omitempty"`
	Text    string          `json:"text,omitempty"`
	Body    json.RawMessage `json:"body,omitempty"` // a webhook's
}

// Targets of the outbox: the mail server, and each webhook by its number.
const (
	mailTarget = "mail"
	hookTarget = "hook "
)

// hookBody is what a webhook is sent, in the form of the Standard Webhooks specification.
type hookBody struct {
	Type      string    `json:"type"`
	Timestamp time.Time `json:"timestamp"`
	Data      any       `json:"data"`
}

// writeTold writes down one step. It gives the number of the last notice there is where that is asked for.
func (s *Service) writeTold(ctx context.Context, changed map[toldKey]limit.Told, pieces []piece, digesting bool, now time.Time) (last int64, err error) {
	p := s.Policy()
	err = s.uses.Tell(ctx, func(t store.Telling) error {
		waiting, err := t.Waiting(ctx)
		if err != nil {
			return err
		}
		post := func(target string, m message) error {
			if waiting++; waiting > mostOutbox {
				s.outbox.dropped.Add(1)
				return nil
			}
			m.ID = rand.Text()
			return t.Post(ctx, now, target, m)
		}
		for key, told := range changed {
			if err := t.Remember(ctx, store.KeptTold{Counter: key.counter, Limit: key.limit, Told: told}); err != nil {
				return err
			}
		}
		of := make(map[identity.ID][]notice.Notice)
		for i := range pieces {
			n := &pieces[i].Notice
			raw, err := json.Marshal(n)
			if err != nil {
				return err
			}
			if n.ID, err = t.Notice(ctx, now, raw); err != nil {
				return err
			}
			if who := pieces[i].person; who != nil && hasMail(who, now) && who.Role != identity.Administrator {
				of[who.ID] = append(of[who.ID], *n)
			}
			if err := postHooks(p, "limit.notice", n.At, n, post); err != nil {
				return err
			}
		}
		if p.Notices.Mail.Server != "" {
			for _, id := range slices.Sorted(maps.Keys(of)) {
				if err := post(mailTarget, letterTo(p, p.Directory.User(id), notice.ToPerson, of[id])); err != nil {
					return err
				}
			}
		}
		if len(pieces) > 0 {
			if err := t.Forget(ctx, now.Add(-keepNotices), mostNotices); err != nil {
				return err
			}
		}
		if !digesting {
			return nil
		}
		last, err = s.postDigest(ctx, t, p, now, post)
		return err
	})
	if n := s.outbox.dropped.Load(); n > 0 && err == nil {
		slog.Error("there is no room for more letters and messages to webhooks that wait", "dropped", n)
	}
	return last, err
}

// postDigest has letters to administrators wait, about all that was told since their last.
func (s *Service) postDigest(ctx context.Context, t store.Telling, p *site.Policy, now time.Time, post func(string, message) error) (last int64, err error) {
	rows, err := t.NoticesAfter(ctx, s.telling.digested, mostNotices)
	if err != nil {
		return 0, err
	}
	if len(rows) == 0 {
		return s.telling.digested, nil
	}
	last = rows[len(rows)-1].ID
	list, err := noticesOf(rows)
	if err != nil {
		return 0, err
	}
	if p.Notices.Mail.Server != "" {
		users := p.Directory.Users()
		for i := range users {
			if u := &users[i]; u.Role == identity.Administrator && hasMail(u, now) {
				if err := post(mailTarget, letterTo(p, u, notice.ToAdministrators, list)); err != nil {
					return 0, err
				}
			}
		}
	}
	raw, err := json.Marshal(digest{last, now})
	if err != nil {
		return 0, err
	}
	return last, t.Text(ctx, textDigest, string(raw))
}

func hasMail(u *identity.User, now time.Time) bool { return u.Mail != "" && u.InForce(now) }

// postHooks has a message wait for each webhook that is on.
func postHooks(p *site.Policy, kind string, at time.Time, data any, post func(string, message) error) error {
	var body json.RawMessage
	for _, h := range p.Hooks {
		if h.Off {
			continue
		}
		if body == nil {
			var err error
			if body, err = json.Marshal(hookBody{kind, at, data}); err != nil {
				return err
			}
		}
		if err := post(hookTarget+itoa(h.ID), message{Body: body}); err != nil {
			return err
		}
	}
	return nil
}

// letterTo fills in a letter.
func letterTo(p *site.Policy, u *identity.User, letter string, list []notice.Notice) message {
	subject, text := TemplateOf(&p.Notices, letter).Fill(map[string]string{
		"name": plain.Text(orName(u)), "account": u.Name, "server": report.Machine(), "summary": notice.Summary(list), "notices": notice.List(list)})
	return message{To: u.Mail, Subject: subject, Text: text}
}

func orName(u *identity.User) string {
	if u.FullName != "" {
		return u.FullName
	}
	return u.Name
}

// TemplateOf gives a letter as it is in force.
func TemplateOf(n *site.Notices, letter string) notice.Template {
	if own, ok := n.Templates[letter]; ok {
		return notice.Template(own)
	}
	return notice.Defaults[letter]
}

func noticesOf(rows []store.NoticeRow) ([]notice.Notice, error) {
	list := make([]notice.Notice, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal(r.Notice, &list[i]); err != nil {
			return nil, fmt.Errorf("notice %d: %w", r.ID, err)
		}
		list[i].ID = r.ID
	}
	return list, nil
}

// journalPieces puts what was told into the journal: each by itself, or many at once in one row.
func (s *Service) journalPieces(ctx context.Context, pieces []piece) error {
	if len(pieces) == 0 {
		return nil
	}
	var subjects []string
	for _, n := range pieces {
		subjects = append(subjects, n.Says)
	}
	if len(subjects) > mostJournal {
		subjects = []string{fmt.Sprintf("%d notices at once: %s, and so on; see amber notice list", len(subjects), strings.TrimSuffix(subjects[0], "."))}
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		for _, subject := range subjects {
			if err := tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: Itself.Name, Action: store.TellAction, Subject: subject}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Notices gives what was told after a number, oldest first; with back, the last before it, newest first, all for 0.
func (s *Service) Notices(ctx context.Context, from int64, back bool, most int) ([]notice.Notice, error) {
	rows, err := s.uses.Notices(ctx, from, back, most)
	if err != nil {
		return nil, err
	}
	return noticesOf(rows)
}
