// Package trying has the service speak SMB and NFS to itself as somebody, and holds what comes back against what the audit says. The connections lie inside of
// the process, where nobody else can reach them, and no password of anybody is needed. A file of a few bytes is made, read and removed on the way.
package trying

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/smb"
)

// Question is whom, what and how to try.
type Question struct {
	User string
	Path string // FOLDER or FOLDER/PATH
	Via  string // smb, nfs, or "" for whichever ways the folder is published
	From string // as if from this host: an address or a name; "" for this machine over SMB, and over NFS for one that a client rule names
	Look bool   // nothing is made: only looked
}

// Step is one thing that was tried.
type Step struct {
	Does     string // "lists the directory"
	Done     bool   // it was
	Says     string // what came back where it was not
	Expected bool   // what the audit says
	Gate     string // that refuses it, as the audit says; "" for none
	Reason   string // what that gate says
}

// Agrees says whether what came back is what the audit says.
func (s *Step) Agrees() bool { return s.Done == s.Expected }

// Way is one way in, as far as it led.
type Way struct {
	Via     site.Protocol
	Through string // the share, or the export's path
	From    netip.Addr
	Steps   []Step
	Left    string // what could not be tidied up; "" for nothing
}

// Agrees says whether the whole way went as the audit says.
func (w *Way) Agrees() bool {
	for i := range w.Steps {
		if !w.Steps[i].Agrees() {
			return false
		}
	}
	return w.Left == ""
}

// Gateway is what is tried, and what says how it should go.
type Gateway interface {
	asking.Gateway
	Why(ctx context.Context, q asking.Question) (asking.Answer, error)
}

// Doors are the ways in from inside of the process.
type Doors struct {
	SMB   func(smb.Trial) net.Conn
	NFS   func(netip.AddrPort) net.Conn
	Files *files.Namespace
}

const (
	// within is how long a whole try may take.
	within = 20 * time.Second
	// mostTried is how much is written to the file that is made.
	mostTried = 1 << 10
)

// here is from where somebody comes who is not said to come from elsewhere; the port is one that only the system gives out, as kernels' clients have.
var here = netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), 1023)

