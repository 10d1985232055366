package signin

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/store"
)

// house is a gateway with records and no more.
type house struct {
	t       *testing.T
	store   *store.Store
	keys    secret.Sealer
	mu      sync.Mutex
	records site.Records
	numbers site.Numbers
	policy  *site.Policy
	seen    []Seen
	now     time.Time
	desk    *Desk
}

func open(t *testing.T) *house {
	t.Helper()
	dir := t.TempDir()
	keys, err := secret.Open(dir, true)
	require.NoError(t, err)
	st, err := store.Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	h := &house{t: t, store: st, keys: keys, now: time.Date(2031, 3, 1, 12, 0, 0, 0, time.UTC)}
	h.desk = NewDesk(h, st, keys)
	h.desk.SetClock(func() time.Time { return h.now })
	h.change(func(d *site.Draft) {
		for _, u := range []identity.User{{Name: "keeper", UID: 1000, Role: identity.Administrator, SMB: true}, {Name: "orla", UID: 1001, Console: true, SMB: true}, {Name: "svc-dome", UID: 1002, Service: true, SMB: true}} {
			u.ID = identity.ID(site.Put(d, u))
			u.Password = d.Keep(site.Secret{Hash: secret.Hash(u.Name + "-at-larkfell"), Sealed: keys.Seal(u.ID, secret.NTHash(u.Name+"-at-larkfell"))})
			site.Put(d, u)
		}
		site.Put(d, site.Services{SMB: true})
	})
	return h
}

func (h *house) change(fn func(d *site.Draft)) {
	d := site.NewDraft(h.records, h.numbers)
	fn(d)
	changes, err := d.Changes()
	require.NoError(h.t, err)
	require.NoError(h.t, h.store.Write(context.Background(), func(tx *store.Tx) error {
		_, err := tx.Save(context.Background(), d, changes)
		return err
	}))
	h.mu.Lock()
	defer h.mu.Unlock()
	h.records, h.numbers = d.Records(), d.Numbers()
	h.policy, err = site.Compile(h.records)
	require.NoError(h.t, err)
}

func (h *house) alter(name string, fn func(u *identity.User)) {
	u := *h.policy.Directory.UserNamed(name)
	fn(&u)
	h.change(func(d *site.Draft) { site.Put(d, u) })
}

func (h *house) Policy() *site.Policy {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.policy
}
func (h *house) AddFirstAdministrator(context.Context, string, string) error { return nil }
func (h *house) Unwritable(err error) error                                  { return err }
func (h *house) SawSignIn(s Seen) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.seen = append(h.seen, s)
}

func (h *house) SetOwnPassword(_ context.Context, id identity.ID, password string, withoutCodes bool) error {
	u := *h.policy.Directory.User(id)
	h.change(func(d *site.Draft) {
		if u.MustChange, u.PasswordSet = false, h.now; withoutCodes {
			u.Codes = 0
		}
		u.Password = d.Keep(site.Secret{Hash: secret.Hash(password), Sealed: h.keys.Seal(u.ID, secret.NTHash(password))})
		site.Put(d, u)
	})
	return nil
}

func (h *house) SetCodes(_ context.Context, id identity.ID, kept *site.Secret) error {
	u := *h.policy.Directory.User(id)
	h.change(func(d *site.Draft) {
		if u.Codes = 0; kept != nil {
			u.Codes = d.Keep(*kept)
		}
		site.Put(d, u)
	})
	return nil
}

func (h *house) try(name, code string) Try {
	return Try{Name: name, Password: name + "-at-larkfell", Code: code, Address: "192.0.2.7", Client: "a test"}
}

func needs(t *testing.T, err error, need string) {
	t.Helper()
	var r *refusal.Error
	require.ErrorAs(t, err, &r)
	require.Equal(t, need, r.Need, err.Error())
}

