package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/nfsraw"
)

var siegeFor = flag.Duration("siege", 20*time.Second, "for how long the siege lasts")

// siege is a service of its own with few descriptors, its state on a small disk where one can be mounted, and what goes on at it.
type siege struct {
	*testing.T
	p                       *process
	keeper                  amber
	auditor                 string // a token
	summit, cellar          string // two disks
	state                   string
	small                   bool // the state is on a disk that can be filled
	ctx                     context.Context
	done                    atomic.Int64 // rounds of the client that is not to be disturbed
	slowest                 atomic.Int64
	slow, half, guess, mnt  atomic.Int64 // attempts
	previews, fills, taken  atomic.Int64
	refusedWhileFull, awoke atomic.Int64
}

const siegeDescriptors = 1024

// An hour with people who mean harm, made short: whatever they do, one client of both protocols reads what it wrote, undisturbed, and in the end the service
// is the process that it was, its records are whole, and it has said what was wrong. It stays on loopback, where the others have
// addresses of their own, and ends by itself.
func TestSiege(t *testing.T) {
	s := &siege{T: t}
	s.begin()
	var cancel context.CancelFunc
	s.ctx, cancel = context.WithTimeout(t.Context(), *siegeFor)
	defer cancel()
	var all sync.WaitGroup
	for _, part := range []func(){s.undisturbed, s.slowReaders, s.halfOpen, s.guesses, s.refusedMounts, s.askForPreviews, s.fillTheState, s.takeTheCellar} {
		all.Go(part)
	}
	all.Wait()
	s.end()
}

func (s *siege) begin() {
	bin := binary(s)
	s.state = filepath.Join(s.TempDir(), "state")
	require.NoError(s, os.Mkdir(s.state, 0o700))
	if err := unix.Mount("tmpfs", s.state, "tmpfs", 0, "size=48m,mode=0700"); err == nil {
		s.small = true
		s.Cleanup(func() { _ = unix.Unmount(s.state, unix.MNT_DETACH) })
	} else {
		s.Logf("no small disk can be mounted here, so the state's is not filled: %v", err)
	}
	limited := filepath.Join(s.TempDir(), "amber") // what it may open is set before it begins
	require.NoError(s, os.WriteFile(limited, fmt.Appendf(nil, "#!/bin/sh\nulimit -n %d\nexec %q \"$@\"\n", siegeDescriptors, bin), 0o755))
	s.p = serve(s, limited, s.state)
	s.keeper = amber{s, bin, s.p.url, s.TempDir()}
	_, errOut, code := s.keeper.try("keeper-at-larkfell", "first-administrator", "keeper", "--code", s.p.code)
	require.Zero(s, code, errOut)
	s.summit, s.cellar = filepath.Join(s.TempDir(), "summit"), filepath.Join(s.TempDir(), "cellar")
	for name, dir := range map[string]string{"summit": s.summit, "cellar": s.cellar} {
		require.NoError(s, os.Mkdir(dir, 0o755))
		s.keeper.run("volume", "add", name, dir)
	}
	s.keeper.run("service", "on", "nfs")
	s.keeper.run("group", "add", "observers", "--gid", "3001")
	for _, user := range []string{"piran --uid 2003 --group observers", "auditor --role auditor", "wren --uid 2001 --group observers"} {
		name, _, _ := strings.Cut(user, " ")
		_, errOut, code := s.keeper.try(name+"-at-larkfell", append([]string{"user", "add", "--yes"}, strings.Fields(user)...)...)
		require.Zero(s, code, errOut)
	}
	for folder, volume := range map[string]string{"nightlog": "summit", "archive": "cellar"} {
		s.keeper.run("folder", "add", folder, "--volume", volume)
		s.keeper.run("entry", "add", folder, "allow", "observers", "change")
		s.keeper.run("share", "add", folder)
		s.keeper.run("export", "add", folder)
		s.keeper.run("export", "rule", "add", "/"+folder, "127.0.0.1", "--rw")
	}
	var signed struct{ Token string }
	require.Equal(s, http.StatusOK, s.post(context.Background(), "127.0.0.1", "", "/api/v1/sign-in", `{"user":"auditor","password":"auditor-at-larkfell"}`, &signed))
	s.auditor = signed.Token
}

// from is a dialer at one of this machine's own addresses.
func from(address string) *net.Dialer {
	return &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}, Timeout: 10 * time.Second}
}

// post sends a request from an address, and gives the status; 0 where it was not answered.
func (s *siege) post(ctx context.Context, address, token, path, body string, out any) int {
	client := http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DialContext: from(address).DialContext, DisableKeepAlives: true}}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.p.url+path, strings.NewReader(body))
	if err != nil {
		s.Error(err)
		return 0
	}
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := client.Do(req)
	if err != nil {
		return 0
	}
	defer answer.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if out != nil {
		_ = json.Unmarshal(raw, out)
	}
	return answer.StatusCode
}

