package test

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/need"
	"amber.example/gatekeeper/test/nfsraw"
)

// relay lets what connects to it through to an address, from another address of this machine: to the
// gateway it is another host.
func relay(t *testing.T, to string, from net.IP) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			d := net.Dialer{LocalAddr: &net.TCPAddr{IP: from}}
			far, err := d.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			go func() { _, _ = io.Copy(far, near); far.Close() }()
			go func() { _, _ = io.Copy(near, far); near.Close() }()
		}
	}()
	return l.Addr().String()
}

// libnfs runs one of libnfs's tools on a path of the gateway at an address, as a uid.
func libnfs(t *testing.T, address string, version, uid int, tool string, args ...string) (string, error) {
	t.Helper()
	return libnfsAs(t, address, version, uid, uid, tool, args...)
}

func libnfsAs(t *testing.T, address string, version, uid, gid int, tool string, args ...string) (string, error) {
	t.Helper()
	host, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	for i, a := range args {
		if strings.HasPrefix(a, "nfs:") {
			args[i] = fmt.Sprintf("nfs://%s%s?version=%d&nfsport=%s&mountport=%s&uid=%d&gid=%d", host, strings.TrimPrefix(a, "nfs:"), version, port, port, uid, gid)
		}
	}
	path, err := exec.LookPath(tool)
	if err != nil {
		need.Missing(t, "%s is not installed: make test installs it", tool)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, path, args...).CombinedOutput()
	return string(out), err
}

// libnfs's own tools list, read and write, by the numbers and groups of the records.
func TestLibnfs(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	second := relay(t, g.NFS, net.IPv4(127, 0, 0, 2))
	for version, size := range map[int]int{3: 5<<20 + 11, 4: 1011} { // Debian's libnfs sends no large write by version 4
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			data := make([]byte, size)
			rand.Read(data)
			local := filepath.Join(t.TempDir(), "plate")
			require.NoError(t, os.WriteFile(local, data, 0o644))
			out, err := libnfs(t, g.NFS, version, 2003, "nfs-ls", "nfs:/scratch")
			require.NoError(t, err, out)
			require.Contains(t, out, "README.txt")
			out, err = libnfs(t, g.NFS, version, 2003, "nfs-cat", "nfs:/scratch/README.txt")
			require.NoError(t, err, out)
			require.Contains(t, out, "Room for the reduction hosts")
			name := fmt.Sprintf("/scratch/plate-%d", version)
			out, err = libnfs(t, g.NFS, version, 2003, "nfs-cp", local, "nfs:"+name)
			require.NoError(t, err, out)
			back, err := os.ReadFile(filepath.Join(g.State, "volumes/summit", name))
			require.NoError(t, err)
			require.True(t, bytes.Equal(data, back))
			// piran is in staff through observers, by the records: the client said nothing of it. orla is not.
			out, err = libnfs(t, g.NFS, version, 2006, "nfs-cp", local, "nfs:/scratch/hers")
			require.Error(t, err, out)
			for _, export := range []string{"/instruments", "/nothing"} {
				out, err = libnfs(t, g.NFS, version, 2003, "nfs-ls", "nfs:"+export)
				require.Error(t, err, out)
			}
			out, err = libnfs(t, g.NFS, version, 2003, "nfs-cp", local, "nfs:/plates/new")
			require.Error(t, err, out)
			// Another address of this machine is another host, and no rule lets it in.
			out, err = libnfs(t, second, version, 2003, "nfs-ls", "nfs:/scratch")
			require.Error(t, err, out)
			out, err = libnfs(t, second, version, 2003, "nfs-ls", "nfs:/visitors")
			require.NoError(t, err, "but it is let in where everyone is: %s", out)
		})
	}
}

// nightlogOverNFS publishes a folder of the demo over NFS as well.
func nightlogOverNFS(t *testing.T, g *gateway.Gateway) {
	write := true
	_, err := g.Service.CreateExport(t.Context(), gateway.Keeper, service.ExportInput{Folder: "nightlog", Rules: []service.RuleInput{{From: "127.0.0.1", Write: &write}}})
	require.NoError(t, err)
}

