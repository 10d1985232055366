package service

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/accesslog"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/hostnames"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/review"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
)

var keeper = Actor{Name: "keeper", Role: identity.Administrator}

func open(t *testing.T) *Service {
	t.Helper()
	s, err := Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

// observatory has two users, two groups, a volume, a folder with a directory, a share.
func observatory(t *testing.T) *Service {
	t.Helper()
	s, ctx, dir := open(t), context.Background(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "instruments", "firmware", "bench"), 0o755))
	_, err := s.CreateGroup(ctx, keeper, GroupInput{Name: "engineers"})
	require.NoError(t, err)
	_, err = s.CreateGroup(ctx, keeper, GroupInput{Name: "staff", Members: []string{"engineers"}})
	require.NoError(t, err)
	_, err = s.CreateUser(ctx, keeper, UserInput{Name: "tomasz", Groups: []string{"engineers"}, Password: "tomasz-at-larkfell"})
	require.NoError(t, err)
	_, err = s.CreateUser(ctx, keeper, UserInput{Name: "keeper", Role: identity.Administrator, Password: "keeper-at-larkfell", NoSMB: true})
	require.NoError(t, err)
	_, err = s.CreateVolume(ctx, keeper, VolumeInput{Name: "summit", Path: dir})
	require.NoError(t, err)
	_, err = s.CreateFolder(ctx, keeper, FolderInput{Name: "instruments", Volume: "summit"})
	require.NoError(t, err)
	_, err = s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "staff", Level: "read"})
	require.NoError(t, err)
	_, err = s.CreateShare(ctx, keeper, ShareInput{Folder: "instruments"})
	require.NoError(t, err)
	_, err = s.CreateExport(ctx, keeper, ExportInput{Folder: "instruments", Rules: []RuleInput{{From: "192.0.2.7"}}})
	require.NoError(t, err)
	return s
}

// Rules in their order, what they say, and where they stand, with a set among them.
func TestClientRules(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	list := RuleList{Export: "/instruments"}
	froms := func() (out []string) {
		for _, l := range s.Policy().ExportAt("instruments").InForce {
			out = append(out, l.From)
		}
		return out
	}
	yes, none := true, "none"
	_, err := s.CreateHostSet(ctx, keeper, "dome", "", []RuleInput{{From: "192.0.2.16/28", Write: &yes, Squash: &none}})
	require.NoError(t, err)
	_, err = s.AddRule(ctx, keeper, list, RuleInput{From: "@dome"}, 1)
	require.NoError(t, err)
	last, err := s.AddRule(ctx, keeper, list, RuleInput{From: "0.0.0.0/0", Everyone: true}, 0)
	require.NoError(t, err)
	require.Equal(t, []string{"192.0.2.16/28", "192.0.2.7", "0.0.0.0/0"}, froms())
	require.NoError(t, s.MoveRule(ctx, keeper, list, last, 1))
	require.Equal(t, []string{"0.0.0.0/0", "192.0.2.16/28", "192.0.2.7"}, froms())
	require.Equal(t, 1, s.Policy().ExportAt("instruments").InForce[2].ShadowedBy)
	require.NoError(t, s.UpdateRule(ctx, keeper, list, last, RuleInput{From: "198.51.100.0/24", Write: &yes}))
	tried, err := s.TryExport(ctx, "instruments", "192.0.2.17", 0)
	require.NoError(t, err)
	require.Equal(t, "dome", tried.Rule.Set)
	require.True(t, tried.Rule.Write)
	require.False(t, tried.Lets, "the service is off")
	require.NoError(t, s.SetService(ctx, keeper, "nfs", ServiceChange{On: new(true)}))
	for from, lets := range map[string]bool{"192.0.2.17": true, "192.0.2.7": true, "192.0.2.8": false, "2001:db8::1": false} {
		tried, err = s.TryExport(ctx, "/instruments", from, 0)
		require.NoError(t, err)
		require.Equal(t, lets, tried.Lets, from)
	}
	_, err = s.TryExport(ctx, "/instruments", "not a host", 0)
	require.Error(t, err)
	require.Equal(t, []string{"/instruments"}, s.UsedBy("DOME"))
	require.Error(t, s.RemoveHostSet(ctx, keeper, "dome"), "it is in use")
	require.NoError(t, s.RemoveRule(ctx, keeper, list, s.Policy().ExportAt("instruments").Rules[1].ID))
	require.NoError(t, s.RemoveHostSet(ctx, keeper, "dome"))
}

