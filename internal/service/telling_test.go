package service

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo/postbox"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/report"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/telling"
)

// receiver is a web address that a test is called at. It checks each signature by itself.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	secret string
	fails  int // answers with an error so many times first
	calls  []string
	ids    []string
	bad    []string
}

func newReceiver(t *testing.T) *receiver {
	r := &receiver{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		body, err := io.ReadAll(req.Body)
		r.mu.Lock()
		defer r.mu.Unlock()
		key, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(r.secret, "whsec_"))
		m := hmac.New(sha256.New, key)
		m.Write([]byte(req.Header.Get("webhook-id") + "." + req.Header.Get("webhook-timestamp") + "." + string(body)))
		if want := "v1," + base64.StdEncoding.EncodeToString(m.Sum(nil)); err != nil || req.Header.Get("webhook-signature") != want {
			r.bad = append(r.bad, req.Header.Get("webhook-signature"))
		}
		r.ids = append(r.ids, req.Header.Get("webhook-id"))
		if r.fails > 0 {
			r.fails--
			http.Error(w, "later", http.StatusServiceUnavailable)
			return
		}
		r.calls = append(r.calls, string(body))
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.calls)
}

// told is a service whose notices a test receives: tomasz is a person, the keeper an administrator.
type told struct {
	*accounted
	box  *postbox.Box
	hook *receiver
}

func toldOf(t *testing.T) *told {
	c := &told{accounted: counted(t), hook: newReceiver(t)}
	require.NoError(t, c.Close())
	c.set = func(s *Service) {
		s.Pace(20*time.Millisecond, telling.DigestEvery, 30*time.Millisecond)
	}
	c.begin()
	var err error
	c.box, err = postbox.Open(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { c.box.Close() })
	c.box.Ask("files", "files-at-larkfell")
	ctx := context.Background()
	mail, from, user, password := "tomasz@larkfell.example", "files@larkfell.example", "files", "files-at-larkfell"
	_, err = c.UpdateUser(ctx, keeper, "tomasz", UserChange{Mail: &mail})
	require.NoError(t, err)
	_, err = c.CreateUser(ctx, keeper, UserInput{Name: "keeper", Role: identity.Administrator, Mail: "keeper@larkfell.example"})
	require.NoError(t, err)
	require.NoError(t, c.SetNotices(ctx, keeper, NoticesChange{Server: &c.box.Address, From: &from, Trust: &c.box.Trust, User: &user, Password: &password}))
	_, c.hook.secret, err = c.CreateHook(ctx, keeper, "ops", c.hook.URL+"/notices?token=made-up")
	require.NoError(t, err)
	return c
}

func (c *told) limit(hard string) {
	_, err := c.SetLimit(context.Background(), keeper, LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: hard})
	require.NoError(c.t, err)
}

// mails gives to whom mails went, and with what subject, sorted.
func (c *told) mails() (out []string) {
	raw, err := c.box.Mails()
	require.NoError(c.t, err)
	for _, m := range raw {
		var to, subject string
		for line := range strings.Lines(m) {
			if v, ok := strings.CutPrefix(line, "To: "); ok {
				to = strings.Trim(v, "<>\r\n")
			}
			if v, ok := strings.CutPrefix(line, "Subject: "); ok {
				subject = strings.TrimSpace(v)
			}
		}
		out = append(out, to+": "+subject)
	}
	slices.Sort(out)
	return out
}

// arrived waits until so many mails and calls have arrived, and then a little for one too many.
func (c *told) arrived(mails, calls int) {
	c.t.Helper()
	require.Eventually(c.t, func() bool { return len(c.mails()) >= mails && c.hook.count() >= calls }, 20*time.Second, 10*time.Millisecond)
	time.Sleep(200 * time.Millisecond)
	require.Len(c.t, c.mails(), mails, "%v", c.mails())
	require.Equal(c.t, calls, c.hook.count())
	require.Empty(c.t, c.hook.bad)
}

func (c *told) journalled() (n int) {
	rows, err := c.Journal(context.Background(), store.Match{})
	require.NoError(c.t, err)
	for _, r := range rows {
		if r.Action == "tell" {
			n++
		}
	}
	return n
}