// One folder by both protocols: what one writes the other sees, and each keeps what it holds from the other.
func TestOneFolderTwoProtocols(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	nightlogOverNFS(t, g)
	smb := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	nfs := nfsraw.Dial(t, g.NFS, 2003, 3001)
	root := nfs.Mnt("/nightlog")
	read := func(c *nfsraw.Client, fh []byte) (uint32, string) {
		const later = 10008 // NFS3ERR_JUKEBOX, while what has another name now is searched for
		status, r := uint32(later), (*onc.Reader)(nil)
		for began := time.Now(); status == later && time.Since(began) < time.Minute; {
			status, r = c.Do(nfsraw.NFS, 3, 6, func(w *onc.Writer) { w.Opaque(fh); w.Uint64(0); w.Uint32(64) })
		}
		if status != 0 {
			return status, ""
		}
		r.Bool()
		r.Fixed(84)
		r.Uint64()
		return 0, r.String(64)
	}
	write := func(c *nfsraw.Client, fh []byte, text string) uint32 {
		status, _ := c.Do(nfsraw.NFS, 3, 7, func(w *onc.Writer) {
			w.Opaque(fh)
			w.Uint64(0)
			w.Uint32(uint32(len(text)))
			w.Uint32(2)
			w.String(text)
		})
		return status
	}

	require.NoError(t, smb.WriteFile("by smb.txt", []byte("clear skies"), 0o644))
	status, fh := nfs.Lookup3(root, "by smb.txt")
	require.Zero(t, status)
	_, text := read(nfs, fh)
	require.Equal(t, "clear skies", text)
	status, fh = nfs.Create3(root, "by nfs.txt")
	require.Zero(t, status)
	require.Zero(t, write(nfs, fh, "clouds"))
	back, err := smb.ReadFile("BY NFS.txt")
	require.NoError(t, err)
	require.Equal(t, "clouds", string(back))
	require.NoError(t, smb.Rename("by nfs.txt", "2026/renamed.txt"))
	_, text = read(nfs, fh)
	require.Equal(t, "clouds", text, "a handle follows a rename by the other protocol")
	require.NoError(t, smb.Remove("2026/renamed.txt"))
	status, _ = read(nfs, fh)
	require.EqualValues(t, 70, status, "stale")

	// orla is refused alike; then let in, alike, with nothing connected anew.
	orla := nfsraw.Dial(t, g.NFS, 2006, 3010)
	_, fh = nfs.Lookup3(root, "README.txt")
	status, _ = read(orla, fh)
	require.EqualValues(t, 13, status)
	_, err = g.Dial(t, "orla", 0).Mount("nightlog")
	requireStatus(t, err, accessDenied)
	_, err = g.Service.AddEntry(t.Context(), gateway.Keeper, "nightlog", service.EntryInput{Who: "orla", Level: "read"})
	require.NoError(t, err)
	status, _ = read(orla, fh)
	require.Zero(t, status)
	require.EqualValues(t, 13, write(orla, fh, "x"))
	off := false
	_, err = g.Service.UpdateUser(t.Context(), gateway.Keeper, "orla", service.UserChange{NFS: &off})
	require.NoError(t, err)
	status, _ = read(orla, fh)
	require.EqualValues(t, 13, status, "she may not use NFS any more, and what is mounted feels it")

	// Where modes decide they decide for SMB too, and what it makes there is its maker's.
	_, err = g.Service.CreateShare(t.Context(), gateway.Keeper, service.ShareInput{Folder: "scratch"})
	require.NoError(t, err)
	scratch := g.Mount(t, g.Dial(t, "piran", 0), "scratch")
	require.NoError(t, scratch.WriteFile("seeing.txt", []byte("1.2"), 0o644))
	status, fh = nfs.Lookup3(nfs.Mnt("/scratch"), "seeing.txt")
	require.Zero(t, status)
	status, r := nfs.Do(nfsraw.NFS, 3, 1, func(w *onc.Writer) { w.Opaque(fh) })
	require.Zero(t, status)
	require.Equal(t, []uint32{1, 0o664, 1, 2003, 3000}, []uint32{r.Uint32(), r.Uint32(), r.Uint32(), r.Uint32(), r.Uint32()}, "a file, its mode, its one name, piran's, and the directory's group")
	status, _ = nfs.Do(nfsraw.NFS, 3, 2, func(w *onc.Writer) { w.Opaque(fh); nfsraw.Mode3(w, 0o400); w.Bool(false) })
	require.Zero(t, status)
	requireStatus(t, scratch.WriteFile("seeing.txt", []byte("3"), 0o644), accessDenied)
	orlas, err := g.Dial(t, "orla", 0).Mount("scratch")
	require.NoError(t, err)
	_, err = orlas.ReadFile("seeing.txt")
	requireStatus(t, err, accessDenied)
	requireStatus(t, orlas.WriteFile("hers.txt", nil, 0o644), accessDenied)

	// Names that differ in case are one to SMB and two to NFS.
	status, _ = nfs.Lookup3(root, "readme.TXT")
	require.EqualValues(t, 2, status)
}