// names is a made-up resolver.
type names map[string][]string

func (n names) LookupAddr(_ context.Context, addr string) ([]string, error) { return n[addr], nil }
func (n names) LookupNetIP(_ context.Context, _, host string) (out []netip.Addr, _ error) {
	for _, a := range n[host] {
		out = append(out, netip.MustParseAddr(a))
	}
	return out, nil
}

// silent is a resolver that answers with an error, while there is one.
type silent struct {
	names
	err error
}

func (s *silent) LookupAddr(ctx context.Context, addr string) ([]string, error) {
	if s.err != nil {
		return nil, s.err
	}
	return s.names.LookupAddr(ctx, addr)
}

func (s *silent) LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error) {
	if s.err != nil {
		return nil, s.err
	}
	return s.names.LookupNetIP(ctx, network, host)
}

// That a name cannot be looked up is not that there is none: a rule about names that stands first is not skipped for a wider one.
func TestANameThatCannotBeLookedUp(t *testing.T) {
	ctx := t.Context()
	r := &silent{names{"dome1.larkfell.example": {"192.0.2.17"}}, &net.DNSError{Err: "server misbehaving", IsTemporary: true}}
	s := observatory(t)
	s.hosts = hostnames.New(r)
	e, err := s.CreateExport(ctx, keeper, ExportInput{Folder: "instruments", Path: "/bench", Rules: []RuleInput{{From: "192.0.2.99"}, {From: "dome1.larkfell.example"}, {From: "192.0.2.0/24", Write: new(true)}}})
	require.NoError(t, err)
	try := func(from string) Tried {
		t.Helper()
		got, err := s.TryExport(ctx, e.Path, from, 700)
		require.NoError(t, err)
		return got
	}
	got := try("192.0.2.17")
	require.Nil(t, got.Rule)
	require.Contains(t, got.Reason, "cannot be looked up just now")
	require.Nil(t, try("192.0.2.18").Rule, "it may have that name as well")
	require.Equal(t, "192.0.2.99", try("192.0.2.99").Rule.From, "what stands before is about an address")

	r.err = nil
	s.hosts = hostnames.New(r)
	require.Equal(t, "dome1.larkfell.example", try("192.0.2.17").Rule.From)
	require.Equal(t, "192.0.2.0/24", try("192.0.2.18").Rule.From)
	r.err = &net.DNSError{Err: "timeout", IsTimeout: true}
	s.hosts.Expire()
	require.Equal(t, "dome1.larkfell.example", try("192.0.2.17").Rule.From, "what was known before holds on for a while")
	r.err = &net.DNSError{Err: "no such host", IsNotFound: true}
	s.hosts.Expire()
	require.Equal(t, "192.0.2.0/24", try("192.0.2.17").Rule.From, "that is an answer")
}

