package test

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

// A host whose numbers are others: who comes by one is who the number map says, what they are shown is in their host's numbers, what they say of owners and
// ACLs is taken in those, and why says which map it was.
func TestNumberMapsOnTheWire(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	other := relay(t, g.NFS, net.IPv4(127, 0, 0, 2))
	write, honour, ctx := true, true, t.Context()
	_, err := g.Service.AddRule(ctx, gateway.Keeper, service.RuleList{Export: "/scratch"}, service.RuleInput{From: "127.0.0.2", Write: &write}, 0)
	require.NoError(t, err)
	_, err = g.Service.UpdateExport(ctx, gateway.Keeper, "/scratch", service.ExportChange{ClientGroups: &honour})
	require.NoError(t, err)
	name, unknown, hosts := "reducer", site.OthersUnknown, []string{"127.0.0.2"}
	_, err = g.Service.CreateNumberMap(ctx, gateway.Keeper, service.NumberMapInput{Name: &name, From: &hosts, Others: &unknown,
		Users: map[string]string{"501": "piran", "502": "isolde", "2003": service.Nobodys}, Groups: map[string]string{"20": "observers", "21": "staff"}})
	require.NoError(t, err)

	// Over both versions, with libnfs: 501 there is piran, whose own number is nobody's.
	local := filepath.Join(t.TempDir(), "plate")
	require.NoError(t, os.WriteFile(local, []byte("a plate"), 0o600))
	for _, version := range []int{3, 4} {
		made := "/scratch/by-501-" + string(rune('0'+version))
		out, err := libnfsAs(t, other, version, 501, 21, "nfs-cp", local, "nfs:"+made)
		require.NoError(t, err, out)
		out, err = libnfsAs(t, other, version, 501, 21, "nfs-ls", "nfs:/scratch")
		require.NoError(t, err, out)
		require.Regexp(t, `\s501\s+\d+\s+7 by-501-`, out, "version %d shows its host's number", version)
		out, err = libnfsAs(t, g.NFS, version, 2002, 3000, "nfs-ls", "nfs:/scratch")
		require.NoError(t, err, out)
		require.Regexp(t, `\s2003\s+\d+\s+7 by-501-`, out, "and elsewhere it is the records'")
		for _, uid := range []int{2003, 2002, 4711} {
			out, err = libnfsAs(t, other, version, uid, 21, "nfs-cp", local, "nfs:/scratch/refused")
			require.Error(t, err, "version %d, %d: %s", version, uid, out)
		}
	}

	// Owners and ACLs are said in the host's numbers.
	c := nfsraw.Dial(t, other, 501, 21)
	root := c.Mnt("/scratch")
	st, file := c.Create3(root, "mine")
	require.Zero(t, st)
	owner := func(c *nfsraw.Client, fh []byte) (uid, gid uint32) {
		st, r := c.Do(nfsraw.NFS, 3, 1, func(w *onc.Writer) { w.Opaque(fh) })
		require.Zero(t, st)
		for range 3 {
			r.Uint32()
		}
		return r.Uint32(), r.Uint32()
	}
	uid, _ := owner(c, file)
	require.EqualValues(t, 501, uid)
	chgrp := func(gid uint32) uint32 {
		st, _ := c.Do(nfsraw.NFS, 3, 2, func(w *onc.Writer) {
			w.Opaque(file)
			w.Bool(false)
			w.Bool(false)
			w.Bool(true)
			w.Uint32(gid)
			w.Bool(false)
			w.Uint32(0)
			w.Uint32(0)
			w.Bool(false)
		})
		return st
	}
	require.Zero(t, chgrp(21))
	_, gid := owner(c, file)
	require.EqualValues(t, 21, gid)
	require.NotZero(t, chgrp(3000), "staff's number here is nobody's there")
	here := nfsraw.Dial(t, g.NFS, 2002, 3000)
	st, same := here.Lookup3(here.Mnt("/scratch"), "mine")
	require.Zero(t, st)
	uid, gid = owner(here, same)
	require.EqualValues(t, []uint32{2003, 3000}, []uint32{uid, gid})

	setACL := func(user uint32) uint32 {
		st, _ := c.Do(100227, 3, 2, func(w *onc.Writer) {
			w.Opaque(file)
			w.Uint32(1)
			w.Uint32(5)
			w.Uint32(5)
			for _, e := range [][3]uint32{{1, 501, 6}, {2, user, 4}, {4, 21, 4}, {0x10, 0, 4}, {0x20, 0, 0}} {
				w.Uint32(e[0])
				w.Uint32(e[1])
				w.Uint32(e[2])
			}
			w.Uint32(0)
			w.Uint32(0)
		})
		return st
	}
	acl := func(c *nfsraw.Client, fh []byte) (status uint32, users []uint32) {
		status, r := c.Do(100227, 3, 1, func(w *onc.Writer) { w.Opaque(fh); w.Uint32(1) })
		if r.Bool() {
			r.Fixed(84)
		}
		if status != 0 {
			return status, nil
		}
		r.Uint32()
		r.Uint32()
		for range r.Uint32() {
			tag, id, _ := r.Uint32(), r.Uint32(), r.Uint32()
			if tag == 2 {
				users = append(users, id)
			}
		}
		return status, users
	}
	require.Zero(t, setACL(502))
	st, users := acl(c, file)
	require.Zero(t, st)
	require.Equal(t, []uint32{502}, users)
	_, users = acl(here, same)
	require.Equal(t, []uint32{2002}, users)
	require.NotZero(t, setACL(2002), "which is nobody's there")
	_, users = acl(here, same)
	require.Equal(t, []uint32{2002}, users)

	// Somebody whom the host has no number for is in a list: it is not told without them, since it would come back without them.
	gone := map[string]string{"502": ""}
	_, err = g.Service.UpdateNumberMap(ctx, gateway.Keeper, "reducer", service.NumberMapInput{Users: gone})
	require.NoError(t, err)
	st, _ = acl(c, file)
	require.EqualValues(t, 10004, st)

	// Why comes by the number that the host has for whom it is asked about.
	for _, who := range []string{"piran", "501"} {
		why, err := g.Service.Why(ctx, asking.Question{User: who, Path: "scratch/mine", Via: "nfs", From: "127.0.0.2", Want: "read"})
		require.NoError(t, err)
		require.Equal(t, "piran", why.User)
		require.Contains(t, why.Gates[0].Reason, "uid 501 there is piran, by number map reducer")
	}
	for who, says := range map[string]string{"isolde": "isolde has no number there, by number map reducer", "2003": "uid 2003 is nobody's there, by number map reducer"} {
		why, err := g.Service.Why(ctx, asking.Question{User: who, Path: "scratch/mine", Via: "nfs", From: "127.0.0.2", Want: "read"})
		require.NoError(t, err)
		require.Zero(t, why.Gates[0].Leaves)
		require.Equal(t, says, why.Gates[0].Reason)
	}
}
