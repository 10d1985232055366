package service

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/telling"
)

// NoticesChange is what is to change of who is told of limits; nil leaves what there was.
type NoticesChange struct {
	Percent  *[]int
	Grace    *bool
	Server   *string // HOST or HOST:PORT; "" for none
	Security *string
	From     *string
	User     *string // "" for none
	Password *string // "" for none
	Trust    *string // PEM; "" for those the host trusts
}

func checkMail(field, address string) error { return refusal.MailAddress(field, address) }

// SetNotices changes when people are told of limits, and where mail is handed in. A password goes with the server that it was
// given for: where that is changed, it is to be given again.
func (s *Service) SetNotices(ctx context.Context, by Actor, in NoticesChange) error {
	return s.change(ctx, by, "change notices", "notices", func(d *site.Draft) error {
		n := d.Records().Notices
		if in.Percent != nil {
			marks, err := limit.CleanPercent(*in.Percent)
			if err != nil {
				return invalid("percent", "%v", err)
			}
			n.Percent = marks
		}
		if in.Grace != nil {
			n.NoGrace = !*in.Grace
		}
		before := n.Mail
		if err := in.mail(&n.Mail); err != nil {
			return err
		}
		switch is := n.Mail; {
		case in.Password != nil && *in.Password != "":
			if len(*in.Password) > 1024 {
				return invalid("password", "the password is longer than 1024 bytes")
			}
			if is.User == "" {
				return invalid("password", "there is no user name that it belongs to")
			}
			if is.Security == string(notice.NoTLS) {
				return invalid("security", "a password is not sent without TLS")
			}
			n.Mail.Password = d.Keep(site.Secret{Sealed: s.keys.SealFor("mail", *in.Password)})
		case in.Password != nil, is.Server != before.Server, is.Security != before.Security, is.User != before.User, is.Trust != before.Trust:
			n.Mail.Password = 0
		}
		site.Put(d, n)
		return nil
	})
}

// mail changes where mail is handed in.
func (in *NoticesChange) mail(m *site.Mail) error {
	if in.Security != nil {
		if !slices.Contains([]notice.Security{notice.StartTLS, notice.TLS, notice.NoTLS}, notice.Security(*in.Security)) {
			return invalid("security", "%q is not one of starttls, tls, none", *in.Security)
		}
		m.Security = *in.Security
	}
	if in.Server != nil {
		if m.Server = strings.TrimSpace(*in.Server); m.Server != "" {
			if m.Security == "" {
				m.Security = string(notice.StartTLS)
			}
			if _, _, err := net.SplitHostPort(m.Server); err != nil {
				port := map[string]string{"starttls": "587", "tls": "465", "none": "25"}[m.Security] // RFC 6409 and 8314
				m.Server = net.JoinHostPort(strings.Trim(m.Server, "[]"), port)
			}
			host, port, err := net.SplitHostPort(m.Server)
			if n, bad := strconv.Atoi(port); err != nil || bad != nil || n < 1 || n > 65535 || host == "" || len(host) > 253 || strings.ContainsAny(host, " /@") {
				return invalid("server", "%q is no mail server, such as mail.larkfell.example or mail.larkfell.example:587", *in.Server)
			}
		}
	}
	if in.From != nil {
		if err := checkMail("from", *in.From); err != nil {
			return err
		}
		m.From = *in.From
	}
	if in.User != nil {
		if len(*in.User) > 254 {
			return invalid("user", "the user name is longer than 254 bytes")
		}
		m.User = *in.User
	}
	if in.Trust != nil {
		if *in.Trust != "" {
			if _, err := notice.ParseTrust(*in.Trust); err != nil {
				return invalid("trust", "%v", err)
			}
		}
		m.Trust = *in.Trust
	}
	if m.Server != "" && m.From == "" {
		return &Error{Kind: Invalid, Field: "from", Message: "from what address is mail sent?", Next: "amber notice set --mail-from ADDRESS"}
	}
	return nil
}

// MailPasswordSet says whether there is a password for the mail server.
func (s *Service) MailPasswordSet() bool { return s.Policy().Notices.Mail.Password != 0 }

// MailServer is where mail is handed in now.
func (s *Service) MailServer(ctx context.Context) (notice.Server, error) {
	m := s.Policy().Notices.Mail
	out := notice.Server{Address: m.Server, Security: notice.Security(m.Security), User: m.User, From: m.From}
	if m.Trust != "" {
		pool, err := notice.ParseTrust(m.Trust)
		if err != nil {
			return out, err
		}
		out.Trust = pool
	}
	kept, err := s.store.Secret(ctx, m.Password)
	if err != nil || kept.Sealed == nil {
		return out, err
	}
	out.Password, err = s.keys.OpenFor("mail", kept.Sealed)
	return out, err
}

