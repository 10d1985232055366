package api

import (
	"cmp"
	"context"
	"net/http"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/telling"
)

// MailSettings is where mail is handed in.
type MailSettings struct {
	Server      string `json:"server" doc:"HOST:PORT; empty for none: nobody is sent any mail."`
	Security    string `json:"security,omitempty" enum:"starttls,tls,none"`
	Sender      string `json:"sender,omitempty" doc:"From what address mail is sent."`
	User        string `json:"user,omitempty"`
	PasswordSet bool   `json:"passwordSet" doc:"There is a password; it is not shown."`
	Trust       string `json:"trust,omitempty" doc:"Certificates of those who may vouch for the server, PEM; the host's own if empty."`
}

// NoticeSettings says when people are told how they stand with limits.
type NoticeSettings struct {
	Percent []int        `json:"percent" doc:"Marks: parts of the hard limit, or of the soft one where there is none."`
	Grace   bool         `json:"grace" doc:"It is told when a grace begins, and on its last day."`
	Mail    MailSettings `json:"mail"`
}

// Letter is a template of a mail.
type Letter struct {
	Name  string `json:"name" enum:"person,administrators"`
	Text  string `json:"text" format:"lines" doc:"Its first line is the subject. What is in braces is filled in."`
	Own   bool   `json:"own" doc:"It is not the one that comes with the service."`
	Fills string `json:"fills" doc:"What can be filled in."`
}

// Hook is a web address that is called with what is told.
type Hook struct {
	Name   string `json:"name"`
	Site   string `json:"site" doc:"Scheme and host of its address; all of it is a secret."`
	On     bool   `json:"on"`
	Secret string `json:"secret,omitempty" doc:"What its messages are signed with. Shown once."`
}

// Unsent is a letter or a webhook's message that could not be brought to where it belongs.
type Unsent struct {
	To      string     `json:"to"`
	Made    time.Time  `json:"made"`
	Tries   int        `json:"tries"`
	Again   *time.Time `json:"again,omitempty" doc:"When it is tried again; left out where it is not."`
	Problem string     `json:"problem"`
}

// NoticeTest is what came of trying out whether notices arrive.
type NoticeTest struct {
	To string `json:"to" doc:"Where it was taken."`
}

func hookOf(h *site.Hook, secret string) Hook {
	return Hook{Name: h.Name, Site: h.Site, On: !h.Off, Secret: secret}
}

func (s *Server) noticeSettings(ctx context.Context) NoticeSettings {
	svc := s.on(ctx)
	n := svc.Policy().Notices
	m := n.Mail
	marks := n.Marks()
	return NoticeSettings{Percent: marks.Percent, Grace: marks.Grace,
		Mail: MailSettings{Server: m.Server, Security: m.Security, Sender: m.From, User: m.User, PasswordSet: svc.MailPasswordSet(), Trust: m.Trust}}
}

// NewHook is what a web address that is called is made from.
type NewHook struct {
	Name string `json:"name" maxLength:"64"`
	URL  string `json:"url" maxLength:"2000" doc:"http or https."`
}

// HookChange is what is to change of one; what is left out stays.
type HookChange struct {
	URL       *string `json:"url,omitempty" maxLength:"2000"`
	On        *bool   `json:"on,omitempty"`
	NewSecret bool    `json:"newSecret,omitempty" doc:"It gets another secret, which is in the answer."`
}

// NoticeSettingsChange is what is to change of when people are told; what is left out stays.
type NoticeSettingsChange struct {
	Percent *[]int             `json:"percent,omitempty" maxItems:"8" doc:"Between 1 and 100; an empty list for none."`
	Grace   *bool              `json:"grace,omitempty"`
	Mail    MailSettingsChange `json:"mail,omitempty"`
}

// MailSettingsChange is what is to change of where mail is handed in; what is left out stays.
type MailSettingsChange struct {
	Server   *string `json:"server,omitempty" maxLength:"300" doc:"HOST or HOST:PORT; empty for none."`
	Security *string `json:"security,omitempty" enum:"starttls,tls,none"`
	Sender   *string `json:"sender,omitempty" maxLength:"254"`
	User     *string `json:"user,omitempty" maxLength:"254" doc:"Empty for none."`
	Password *string `json:"password,omitempty" maxLength:"1024" format:"password" doc:"Empty for none. Where the server or the user is changed it is to be given again."`
	Trust    *string `json:"trust,omitempty" maxLength:"65536" format:"lines" doc:"PEM; empty for those whom the host trusts."`
}

// LetterText is the text of a letter.
type LetterText struct {
	Text string `json:"text" maxLength:"8192" format:"lines" doc:"Empty for the one that comes with the service."`
}

// NoticeToTry says where a notice is sent that is none.
type NoticeToTry struct {
	Hook    string `json:"hook,omitempty" maxLength:"80" doc:"To this webhook; else by mail."`
	Address string `json:"address,omitempty" maxLength:"254" doc:"To this mail address; to the caller's if left out."`
}