// signIn signs in over SMB from an address.
func (s *siege) signIn(ctx context.Context, address, user, password string) (*smb2.Session, net.Conn, error) {
	c, err := from(address).DialContext(ctx, "tcp", s.p.smb)
	if err != nil {
		return nil, nil, err
	}
	_ = c.SetDeadline(time.Now().Add(time.Minute))
	d := smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: user, Password: password}}
	session, err := d.DialConn(context.Background(), c, s.p.smb)
	if err != nil {
		c.Close()
		return nil, nil, err
	}
	_ = c.SetDeadline(time.Time{})
	return session, c, nil
}

// undisturbed writes and reads by both protocols, on one connection of each that stays, and compares.
func (s *siege) undisturbed() {
	session, c, err := s.signIn(s.ctx, "127.0.0.1", "piran", "piran-at-larkfell")
	if err != nil {
		s.Errorf("the client cannot sign in: %v", err)
		return
	}
	defer c.Close()
	share, err := session.Mount("nightlog")
	if err != nil {
		s.Error(err)
		return
	}
	nfs := nfsraw.Dial(s, s.p.nfs, 2003, 3001)
	_ = nfs.C.SetDeadline(time.Now().Add(*siegeFor + 2*time.Minute))
	root := nfs.Mnt("/nightlog")
	for round := 0; s.ctx.Err() == nil; round++ {
		begun := time.Now()
		data := make([]byte, 300_000+rand.IntN(200_000))
		seed := rand.Uint64()
		for i := range data {
			data[i] = byte(seed>>(i%8*8)) + byte(i/8)
		}
		name := fmt.Sprintf("round%d", round%20)
		if err := share.WriteFile(name, data, 0o644); err != nil {
			s.Errorf("round %d: it cannot write: %v", round, err)
			return
		}
		status, file := nfs.Lookup3(root, name)
		if status != 0 {
			s.Errorf("round %d: over NFS it is not there: %d", round, status)
			return
		}
		var back []byte
		for len(back) < len(data) {
			status, r := nfs.Do(nfsraw.NFS, 3, 6, func(w *onc.Writer) { w.Opaque(file); w.Uint64(uint64(len(back))); w.Uint32(1 << 17) })
			if status != 0 {
				s.Errorf("round %d: over NFS it cannot be read: %d", round, status)
				return
			}
			if r.Bool() {
				r.Fixed(84)
			}
			r.Uint32()
			r.Bool()
			back = append(back, r.Opaque(1<<17)...)
		}
		if sha256.Sum256(back) != sha256.Sum256(data) {
			s.Errorf("round %d: what was read is not what was written", round)
			return
		}
		again, err := share.ReadFile(name)
		if err != nil || !bytes.Equal(again, data) {
			s.Errorf("round %d: over SMB it cannot be read back: %v", round, err)
			return
		}
		s.done.Add(1)
		if took := time.Since(begun).Milliseconds(); took > s.slowest.Load() {
			s.slowest.Store(took)
		}
	}
}

// every calls fn from addresses of its own, until the siege is over.
func (s *siege) every(pause time.Duration, first int, fn func(address string)) {
	for i := 0; s.ctx.Err() == nil; i++ {
		fn(fmt.Sprintf("127.0.0.%d", first+i%4))
		select {
		case <-s.ctx.Done():
		case <-time.After(pause):
		}
	}
}

// slowReaders sign in, ask for much and read nothing back.
func (s *siege) slowReaders() {
	if err := os.WriteFile(filepath.Join(s.summit, "nightlog", "large"), make([]byte, 64<<20), 0o644); err != nil {
		s.Error(err)
		return
	}
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	s.every(200*time.Millisecond, 10, func(address string) {
		if len(open) > 24 {
			open[0].Close()
			open = open[1:]
		}
		session, c, err := s.signIn(s.ctx, address, "wren", "wren-at-larkfell")
		if err != nil {
			return
		}
		open = append(open, c)
		share, err := session.Mount("nightlog")
		if err != nil {
			return
		}
		f, err := share.Open("large")
		if err != nil {
			return
		}
		if tcp, ok := c.(*net.TCPConn); ok {
			_ = tcp.SetReadBuffer(4096)
		}
		s.slow.Add(1)
		for i := range 32 {
			go func() {
				b := make([]byte, 1<<20)
				_, _ = f.ReadAt(b, int64(i)<<20)
			}()
		}
	})
}