// enrol sets codes up for somebody and gives what makes them, and the recovery codes.
func (h *house) enrol(name, code string) (key string, recovery []string) {
	h.t.Helper()
	begun, err := h.desk.BeginCodes(context.Background(), h.try(name, code))
	require.NoError(h.t, err)
	fresh, err := totp.GenerateCode(begun.Secret, h.now)
	require.NoError(h.t, err)
	recovery, err = h.desk.ConfirmCodes(context.Background(), h.try(name, ""), fresh)
	require.NoError(h.t, err)
	return begun.Secret, recovery
}

// A code is taken of its own half minute and of its neighbours, as clocks differ, and none is taken twice.
func TestOneTimeCodes(t *testing.T) {
	h, ctx := open(t), context.Background()
	key, recovery := h.enrol("keeper", "")
	require.Len(t, recovery, recoveryCodes)
	at := func(d time.Duration) string {
		code, err := totp.GenerateCode(key, h.now.Add(d))
		require.NoError(t, err)
		return code
	}
	signIn := func(code string) error {
		_, err := h.desk.SignIn(ctx, h.try("keeper", code))
		return err
	}
	needs(t, signIn(""), NeedCode)
	wrong, err := h.desk.SignIn(ctx, Try{Name: "keeper", Password: "no", Code: at(0), Address: "192.0.2.8"})
	require.Error(t, err)
	require.Empty(t, wrong.Token)
	require.NoError(t, signIn(at(0)), "a wrong password uses no code up")
	needs(t, signIn(at(0)), NeedCode) // replayed
	h.now = h.now.Add(codeStep)
	needs(t, signIn(at(-codeStep)), NeedCode) // the one before, replayed
	require.NoError(t, signIn(at(codeStep)), "a clock that is ahead")
	require.NoError(t, signIn(at(0)))
	h.now = h.now.Add(10 * codeStep)
	require.NoError(t, signIn(at(-codeStep)), "a clock that is behind")
	for _, drift := range []time.Duration{-3 * codeStep, 3 * codeStep, -codeStep - codeStep/2 - codeStep/2, 20 * codeStep} {
		needs(t, signIn(at(drift)), NeedCode)
		h.now = h.now.Add(time.Minute) // what is wrong has to wait
	}
	for _, code := range recovery[:2] {
		require.NoError(t, signIn(code))
		needs(t, signIn(code), NeedCode)
		h.now = h.now.Add(time.Minute)
	}
	require.Equal(t, recoveryCodes-2, h.desk.RecoveryLeft(ctx, h.policy.Directory.UserNamed("keeper")))
	// What has been used is remembered by whoever serves after this one.
	h.desk = NewDesk(h, h.store, h.keys)
	h.desk.SetClock(func() time.Time { return h.now })
	needs(t, signIn(recovery[0]), NeedCode)
	require.NoError(t, signIn(recovery[2]))
	// Others are set up with a code of those before, and take their place.
	_, err = h.desk.BeginCodes(ctx, h.try("keeper", ""))
	needs(t, err, NeedCode)
	h.now = h.now.Add(time.Minute)
	old := key
	key, _ = h.enrol("keeper", at(0))
	h.now = h.now.Add(time.Minute)
	stale, err := totp.GenerateCode(old, h.now)
	require.NoError(t, err)
	needs(t, signIn(stale), NeedCode)
	require.NoError(t, signIn(at(0)))
	require.Error(t, h.desk.RemoveOwnCodes(ctx, h.try("keeper", "")))
	h.now = h.now.Add(time.Minute)
	require.NoError(t, h.desk.RemoveOwnCodes(ctx, h.try("keeper", at(0))))
	require.NoError(t, signIn(""))
}

// Two who come with the same code at once: one of them gets in.
func TestACodeIsTakenOnce(t *testing.T) {
	h := open(t)
	key, _ := h.enrol("keeper", "")
	h.now = h.now.Add(time.Minute)
	code, err := totp.GenerateCode(key, h.now)
	require.NoError(t, err)
	got := make(chan bool, 8)
	for range cap(got) {
		go func() {
			_, err := h.desk.SignIn(context.Background(), h.try("keeper", code))
			got <- err == nil
		}()
	}
	in := 0
	for range cap(got) {
		if <-got {
			in++
		}
	}
	require.Equal(t, 1, in)
}