func (s *Server) hooks() resource[Hook, NewHook, HookChange] {
	return resource[Hook, NewHook, HookChange]{
		one: "hook", many: "hooks", route: "/notices/hooks", tag: "notices",
		does: summaries{list: "List the web addresses that are called with what is told", add: "Have a web address called with what is told", change: "Change a web address that is called",
			remove: "Have a web address called no more"},
		listing: listing[Hook]{name: func(h *Hook) string { return h.Name }, matches: func(h *Hook) []string { return []string{h.Site} }},
		all: func(ctx context.Context) (out []Hook) {
			hooks := s.on(ctx).Policy().Hooks
			for i := range hooks {
				out = append(out, hookOf(&hooks[i], ""))
			}
			return out
		},
		add: func(ctx context.Context, b NewHook) (Hook, error) {
			h, secret, err := s.on(ctx).CreateHook(ctx, caller(ctx), b.Name, b.URL)
			return shownBy(h, err, func(h *site.Hook) Hook { return hookOf(h, secret) })
		},
		change: func(ctx context.Context, name string, b HookChange) (Hook, error) {
			h, secret, err := s.on(ctx).UpdateHook(ctx, caller(ctx), name, service.HookChange{URL: b.URL, On: b.On, Secret: b.NewSecret})
			return shownBy(h, err, func(h *site.Hook) Hook { return hookOf(h, secret) })
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveHook(ctx, caller(ctx), name) },
	}
}

func (s *Server) registerNotices() {
	handle(s, operation("list-notices", http.MethodGet, "/notices", "List what was told of limits, the latest first", "notices"), func(ctx context.Context, in *struct {
		Limit  int   `query:"limit" minimum:"1" maximum:"10000" default:"100"`
		Before int64 `query:"before" minimum:"0" doc:"Only those with a lower number."`
		After  int64 `query:"after" minimum:"-1" default:"-1" doc:"Only those with a higher number, and the oldest of them first."`
	}) ([]notice.Notice, error) {
		from, back := in.Before, in.After < 0
		if !back {
			from = in.After
		}
		list, err := s.on(ctx).Notices(ctx, from, back, cmp.Or(in.Limit, 100))
		if list == nil {
			list = []notice.Notice{}
		}
		return list, err
	})
	handle(s, operation("list-unsent-notices", http.MethodGet, "/notices/unsent", "List letters and webhooks' messages that could not be brought to where they belong", "notices"), func(ctx context.Context, _ *struct{}) ([]Unsent, error) {
		list, err := s.on(ctx).Unsent(ctx)
		out := []Unsent{}
		for _, u := range list {
			out = append(out, Unsent{To: u.Target, Made: u.Made.UTC(), Tries: u.Tries, Problem: u.Problem, Again: orNever(u.Again.UTC())})
		}
		return out, err
	})
	handle(s, operation("show-notice-settings", http.MethodGet, "/notices/settings", "Show when people are told of limits, and where mail is handed in", "notices"), func(ctx context.Context, _ *struct{}) (NoticeSettings, error) {
		return s.noticeSettings(ctx), nil
	})
	handle(s, operation("change-notice-settings", http.MethodPatch, "/notices/settings", "Change when people are told of limits, and where mail is handed in", "notices"), func(ctx context.Context, in *struct {
		Body NoticeSettingsChange
	}) (NoticeSettings, error) {
		b := in.Body
		m := b.Mail
		err := s.on(ctx).SetNotices(ctx, caller(ctx), service.NoticesChange{Percent: b.Percent, Grace: b.Grace,
			Server: m.Server, Security: m.Security, From: m.Sender, User: m.User, Password: m.Password, Trust: m.Trust})
		if err != nil {
			return NoticeSettings{}, err
		}
		return s.noticeSettings(ctx), nil
	})
	handle(s, operation("list-letters", http.MethodGet, "/notices/templates", "List the templates of mails", "notices"), func(ctx context.Context, _ *struct{}) ([]Letter, error) {
		return s.letters(ctx), nil
	})
	handle(s, operation("set-letter", http.MethodPut, "/notices/templates/{name}", "Write the template of a mail", "notices"), func(ctx context.Context, in *struct {
		Named
		Body LetterText
	}) ([]Letter, error) {
		if err := s.on(ctx).SetTemplate(ctx, caller(ctx), in.Name, in.Body.Text); err != nil {
			return nil, err
		}
		return s.letters(ctx), nil
	})
	register(s, s.hooks())
	handle(s, operation("try-notice", http.MethodPost, "/notices/test", "Send a notice that is none, and wait until it has arrived", "notices"), func(ctx context.Context, in *struct {
		Body NoticeToTry
	}) (NoticeTest, error) {
		b := in.Body
		if b.Hook != "" {
			return NoticeTest{"webhook " + b.Hook}, s.on(ctx).TestHook(ctx, caller(ctx), b.Hook)
		}
		to, err := s.on(ctx).TestMail(ctx, caller(ctx), b.Address)
		return NoticeTest{to}, err
	})
}

func (s *Server) letters(ctx context.Context) []Letter {
	n := s.on(ctx).Policy().Notices
	out := []Letter{}
	for _, name := range notice.Letters {
		_, own := n.Templates[name]
		out = append(out, Letter{Name: name, Text: string(telling.TemplateOf(&n, name)), Own: own, Fills: notice.PlacesText()})
	}
	return out
}