// A refused change says which field is at fault and changes nothing: not the
// records, not the policy, not the journal.
func TestRefusedChangesLeaveNothing(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	uid := uint32(1000)
	for name, c := range map[string]struct {
		do    func() error
		kind  Kind
		field string
		says  string
	}{
		"circle":       {func() error { return s.AddMember(ctx, keeper, "engineers", "staff") }, Conflict, "", "circle"},
		"two with uid": {func() error { _, err := s.CreateUser(ctx, keeper, UserInput{Name: "piran", UID: &uid}); return err }, Conflict, "uid", "tomasz"},
		"name taken":   {func() error { _, err := s.CreateUser(ctx, keeper, UserInput{Name: "TOMASZ"}); return err }, Conflict, "name", "already"},
		"bad name":     {func() error { _, err := s.CreateUser(ctx, keeper, UserInput{Name: "a/b"}); return err }, Invalid, "name", "letters"},
		"short password": {func() error { _, err := s.CreateUser(ctx, keeper, UserInput{Name: "piran", Password: "x"}); return err },
			Invalid, "password", "8 characters"},
		"no such group":    {func() error { _, err := s.CreateUser(ctx, keeper, UserInput{Name: "piran", Primary: "x"}); return err }, NotFound, "group", "x"},
		"user in use":      {func() error { return s.RemoveGroup(ctx, keeper, "staff") }, Conflict, "", "still named by entry"},
		"no administrator": {func() error { return s.RemoveUser(ctx, keeper, "keeper") }, Conflict, "", "no administrator"},
		"volume overlaps": {func() error {
			_, err := s.CreateVolume(ctx, keeper, VolumeInput{Name: "x", Path: s.Policy().Volumes[0].Path})
			return err
		}, Conflict, "path", "overlaps"},
		"volume is state":   {func() error { _, err := s.CreateVolume(ctx, keeper, VolumeInput{Name: "x", Path: s.state}); return err }, Invalid, "path", "own state"},
		"volume holds root": {func() error { _, err := s.CreateVolume(ctx, keeper, VolumeInput{Name: "x", Path: "/"}); return err }, Invalid, "path", "own state"},
		"relative volume":   {func() error { _, err := s.CreateVolume(ctx, keeper, VolumeInput{Name: "x", Path: "srv"}); return err }, Invalid, "path", "absolute"},
		"folder in folder": {func() error {
			_, err := s.CreateFolder(ctx, keeper, FolderInput{Name: "x", Volume: "summit", Path: "instruments/firmware"})
			return err
		}, Conflict, "path", "overlaps"},
		"folder outside": {func() error {
			_, err := s.CreateFolder(ctx, keeper, FolderInput{Name: "x", Volume: "summit", Path: "../x"})
			return err
		}, Invalid, "path", "relative"},
		"volume in use": {func() error { return s.RemoveVolume(ctx, keeper, "summit") }, Conflict, "", "instruments"},
		"share taken":   {func() error { _, err := s.CreateShare(ctx, keeper, ShareInput{Folder: "instruments"}); return err }, Conflict, "name", "already"},
		"entry level": {func() error {
			_, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "staff", Level: "write"})
			return err
		}, Invalid, "level", "pass, read"},
		"entry who": {func() error {
			_, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "nobody", Level: "read"})
			return err
		}, NotFound, "who", "nobody"},
		"entry nowhere": {func() error {
			_, err := s.AddEntry(ctx, keeper, "instruments/none", EntryInput{Who: "staff", Level: "read"})
			return err
		}, NotFound, "path", "not on disk"},
		"entry reaches nothing": {func() error {
			_, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "staff", Level: "read", Applies: []string{"direct"}})
			return err
		}, Invalid, "applies", "nothing"},
		"entry not there":  {func() error { return s.RemoveEntry(ctx, keeper, "instruments/firmware", 1) }, NotFound, "id", "not written on"},
		"cut at root":      {func() error { return s.SetInherit(ctx, keeper, "instruments", false, false) }, Invalid, "path", "inherits nothing"},
		"no such protocol": {func() error { return s.SetService(ctx, keeper, "afs", ServiceChange{On: new(true)}) }, Invalid, "protocol", "not a protocol"},
		"export of nothing": {func() error {
			_, err := s.CreateExport(ctx, keeper, ExportInput{Folder: "instruments/nothing"})
			return err
		}, NotFound, "folder", "not on disk"},
		"export within another": {func() error {
			_, err := s.CreateExport(ctx, keeper, ExportInput{Folder: "instruments/firmware", Path: "/instruments/firmware"})
			return err
		}, Conflict, "path", "lie within each other"},
		"export at the top": {func() error {
			_, err := s.CreateExport(ctx, keeper, ExportInput{Folder: "instruments", Path: "/.."})
			return err
		}, Invalid, "path", "leads back"},
		"everyone, unknowing": {func() error {
			_, err := s.AddRule(ctx, keeper, RuleList{Export: "instruments"}, RuleInput{From: "0.0.0.0/0"}, 0)
			return err
		}, Conflict, "from", "lets in every host"},
		"everyone, by another way": {func() error {
			return s.UpdateRule(ctx, keeper, RuleList{Export: "instruments"}, 1, RuleInput{From: "*"})
		}, Conflict, "from", "lets in every host"},
		"rule for nobody": {func() error {
			_, err := s.AddRule(ctx, keeper, RuleList{Export: "instruments"}, RuleInput{}, 0)
			return err
		}, Invalid, "from", "say from whom"},
		"rule for a set that is not there": {func() error {
			_, err := s.AddRule(ctx, keeper, RuleList{Export: "instruments"}, RuleInput{From: "@dome"}, 0)
			return err
		}, NotFound, "set", "no host set"},
		"rule out of place": {func() error {
			_, err := s.AddRule(ctx, keeper, RuleList{Export: "instruments"}, RuleInput{From: "192.0.2.1"}, 9)
			return err
		}, Invalid, "position", "not among"},
		"rule moved too far":        {func() error { return s.MoveRule(ctx, keeper, RuleList{Export: "instruments"}, 1, 2) }, Invalid, "position", "not among"},
		"rule not there":            {func() error { return s.RemoveRule(ctx, keeper, RuleList{Export: "instruments"}, 99) }, NotFound, "id", "no client rule"},
		"mode where entries decide": {func() error { return s.SetMode(ctx, keeper, "instruments", ModeInput{Owner: "tomasz"}) }, Conflict, "path", "entries decide"},
		"flavour of the future": {func() error {
			_, err := s.AddRule(ctx, keeper, RuleList{Export: "instruments"}, RuleInput{From: "192.0.2.1", Security: []string{"krb5p"}}, 0)
			return err
		}, Invalid, "security", "flavour"},
		"auditor": {func() error {
			return s.SetService(ctx, Actor{Name: "auditor", Role: identity.Auditor}, "smb", ServiceChange{On: new(false)})
		}, Forbidden, "", "may look but not change"},
	} {
		t.Run(name, func(t *testing.T) {
			before, policy := s.force.Load().records, s.Policy()
			rows, err := s.VerifyJournal(ctx)
			require.NoError(t, err)
			err = c.do()
			var e *Error
			require.ErrorAs(t, err, &e)
			require.Equal(t, c.kind, e.Kind, e.Message)
			require.Equal(t, c.field, e.Field, e.Message)
			require.Contains(t, e.Message, c.says)
			require.Same(t, policy, s.Policy())
			after, err := s.VerifyJournal(ctx)
			require.NoError(t, err)
			require.Equal(t, rows, after)
			require.NoError(t, s.store.Write(ctx, func(tx *store.Tx) error {
				now, _, err := tx.Records(ctx)
				require.Equal(t, before, now)
				return err
			}))
		})
	}
}

