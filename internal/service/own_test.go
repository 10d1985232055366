package service

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// In a personal folder each of a group has a directory of their own: by one rule, from the moment at which they are in the group until they are in it no more.
func TestAPersonalFolder(t *testing.T) {
	c, ctx := counted(t), context.Background()
	d := func() *identity.Directory { return c.Policy().Directory }
	for _, name := range []string{"ines", "una"} {
		_, err := c.CreateUser(ctx, keeper, UserInput{Name: name, Groups: []string{"engineers"}})
		require.NoError(t, err)
	}
	_, err := c.CreateFolder(ctx, keeper, FolderInput{Name: "home", Volume: "summit", Ownership: site.Mapped})
	require.NoError(t, err)
	_, err = c.CreateShare(ctx, keeper, ShareInput{Folder: "home"})
	require.NoError(t, err)
	require.Eventually(t, func() bool { // what is made there is counted
		counts := c.Counts()
		return len(counts) == 2 && counts[0].State == "counted" && counts[1].State == "counted"
	}, 10*time.Second, 5*time.Millisecond)
	records := len(c.force.Load().records.Folders[1].Rules)
	_, err = c.UpdateFolder(ctx, keeper, "home", FolderChange{Personal: new("engineers")})
	require.NoError(t, err)
	require.Len(t, c.force.Load().records.Folders[1].Rules, records, "no entry is written")
	as := func(name, path string, access acl.Mask) error {
		h, _, err := c.files.Open(files.Subject{User: d().UserNamed(name).ID, Via: site.SMB}, files.OpenRequest{Share: "home", Path: path, Access: access, Disposition: files.OpenOnly, Sharing: files.ShareRead | files.ShareWrite})
		if err == nil {
			h.Close()
		}
		return err
	}
	connect := func(name string) error {
		_, err := c.files.Connect(files.Subject{User: d().UserNamed(name).ID, Via: site.SMB}, "home")
		return err
	}
	level := func(name, path string) string {
		for _, h := range c.Audit().Who(c.Policy().FolderNamed("home"), path, false) {
			if h.User.Name == name {
				return h.Either().Levels.String()
			}
		}
		return "nothing"
	}
	require.Equal(t, "change", level("ines", "ines"))
	require.Equal(t, "nothing", level("ines", "una"))
	require.ErrorIs(t, as("ines", "ines", acl.ReadData), files.ErrNotFound, "it is made at first use")
	require.NoError(t, connect("ines"))
	require.NoError(t, connect("ines"))
	require.NoError(t, as("ines", "ines", acl.ReadData|acl.WriteData))
	require.Error(t, as("una", "ines", acl.ReadData))
	require.EqualValues(t, 1, c.ledger.Use(limit.Counter{Of: limit.Owned, Number: d().UserNamed("ines").UID}).Files, "it is theirs, and counted as theirs")

	// Newcomers have theirs by themselves, and who goes has none.
	_, err = c.CreateUser(ctx, keeper, UserInput{Name: "harrow"})
	require.NoError(t, err)
	require.Error(t, connect("harrow"))
	require.NoError(t, c.AddMember(ctx, keeper, "engineers", "harrow"))
	require.NoError(t, connect("harrow"))
	require.NoError(t, as("harrow", "harrow", acl.WriteData))
	require.NoError(t, c.RemoveMember(ctx, keeper, "engineers", "harrow"))
	require.Error(t, as("harrow", "harrow", acl.ReadData))
	strangers := func() (out []string) {
		for _, f := range c.Audit().Findings() {
			require.NotEqual(t, audit.PathGone, f.Kind, f.Subject)
			if f.Kind == audit.NobodysOwn {
				out = append(out, f.Says)
			}
		}
		return out
	}
	require.Len(t, strangers(), 1)
	require.Contains(t, strangers()[0], "harrow")

	// For all at once.
	j, err := c.MakeAllOwn(ctx, keeper, "home")
	require.NoError(t, err)
	require.EqualValues(t, 2, result[OwnMade](t, j).Made, "una and tomasz")
	_, err = c.MakeAllOwn(ctx, keeper, "instruments")
	require.ErrorContains(t, err, "not personal")
	_, err = c.MakeAllOwn(ctx, Actor{Name: "vale", Role: identity.Operator}, "home")
	require.ErrorContains(t, err, "administrator")

	// The group stays while the folder needs it; what is copied elsewhere, or reviewed, is what somebody wrote.
	require.ErrorContains(t, c.RemoveGroup(ctx, keeper, "engineers"), "home, which is personal")
	out, err := c.PlanLeave("ines", LeaveInput{})
	require.NoError(t, err)
	require.Contains(t, out.Partings, site.Parting{What: "files", Where: "their own directory, home/ines", Becomes: "stays where it is, and nobody gets into it by its being theirs"})
	require.NoError(t, c.AddMember(ctx, keeper, "engineers", "harrow"))
	_, err = c.AddEntry(ctx, keeper, "home/harrow", EntryInput{Who: "una", Level: "read"})
	require.NoError(t, err)
	require.NoError(t, as("harrow", "harrow", acl.WriteData), "besides what is written there")
	_, err = c.UpdateFolder(ctx, keeper, "home", FolderChange{Personal: new("")})
	require.NoError(t, err)
	require.Error(t, as("harrow", "harrow", acl.ReadData))
	require.Empty(t, strangers())
	_, err = c.Undo(ctx, keeper, nil)
	require.NoError(t, err)
	require.NoError(t, as("harrow", "harrow", acl.ReadData))
}