// One host that holds a file open under ever new owners is refused at some point, and what it lets go can be had again.
func TestSharesOfOneHostAreBounded(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	nightlogOverNFS(t, g)
	c := nfsraw.Dial(t, g.NFS, 2003, 3001)
	status, fh := c.Create3(c.Mnt("/nightlog"), "shared")
	require.Zero(t, status)
	share := func(procedure uint32, owner string) uint32 {
		r, err := c.Call(nfsraw.NLM, 4, procedure, func(w *onc.Writer) {
			w.String("cookie")
			w.String("dome1")
			w.Opaque(fh)
			w.String(owner)
			w.Uint32(0) // denies nothing
			w.Uint32(1) // reads
			w.Bool(false)
		})
		require.NoError(t, err)
		r.Opaque(64)
		return r.Uint32()
	}
	const set, unset, noLocks, most = 20, 21, 2, 1024
	for i := range most {
		require.Zero(t, share(set, fmt.Sprint("owner", i)), "%d", i)
	}
	require.EqualValues(t, noLocks, share(set, "one more"))
	require.Zero(t, share(set, "owner7"), "who has one may have it again")
	require.EqualValues(t, noLocks, share(set, "one more"))
	for range 3 { // what is let go twice makes room once
		require.Zero(t, share(unset, "owner7"))
	}
	require.Zero(t, share(set, "one more"))
	require.EqualValues(t, noLocks, share(set, "owner7"))
}

// Version 3's lock manager and version 4's locks are one: a lock that only one of them sees is no lock.
func TestLocksAcrossVersions(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	nightlogOverNFS(t, g)
	c := nfsraw.Dial(t, g.NFS, 2003, 3001)
	root := c.Mnt("/nightlog")
	status, fh := c.Create3(root, "locked")
	require.Zero(t, status)
	nlm := func(procedure uint32, exclusive bool, owner string, offset, length uint64) uint32 {
		r, err := c.Call(nfsraw.NLM, 4, procedure, func(w *onc.Writer) {
			w.String("cookie")
			if procedure == 2 {
				w.Bool(false)
			}
			if procedure == 1 || procedure == 2 {
				w.Bool(exclusive)
			}
			w.String("dome1")
			w.Opaque(fh)
			w.String(owner)
			w.Uint32(1)
			w.Uint64(offset)
			w.Uint64(length)
			if procedure == 2 {
				w.Bool(false)
				w.Uint32(1)
			}
		})
		require.NoError(t, err)
		r.Opaque(64)
		return r.Uint32()
	}
	const test, lock, unlock = 1, 2, 4
	require.Zero(t, nlm(lock, true, "a", 0, 100))
	require.EqualValues(t, 1, nlm(lock, true, "b", 50, 10))
	require.Zero(t, nlm(lock, true, "b", 100, 10))
	require.EqualValues(t, 1, nlm(test, false, "b", 0, 0))

	v4 := nfsraw.Dial(t, g.NFS, 2003, 3001)
	v4.NewSession("locker")
	status, r := v4.Session(nfsraw.Op(24), nfsraw.Op(15, "nightlog"), nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 0, 0, "locked"))
	require.Zero(t, status)
	nfsraw.Next(r)
	nfsraw.Next(r)
	nfsraw.Next(r)
	id := append([]byte{}, r.Fixed(16)...)
	lock4 := func(offset, length uint64) uint32 {
		status, _ := v4.Session(nfsraw.Op(22, fh), nfsraw.Op(12, 2, false, offset, length, true, 0, nfsraw.Raw(id), 0, uint64(0), "me"))
		return status
	}
	require.EqualValues(t, 10010, lock4(0, 10), "denied")
	require.Zero(t, lock4(200, 10))
	require.EqualValues(t, 1, nlm(lock, false, "a", 205, 1))
	require.Zero(t, nlm(unlock, false, "a", 0, 0))
	require.Zero(t, lock4(0, 10))

	// An SMB client is bound by them, and they by its share modes.
	smb := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	f, err := smb.OpenFile("locked", os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("x"), 5)
	requireStatus(t, err, 0xc0000054) // STATUS_FILE_LOCK_CONFLICT
	_, err = f.WriteAt([]byte("x"), 50)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	status, _ = v4.Session(nfsraw.Op(24), nfsraw.Op(15, "nightlog"), nfsraw.Op(18, 0, 1, 3, uint64(0), "shuts others out", 0, 0, "README.txt"))
	require.Zero(t, status)
	_, err = smb.Open("README.txt")
	requireStatus(t, err, 0xc0000043) // STATUS_SHARING_VIOLATION

	// A host that starts anew has lost its locks.
	r, err = c.Call(nfsraw.NSM, 1, 6, func(w *onc.Writer) { w.String("dome1"); w.Uint32(3) })
	require.NoError(t, err)
	require.NoError(t, r.Err())
	require.Zero(t, lock4(100, 10))
}

