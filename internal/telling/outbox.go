package telling

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/store"
)

// outbox brings what waits there to where it belongs: each target by itself, so that none waits for another.
type outbox struct {
	wake    chan struct{}
	dropped atomic.Int64 // messages for which there was no room
	pauses  []time.Duration

	mu   sync.Mutex
	busy map[string]bool
	rest map[string]rest
}

// rest is until when a target that could not be reached is left alone.
type rest struct {
	until time.Time
	tries int
}

// After so long what could not be brought is tried again; after the last of them, again and again.
var pauses = []time.Duration{2 * time.Second, 10 * time.Second, time.Minute, 5 * time.Minute, 30 * time.Minute, 2 * time.Hour}

const (
	patience  = 3 * 24 * time.Hour // for so long it is tried
	keepStuck = 7 * 24 * time.Hour // and for so long it is shown
	batch     = 50
)

func newOutbox() *outbox {
	return &outbox{wake: make(chan struct{}, 1), pauses: pauses, busy: make(map[string]bool), rest: make(map[string]rest)}
}

func (o *outbox) pause(tries int) time.Duration { return o.pauses[min(tries, len(o.pauses)-1)] }

// Bring brings what is due until the context ends.
func (s *Teller) Bring(ctx context.Context) {
	o := s.outbox
	var wait sync.WaitGroup
	defer wait.Wait()
	swept := time.Time{}
	for {
		now := s.ledger.Now()
		targets, err := s.uses.Targets(ctx, now)
		if err == nil && time.Since(swept) > time.Hour {
			swept = time.Now()
			err = s.uses.ForgetOutgoing(ctx, now.Add(-keepStuck))
		}
		if err != nil && ctx.Err() == nil {
			slog.Error("letters and messages to webhooks cannot be looked up", "error", err)
		}
		for _, target := range targets {
			o.mu.Lock()
			idle := !o.busy[target] && !now.Before(o.rest[target].until)
			if idle {
				o.busy[target] = true
			}
			o.mu.Unlock()
			if idle {
				contain.Go(&wait, "bringing notices", func() {
					defer poke(o.wake)
					defer func() {
						o.mu.Lock()
						defer o.mu.Unlock()
						delete(o.busy, target)
					}()
					s.bring(ctx, target)
				})
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-o.wake:
		case <-time.After(time.Second):
		}
		// Those that are busy say when they are done.
		select {
		case <-ctx.Done():
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// bring takes what is due for a target there.
func (s *Teller) bring(ctx context.Context, target string) {
	now := s.ledger.Now()
	rows, err := s.uses.Due(ctx, target, now, batch)
	if err != nil || len(rows) == 0 {
		return
	}
	messages := make([]Message, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal(r.Message, &messages[i]); err != nil {
			slog.Error("a message that waits cannot be read", "target", target, "error", err)
		}
	}
	errs, there := s.hand(ctx, target, messages)
	if ctx.Err() != nil && errs == nil {
		return
	}
	keep := context.WithoutCancel(ctx) // what is done is written down, or it would be done twice
	if !there {
		if err := s.uses.Brought(keep, ids(rows)...); err != nil {
			slog.Error("the outbox cannot be written", "error", err)
		}
		return
	}
	var done []store.Outgoing
	down := false
	for i, r := range rows {
		if i >= len(errs) {
			break
		}
		if errs[i] == nil {
			done = append(done, r)
			continue
		}
		var f *notice.Failure
		if !errors.As(errs[i], &f) {
			slog.Error("what it takes to bring a notice cannot be read", "target", target, "error", errs[i])
			f = &notice.Failure{Words: "what it takes cannot be read; the service's log says why", All: true}
		}
		if ctx.Err() != nil {
			break // nobody knows what it would have been
		}
		due := now.Add(s.outbox.pause(r.Tries))
		if f.Final || now.Sub(r.Made) > patience {
			due = time.Time{}
		}
		if err := s.uses.Unbrought(keep, r.ID, f.Words, due); err != nil {
			slog.Error("the outbox cannot be written", "error", err)
		}
		slog.Warn("a notice could not be brought", "target", target, "why", f.Words, "tries", r.Tries+1, "again", !due.IsZero())
		if f.All {
			down = true
			break
		}
	}
	if len(done) > 0 {
		if err := s.uses.Brought(keep, ids(done)...); err != nil {
			slog.Error("the outbox cannot be written", "error", err)
		}
	}
	s.outbox.mu.Lock()
	defer s.outbox.mu.Unlock()
	if !down {
		delete(s.outbox.rest, target)
		return
	}
	r := s.outbox.rest[target]
	s.outbox.rest[target] = rest{now.Add(min(s.outbox.pause(r.tries), 30*time.Minute)), r.tries + 1}
}

func ids(rows []store.Outgoing) (out []int64) {
	for _, r := range rows {
		out = append(out, r.ID)
	}
	return out
}

// hand takes messages to a target. It is false for one that is no more.
func (s *Teller) hand(ctx context.Context, target string, messages []Message) (errs []error, there bool) {
	if target == MailTarget {
		server, err := s.gateway.MailServer(ctx)
		if err != nil {
			return []error{err}, true
		}
		if server.Address == "" {
			return nil, false
		}
		var letters []notice.Letter
		for _, m := range messages {
			letters = append(letters, notice.Letter{ID: m.ID, To: m.To, Subject: m.Subject, Text: m.Text})
		}
		return notice.Send(ctx, server, letters), true
	}
	id, _ := strconv.ParseInt(strings.TrimPrefix(target, HookTarget), 10, 64)
	h := s.hook(id)
	if h == nil || h.Off {
		return nil, false
	}
	url, secret, err := s.gateway.HookSecrets(ctx, id)
	if err != nil {
		return []error{err}, true
	}
	for _, m := range messages {
		err := notice.Post(ctx, url, secret, m.ID, m.Body)
		errs = append(errs, err)
		var f *notice.Failure
		if errors.As(err, &f) && f.All {
			break
		}
	}
	return errs, true
}

// Unsent is a message that could not be brought to where it belongs.
type Unsent struct {
	Target  string // "mail to ADDRESS", "webhook NAME"
	Made    time.Time
	Tries   int
	Again   time.Time // zero for never
	Problem string
}

// mostUnsent is how many are listed.
const mostUnsent = 1000

// Unsent gives messages that could not be brought yet, or at all, oldest first.
func (s *Teller) Unsent(ctx context.Context) ([]Unsent, error) {
	rows, err := s.uses.Troubled(ctx, mostUnsent)
	if err != nil {
		return nil, err
	}
	var out []Unsent
	for _, r := range rows {
		u := Unsent{Made: r.Made, Tries: r.Tries, Again: r.Due, Problem: r.Problem}
		if r.Target == MailTarget {
			var m Message
			if err := json.Unmarshal(r.Message, &m); err != nil {
				return nil, err
			}
			u.Target = "mail to " + m.To
		} else {
			u.Target = "a webhook that is no more"
			id, _ := strconv.ParseInt(strings.TrimPrefix(r.Target, HookTarget), 10, 64)
			if h := s.hook(id); h != nil {
				u.Target = "webhook " + h.Name
			}
		}
		out = append(out, u)
	}
	return out, nil
}

// hook finds a webhook by its number; nil for one that is no more.
func (s *Teller) hook(id int64) *site.Hook {
	hooks := s.gateway.Policy().Hooks
	if i := slices.IndexFunc(hooks, func(h site.Hook) bool { return h.ID == id }); i >= 0 {
		return &hooks[i]
	}
	return nil
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// poke tells whoever listens on a channel, who may be busy.
func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}