// The journal alone leads to the records, whatever was done.
func TestJournalRebuildsTheRecords(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	disabled := true
	ends := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, do := range []func() error{
		func() error { return s.SetInherit(ctx, keeper, "instruments/firmware", false, true) },
		func() error {
			_, err := s.AddEntry(ctx, keeper, "instruments/firmware/bench", EntryInput{Who: "owner@", Level: "change", Applies: []string{"files"}, Note: "n"})
			return err
		},
		func() error {
			_, err := s.UpdateUser(ctx, keeper, "tomasz", UserChange{Disabled: &disabled, Expires: &ends})
			return err
		},
		func() error {
			_, err := s.AddShareEntry(ctx, keeper, "instruments", EntryInput{Who: "engineers", Deny: true, Level: "change"})
			return err
		},
		func() error { return s.RemoveMember(ctx, keeper, "staff", "engineers") },
		func() error {
			root := s.Policy().Folders[0].Root
			return s.MoveRules(ctx, s.Policy().Folders[0].ID, "firmware", "microcode", func() error {
				return os.Rename(filepath.Join(root, "firmware"), filepath.Join(root, "microcode"))
			}, nil)
		},
		func() error { return s.SetInherit(ctx, keeper, "instruments/microcode", true, false) },
		func() error {
			_, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "read_acl,write_acl", Expires: time.Now().Add(time.Hour).UTC().Truncate(time.Second)})
			return err
		},
		func() error {
			_, _, err := s.CheckNumbers(ctx, keeper, "dome1", "tomasz:x:4000:1::/:/bin/sh\n", "")
			return err
		},
		func() error {
			return s.AcceptFinding(ctx, keeper, s.Audit().Findings()[0].Key, "it is looked into", time.Now().Add(time.Hour).UTC().Truncate(time.Second))
		},
		func() error {
			_, err := s.UpdateFolder(ctx, keeper, "instruments", FolderChange{LogAccess: new(true), Owner: new("tomasz")})
			return err
		},
		func() error {
			_, err := s.CreateReview(ctx, keeper, "spring", []string{"instruments"}, []string{"keeper"})
			return err
		},
		func() error {
			_, err := s.MarkReview(ctx, keeper, "spring", []review.Mark{{Line: 1, Decision: site.Remove, Comment: "no more"}})
			return err
		},
		func() error { return s.WriteDown(ctx) },
		func() error {
			s.Saw(files.AccessEvent{Kind: files.Refused, Path: "instruments"})
			return s.WriteDown(ctx)
		},
		func() error { return s.SetPassword(ctx, keeper, "tomasz", "a new password", false) },
		func() error { return s.RemoveShare(ctx, keeper, "instruments") },
	} {
		require.NoError(t, do())
		rows, err := s.Journal(ctx, store.Match{})
		require.NoError(t, err)
		rebuilt, err := store.Rebuild(rows)
		require.NoError(t, err)
		require.Equal(t, s.force.Load().records, rebuilt)
	}
	f := s.Policy().FolderNamed("instruments")
	require.True(t, f.Tree.HasRulesAt("microcode/bench"))
	require.False(t, f.Tree.HasRulesAt("firmware"))

	// No secret has got into it, and a row that is altered is found.
	db, err := os.ReadFile(filepath.Join(s.state, store.FileName))
	require.NoError(t, err)
	wal, _ := os.ReadFile(filepath.Join(s.state, store.FileName+"-wal"))
	for _, secret := range []string{"tomasz-at-larkfell", "a new password", string(secret.NTHash("a new password"))} {
		require.NotContains(t, string(db)+string(wal), secret)
	}
	require.NoError(t, s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Run(ctx, `UPDATE journal SET actor = 'wren' WHERE seq = 3`)
	}))
	_, err = s.VerifyJournal(ctx)
	require.ErrorIs(t, err, store.ErrBroken)
	require.ErrorContains(t, err, "row 3")
}