// Setting up lasts only so long, and nobody does it for another.
func TestSettingUpCodes(t *testing.T) {
	h, ctx := open(t), context.Background()
	_, err := h.desk.ConfirmCodes(ctx, h.try("keeper", ""), "123456")
	require.ErrorContains(t, err, "nobody has begun")
	begun, err := h.desk.BeginCodes(ctx, h.try("keeper", ""))
	require.NoError(t, err)
	fresh, err := totp.GenerateCode(begun.Secret, h.now)
	require.NoError(t, err)
	_, err = h.desk.ConfirmCodes(ctx, Try{Name: "keeper", Password: "no", Address: "192.0.2.9"}, fresh)
	require.ErrorIs(t, err, errSignIn)
	_, err = h.desk.ConfirmCodes(ctx, h.try("orla", ""), fresh)
	require.ErrorContains(t, err, "nobody has begun")
	for range freeTries { // whoever guesses is slowed down, as with passwords
		_, err = h.desk.ConfirmCodes(ctx, h.try("keeper", ""), "000000")
		require.Error(t, err)
	}
	_, err = h.desk.ConfirmCodes(ctx, h.try("keeper", ""), "000000")
	var slowed *refusal.Error
	require.ErrorAs(t, err, &slowed)
	require.Equal(t, refusal.RateLimited, slowed.Kind)
	h.now = h.now.Add(enrolWithin + time.Second)
	_, err = h.desk.ConfirmCodes(ctx, h.try("keeper", ""), fresh)
	require.ErrorContains(t, err, "nobody has begun")
	_, err = h.desk.BeginCodes(ctx, h.try("svc-dome", ""))
	require.ErrorContains(t, err, "may not use the console")

	// Who needs them does not get in before, and loses what they had begun.
	session, err := h.desk.SignIn(ctx, h.try("keeper", ""))
	require.NoError(t, err)
	h.change(func(d *site.Draft) { site.Put(d, site.SigningIn{CodesFor: []identity.Role{identity.Administrator}}) })
	_, err = h.desk.Authenticate(ctx, session.Token, "192.0.2.7")
	require.Error(t, err)
	_, err = h.desk.SignIn(ctx, h.try("keeper", ""))
	needs(t, err, NeedCodes)
	h.enrol("keeper", "")
	_, err = h.desk.Authenticate(ctx, session.Token, "192.0.2.7")
	require.NoError(t, err, "who has set them up goes on")
	h.now = h.now.Add(time.Minute)
	_, err = h.desk.SignIn(ctx, h.try("orla", ""))
	require.NoError(t, err, "whose role needs none")
}

// A sign-in ends where nobody uses it, and after a while in any case; what is used is remembered over a restart.
func TestSignInsEnd(t *testing.T) {
	h, ctx := open(t), context.Background()
	begin := func() Session {
		s, err := h.desk.SignIn(ctx, h.try("orla", ""))
		require.NoError(t, err)
		return s
	}
	alive := func(s Session) bool {
		_, err := h.desk.Authenticate(ctx, s.Token, "192.0.2.7")
		return err == nil
	}
	s := begin()
	for range 5 { // ten hours
		h.now = h.now.Add(site.DefaultIdle - time.Minute)
		require.True(t, alive(s))
	}
	h.now = h.now.Add(site.DefaultLongest - 5*(site.DefaultIdle-time.Minute))
	require.False(t, alive(s), "it is as old as any may be")
	s = begin()
	h.now = h.now.Add(site.DefaultIdle + time.Second)
	require.False(t, alive(s))
	all, err := h.desk.Sessions(ctx, 0)
	require.NoError(t, err)
	require.Empty(t, all)

	s = begin()
	h.now = h.now.Add(site.DefaultIdle / 2)
	require.True(t, alive(s))
	require.NoError(t, h.desk.WriteUse(ctx))
	require.Empty(t, h.desk.used)
	h.desk = NewDesk(h, h.store, h.keys)
	h.desk.SetClock(func() time.Time { return h.now })
	h.now = h.now.Add(site.DefaultIdle * 2 / 3)
	require.True(t, alive(s))
	all, err = h.desk.Sessions(ctx, 0)
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, "a test", all[0].Client)
	require.Equal(t, "192.0.2.7", all[0].Address)
	require.NoError(t, h.desk.EndSession(ctx, all[0].ID))
	require.False(t, alive(s))

	// Whoever signs in without end ends what they began first.
	first := begin()
	for range mostSessions {
		h.now = h.now.Add(time.Second)
		_, err := h.desk.newSession(ctx, h.policy.Directory.UserNamed("orla"), h.try("orla", "")) // without the time that a password takes
		require.NoError(t, err)
	}
	require.False(t, alive(first))
	all, err = h.desk.Sessions(ctx, 0)
	require.NoError(t, err)
	require.Len(t, all, mostSessions)
	h.alter("orla", func(u *identity.User) { u.Console = false })
	all, err = h.desk.Sessions(ctx, 0)
	require.NoError(t, err)
	require.Empty(t, all, "who may not use the console is out at once")
}

