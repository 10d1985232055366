package service

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/review"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
)

// requireInvalid wants a refusal that names the field at fault.
func requireInvalid(t *testing.T, err error, field string) {
	t.Helper()
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, Invalid, e.Kind)
	require.Equal(t, field, e.Field)
}

// What a share is called says whether clients show it.
func TestSharesKeptFromLists(t *testing.T) {
	c, ctx := counted(t), context.Background()
	sh, err := c.CreateShare(ctx, keeper, ShareInput{Folder: "instruments", Name: "Spare parts$"})
	require.NoError(t, err)
	require.False(t, sh.Announced)
	require.NotNil(t, c.Policy().ShareNamed("spare PARTS$"))
	announced := true
	_, err = c.UpdateShare(ctx, keeper, "spare parts$", ShareChange{Announced: &announced})
	requireInvalid(t, err, "announced")
	sh, err = c.UpdateShare(ctx, keeper, "spare parts$", ShareChange{Announced: &announced, Name: new("spare")})
	require.NoError(t, err)
	require.True(t, sh.Announced)
	_, err = c.UpdateShare(ctx, keeper, "spare", ShareChange{Announced: &announced, Name: new("spare$")})
	requireInvalid(t, err, "announced")
	sh, err = c.UpdateShare(ctx, keeper, "spare", ShareChange{Name: new("spare$")})
	require.NoError(t, err)
	require.False(t, sh.Announced)
	require.True(t, announced, "what was asked is left alone")
	for _, name := range []string{"$", "a$b", "a$$", "ipc$", "IPC$", " $", "a $", strings.Repeat("x", 81) + "$"} {
		_, err = c.CreateShare(ctx, keeper, ShareInput{Folder: "instruments", Name: name})
		requireInvalid(t, err, "name")
		_, err = c.UpdateShare(ctx, keeper, "spare$", ShareChange{Name: &name})
		requireInvalid(t, err, "name")
	}
	_, err = c.CreateFolder(ctx, keeper, FolderInput{Name: "parts$", Volume: "summit"})
	requireInvalid(t, err, "name")
	_, err = c.UpdateShare(ctx, keeper, "spare$", ShareChange{Name: new("Spare parts$")})
	require.NoError(t, err)
	ways, err := c.Connect("instruments", "gateway.larkfell.example", asking.Ports{SMB: 445, NFS: 2049}, "tomasz")
	require.NoError(t, err)
	var texts []string
	for _, w := range ways {
		texts = append(texts, w.Text)
	}
	require.Contains(t, texts, `Spare\ parts\$ -fstype=cifs,vers=3.1.1,credentials=/etc/cifs-tomasz ://gateway.larkfell.example/Spare\ parts\$`)
	require.Contains(t, texts, `mount_smbfs '//tomasz@gateway.larkfell.example/Spare%20parts$' '/Volumes/Spare parts$'`)
	require.Contains(t, texts, `mount -t cifs '//gateway.larkfell.example/Spare parts$' '/mnt/Spare parts$' -o vers=3.1.1,username=tomasz`)
}