// Cutting with a copy changes nobody's access, except that it never widens.
func TestCutWithCopy(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "engineers", Level: "change", Applies: []string{"files"}})
	require.NoError(t, err)
	tree := func() *acl.Tree { return s.Policy().FolderNamed("instruments").Tree }
	user := s.Policy().Directory.UserIndex(s.Policy().Directory.UserNamed("tomasz").ID)
	look := func() map[string]acl.Mask {
		out := make(map[string]acl.Mask)
		for path, file := range map[string]bool{"firmware": false, "firmware/bench": false, "firmware/x": true, "firmware/bench/x": true} {
			out[path] = tree().List(path, file).Evaluate(s.Policy().Directory.Person(user), acl.Ownership{User: -1, Group: -1}, time.Time{}, acl.All, nil)
		}
		return out
	}
	before := look()
	require.NoError(t, s.SetInherit(ctx, keeper, "instruments/firmware", false, true))
	require.Equal(t, before, look())
	require.NoError(t, s.SetInherit(ctx, keeper, "instruments/firmware/bench", false, false))
	require.Zero(t, look()["firmware/bench"])
}

func TestSettleMovesAfterACrash(t *testing.T) {
	ctx := context.Background()
	crash := errors.New("power cut")
	for name, c := range map[string]struct {
		renamed bool
		rules   string
	}{"before the rename": {false, "firmware"}, "after the rename": {true, "microcode"}} {
		t.Run(name, func(t *testing.T) {
			s := observatory(t)
			require.NoError(t, s.SetInherit(ctx, keeper, "instruments/firmware", false, true))
			f := s.Policy().Folders[0]
			require.Panics(t, func() {
				_ = s.MoveRules(ctx, f.ID, "firmware", "microcode", func() error {
					if c.renamed {
						require.NoError(t, os.Rename(filepath.Join(f.Root, "firmware"), filepath.Join(f.Root, "microcode")))
					}
					panic(crash) // what follows never happens
				}, nil)
			})
			require.NoError(t, s.Close())
			again, err := Open(ctx, s.state)
			require.NoError(t, err)
			defer again.Close()
			require.True(t, again.Policy().Folders[0].Tree.HasRulesAt(c.rules))
			require.Len(t, again.Policy().Folders[0].Rules, 2)
			var left int
			require.NoError(t, again.store.DB().QueryRow(`SELECT count(*) FROM moves`).Scan(&left))
			require.Zero(t, left)
		})
	}
}