// Ten thousand writes around a mark, four at a time, and it is told once: to the person, the administrators, the
// webhook, the journal and the list; also over a restart, in order or not.
func TestAStormAroundAMarkIsToldOnce(t *testing.T) {
	c := toldOf(t)
	c.limit("1M")
	hostName := report.Machine()
	storm := func() {
		t.Helper()
		var wait sync.WaitGroup
		for w := range 4 {
			h, _, err := c.files.Open(files.Subject{User: c.Policy().Directory.UserNamed("tomasz").ID, Via: site.SMB},
				files.OpenRequest{Share: "instruments", Path: fmt.Sprint("run", w), Access: acl.WriteData, Disposition: files.OpenIf, Sharing: files.ShareRead})
			require.NoError(t, err)
			wait.Go(func() {
				defer h.Close()
				for i := range 1250 { // 790 kB to 810 kB in all, and back
					if _, err := h.WriteAt(make([]byte, 2500), 200_000, false); err != nil {
						t.Error(err)
					}
					if i == 1249 {
						return
					}
					if err := h.Truncate(197_500); err != nil {
						t.Error(err)
					}
				}
			})
		}
		wait.Wait()
	}
	storm()
	c.arrived(2, 1)
	require.Equal(t, []string{"keeper@larkfell.example: [" + hostName + "] tomasz: 80 % of a limit in use", "tomasz@larkfell.example: tomasz: 80 % of a limit in use"}, c.mails())
	require.Equal(t, 1, c.journalled())
	list, err := c.Notices(context.Background(), 0, true, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	var sent struct {
		Type string
		Data notice.Notice
	}
	require.NoError(t, json.Unmarshal([]byte(c.hook.calls[0]), &sent))
	require.Equal(t, "limit.notice", sent.Type)
	require.Equal(t, list[0], sent.Data)
	require.Equal(t, "user", sent.Data.By)
	require.Equal(t, 80, sent.Data.Percent)

	storm()
	c.arrived(2, 1)
	require.NoError(t, c.Close())
	c.begin()
	storm()
	c.arrived(2, 1)
	c.background.close() // not in order: nothing is written down at the end
	require.NoError(t, errors.Join(c.uses.Close(), c.store.Close()))
	c.begin()
	c.settled()
	storm()
	c.arrived(2, 1)

	// The next mark is news to the person at once, and to administrators when it is time for their next letter.
	require.NoError(t, c.write("more", 160_000))
	c.arrived(3, 2)
	require.Equal(t, 2, c.journalled())
	require.NoError(t, c.Close())
	quick := c.set
	c.set = func(s *Service) { quick(s); s.Pace(20*time.Millisecond, 0, 30*time.Millisecond) }
	c.begin()
	require.NoError(t, c.write("most", 20_000))
	require.Error(t, c.write("too much", 50_000))
	require.Eventually(t, func() bool { return c.hook.count() == 3 }, 5*time.Second, 10*time.Millisecond, "what is refused close to the end is told as all of it")
	list, err = c.Notices(context.Background(), 0, true, 1)
	require.NoError(t, err)
	require.Equal(t, 100, list[0].Percent)
	require.Less(t, list[0].UsedBytes, int64(1_000_000))
}

// What cannot be brought is tried again until it can, each message under the same id, also over a restart; what is turned down for good is not.
func TestWhatCannotBeBroughtIsTriedAgain(t *testing.T) {
	c := toldOf(t)
	ctx := context.Background()
	c.limit("100k")
	c.hook.fails = 3
	c.box.Refuse(func(to string) error {
		if strings.HasPrefix(to, "keeper") {
			return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is no such keeper"}
		}
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "come back later"}
	})
	require.NoError(t, c.write("run", 85_000))
	require.Eventually(t, func() bool { return c.hook.count() == 1 }, 5*time.Second, 5*time.Millisecond)
	require.Len(t, c.hook.ids, 4)
	require.Len(t, slices.Compact(slices.Clone(c.hook.ids)), 1, "under one id")
	require.Empty(t, c.hook.bad)
	var unsent []telling.Unsent
	require.Eventually(t, func() bool {
		var err error
		unsent, err = c.Unsent(ctx)
		require.NoError(t, err)
		return len(unsent) == 2 && unsent[0].Tries+unsent[1].Tries > 3
	}, 5*time.Second, 5*time.Millisecond)
	slices.SortFunc(unsent, func(a, b telling.Unsent) int { return strings.Compare(a.Target, b.Target) })
	require.Equal(t, "mail to keeper@larkfell.example", unsent[0].Target)
	require.Equal(t, 1, unsent[0].Tries)
	require.True(t, unsent[0].Again.IsZero())
	require.Equal(t, "the mail server refused it for keeper@larkfell.example: 550 5.1.1 there is no such keeper", unsent[0].Problem)
	require.Equal(t, "mail to tomasz@larkfell.example", unsent[1].Target)
	require.False(t, unsent[1].Again.IsZero())
	kinds := map[string]int{}
	for _, f := range c.Audit().Findings() {
		kinds[f.Kind]++
	}
	require.Equal(t, 2, kinds["notices not delivered"])

	require.NoError(t, c.Close())
	c.box.Refuse(nil)
	c.begin()
	c.arrived(1, 1)
	require.Equal(t, []string{"tomasz@larkfell.example: tomasz: 80 % of a limit in use"}, c.mails())

	// Nobody is there.
	address := c.box.Address
	require.NoError(t, c.box.Close())
	require.NoError(t, c.write("run", 92_000))
	require.Eventually(t, func() bool {
		unsent, _ := c.Unsent(ctx)
		return slices.ContainsFunc(unsent, func(u telling.Unsent) bool {
			return u.Problem == "nothing answers where the mail server "+address+" should be"
		})
	}, 5*time.Second, 5*time.Millisecond)
	var err error
	c.box, err = postbox.Open(t.TempDir(), address)
	require.NoError(t, err)
	password := "another-at-larkfell"
	c.box.Ask("files", password)
	require.NoError(t, c.SetNotices(ctx, keeper, NoticesChange{Trust: &c.box.Trust, Password: &password}))
	c.arrived(1, 2)
}