// What gets another name is what it was: numbers, passwords, entries, limits, rules and reviews go on to it, and the journal rebuilds it.
func TestRenaming(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("firmware/mine", 100))
	_, err := c.CreateHostSet(ctx, keeper, "dome", "", []RuleInput{{From: "192.0.2.16/28"}})
	require.NoError(t, err)
	_, err = c.CreateExport(ctx, keeper, ExportInput{Folder: "instruments", Rules: []RuleInput{{From: "@dome"}}})
	require.NoError(t, err)
	_, err = c.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: "1M"})
	require.NoError(t, err)
	_, err = c.CreateUser(ctx, keeper, UserInput{Name: "auditor", Role: identity.Auditor, Password: "auditor-at-larkfell"})
	require.NoError(t, err)
	_, err = c.CreateReview(ctx, keeper, "spring", []string{"instruments"}, []string{"auditor"})
	require.NoError(t, err)
	before := c.Policy()

	u, err := c.UpdateUser(ctx, keeper, "tomasz", UserChange{Name: new("tom")})
	require.NoError(t, err)
	require.Equal(t, before.Directory.UserNamed("tomasz").ID, u.ID)
	require.Nil(t, c.Policy().Directory.UserNamed("tomasz"))
	_, err = c.UpdateUser(ctx, keeper, "auditor", UserChange{Name: new("ines")})
	require.NoError(t, err)
	_, err = c.SignIn(ctx, signin.Try{Name: "ines", Password: "auditor-at-larkfell", Address: "192.0.2.1"})
	require.NoError(t, err, "the password is what it was")
	_, err = c.SignIn(ctx, signin.Try{Name: "auditor", Password: "auditor-at-larkfell", Address: "192.0.2.1"})
	require.Error(t, err)
	g, err := c.UpdateGroup(ctx, keeper, "engineers", GroupChange{Name: new("makers")})
	require.NoError(t, err)
	require.Equal(t, []identity.Principal{identity.UserPrincipal(u.ID)}, g.Members)
	f, err := c.UpdateFolder(ctx, keeper, "instruments", FolderChange{Name: new("workshop")})
	require.NoError(t, err)
	require.DirExists(t, f.Root, "its directory is what it was")
	_, err = c.UpdateShare(ctx, keeper, "instruments", ShareChange{Name: new("Tools")})
	require.NoError(t, err)
	_, err = c.UpdateHostSet(ctx, keeper, "dome", HostSetChange{Name: new("domes")})
	require.NoError(t, err)
	e, err := c.UpdateExport(ctx, keeper, "/instruments", ExportChange{Path: new("/workshop")})
	require.NoError(t, err)
	require.Equal(t, "@domes", e.Rules[0].From)
	_, err = c.UpdateVolume(ctx, keeper, "summit", VolumeChange{Name: new("top")})
	require.NoError(t, err)
	h, _, err := c.files.Open(files.Subject{User: u.ID, Via: site.SMB}, files.OpenRequest{Share: "tools", Path: "firmware/mine", Access: acl.ReadData, Disposition: files.OpenOnly})
	require.NoError(t, err)
	require.NoError(t, h.Close())
	require.EqualValues(t, 100, c.use(ByUser, "tom").Bytes)

	r, err := c.Review("spring")
	require.NoError(t, err)
	require.Equal(t, []string{"workshop"}, r.Folders)
	require.Equal(t, []string{"ines"}, r.Reviewers)
	rows, err := c.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.NotEmpty(t, rows)

	for what, do := range map[string]func() error{
		"a name that is taken": func() error { _, err := c.UpdateUser(ctx, keeper, "tom", UserChange{Name: new("INES")}); return err },
		"no name": func() error {
			_, err := c.UpdateFolder(ctx, keeper, "workshop", FolderChange{Name: new("")})
			return err
		},
		"a name that is none": func() error {
			_, err := c.UpdateGroup(ctx, keeper, "makers", GroupChange{Name: new("a/b")})
			return err
		},
	} {
		require.Error(t, do(), what)
	}
	_, err = c.UpdateUser(ctx, keeper, "tom", UserChange{Name: new("Tom")})
	require.NoError(t, err, "its own name in another case")
}

// What was decided in a review is done to whom it was decided about, whatever they are called by then.
func TestAReviewOfWhoIsRenamed(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.CreateUser(ctx, keeper, UserInput{Name: "ines", Role: identity.Administrator, Password: "ines-at-larkfell"})
	require.NoError(t, err)
	_, err = s.CreateReview(ctx, keeper, "spring", []string{"instruments"}, []string{"ines"})
	require.NoError(t, err)
	ines := Actor{ID: s.Policy().Directory.UserNamed("ines").ID, Name: "ines", Role: identity.Administrator}
	r, err := s.Review("spring")
	require.NoError(t, err)
	var marks []review.Mark
	for _, l := range r.Lines {
		d := site.Keep
		if l.Group == "engineers" && l.Member == "user:tomasz" || l.Group == "staff" && l.Member == "group:engineers" {
			d = site.Remove
		}
		marks = append(marks, review.Mark{Line: l.Number, Decision: d})
	}
	_, err = s.MarkReview(ctx, ines, "spring", marks)
	require.NoError(t, err)
	_, err = s.UpdateUser(ctx, keeper, "tomasz", UserChange{Name: new("tom")})
	require.NoError(t, err)
	_, err = s.UpdateGroup(ctx, keeper, "engineers", GroupChange{Name: new("makers")})
	require.NoError(t, err)
	_, err = s.CreateGroup(ctx, keeper, GroupInput{Name: "engineers", Members: []string{"tom"}}) // another of that name
	require.NoError(t, err)
	_, err = s.ApplyReview(ctx, keeper, "spring")
	require.NoError(t, err)
	d := s.Policy().Directory
	require.Empty(t, d.GroupNamed("makers").Members)
	require.Empty(t, d.GroupNamed("staff").Members)
	require.Len(t, d.GroupNamed("engineers").Members, 1, "who was not reviewed")
}

// A volume that is mounted elsewhere is taken up there, by its mark.
func TestAVolumeThatIsMountedElsewhere(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("mine", 10))
	was := c.Policy().Volumes[0].Path
	elsewhere := filepath.Join(t.TempDir(), "elsewhere")
	require.NoError(t, os.Rename(was, elsewhere))
	c.awaitLook(c.lookAtVolumes())
	require.ErrorIs(t, c.write("mine", 20), files.ErrIO)
	_, err := c.UpdateVolume(ctx, keeper, "summit", VolumeChange{Path: new(t.TempDir())})
	var refused *Error
	require.ErrorAs(t, err, &refused)
	require.Contains(t, refused.Next, "--here", "another directory is not it")
	v, err := c.UpdateVolume(ctx, keeper, "summit", VolumeChange{Path: &elsewhere})
	require.NoError(t, err)
	require.Equal(t, elsewhere, v.Path)
	require.NoError(t, c.write("mine", 20))
	space, err := c.VolumeSpace(v)
	require.NoError(t, err)
	require.Positive(t, space.Total)
}