// halfOpen connects to everything, says half a word, and stays: until descriptors are near their end, and beyond.
func (s *siege) halfOpen() {
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	console := strings.TrimPrefix(s.p.url, "http://")
	words := map[string]string{console: "GET /api/v1/me HTTP/1.1\r\nHost: ", s.p.smb: "\x00\x00\x01\x00\xfeSMB", s.p.nfs: "\x80\x00\x00\x80\x01\x02"}
	s.every(5*time.Millisecond, 20, func(address string) {
		for at, word := range words {
			c, err := from(address).DialContext(s.ctx, "tcp", at)
			if err != nil {
				continue
			}
			_, _ = io.WriteString(c, word)
			open = append(open, c)
			s.half.Add(1)
		}
		for len(open) > 1500 { // ours are bounded as well
			open[0].Close()
			open = open[1:]
		}
	})
}

// guesses guess passwords, in the console and over SMB.
func (s *siege) guesses() {
	s.every(20*time.Millisecond, 30, func(address string) {
		user := []string{"keeper", "piran", "nobody-at-all"}[rand.IntN(3)]
		if s.guess.Add(1)%2 == 0 {
			if status := s.post(s.ctx, address, "", "/api/v1/sign-in", fmt.Sprintf(`{"user":%q,"password":"guess%d"}`, user, rand.Int()), nil); status == http.StatusOK {
				s.Error("a guess was right")
			}
			return
		}
		if _, c, err := s.signIn(s.ctx, address, user, "guess"); err == nil {
			c.Close()
			s.Error("a guess was right over SMB")
		}
	})
}