// Try goes each way in that is asked for.
func (d Doors) Try(ctx context.Context, g Gateway, q Question) ([]Way, error) {
	user, err := g.User(q.User)
	if err != nil {
		return nil, err
	}
	f, at, err := g.Locate(q.Path)
	if err != nil {
		return nil, err
	}
	if why := g.Away(f.VolumeID); why != "" {
		return nil, &refusal.Error{Kind: refusal.Unavailable, Field: "path", Message: why}
	}
	if !at.Exists {
		return nil, refusal.Missing("path", "amber browse "+f.Name, "%s is not on disk, and so there is nothing to try", f.Display(at.Path))
	}
	if len(f.Shares)+len(f.Exports) == 0 {
		return nil, refusal.Bad("path", "%s is not published: nobody gets to it by any way", f.Name)
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var out []Way
	if q.Via != "nfs" && len(f.Shares) > 0 {
		t := d.begin(g, user, f, at, q, site.SMB)
		if t.from, err = t.origin(ctx, here); err != nil {
			return nil, err
		}
		t.overSMB(ctx)
		out = append(out, t.end())
	}
	if q.Via != "smb" && len(f.Exports) > 0 {
		t := d.begin(g, user, f, at, q, site.NFS)
		if t.from, err = t.origin(ctx, someHost(f)); err != nil {
			return nil, err
		}
		t.overNFS(ctx)
		out = append(out, t.end())
	}
	if len(out) == 0 {
		return nil, refusal.Bad("via", "%s is not published over %s", f.Name, strings.ToUpper(q.Via))
	}
	return out, nil
}

// someHost is an address that a client rule of the folder names, or this machine's.
func someHost(f *site.PublishedFolder) netip.AddrPort {
	for _, e := range f.Exports {
		for i := range e.InForce {
			if addr, ok := e.InForce[i].Host(); ok {
				return netip.AddrPortFrom(addr, here.Port())
			}
		}
	}
	return here
}

// try is one way in, while it is gone.
type try struct {
	doors  Doors
	g      Gateway
	user   *identity.User
	folder *site.PublishedFolder
	at     files.Place
	q      Question
	from   netip.AddrPort
	way    Way
	name   string // of the file that is made
	made   bool
}

func (d Doors) begin(g Gateway, user *identity.User, f *site.PublishedFolder, at files.Place, q Question, via site.Protocol) *try {
	var random [6]byte
	rand.Read(random[:])
	return &try{doors: d, g: g, user: user, folder: f, at: at, q: q, way: Way{Via: via}, name: "amber-try-" + hex.EncodeToString(random[:])}
}

func (t *try) origin(ctx context.Context, otherwise netip.AddrPort) (netip.AddrPort, error) {
	if t.q.From == "" {
		t.way.From = otherwise.Addr()
		return otherwise, nil
	}
	o, err := t.g.Origin(ctx, t.q.From, int(here.Port()))
	t.way.From = o.Address
	return netip.AddrPortFrom(o.Address, o.Port), err
}

// question is one to the audit about who goes this way, at a path below the folder.
func (t *try) question(at string) asking.Question {
	return asking.Question{User: t.user.Name, Path: t.folder.Display(at), Via: strings.ToLower(t.way.Via.String()), From: t.from.Addr().String(), Port: int(t.from.Port())}
}

// through is the share or export by which the folder is best reached, as the audit finds it.
func (t *try) through(ctx context.Context) string {
	for _, want := range []string{"change", "read"} {
		q := t.question(t.at.Path)
		q.Want = want
		a, err := t.g.Why(ctx, q)
		if err == nil && a.Share != "" {
			return a.Share
		}
	}
	return ""
}

// why asks the audit about some rights at a path below the folder.
func (t *try) why(ctx context.Context, at string, want acl.Mask) (asking.Answer, error) {
	q := t.question(at)
	q.Share, q.Mask = t.way.Through, want
	return t.g.Why(ctx, q)
}

// asked is what the audit says of some rights at a path below the folder.
func (t *try) asked(ctx context.Context, at string, want acl.Mask) (allowed bool, gate access.Gate, reason string) {
	a, err := t.why(ctx, at, want)
	if err != nil {
		var r *refusal.Error
		if errors.As(err, &r) {
			return false, 0, r.Message
		}
		return false, 0, "the audit cannot say"
	}
	return a.Verdict.Allowed(), a.Verdict.Gate, reasonOf(&a, a.Verdict.Gate)
}

// reasonOf is what a gate says.
func reasonOf(a *asking.Answer, gate access.Gate) string {
	for i := range a.Gates {
		if a.Gates[i].Gate == gate {
			return a.Gates[i].Reason
		}
	}
	return ""
}

// named is a gate by its name; "" for none.
func named(g access.Gate) string {
	if g == access.Passed {
		return ""
	}
	return g.String()
}

// step notes what came of something for which some rights at a path are wanted, and says whether it was done.
func (t *try) step(ctx context.Context, does string, at string, want acl.Mask, says string) bool {
	allowed, gate, reason := t.asked(ctx, at, want)
	return t.note(does, says, allowed, gate, reason)
}

// grow is step for what takes room. How much room there is the limit gate alone can say, when something is to grow: what it refuses over the wire it
// refuses.
func (t *try) grow(ctx context.Context, does string, at string, want acl.Mask, says string) bool {
	allowed, gate, reason := t.asked(ctx, at, want)
	if allowed || gate == access.Limit {
		if allowed = says != noRoom; !allowed {
			_, _, reason = t.asked(ctx, t.at.Path, acl.AddFile)
			gate = access.Limit
		}
	}
	return t.note(does, says, allowed, gate, reason)
}

// fill notes what came of writing to a file that has just been made: who has made one may fill it, whatever they may do to others there, as far as there is
// room.
func (t *try) fill(ctx context.Context, says string) bool {
	if says != noRoom {
		return t.note("fills it", says, true, access.Passed, "")
	}
	_, _, reason := t.asked(ctx, t.at.Path, acl.AddFile)
	return t.note("fills it", says, false, access.Limit, reason)
}

// noRoom is what is said where a limit has been met.
const noRoom = "the quota is exceeded"

// note is step for what the audit has been asked about already.
func (t *try) note(does, says string, expected bool, gate access.Gate, reason string) bool {
	if expected {
		gate, reason = access.Passed, ""
	}
	t.way.Steps = append(t.way.Steps, Step{Does: does, Done: says == "", Says: says, Expected: expected, Gate: named(gate), Reason: reason})
	return says == ""
}

// early gives the first gate that lets nothing at all through before any path is looked at: account, service, and over NFS origin; and what it says.
func (t *try) early(ctx context.Context) (access.Gate, string) {
	a, err := t.why(ctx, t.at.Path, acl.ReadAttributes)
	if err != nil {
		return access.Passed, ""
	}
	for i := range a.Gates {
		if g := &a.Gates[i]; g.Gate <= access.Origin && g.Leaves == 0 {
			return g.Gate, g.Reason
		}
	}
	return access.Passed, ""
}

// file is the path of the file that is made, below the folder.
func (t *try) file() string { return path.Join(t.at.Path, t.name) }

// mayRemove is whether the file that was made may be taken away again: by rights on itself, or on the directory that it is in.
func (t *try) mayRemove(ctx context.Context) (allowed bool, gate access.Gate, reason string) {
	if allowed, _, _ = t.asked(ctx, t.at.Path, acl.DeleteChild); allowed {
		return true, access.Passed, ""
	}
	return t.asked(ctx, t.file(), acl.Delete)
}

// end removes what was left, and gives the way.
func (t *try) end() Way {
	if t.made {
		err := t.doors.Files.TakeTried(t.folder.ID, t.file(), mostTried)
		if err != nil && !errors.Is(err, files.ErrNotFound) {
			slog.Warn("the file that a try made could not be removed", "path", t.folder.Display(t.file()), "error", err)
			t.way.Left = t.folder.Display(t.file()) + " was made and could not be removed"
		}
	}
	return t.way
}

// content is what is written and read back.
func content() []byte {
	b := make([]byte, mostTried)
	rand.Read(b)
	return b
}

func deadline(ctx context.Context) time.Time {
	at, _ := ctx.Deadline()
	return at
}

const closed = "the connection is closed"

// lost says how a connection ended that gave no answer.
func lost(err error) string {
	switch {
	case errors.Is(err, errOtherwise):
		return err.Error()
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return "no answer comes in time"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrClosedPipe), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed):
		return closed
	}
	return "the connection fails"
}
