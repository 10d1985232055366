package telling

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/report"
	"amber.example/gatekeeper/internal/store"
)

// Message is what waits in the outbox.
type Message struct {
	ID      string          `json:"id"`
	To      string          `json:"to,omitempty"` // an address
	Subject string          `json:"subject,omitempty"`
	Text    string          `json:"text,omitempty"`
	Body    json.RawMessage `json:"body,omitempty"` // a webhook's
}

// Targets of the outbox: the mail server, and each webhook by its number.
const (
	MailTarget = "mail"
	HookTarget = "hook "
)

// HookBody is what a webhook is sent, in the form of the Standard Webhooks specification.
type HookBody struct {
	Type      string    `json:"type"`
	Timestamp time.Time `json:"timestamp"`
	Data      any       `json:"data"`
}

// writeTold writes down one step. It gives the number of the last notice there is where that is asked for.
func (s *Teller) writeTold(ctx context.Context, changed map[toldKey]limit.Told, pieces []piece, digesting bool, now time.Time) (last int64, err error) {
	p := s.gateway.Policy()
	err = s.uses.Tell(ctx, func(t store.Telling) error {
		waiting, err := t.Waiting(ctx)
		if err != nil {
			return err
		}
		post := func(target string, m Message) error {
			if waiting++; waiting > MostOutbox {
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
			if who := pieces[i].person; who != nil && HasMail(who, now) && who.Role != identity.Administrator {
				of[who.ID] = append(of[who.ID], *n)
			}
			if err := postHooks(p, "limit.notice", n.At, n, post); err != nil {
				return err
			}
		}
		if p.Notices.Mail.Server != "" {
			for _, id := range slices.Sorted(maps.Keys(of)) {
				if err := post(MailTarget, LetterTo(p, p.Directory.User(id), notice.ToPerson, of[id])); err != nil {
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
func (s *Teller) postDigest(ctx context.Context, t store.Telling, p *site.Policy, now time.Time, post func(string, Message) error) (last int64, err error) {
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
			if u := &users[i]; u.Role == identity.Administrator && HasMail(u, now) {
				if err := post(MailTarget, LetterTo(p, u, notice.ToAdministrators, list)); err != nil {
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

// HasMail says whether somebody can be sent a letter.
func HasMail(u *identity.User, now time.Time) bool { return u.Mail != "" && u.InForce(now) }

// postHooks has a Message wait for each webhook that is on.
func postHooks(p *site.Policy, kind string, at time.Time, data any, post func(string, Message) error) error {
	var body json.RawMessage
	for _, h := range p.Hooks {
		if h.Off {
			continue
		}
		if body == nil {
			var err error
			if body, err = json.Marshal(HookBody{kind, at, data}); err != nil {
				return err
			}
		}
		if err := post(HookTarget+itoa(h.ID), Message{Body: body}); err != nil {
			return err
		}
	}
	return nil
}

// LetterTo fills in a letter.
func LetterTo(p *site.Policy, u *identity.User, letter string, list []notice.Notice) Message {
	subject, text := TemplateOf(&p.Notices, letter).Fill(map[string]string{
		"name": plain.Text(orName(u)), "account": u.Name, "server": report.Machine(), "summary": notice.Summary(list), "notices": notice.List(list)})
	return Message{To: u.Mail, Subject: subject, Text: text}
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
func (s *Teller) journalPieces(ctx context.Context, pieces []piece) error {
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
			if err := tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: refusal.Itself.Name, Action: store.TellAction, Subject: subject}); err != nil {
				return err
			}
		}
		return nil
	})
}
