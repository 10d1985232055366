package notice_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo/postbox"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/notice"
)

func ptr(n int64) *int64 { return &n }

func TestWhatANoticeSays(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	both := &limit.Limit{Bounds: limit.Bounds{SoftBytes: ptr(2_000_000), HardBytes: ptr(3_000_000), HardFiles: ptr(500), GraceSeconds: 3 * 24 * 3600}}
	soft := &limit.Limit{Bounds: limit.Bounds{SoftBytes: ptr(2_000_000)}}
	for _, c := range []struct {
		n    limit.Notice
		s    limit.Standing
		who  string
		of   string
		want string
	}{
		{limit.Notice{Kind: limit.Reached, Percent: 80}, limit.Standing{Limit: both, Use: limit.Amount{Bytes: 2_400_000}, Since: limit.Since{now}}, "piran", "user piran",
			"piran: 2.4 MB in use, 80 % or more of the hard limit of 3 MB; nothing can grow from 4 March 2026, 12:00 UTC on, unless there is less by then."},
		{limit.Notice{Kind: limit.Reached, Percent: 100}, limit.Standing{Limit: both, Use: limit.Amount{Bytes: 3_000_000}, Since: limit.Since{now}}, "folder nightlog", "folder nightlog",
			"folder nightlog: 3 MB in use, which is all of the hard limit of 3 MB; nothing can grow."},
		{limit.Notice{Kind: limit.Reached, Percent: 90, Dimension: limit.Files}, limit.Standing{Limit: both, Use: limit.Amount{Files: 455}}, "orla", "default of visitors in visitors",
			"orla: 455 files in use, 90 % or more of the hard limit of 500 files. The limit is the default of visitors in visitors."},
		{limit.Notice{Kind: limit.Reached, Percent: 100}, limit.Standing{Limit: soft, Use: limit.Amount{Bytes: 2_000_000}}, "svc-reduce", "user svc-reduce in scratch",
			"svc-reduce: 2 MB in use, which is all of the soft limit of 2 MB. The limit is that of user svc-reduce in scratch."},
		{limit.Notice{Kind: limit.GraceBegun}, limit.Standing{Limit: both, Use: limit.Amount{Bytes: 2_000_001}, Since: limit.Since{now}}, "piran", "user piran",
			"piran: 2 MB in use, more than the soft limit of 2 MB; nothing can grow from 4 March 2026, 12:00 UTC on, unless there is less by then."},
		{limit.Notice{Kind: limit.GraceEnds}, limit.Standing{Limit: both, Use: limit.Amount{Bytes: math.MaxInt64}, Since: limit.Since{now}}, "piran", "user piran",
			"piran: 9.22 EB in use, still more than the soft limit of 2 MB; nothing can grow from 4 March 2026, 12:00 UTC on, unless there is less by then."},
	} {
		require.Equal(t, c.want, notice.Words(c.n, &c.s, c.who, c.of, now))
	}
}

func TestTemplates(t *testing.T) {
	for _, letter := range notice.Letters {
		require.NoError(t, notice.Defaults[letter].Check())
	}
	for text, wrong := range map[string]string{
		"":                                   "Subject",
		"Hello {name}":                       "Subject",
		"Subject: \n\n{notices}":             "Subject",
		"Subject: x\n{notices}":              "empty line",
		"Subject: {notices}\n\nHello":        "not in its text",
		"Subject: x\n\n{notices} {password}": "{password}",
		"Subject: x\n\n{notices} {":          "{}",
		"Subject: {nom}\n\n{notices}":        "{nom}",
		"Subject: x\n\n{notices}" + strings.Repeat("x", 9000): "longer",
	} {
		require.ErrorContains(t, notice.Template(text).Check(), wrong, "%.40q", text)
	}
	subject, text := notice.Template("Subject:  about {name}\r\n\r\n{notices}, {name}\r\n").Fill(map[string]string{"name": "Piran\r\nBcc: all@larkfell.example", "notices": "{server}"})
	require.Equal(t, "about Piran Bcc: all@larkfell.example", subject, "one line, whatever is filled in")
	require.Equal(t, "{server}, Piran\r\nBcc: all@larkfell.example\n", text, "what is filled in is not filled in again")
}

// letter is one to be handed in in tests.
var letter = notice.Letter{ID: "ABC123", To: "piran@larkfell.example", Subject: "Grüße\r\nBcc: all@larkfell.example", Text: "4.7 MB in use, 94 % or more\n.\nof it: größer\n"}

func send(t *testing.T, s notice.Server) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	return notice.Send(ctx, s, []notice.Letter{letter})[0]
}

