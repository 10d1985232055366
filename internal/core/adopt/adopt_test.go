package adopt

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

type tree map[string]*posix.Attributes

func (tree) OwnerOf(string) (acl.Ownership, bool)           { panic("not asked") }
func (t tree) UnixOf(path string) (*posix.Attributes, bool) { a, ok := t[path]; return a, ok }

type owned struct {
	tree
	d *identity.Directory
}

func (o owned) OwnerOf(path string) (acl.Ownership, bool) {
	a, ok := o.tree[path]
	if !ok {
		return acl.Ownership{}, false
	}
	return acl.Ownership{User: o.d.UserIndexByUID(a.UID), Group: o.d.GroupIndexByGID(a.GID)}, true
}

// Entries made from a tree let everybody do what its modes and ACLs let them do, which the kernel
// holds posix.Permits to (internal/files/kernel_test.go). Taking a name out of a directory is
// decided there by the directory.
func TestConvertedIsAsBefore(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := site.Records{Volumes: []site.Volume{{ID: 1, Name: "summit", Path: "/srv"}}, Services: site.Services{SMB: true}}
		for i := 1; i <= 5; i++ {
			r.Users = append(r.Users, identity.User{ID: identity.ID(i), Name: fmt.Sprint("u", i), UID: uint32(2000 + i), SMB: true})
		}
		for i := 1; i <= 3; i++ {
			g := identity.Group{ID: identity.ID(i), Name: fmt.Sprint("g", i), GID: uint32(3000 + i)}
			for u := 1; u <= 5; u++ {
				if rapid.Bool().Draw(t, "member") {
					g.Members = append(g.Members, identity.UserPrincipal(identity.ID(u)))
				}
			}
			r.Groups = append(r.Groups, g)
		}
		disk := tree{}
		perm := func() uint32 { return rapid.Uint32Range(0, 7).Draw(t, "perm") }
		attributes := func(dir bool) *posix.Attributes {
			a := posix.Attributes{UID: rapid.SampledFrom([]uint32{0, 2001, 2002, 2999}).Draw(t, "uid"), GID: rapid.SampledFrom([]uint32{0, 3001, 3002, 3999}).Draw(t, "gid"), Dir: dir,
				Mode: rapid.SampledFrom([]uint32{0o755, 0o644, 0o770, 0o077, 0o604, 0o000, 0o711, 0o461}).Draw(t, "mode")}
			if rapid.IntRange(0, 2).Draw(t, "acl") == 0 {
				list := posix.ACL{{Tag: posix.UserObj, Perm: perm(), ID: posix.Nobody}, {Tag: posix.User, Perm: perm(), ID: 2003}, {Tag: posix.User, Perm: perm(), ID: 2998}, {Tag: posix.GroupObj, Perm: perm(), ID: posix.Nobody},
					{Tag: posix.Group, Perm: perm(), ID: 3002}, {Tag: posix.Group, Perm: perm(), ID: 3003}, {Tag: posix.Mask, Perm: perm(), ID: posix.Nobody}, {Tag: posix.Other, Perm: perm(), ID: posix.Nobody}}
				a = posix.WithACL(&posix.Credential{}, a, list)
			}
			return &a
		}
		paths := []string{"", "d", "d/e", "d/e/f1", "d/e/f2", "d/f3", "d/f4", "f5", "x", "x/y"}
		for _, p := range paths {
			disk[p] = attributes(!strings.Contains(p, "f"))
		}
		r.Folders = []site.Folder{{ID: 1, Name: "scratch", VolumeID: 1, Path: "s", Permissions: site.ByMode}}
		r.Shares = []site.Share{{ID: 1, Name: "scratch", FolderID: 1}}
		before, err := site.Compile(r)
		require.NoError(t, err)
		facts := owned{disk, before.Directory}
		var objects []Object
		for _, p := range paths {
			own, _ := facts.OwnerOf(p)
			objects = append(objects, Object{p, disk[p], own})
		}
		rules := NewConverter(before).Rules(objects)
		r.Folders = slices.Clone(r.Folders)
		r.Folders[0].Permissions, r.Folders[0].Rules = site.ByEntries, rules
		after, err := site.Compile(r)
		require.NoError(t, err)
		for _, u := range r.Users {
			for _, p := range paths {
				ask := func(policy *site.Policy) acl.Mask {
					var got acl.Mask
					for _, bits := range rights(disk[p].Dir) {
						v := access.Decide(policy, access.Request{User: u.ID, Via: site.SMB, Share: policy.Shares[0], Folder: policy.Folders[0], Path: p, File: !disk[p].Dir, Facts: facts, Want: bits.mask, Now: time.Now()})
						if v.Allowed() {
							got |= bits.mask
						}
					}
					return got
				}
				require.Equal(t, ask(before).Names(true), ask(after).Names(true), "%s on %q: %+v", u.Name, p, rules)
			}
		}
	})
}

// What is alike is written once.
func TestAlikeIsWrittenOnce(t *testing.T) {
	p, err := site.Compile(site.Records{Users: []identity.User{{ID: 1, Name: "wren", UID: 2001}, {ID: 2, Name: "piran", UID: 2003}}})
	require.NoError(t, err)
	object := func(path string, uid, mode uint32, dir bool) Object {
		return Object{path, &posix.Attributes{UID: uid, Mode: mode, Dir: dir}, acl.Ownership{User: p.Directory.UserIndexByUID(uid), Group: identity.None}}
	}
	rules := NewConverter(p).Rules([]Object{object("", 2001, 0o755, true), object("a", 2003, 0o755, true), object("a/1", 2001, 0o644, false), object("a/2", 2003, 0o644, false),
		object("b", 2001, 0o755, true), object("b/1", 2001, 0o644, false), object("b/odd", 2001, 0o600, false)})
	var paths []string
	for _, r := range rules {
		paths = append(paths, r.Path)
	}
	require.Equal(t, []string{"", "b/odd"}, paths)
}