// Many who pass a mark at once are one letter to each administrator and one row of the journal.
func TestManyAtOnce(t *testing.T) {
	c := toldOf(t)
	ctx := context.Background()
	const many = 120
	p := c.Policy().FolderNamed("instruments")
	for i := range many {
		name := fmt.Sprintf("observer%03d", i)
		u, err := c.CreateUser(ctx, keeper, UserInput{Name: name, Mail: name + "@larkfell.example"})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(p.Root, name), make([]byte, 900), 0o644))
		_, err = c.SetOwner(ctx, keeper, "instruments/"+name, u.Name, "", false)
		require.NoError(t, err)
	}
	require.NoError(t, c.Recount(ctx, keeper, "summit", nil))
	c.settled()
	_, err := c.SetLimit(ctx, keeper, LimitInput{Kind: limit.Default, HardBytes: "1k"})
	require.NoError(t, err)
	c.arrived(many+1, many+1) // what is nobody's is told of as well
	require.LessOrEqual(t, c.journalled(), 3)
	raw, err := c.box.Mails()
	require.NoError(t, err)
	i := slices.IndexFunc(raw, func(m string) bool { return strings.Contains(m, "keeper@larkfell.example") })
	require.Contains(t, raw[i], fmt.Sprintf("%d limits are close", many+1))
	require.Contains(t, raw[i], fmt.Sprintf("and %d more: amber notice list", many+1-100))
}