func TestMailOverStartTLS(t *testing.T) {
	box, err := postbox.Open(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	defer box.Close()
	trust, err := notice.ParseTrust(box.Trust)
	require.NoError(t, err)
	s := notice.Server{Address: box.Address, Security: notice.StartTLS, Trust: trust, From: "files@larkfell.example"}
	require.NoError(t, send(t, s))
	mails, err := box.Mails()
	require.NoError(t, err)
	require.Len(t, mails, 1)
	head, body, _ := strings.Cut(mails[0], "\r\n\r\n")
	require.Contains(t, head, "Message-ID: <ABC123@larkfell.example>")
	require.Contains(t, head, "To: <piran@larkfell.example>")
	require.NotContains(t, head, "\r\nBcc:")
	require.Contains(t, head, "Auto-Submitted: auto-generated")
	require.Contains(t, body, "94 % or more\r\n.\r\nof it: gr=C3=B6=C3=9Fer")

	stranger := s
	stranger.Trust = nil
	require.ErrorContains(t, send(t, stranger), "nobody who is trusted vouches for the certificate")
	other := s
	other.Address = strings.Replace(s.Address, "127.0.0.1", "127.0.0.2", 1) // loopback all the same, on Linux
	if err := send(t, other); !strings.Contains(err.Error(), "nothing answers") {
		require.ErrorContains(t, err, "is for another name")
	}
	box.Ask("files", "files-at-larkfell")
	require.ErrorContains(t, send(t, s), "authenticate first")
	s.User, s.Password = "files", "wrong"
	require.EqualError(t, send(t, s), "the mail server "+box.Address+" refused the user name or the password")
	s.Password = "files-at-larkfell"
	require.NoError(t, send(t, s))
	s.Security = notice.NoTLS
	require.ErrorContains(t, send(t, s), "without TLS")
}

// plainServer answers each connection by a function.
func plainServer(t *testing.T, talk func(net.Conn)) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer c.Close(); talk(c) }()
		}
	}()
	return l.Addr().String()
}

// A server that is none, or means harm, costs a while and no more, and nothing is said to it in the clear.
func TestMailServersThatMeanHarm(t *testing.T) {
	heard := make(chan string, 100)
	smtp := func(greets string) func(net.Conn) {
		return func(c net.Conn) {
			fmt.Fprint(c, greets)
			lines := bufio.NewScanner(c)
			for lines.Scan() {
				heard <- lines.Text()
				fmt.Fprint(c, "250 as you like\r\n")
			}
		}
	}
	for name, c := range map[string]struct {
		talk func(net.Conn)
		want string
	}{
		"no STARTTLS":  {smtp("220 hello\r\n"), "does not offer STARTTLS"},
		"says nothing": {func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }, "did not answer in time"},
		"ends at once": {func(net.Conn) {}, "ended the connection"},
		"talks for ever": {func(c net.Conn) {
			for {
				if _, err := c.Write([]byte("220-" + strings.Repeat("x", 5000) + "\r\n")); err != nil {
					return
				}
			}
		}, "is no mail server"},
		"one endless line": {func(c net.Conn) {
			for {
				if _, err := c.Write([]byte(strings.Repeat("x", 5000))); err != nil {
					return
				}
			}
		}, "is no mail server"},
		"is a web server":   {func(c net.Conn) { fmt.Fprint(c, "HTTP/1.1 400 Bad Request\r\n\r\n") }, ""},
		"refuses to listen": {smtp("554 go away\r\n"), "answered: 554 go away"},
	} {
		t.Run(name, func(t *testing.T) {
			begun := time.Now()
			err := send(t, notice.Server{Address: plainServer(t, c.talk), Security: notice.StartTLS, From: "files@larkfell.example", User: "files", Password: "files-at-larkfell"})
			var f *notice.Failure
			require.ErrorAs(t, err, &f)
			require.Contains(t, f.Words, c.want)
			require.True(t, f.All)
			require.Less(t, time.Since(begun), 10*time.Second)
		})
	}
	close(heard)
	for line := range heard {
		require.True(t, strings.HasPrefix(line, "EHLO") || strings.HasPrefix(line, "QUIT") || strings.HasPrefix(line, "HELO"), "%q was said in the clear", line)
	}
}

func TestWebhooksThatMeanHarm(t *testing.T) {
	elsewhere := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	defer other.Close()
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		want   string
		final  bool
		all    bool
	}{
		"taken": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusAccepted) }, "", false, false},
		"redirects": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
		}, "redirects are not followed", false, true},
		"is gone": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusGone) }, "410 Gone", true, false},
		"fails":   {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusBadGateway) }, "502", false, true},
		"talks for ever": {func(w http.ResponseWriter, _ *http.Request) {
			for {
				if _, err := w.Write(make([]byte, 8000)); err != nil {
					return
				}
			}
		}, "", false, false},
		"hangs up": {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, "ended the connection", false, true},
	} {
		t.Run(name, func(t *testing.T) {
			s := httptest.NewServer(c.answer)
			defer s.Close()
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			err := notice.Post(ctx, s.URL, notice.NewSecret(), "id", []byte(`{}`))
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			var f *notice.Failure
			require.True(t, errors.As(err, &f))
			require.Contains(t, f.Words, c.want)
			require.Equal(t, [2]bool{c.final, c.all}, [2]bool{f.Final, f.All})
		})
	}
	require.Zero(t, elsewhere)
	for _, bad := range []string{"", "ops", "/x", "ftp://host/x", "file:///etc/passwd", "http://", "https://a:b@host/x", "http://host/#x", "http://host/" + strings.Repeat("x", 3000)} {
		_, err := notice.ParseURL(bad)
		require.Error(t, err, "%.30s", bad)
	}
}

// The signature is the one of the specification's own example.
func TestTheSignatureIsTheStandards(t *testing.T) {
	got, err := notice.Sign("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek", time.Unix(1614265330, 0), []byte(`{"test": 2432232314}`))
	require.NoError(t, err)
	require.Equal(t, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=", got)
}
