package test

import (
	"bytes"
	"encoding/hex"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

var capture = flag.Bool("capture", false, "write what other people's clients send, and are sent, into testdata of the packages that read it")

// tap passes a connection's bytes on and keeps them, a frame a line: > from the client, < to it.
type tap struct {
	net.Listener
	mu    sync.Mutex
	lines bytes.Buffer
}

func newTap(t *testing.T, to string) *tap {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	tp := &tap{Listener: l}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				return
			}
			go tp.pass(">", in, out)
			go tp.pass("<", out, in)
		}
	}()
	return tp
}

// pass takes frames: four bytes that say how long, as both NetBIOS over TCP and RPC's record marking have it.
func (tp *tap) pass(way string, from, to net.Conn) {
	defer to.Close()
	for {
		var mark [4]byte
		if _, err := io.ReadFull(from, mark[:]); err != nil {
			return
		}
		frame := make([]byte, (uint32(mark[0])<<24|uint32(mark[1])<<16|uint32(mark[2])<<8|uint32(mark[3]))&0x7fffffff)
		if _, err := io.ReadFull(from, frame); err != nil {
			return
		}
		tp.mu.Lock()
		fmt.Fprintln(&tp.lines, way, hex.EncodeToString(frame))
		tp.mu.Unlock()
		if _, err := to.Write(append(mark[:], frame...)); err != nil {
			return
		}
	}
}

func (tp *tap) port() string {
	_, port, _ := net.SplitHostPort(tp.Addr().String())
	return port
}

// Takes down what other people's clients say, for the tests of the codecs; run by hand, with -capture.
func TestCapture(t *testing.T) {
	if !*capture {
		t.Skip("only with -capture")
	}
	g := gateway.Start(t)
	write := func(pkg, name, what string, tp *tap) {
		dir := "../internal/" + pkg + "/testdata/captured"
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(dir+"/"+name+".txt", []byte("# "+what+"\n"+tp.lines.String()), 0o644))
	}
	tp := newTap(t, g.SMB)
	cmd := exec.Command("/usr/bin/python3", "-W", "ignore", "clients/smbtry.py", tp.port(), "piran")
	cmd.Env = append(os.Environ(), "SMB_DIALECT=2.1")
	cmd.Stdin = strings.NewReader("shares\nls nightlog\ncat nightlog/README.txt\nmkdir nightlog/new\nmove nightlog/new newer\nrmdir nightlog/newer\nquit\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	write("smb", "python-2.1", "a Python client by SMB 2.1 as piran, password piran-at-larkfell", tp)

	tp = newTap(t, g.SMB)
	through := *g
	through.SMB = tp.Addr().String()
	s, err := through.TryDial("piran", "piran-at-larkfell", 0)
	require.NoError(t, err)
	m := g.Mount(t, s, "nightlog")
	_, err = m.ReadDir("")
	require.NoError(t, err)
	_, err = m.ReadFile("README.txt")
	require.NoError(t, err)
	require.NoError(t, m.WriteFile("captured.txt", []byte("text"), 0o644))
	require.NoError(t, m.Rename("captured.txt", "captured2.txt"))
	require.NoError(t, m.Remove("captured2.txt"))
	require.NoError(t, m.Umount())
	require.NoError(t, s.Logoff())
	write("smb", "go-3.1.1", "a Go client by SMB 3.1.1 as piran, password piran-at-larkfell", tp)

	for _, version := range []string{"3.0", "3.1.1"} {
		tp = newTap(t, g.SMB)
		job := filepath.Join(t.TempDir(), "job")
		require.NoError(t, os.WriteFile(job, fmt.Appendf(nil, `set -e
mkdir -p /a
mount.cifs -o port=%s,username=piran,password=piran-at-larkfell,vers=%s //10.0.2.2/nightlog /a
ls -l /a /a/2026
cat /a/README.txt
echo text >/a/captured
mv /a/captured /a/captured2
mkdir /a/made
touch -d 2026-03-01T22:10:00Z /a/made
flock /a/captured2 true
truncate -s 100 /a/captured2
stat -f /a
rm -r /a/captured2 /a/made
umount /a
`, tp.port(), version), 0o600))
		out, err := exec.Command("lab/run", job).CombinedOutput()
		require.NoError(t, err, "%s", out)
		write("smb", "linux-"+version, "the Linux kernel's client by SMB "+version+" as piran, password piran-at-larkfell", tp)
	}

	require.NoError(t, g.Service.RemoveLimit(t.Context(), gateway.Keeper, service.LimitInput{Kind: "user", Name: "svc-reduce", Folder: "scratch"})) // it is over its grace
	_, err = g.Service.AddRule(t.Context(), gateway.Keeper, service.RuleList{Export: "/scratch"}, service.RuleInput{From: "127.0.0.1", Write: new(true)}, 1)
	require.NoError(t, err)
	for _, version := range []string{"3", "4"} {
		tp = newTap(t, g.NFS)
		at := func(path string) string {
			port := tp.port()
			return fmt.Sprintf("nfs://127.0.0.1/scratch%s?version=%s&nfsport=%s&mountport=%s&uid=2102&gid=3001", path, version, port, port)
		}
		file := t.TempDir() + "/small"
		require.NoError(t, os.WriteFile(file, []byte("small file"), 0o644))
		for _, args := range [][]string{{"nfs-ls", at("")}, {"nfs-cp", file, at("/captured" + version)}, {"nfs-cat", at("/captured" + version)}} {
			out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
			require.NoError(t, err, "%v: %s", args, out)
		}
		write("nfs", "libnfs-"+version, "libnfs's tools by NFS "+version+": nfs-ls, nfs-cp, nfs-cat", tp)
	}
}