func TestFirstAdministrator(t *testing.T) {
	s, ctx := open(t), context.Background()
	code := s.FirstCode()
	_, err := s.MakeFirst(ctx, "wrong", signin.Try{Name: "keeper", Password: "keeper-at-larkfell", Address: "::1"})
	require.Error(t, err)
	session, err := s.MakeFirst(ctx, code, signin.Try{Name: "keeper", Password: "keeper-at-larkfell", Address: "::1"})
	require.NoError(t, err)
	actor, err := s.Authenticate(ctx, session.Token, "192.0.2.1")
	require.NoError(t, err)
	require.Equal(t, identity.Administrator, actor.Role)
	_, err = s.MakeFirst(ctx, code, signin.Try{Name: "second", Password: "second-at-larkfell", Address: "::1"})
	require.Error(t, err)
	require.Empty(t, s.FirstCode())
}

func TestSessions(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.UpdateUser(ctx, keeper, "tomasz", UserChange{Console: new(false)})
	require.NoError(t, err)
	_, err = s.SignIn(ctx, signin.Try{Name: "tomasz", Password: "tomasz-at-larkfell", Address: "a"})
	require.ErrorContains(t, err, "storage only")
	_, wrong := s.SignIn(ctx, signin.Try{Name: "keeper", Password: "no", Address: "a"})
	_, unknown := s.SignIn(ctx, signin.Try{Name: "no one", Password: "no", Address: "a"})
	require.Equal(t, wrong.Error(), unknown.Error(), "which accounts exist is not said")
	session, err := s.SignIn(ctx, signin.Try{Name: "Keeper", Password: "keeper-at-larkfell", Address: "a"})
	require.NoError(t, err)
	_, err = s.Authenticate(ctx, session.Token, "192.0.2.1")
	require.NoError(t, err)
	require.NoError(t, s.SetPassword(ctx, keeper, "keeper", "another-at-larkfell", false))
	_, err = s.Authenticate(ctx, session.Token, "192.0.2.1")
	require.Error(t, err, "a new password ends what the old one began")
	session, err = s.SignIn(ctx, signin.Try{Name: "keeper", Password: "another-at-larkfell", Address: "a"})
	require.NoError(t, err)
	require.NoError(t, s.SignOut(ctx, session.Token))
	_, err = s.Authenticate(ctx, session.Token, "192.0.2.1")
	require.Error(t, err)
	_, err = s.Authenticate(ctx, "", "192.0.2.1")
	require.Error(t, err)
}