// What somebody else has set, or is too old, opens nothing but the way to another, over SMB as well.
func TestPasswordsThatMustBeChanged(t *testing.T) {
	h, ctx := open(t), context.Background()
	smb := func(name string) error {
		_, err := h.desk.ProveNT(ctx, name, "192.0.2.7", func(hash []byte) bool { return hash != nil })
		return err
	}
	require.NoError(t, smb("orla"))
	h.alter("orla", func(u *identity.User) { u.MustChange = true })
	_, err := h.desk.SignIn(ctx, h.try("orla", ""))
	needs(t, err, NeedPassword)
	require.ErrorIs(t, smb("orla"), ntlm.ErrMustChange)
	require.NoError(t, h.desk.ChangePassword(ctx, h.try("orla", ""), "another-at-larkfell"))
	_, err = h.desk.SignIn(ctx, Try{Name: "orla", Password: "another-at-larkfell"})
	require.NoError(t, err)
	require.NoError(t, smb("orla"))
	h.change(func(d *site.Draft) { site.Put(d, site.SigningIn{PasswordDays: 90}) })
	require.NoError(t, smb("orla"))
	require.NoError(t, smb("keeper"), "of which it is not known how old it is")
	h.now = h.now.Add(90*24*time.Hour + time.Second)
	require.ErrorIs(t, smb("orla"), ntlm.ErrPasswordOver)
	_, err = h.desk.SignIn(ctx, Try{Name: "orla", Password: "another-at-larkfell"})
	needs(t, err, NeedPassword)
	h.alter("svc-dome", func(u *identity.User) { u.PasswordSet = h.now.AddDate(-3, 0, 0) })
	require.NoError(t, smb("svc-dome"), "nobody would be there to change it")
	require.ErrorIs(t, func() error {
		_, err := h.desk.ProveNT(ctx, "orla", "192.0.2.7", func([]byte) bool { return false })
		return err
	}(), ntlm.ErrWrong, "whoever does not know it is not told")
}