// deciding are the bits by which ACCESS tells of a level on a directory.
func deciding(level string) acl.Mask {
	if level == "read" {
		return acl.ListDirectory
	}
	return acl.DeleteChild
}

// What the audit says of NFS is what the wire does: everyone, on every export that this machine reaches.
func TestAuditSaysWhatNFSDoes(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	nightlogOverNFS(t, g)
	levels := map[string]uint32{"read": 0x01, "change": 0x04}
	for _, u := range g.Service.Policy().Directory.Users() {
		c := nfsraw.Dial(t, g.NFS, u.UID, 4711)
		for export, paths := range map[string][]string{"nightlog": {"", "2026", "2026/03"}, "plates": {"", "2026"}, "scratch": {"", "2026-03"}, "visitors": {""}} {
			for _, path := range paths {
				fh := c.Mnt("/" + export)
				status := uint32(0)
				for name := range strings.SplitSeq(path, "/") {
					if name != "" && status == 0 {
						status, fh = c.Lookup3(fh, name)
					}
				}
				var granted uint32
				if status == 0 {
					st, r := c.Do(nfsraw.NFS, 3, 4, func(w *onc.Writer) { w.Opaque(fh); w.Uint32(0x3f) })
					require.Zero(t, st)
					r.Bool()
					r.Fixed(84)
					granted = r.Uint32()
				}
				for level, bit := range levels {
					a, err := g.Service.Why(t.Context(), asking.Question{User: u.Name, Path: export + "/" + path, Via: "nfs", From: "127.0.0.1", Want: level})
					require.NoError(t, err)
					require.Equal(t, a.Verdict.Granted&deciding(level) == deciding(level), granted&bit != 0, "%s, %s on %s/%s: %s", u.Name, level, export, path, a.Verdict.Gate)
				}
			}
		}
	}
}