// refusedMounts asks to mount from hosts that no rule lets in, as ever another uid.
func (s *siege) refusedMounts() {
	s.every(10*time.Millisecond, 40, func(address string) {
		c, err := from(address).DialContext(s.ctx, "tcp", s.p.nfs)
		if err != nil {
			return
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		stranger := &nfsraw.Client{T: s, C: c, Cred: &onc.Credential{Machine: "stranger", UID: rand.Uint32(), GID: rand.Uint32()}}
		for range 20 {
			r, err := stranger.Call(nfsraw.Mount, 3, 1, func(w *onc.Writer) { w.String("/nightlog") })
			if err != nil {
				return
			}
			if r.Uint32() == 0 {
				s.Error("a stranger mounted")
			}
			s.mnt.Add(1)
		}
	})
}

// askForPreviews has an auditor try what would be dear to make, without end.
func (s *siege) askForPreviews() {
	var changes []string
	for i := range 100 {
		changes = append(changes, fmt.Sprintf(`{"kind":"group","act":"add","with":{"name":"team%d","members":["observers"]}}`, i))
	}
	body := `{"changes":[` + strings.Join(changes, ",") + `]}`
	var loops sync.WaitGroup
	for i := range 4 {
		loops.Go(func() {
			s.every(10*time.Millisecond, 50+4*i, func(address string) {
				switch status := s.post(s.ctx, address, s.auditor, "/api/v1/preview", body, nil); status {
				case http.StatusOK:
					s.previews.Add(1)
				case 0, http.StatusTooManyRequests, http.StatusServiceUnavailable: // it is told to wait, or the console is full of others
				default:
					s.Errorf("a preview was answered %d", status)
				}
			})
		})
	}
	loops.Wait()
}

// fillTheState fills the disk of the state directory, and frees it again. Changes are refused meanwhile, with the reason.
func (s *siege) fillTheState() {
	if !s.small {
		return
	}
	filler := filepath.Join(s.state, "filler")
	defer os.Remove(filler)
	for round := 0; s.ctx.Err() == nil; round++ {
		f, err := os.Create(filler)
		if err != nil {
			s.Error(err)
			return
		}
		for size := 1 << 20; size >= 512; {
			if _, err := f.Write(make([]byte, size)); err != nil {
				size /= 2
			}
		}
		f.Close()
		s.fills.Add(1)
		for i := range 8 {
			out, errOut, code := s.keeper.try("", "group", "add", fmt.Sprintf("full%d-%d", round, i), "--description", strings.Repeat("x", 60), "--yes")
			if code != 0 && strings.Contains(errOut, "nothing was changed") {
				s.refusedWhileFull.Add(1)
			} else if code != 0 && code != 3 {
				s.Errorf("a change on a full disk: %s%s", out, errOut)
			}
		}
		s.wait(2 * time.Second)
		if err := os.Remove(filler); err != nil {
			s.Error(err)
			return
		}
		begun := time.Now()
		for s.ctx.Err() == nil { // and it can be changed again, by itself
			if _, _, code := s.keeper.try("", "group", "set", "observers", "--description", fmt.Sprint("round ", round), "--yes"); code == 0 {
				s.awoke.Add(1)
				break
			}
			if time.Since(begun) > time.Minute {
				s.Error("there is room again, and nothing can be changed")
				return
			}
			s.wait(200 * time.Millisecond)
		}
		s.wait(time.Second)
	}
}

func (s *siege) wait(d time.Duration) {
	select {
	case <-s.ctx.Done():
	case <-time.After(d):
	}
}

// takeTheCellar takes a disk away, on which somebody works, and puts it back.
func (s *siege) takeTheCellar() {
	session, c, err := s.signIn(s.ctx, "127.0.0.1", "wren", "wren-at-larkfell")
	if err != nil {
		s.Errorf("wren cannot sign in: %v", err)
		return
	}
	defer c.Close()
	share, err := session.Mount("archive")
	if err != nil {
		s.Error(err)
		return
	}
	away := s.cellar + ".elsewhere"
	for round := 0; s.ctx.Err() == nil; round++ {
		name, text := fmt.Sprintf("plate%d", round%10), fmt.Appendf(nil, "exposure %d", round)
		if err := share.WriteFile(name, text, 0o644); err != nil {
			s.Errorf("the disk is there, and %s cannot be written: %v", name, err)
			return
		}
		if err := errors.Join(os.Rename(s.cellar, away), os.Mkdir(s.cellar, 0o755)); err != nil {
			s.Error(err)
			return
		}
		s.taken.Add(1)
		var refused *smb2.ResponseError
		if err := share.WriteFile("lost", text, 0o644); !errors.As(err, &refused) || refused.Code != 0xc0000185 {
			s.Errorf("the disk is away, and a write is answered: %v", err)
		}
		s.wait(500 * time.Millisecond)
		if err := errors.Join(os.Remove(s.cellar), os.Rename(away, s.cellar)); err != nil {
			s.Errorf("something was written where no disk is: %v", err)
			return
		}
		if back, err := share.ReadFile(name); err != nil || !bytes.Equal(back, text) {
			s.Errorf("the disk is back, and %s cannot be read: %v", name, err)
			return
		}
	}
}

// end looks at what is left of it all.
func (s *siege) end() {
	s.Logf("%d rounds undisturbed, the slowest in %d ms; against %d slow readers, %d half-open connections, %d guesses, %d refused mounts, %d previews; the state's disk full %d times (%d changes refused, %d times taken up again), the cellar away %d times; %s",
		s.done.Load(), s.slowest.Load(), s.slow.Load(), s.half.Load(), s.guess.Load(), s.mnt.Load(), s.previews.Load(), s.fills.Load(), s.refusedWhileFull.Load(), s.awoke.Load(), s.taken.Load(), s.memory())
	for what, n := range map[string]*atomic.Int64{"the client": &s.done, "slow readers": &s.slow, "half-open connections": &s.half, "guesses": &s.guess,
		"refused mounts": &s.mnt, "the missing disk": &s.taken} {
		require.Positive(s, n.Load(), what)
	}
	if s.small {
		require.Positive(s, s.fills.Load())
		require.Positive(s, s.refusedWhileFull.Load(), "a change on a full disk is refused with the reason")
	}
	require.NoError(s, s.p.cmd.Process.Signal(syscall.Signal(0)), "it is the process that it was")
	var verified string
	require.Eventually(s, func() bool {
		out, _, code := s.keeper.try("", "journal", "verify")
		verified = out
		return code == 0
	}, time.Minute, 100*time.Millisecond)
	require.Contains(s, verified, "each follows from the one before")
	var events []api.Event
	require.Eventually(s, func() bool { // what could not be written down is, once it can
		return json.Unmarshal([]byte(s.keeper.run("events", "--only", "refused", "--json")), &events) == nil && len(events) > 0
	}, time.Minute, 100*time.Millisecond, "what strangers did is told of")
	for _, e := range events {
		require.Equal(s, "nightlog", strings.Trim(e.Path, "/"))
	}
	require.Less(s, len(events), 100, "many times the same is one line")
	require.NoError(s, s.p.cmd.Process.Signal(syscall.SIGTERM))
	ended := make(chan error, 1)
	go func() { ended <- s.p.cmd.Wait() }()
	select {
	case err := <-ended:
		require.NoError(s, err)
	case <-time.After(time.Minute):
		s.Error("it does not end")
	}
}

// memory says how much the service holds.
func (s *siege) memory() string {
	raw, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(s.p.cmd.Process.Pid), "status"))
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kB, _ := strconv.Atoi(strings.Fields(rest)[0])
			if kB > 2<<20 {
				s.Errorf("it has held %d kB", kB)
			}
			return "at most " + strings.TrimSpace(rest) + " in memory"
		}
	}
	return ""
}