func TestKeyFileMustBeClosed(t *testing.T) {
	s := open(t)
	for _, name := range []string{"secret.key", store.FileName, store.FileName + "-wal"} {
		info, err := os.Stat(filepath.Join(s.state, name))
		require.NoError(t, err)
		require.EqualValues(t, 0o600, info.Mode().Perm(), name)
	}
	require.NoError(t, s.Close())
	require.NoError(t, os.Chmod(filepath.Join(s.state, "secret.key"), 0o644))
	_, err := Open(context.Background(), s.state)
	require.ErrorContains(t, err, "chmod 600")
}

func TestSealedSecretsAreBoundToTheirUser(t *testing.T) {
	s := observatory(t)
	ctx := context.Background()
	proven := func(name string) (id identity.ID, err error) {
		return s.ProveNT(ctx, name, "192.0.2.17", func(hash []byte) bool { return bytes.Equal(hash, secret.NTHash("tomasz-at-larkfell")) })
	}
	id, err := proven("tomasz")
	require.NoError(t, err)
	require.Equal(t, "a4f49c406510bdcab6824ee7c30fd852", hex.EncodeToString(secret.NTHash("Password"))) // MS-NLMP section 4.2.2.1.2
	kept, err := s.store.Secret(ctx, s.Policy().Directory.User(id).Password)
	require.NoError(t, err)
	_, err = s.keys.Open(id, kept.Sealed)
	require.NoError(t, err)
	_, err = s.keys.Open(id+1, kept.Sealed)
	require.Error(t, err)
	_, err = proven("no one")
	require.ErrorIs(t, err, ntlm.ErrWrong)
	require.False(t, secret.Check("", ""))
}

// However many different things are refused, the list of them grows by so much and no refusal is dropped.
func TestRefusalsAreCountedWhenTheyAreMany(t *testing.T) {
	s := observatory(t)
	ctx := t.Context()
	const paths, each = 1000, 3
	for range each {
		for i := range paths {
			s.Saw(files.AccessEvent{Kind: files.Refused, UID: 2999, Via: site.NFS, Path: fmt.Sprint("nightlog/", i), Gate: access.Entry})
		}
	}
	require.NoError(t, s.WriteDown(ctx))
	require.NoError(t, s.WriteDown(ctx), "what was told is not told again")
	before, err := s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	list, err := s.Events(ctx, store.Match{})
	require.NoError(t, err)
	require.Len(t, list, accesslog.MostRefusals+1)
	total := int64(0)
	for _, e := range list {
		total += e.Count
	}
	require.EqualValues(t, paths*each, total)

	// A stranger who says another number each time is one stranger.
	for uid := range uint32(10_000) {
		s.Saw(files.AccessEvent{Kind: files.Refused, UID: uid, From: "192.0.2.200", Via: site.NFS, Path: "/plates", Gate: access.Origin})
	}
	require.NoError(t, s.WriteDown(ctx))
	last := list[len(list)-1].ID
	list, err = s.Events(ctx, store.Match{After: last})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "several uids", list[0].Who)
	require.EqualValues(t, 10_000, list[0].Count)
	after, err := s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.Len(t, after, len(before), "the journal is the administrators'")
}

