package nfs

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/nfsraw"
)

// What a POSIX ACL is shown as says the same when it is read back: to everyone, whatever groups they are in.
func TestACLsReadBackAlike(t *testing.T) {
	s := &Server{}
	rapid.Check(t, func(t *rapid.T) {
		perm := func(of string) uint32 { return rapid.Uint32Range(0, 7).Draw(t, of) }
		list := posix.ACL{{Tag: posix.UserObj, Perm: perm("owner"), ID: posix.Nobody}, {Tag: posix.GroupObj, Perm: perm("group"), ID: posix.Nobody}, {Tag: posix.Other, Perm: perm("other"), ID: posix.Nobody}}
		for id := range uint32(2) {
			if rapid.Bool().Draw(t, "user") {
				list = append(list, posix.ACE{Tag: posix.User, Perm: perm("user"), ID: 2001 + id})
			}
			if rapid.Bool().Draw(t, "group") {
				list = append(list, posix.ACE{Tag: posix.Group, Perm: perm("named"), ID: 3001 + id})
			}
		}
		if len(list) > 3 {
			list = append(list, posix.ACE{Tag: posix.Mask, Perm: perm("mask") | 1, ID: posix.Nobody}) // an empty one is not looked at
		}
		list = list.Sorted()
		dir := rapid.Bool().Draw(t, "dir")
		aces := posixACEs(nil, list, dir, 0)
		if dir {
			aces = append(aces, posixACEs(nil, list, true, aceFileInherit|aceDirInherit|aceInheritOnly)...)
		}
		back, below, st := s.toPOSIX(nil, aces, dir)
		require.Equal(t, ok4, st)
		if dir {
			require.Equal(t, back, below)
		}
		who := &posix.Credential{UID: rapid.SampledFrom([]uint32{1, 2001, 2002, 2003}).Draw(t, "uid"), GID: rapid.SampledFrom([]uint32{2, 3001, 3002, 3003}).Draw(t, "gid"),
			Groups: rapid.SliceOfDistinct(rapid.SampledFrom([]uint32{2, 3001, 3002}), func(g uint32) uint32 { return g }).Draw(t, "groups")}
		was := posix.WithACL(&posix.Credential{}, posix.Attributes{UID: 1, GID: 2, Dir: dir}, list)
		is := posix.WithACL(&posix.Credential{}, posix.Attributes{UID: 1, GID: 2, Dir: dir}, back)
		if is.Mode&0o070 == 0 {
			return // nor is this one, then
		}
		require.Equal(t, posix.Each(who, &was), posix.Each(who, &is), "%v\n%v", list, back)
	})
}

func TestACLsThatCannotBeSaid(t *testing.T) {
	s := &Server{}
	allow, deny := func(who string, m acl.Mask, flags uint32) ace4 { return ace4{aceAllow, flags, m, who} }, func(who string, m acl.Mask, flags uint32) ace4 { return ace4{aceDen, flags, m, who} }
	for name, c := range map[string]struct {
		aces []ace4
		want status4
	}{
		"a group denied before a user is allowed": {[]ace4{deny("3001", acl.WriteData, aceGroup), allow("2001", acl.WriteData, 0)}, errACL},
		"everyone denied first":                   {[]ace4{deny("EVERYONE@", acl.ReadData, 0), allow("OWNER@", acl.ReadData, 0)}, errACL},
		"looking withheld":                        {[]ace4{deny("2001", acl.ReadAttributes, 0)}, errACL},
		"an alarm":                                {[]ace4{{kind: 3, who: "EVERYONE@"}}, errACL},
		"for files only":                          {[]ace4{allow("OWNER@", acl.ReadData, aceFileInherit)}, errACL},
		"for no further":                          {[]ace4{allow("OWNER@", acl.ReadData, aceFileInherit|aceDirInherit|aceNoPropagate)}, errACL},
		"nobody's number":                         {[]ace4{allow("4294967295", acl.ReadData, 0)}, err4BadOwner},
	} {
		if name == "nobody's number" {
			s = testServer(t)
		}
		_, _, st := s.toPOSIX(nil, c.aces, true)
		require.Equal(t, c.want, st, name)
	}
	list, below, st := s.toPOSIX(nil, nil, false)
	require.Equal(t, ok4, st)
	require.Nil(t, below)
	require.Equal(t, posix.Of(0), list, "who is not named has nothing")
}

func testServer(t *testing.T) *Server {
	p := newPlace(t)
	return &Server{Config: Config{Policy: p.policy.Load}}
}

// By the wire: read, one entry put in front, set, and felt; its owner only; and not where entries decide.
func TestSettingACLs(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	c, other := nfsraw.Dial(t, addr, piran, 3001), nfsraw.Dial(t, addr, 2006, 9)
	c.NewSession("owner")
	other.NewSession("other")
	root := c.Mnt("/scratch")
	_, fh := c.Create3(root, "plan")
	set := func(c *nfsraw.Client, fh []byte, aces ...ace4) status4 {
		w := &onc.Writer{}
		putACL4(w, aces)
		status, _ := c.Session(nfsraw.Op(22, fh), nfsraw.Op(34, nfsraw.Raw(make([]byte, 16)), 1, 1<<attrACL, w.B))
		return status4(status)
	}
	read := func(c *nfsraw.Client) status4 {
		status, _ := c.Session(nfsraw.Op(22, fh), nfsraw.Op(25, nfsraw.Raw(make([]byte, 16)), uint64(0), 9))
		return status4(status)
	}
	aces := posixACEs(nil, posix.Of(0o640), false, 0)
	require.Equal(t, ok4, set(c, fh, aces...))
	require.Equal(t, err4Access, read(other))
	aces = slices.Insert(aces, 0, ace4{mask: acl.ReadData, who: "orla@larkfell.example"})
	require.Equal(t, err4Perm, set(other, fh, aces...))
	require.Equal(t, ok4, set(c, fh, aces...))
	require.Equal(t, ok4, read(other))
	_, entry := c.Lookup3(c.Mnt("/nightlog"), "entry")
	require.Equal(t, err4Inval, set(c, entry, aces...), "where entries decide, a list that allows before it denies the same is none of theirs")
}