// What cannot be written down now is told once it can.
func TestTellingOutlastsAFullDisk(t *testing.T) {
	c := toldOf(t)
	c.limit("100k")
	db, err := sql.Open("sqlite", "file:"+filepath.Join(c.state, store.UsesFileName)+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	defer db.Close()
	run := func(statement string) {
		t.Helper()
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
	run(`CREATE TRIGGER full BEFORE INSERT ON notices BEGIN SELECT RAISE(ABORT, 'database or disk is full'); END`)
	require.NoError(t, c.write("run", 85_000))
	time.Sleep(300 * time.Millisecond)
	require.Empty(t, c.mails())
	run(`DROP TRIGGER full`)
	c.arrived(2, 1)
}

// Where the disk has no room in the outbox, serving and telling go on, and a finding says what was not sent.
func TestTheOutboxIsBounded(t *testing.T) {
	c := toldOf(t)
	require.NoError(t, c.box.Close())
	require.NoError(t, c.uses.Tell(context.Background(), func(tx store.Telling) error {
		for range telling.MostOutbox {
			if err := tx.Post(context.Background(), time.Now().Add(time.Hour), telling.MailTarget, telling.Message{To: "tomasz@larkfell.example"}); err != nil {
				return err
			}
		}
		return nil
	}))
	c.limit("100k")
	require.NoError(t, c.write("run", 85_000))
	require.Eventually(t, func() bool { return c.journalled() == 1 }, 5*time.Second, 5*time.Millisecond)
	require.EqualValues(t, 3, c.Dropped())
	require.True(t, slices.ContainsFunc(c.Audit().Findings(), func(f audit.Finding) bool { return strings.Contains(f.Says, "3 notices were not sent") }))
}

// Secrets are shown once, sealed, and never handed to another server than the one they were given for.
func TestSecretsOfNotices(t *testing.T) {
	c := toldOf(t)
	ctx := context.Background()
	rows, err := c.Journal(ctx, store.Match{})
	require.NoError(t, err)
	raw, err := json.Marshal(rows)
	require.NoError(t, err)
	for _, secret := range []string{"files-at-larkfell", c.hook.secret, "token=made-up"} {
		require.NotContains(t, string(raw), secret)
		on, err := filepath.Glob(filepath.Join(c.state, "*.sqlite*"))
		require.NoError(t, err)
		require.NotEmpty(t, on)
		for _, name := range on {
			raw, err := os.ReadFile(name)
			require.NoError(t, err)
			require.NotContains(t, string(raw), secret, name)
		}
	}
	require.True(t, c.MailPasswordSet())
	thief, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer thief.Close()
	elsewhere := thief.Addr().String()
	require.NoError(t, c.SetNotices(ctx, keeper, NoticesChange{Server: &elsewhere}))
	require.False(t, c.MailPasswordSet(), "the password went with the server it was given for")

	password, none := "x", string(notice.NoTLS)
	err = c.SetNotices(ctx, keeper, NoticesChange{Security: &none, Password: &password})
	require.ErrorContains(t, err, "without TLS")

	auditor := Actor{Name: "auditor", Role: identity.Auditor}
	require.Error(t, c.TestHook(ctx, auditor, "ops"))
	_, err = c.TestMail(ctx, auditor, "auditor@larkfell.example")
	require.Error(t, err)
	require.ErrorContains(t, c.SetTemplate(ctx, auditor, notice.ToPerson, "Subject: x\n\n{notices}"), "only an administrator")
	_, _, err = c.CreateHook(ctx, auditor, "mine", c.hook.URL)
	require.Error(t, err)
	_, err = c.Preview(ctx, func(ctx context.Context, trial *Service) error { return trial.TestHook(ctx, keeper, "ops") })
	require.ErrorContains(t, err, "tried out")
	require.Zero(t, len(c.hook.ids))
}

// A grace is told when it begins; who raises the soft limit and passes that is told again.
func TestAGraceIsToldToThePerson(t *testing.T) {
	c := toldOf(t)
	ctx := context.Background()
	_, err := c.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfFolder, Name: "instruments", SoftBytes: "50k", HardBytes: "10M", Grace: "3d"})
	require.NoError(t, err)
	require.NoError(t, c.write("run", 60_000))
	c.arrived(1, 1) // the folder is nobody's: the administrator alone
	require.Contains(t, c.hook.calls[0], `"kind":"grace begun"`)
	mail := c.mails()[0]
	require.Contains(t, mail, "instruments: soft limit passed")
	raw, err := c.box.Mails()
	require.NoError(t, err)
	require.Contains(t, strings.ReplaceAll(raw[0], "=\r\n", ""), "- folder instruments: 73.2 kB in use, more than the soft limit of 50 kB; nothing can grow from ")
}