// A key that is missing is not quietly replaced: what was sealed with it would be lost without a word.
func TestAMissingKeyIsSaid(t *testing.T) {
	ctx, state := context.Background(), t.TempDir()
	s, err := Open(ctx, state)
	require.NoError(t, err)
	_, err = s.CreateUser(ctx, keeper, UserInput{Name: "piran", Password: "piran-at-larkfell"})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	key := filepath.Join(state, secret.KeyFileName)
	raw, err := os.ReadFile(key)
	require.NoError(t, err)
	require.NoError(t, os.Remove(key))
	_, err = Open(ctx, state)
	require.ErrorIs(t, err, secret.ErrNoKey)
	require.ErrorContains(t, err, key)
	_, err = os.Stat(key)
	require.ErrorIs(t, err, os.ErrNotExist, "nothing was made in its place")

	require.NoError(t, os.WriteFile(key, raw, 0o600))
	s, err = Open(ctx, state)
	require.NoError(t, err)
	has := func(password string) bool {
		_, err := s.ProveNT(ctx, "piran", "192.0.2.17", func(hash []byte) bool { return bytes.Equal(hash, secret.NTHash(password)) })
		return err == nil
	}
	require.True(t, has("piran-at-larkfell"))
	require.NoError(t, s.Close())

	require.NoError(t, os.Remove(key))
	s, err = Open(ctx, state, WithNewKey(true))
	require.NoError(t, err)
	defer s.Close()
	require.False(t, has("piran-at-larkfell"))
	require.NoError(t, s.SetPassword(ctx, keeper, "piran", "piran-at-larkfell-again", false))
	require.True(t, has("piran-at-larkfell-again"))
}

// Who is still named cannot be removed, and the commands that are proposed are those after which they can.
func TestRemovingWhoIsNamed(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	id, err := s.AddEntry(ctx, keeper, "instruments/firmware", EntryInput{Who: "tomasz", Level: "read"})
	require.NoError(t, err)
	_, err = s.UpdateFolder(ctx, keeper, "instruments", FolderChange{Owner: new("tomasz")})
	require.NoError(t, err)
	var refused *Error
	require.ErrorAs(t, s.RemoveUser(ctx, keeper, "tomasz"), &refused)
	require.Equal(t, fmt.Sprintf("amber entry remove instruments/firmware %d && amber folder set instruments --owner ''", id), refused.Next)
	require.Contains(t, refused.Message, "--disable")
	require.NoError(t, s.RemoveEntry(ctx, keeper, "instruments/firmware", id))
	_, err = s.UpdateFolder(ctx, keeper, "instruments", FolderChange{Owner: new("")})
	require.NoError(t, err)
	require.NoError(t, s.RemoveUser(ctx, keeper, "tomasz"))
}

// Who is given a number that somebody had before, and whose files are still there, is said to have these from now on, and whose they were.
func TestTheNumberOfWhoLeft(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("firmware/mine", 3000))
	tomasz := c.Policy().Directory.UserNamed("tomasz")
	entries := c.Policy().Folders[0].Rules[0].Entries
	require.NoError(t, c.RemoveEntry(ctx, keeper, "instruments", entries[0].ID))
	require.NoError(t, c.RemoveUser(ctx, keeper, "tomasz"))
	_, err := c.CreateUser(ctx, keeper, UserInput{Name: "ines", UID: &tomasz.UID, Service: true})
	require.ErrorContains(t, err, "was tomasz's until")
	next, err := c.CreateUser(ctx, keeper, UserInput{Name: "iris", Service: true})
	require.NoError(t, err)
	require.NotEqual(t, tomasz.UID, next.UID, "it is not proposed either")
	u, err := c.CreateUser(ctx, keeper, UserInput{Name: "ines", UID: &tomasz.UID, Service: true, Reuse: true})
	require.NoError(t, err)
	notes := c.NumberNotes(u, nil)
	require.Len(t, notes, 1)
	require.Contains(t, notes[0], "1 files belong to uid")
	require.Contains(t, notes[0], "which was tomasz's")
	other, err := c.CreateUser(ctx, keeper, UserInput{Name: "una", Service: true})
	require.NoError(t, err)
	require.Empty(t, c.NumberNotes(other, nil))
	for uid, says := range map[uint32]string{0: "root on every client", site.Anonymous: "nobody's on every client"} {
		u, err := c.UpdateUser(ctx, keeper, "una", UserChange{UID: &uid})
		require.NoError(t, err)
		require.Contains(t, strings.Join(c.NumberNotes(u, nil), " "), says)
	}
}