// A compound that looks, alters and looks again is told at each step what is so by then, by whatever it found a moment before; and whoever looks keeps nobody out.
func TestCompoundsLookAgain(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	c := nfsraw.Dial(t, g.NFS, 2102, 3001)
	c.NewSession("compounds")
	const putFH, putRoot, lookup, lookupP, getFH, getAttr, access, remove, rename, saveFH, create, setAttr = 22, 24, 15, 16, 10, 9, 3, 28, 29, 32, 6, 34
	handle := func(names ...string) []byte {
		ops := []func(w *onc.Writer){nfsraw.Op(putRoot)}
		for _, n := range names {
			ops = append(ops, nfsraw.Op(lookup, n))
		}
		status, r := c.Session(append(ops, nfsraw.Op(getFH))...)
		require.Zero(t, status)
		for range ops {
			nfsraw.Next(r)
		}
		nfsraw.Next(r)
		return append([]byte{}, r.Opaque(128)...)
	}
	folder := filepath.Join(g.State, "volumes/summit/scratch")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "looked/at"), 0o777))
	for _, d := range []string{"looked", "looked/at"} {
		require.NoError(t, os.Chmod(filepath.Join(folder, d), 0o777))
	}
	dir := handle("scratch", "looked")
	file := func(name string) []byte {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "looked", name), nil, 0o666))
		require.NoError(t, os.Chmod(filepath.Join(folder, "looked", name), 0o666))
		return handle("scratch", "looked", name)
	}
	size := nfsraw.Op(getAttr, 1, 1<<4)
	for name, row := range map[string]struct {
		ops  func(fh []byte) []func(w *onc.Writer)
		want uint32
	}{
		"removed": {func(fh []byte) []func(w *onc.Writer) {
			return []func(w *onc.Writer){nfsraw.Op(putFH, dir), nfsraw.Op(lookup, "f"), size, nfsraw.Op(putFH, dir), nfsraw.Op(remove, "f"), nfsraw.Op(putFH, fh), size}
		}, 70},
		"removed, looked for": {func(fh []byte) []func(w *onc.Writer) {
			return []func(w *onc.Writer){nfsraw.Op(putFH, dir), nfsraw.Op(lookup, "f"), size, nfsraw.Op(putFH, dir), nfsraw.Op(getFH), nfsraw.Op(remove, "f"), nfsraw.Op(lookup, "f")}
		}, 2},
		"renamed, by its handle": {func(fh []byte) []func(w *onc.Writer) {
			return []func(w *onc.Writer){nfsraw.Op(putFH, dir), nfsraw.Op(lookup, "f"), size, nfsraw.Op(putFH, dir), nfsraw.Op(saveFH), nfsraw.Op(rename, "f", "other"), nfsraw.Op(putFH, fh), size, nfsraw.Op(putFH, dir), nfsraw.Op(lookup, "other"), nfsraw.Op(getFH), size}
		}, 0},
		"cut short": {func(fh []byte) []func(w *onc.Writer) {
			return []func(w *onc.Writer){nfsraw.Op(putFH, dir), nfsraw.Op(lookup, "f"), size, nfsraw.Op(setAttr, 0, uint64(0), 0, 1, 1<<4, nfsraw.Raw("\x00\x00\x00\x08\x00\x00\x00\x00\x00\x00\x00\x07")), size}
		}, 0},
		"down and up": {func(fh []byte) []func(w *onc.Writer) {
			return []func(w *onc.Writer){nfsraw.Op(putFH, dir), nfsraw.Op(lookup, "at"), nfsraw.Op(access, 0x3f), nfsraw.Op(lookupP), nfsraw.Op(lookup, "f"), size, nfsraw.Op(lookup, "below")}
		}, 20},
		"out of the export": {func(fh []byte) []func(w *onc.Writer) {
			return []func(w *onc.Writer){nfsraw.Op(putFH, dir), nfsraw.Op(lookupP), nfsraw.Op(lookupP), nfsraw.Op(lookup, "scratch"), nfsraw.Op(lookup, "looked"), size}
		}, 0},
	} {
		fh := file("f")
		status, _ := c.Session(row.ops(fh)...)
		require.Equal(t, row.want, status, name)
	}
	// Many that look, and many that rename, at once: none waits for ever.
	var group sync.WaitGroup
	for i := range 4 {
		group.Go(func() {
			c := nfsraw.Dial(t, g.NFS, 2102, 3001)
			c.NewSession(fmt.Sprint("at once ", i))
			name := fmt.Sprint("f", i)
			if !assert.NoError(t, os.WriteFile(filepath.Join(folder, "looked", name), nil, 0o666)) {
				return
			}
			for range 100 {
				for range 3 { // NFS4ERR_DELAY is to be asked again
					status, _ := c.Session(nfsraw.Op(putFH, dir), nfsraw.Op(lookup, name), size, nfsraw.Op(putFH, dir), nfsraw.Op(saveFH), nfsraw.Op(rename, name, "x"+name), nfsraw.Op(lookup, "x"+name), size, nfsraw.Op(putFH, dir), nfsraw.Op(saveFH), nfsraw.Op(rename, "x"+name, name))
					if status == 0 {
						break
					}
					if !assert.EqualValues(t, 10008, status) {
						return
					}
				}
			}
		})
	}
	group.Wait()
}