// A token does no more than who made it may at that moment, from where it may be used, until it ends.
func TestTokens(t *testing.T) {
	h, ctx := open(t), context.Background()
	text, kept := NewToken()
	keeper := h.policy.Directory.UserNamed("keeper")
	token := site.Token{Name: "nightly", User: keeper.ID, Role: identity.Operator, Ends: h.now.Add(time.Hour), From: []string{"192.0.2.0/28", "2001:db8::1"}}
	h.change(func(d *site.Draft) {
		token.Secret = d.Keep(kept)
		token.ID = site.Put(d, token)
	})
	use := func(from string) (refusal.Actor, error) { return h.desk.Authenticate(ctx, text(token.ID), from) }
	for _, from := range []string{"192.0.2.1", "192.0.2.15", "2001:db8::1", "::ffff:192.0.2.3"} {
		who, err := use(from)
		require.NoError(t, err, from)
		require.Equal(t, identity.Operator, who.Role)
		require.Equal(t, "nightly", who.Token)
	}
	for _, from := range []string{"192.0.2.16", "2001:db8::2", "", "nowhere", "127.0.0.1"} {
		_, err := use(from)
		require.ErrorContains(t, err, "may not be used from", from)
	}
	for _, forged := range []string{text(token.ID + 1), text(token.ID) + "x", tokenMark, tokenMark + "1.", tokenMark + "-1.x", "amber-99999999999999999999.x"} {
		_, err := h.desk.Authenticate(ctx, forged, "192.0.2.1")
		require.Error(t, err, forged)
	}
	at, from := h.desk.TokenUse(ctx, token.ID)
	require.Equal(t, h.now, at)
	require.Equal(t, "::ffff:192.0.2.3", from)
	require.NoError(t, h.desk.WriteUse(ctx))
	at, _ = h.desk.TokenUse(ctx, token.ID)
	require.True(t, at.Equal(h.now))
	h.alter("keeper", func(u *identity.User) { u.Role = identity.Auditor })
	who, err := use("192.0.2.1")
	require.NoError(t, err)
	require.Equal(t, identity.Auditor, who.Role, "who made it may no more")
	h.alter("keeper", func(u *identity.User) { u.Disabled = true })
	_, err = use("192.0.2.1")
	require.Error(t, err)
	h.alter("keeper", func(u *identity.User) { u.Disabled = false })
	h.now = token.Ends
	_, err = use("192.0.2.1")
	require.ErrorContains(t, err, "has ended")
	h.now = token.Ends.Add(-time.Second)
	h.change(func(d *site.Draft) { site.Delete[identity.User](d, int64(keeper.ID)) })
	_, err = use("192.0.2.1")
	require.Error(t, err, "it went with the user")
}

// A code that was printed on the machine sets an administrator's password, once, and takes what they have lost away.
func TestAForgottenPassword(t *testing.T) {
	h, ctx := open(t), context.Background()
	h.enrol("keeper", "")
	_, err := h.desk.ResetCode("orla")
	require.ErrorContains(t, err, "no administrator")
	_, err = h.desk.ResetCode("nobody")
	require.Error(t, err)
	reset := func(code string) error {
		return h.desk.ResetPassword(ctx, "keeper", code, "found-again-at-larkfell", "192.0.2.7")
	}
	require.Error(t, reset("abcd-efgh-jkmn"), "none was printed")
	code, err := h.desk.ResetCode("keeper")
	require.NoError(t, err)
	require.Error(t, reset("abcd-efgh-jkmn"))
	require.Error(t, h.desk.ResetPassword(ctx, "orla", code, "found-again-at-larkfell", "192.0.2.7"), "it is keeper's")
	h.now = h.now.Add(resetWithin)
	require.Error(t, reset(code), "it was too long ago")
	code, err = h.desk.ResetCode("keeper")
	require.NoError(t, err)
	require.NoError(t, reset(code))
	require.Error(t, reset(code), "it has been used")
	_, err = h.desk.SignIn(ctx, Try{Name: "keeper", Password: "found-again-at-larkfell", Address: "192.0.2.9"})
	require.NoError(t, err, "and no one-time code is asked for")
}

// What is told of sign-ins names no name that is nobody's: people type passwords there.
func TestWhatIsToldOfSignIns(t *testing.T) {
	h, ctx := open(t), context.Background()
	_, err := h.desk.SignIn(ctx, h.try("orla", ""))
	require.NoError(t, err)
	_, err = h.desk.SignIn(ctx, Try{Name: "my-secret-sentence", Password: "x", Address: "192.0.2.7"})
	require.Error(t, err)
	_, err = h.desk.SignIn(ctx, Try{Name: "orla", Password: "x", Address: "192.0.2.7"})
	require.Error(t, err)
	orla := h.policy.Directory.UserNamed("orla").ID
	require.Equal(t, []Seen{{orla, ViaConsole, "192.0.2.7", ""}, {0, ViaConsole, "192.0.2.7", errSignIn.Message}, {orla, ViaConsole, "192.0.2.7", errSignIn.Message}}, h.seen)
}