// SetTemplate writes a letter; "" takes the one that comes with the service.
func (s *Service) SetTemplate(ctx context.Context, by Actor, letter, text string) error {
	if !slices.Contains(notice.Letters, letter) {
		return notFound("name", "amber notice template list", "there is no letter %q; there are %s", letter, strings.Join(notice.Letters, " and "))
	}
	if text != "" {
		if err := notice.Template(text).Check(); err != nil {
			return invalid("text", "the template is of no use: %v", err)
		}
	}
	return s.change(ctx, by, "change letter", letter, func(d *site.Draft) error {
		n := d.Records().Notices
		n.Templates = maps.Clone(n.Templates)
		if n.Templates == nil {
			n.Templates = make(map[string]string)
		}
		if n.Templates[letter] = text; text == "" {
			delete(n.Templates, letter)
		}
		if len(n.Templates) == 0 {
			n.Templates = nil
		}
		site.Put(d, n)
		return nil
	})
}

// testPatience is how long somebody who tries out mail waits for it.
const testPatience = 30 * time.Second

// TestMail sends a letter that looks like one about a limit, to an address, or to that of who asks, and waits until it has been handed in.
func (s *Service) TestMail(ctx context.Context, by Actor, to string) (string, error) {
	if err := s.mayTest(by); err != nil {
		return "", err
	}
	u := s.Policy().Directory.User(by.ID)
	if to == "" && u != nil {
		to = u.Mail
	}
	if to == "" {
		return "", &Error{Kind: Invalid, Field: "to", Message: "to what address? " + by.Name + " has none", Next: "amber user set " + quote(by.Name) + " --mail ADDRESS"}
	}
	if err := checkMail("to", to); err != nil {
		return "", err
	}
	server, err := s.MailServer(ctx)
	if err != nil {
		return "", err
	}
	if server.Address == "" {
		return "", conflict("", "amber notice set --mail-server HOST --mail-from ADDRESS", "there is no mail server")
	}
	about := &identity.User{Name: by.Name, Mail: to}
	if u != nil {
		about.FullName = u.FullName
	}
	m := telling.LetterTo(s.Policy(), about, notice.ToAdministrators, []notice.Notice{testNotice(by.Name)})
	ctx, cancel := context.WithTimeout(ctx, testPatience)
	defer cancel()
	errs := notice.Send(ctx, server, []notice.Letter{{ID: rand.Text(), To: to, Subject: m.Subject, Text: m.Text}})
	return to, s.tested(ctx, by, "mail to "+to, errs[0])
}

// TestHook calls a webhook with a notice that is none.
func (s *Service) TestHook(ctx context.Context, by Actor, name string) error {
	if err := s.mayTest(by); err != nil {
		return err
	}
	h, err := s.Hook(name)
	if err != nil {
		return err
	}
	known, err := s.hookSecrets(ctx, h.ID)
	if err != nil {
		return err
	}
	n := testNotice(by.Name)
	body, err := json.Marshal(telling.HookBody{Type: "limit.test", Timestamp: n.At, Data: n})
	if err != nil {
		return err
	}
	return s.tested(ctx, by, "webhook "+h.Name, notice.Post(ctx, known.URL, known.Secret, rand.Text(), body))
}

// mayTest keeps drafts from sending anything.
func (s *Service) mayTest(by Actor) error {
	switch {
	case s.drafting != nil || !s.asOf.IsZero():
		return conflict("", "", "what is only tried out sends nothing")
	case by.Role != identity.Administrator:
		return &Error{Kind: Forbidden, Message: by.Name + " may look but not send: that takes an administrator"}
	}
	return nil
}

// tested journals that something was sent to try it out, and says what became of it.
func (s *Service) tested(ctx context.Context, by Actor, to string, sent error) error {
	became := ""
	var f *notice.Failure
	if errors.As(sent, &f) {
		became = ": " + f.Words
		sent = conflict("", "", "%s", f.Words)
	}
	ctx = context.WithoutCancel(ctx)
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: by.Name, Action: "try out", Subject: to + became})
	})
	return errors.Join(sent, err)
}

// testNotice is a notice that tells of nothing.
func testNotice(name string) notice.Notice {
	hard := int64(5_000_000)
	return notice.Notice{At: time.Now().UTC().Truncate(time.Second), Kind: string(limit.Reached), By: string(ByUser), Name: name, Limit: "user " + name, Percent: 80, Dimension: limit.Bytes.String(),
		UsedBytes: 4_000_000, UsedFiles: 1, HardBytes: &hard, Says: fmt.Sprintf("%s is trying out whether notices arrive: this one is about no limit at all.", name)}
}
