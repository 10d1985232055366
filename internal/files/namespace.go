package files

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/usage"
)

// Subject is on whose behalf something is done, and by which way in. Over NFS it is a
// guest of an export.
type Subject struct {
	User     identity.ID
	Via      site.Protocol
	From     string // the address; over NFS it is the guest's
	Guest    *Guest
	Trial    bool // the service itself looks at what they may: nobody is told of what is done
	Unproved bool // over SMB: they came without an account, as the user that is for that
	Encrypts bool // over SMB: the client and the server have agreed on a cipher
	Whence   Whence
}

// Whence is from where a subject comes over SMB, with the names that it has just now where a share asks for them; nil where that is not known,
// and then most is let in.
type Whence interface {
	Origin(share *site.PublishedShare) *site.Origin
}

// namesHold is for how long a verdict rests on what a host is called.
const namesHold = time.Minute

// trial says whether the service itself looks at what they may.
func (s *Subject) trial() bool { return s.Trial || s.Guest != nil && s.Guest.Trial }

// Guest is a numbered user of an NFS client, as one export receives them.
type Guest struct {
	Export int64
	Origin site.Origin
	Said   posix.Credential
	Trial  bool // as a Subject's
	memo   atomic.Pointer[received]
	told   atomic.Bool // that they have come
}

type received struct {
	policy  *site.Policy
	arrival *access.Arrival
}

// arrival is what the policy makes of the guest; nil where the export has gone.
func (g *Guest) arrival(p *site.Policy) *access.Arrival {
	if m := g.memo.Load(); m != nil && m.policy == p {
		return m.arrival
	}
	e := p.Export(g.Export)
	if e == nil {
		return nil
	}
	a := access.Arrive(p, e, g.Origin, g.Said)
	g.memo.Store(&received{p, a})
	return a
}

// SamePerson says whether two guests act as one and the same, by the policy in force.
func (n *Namespace) SamePerson(a, b *Guest) bool {
	p := n.policy()
	x, y := a.arrival(p), b.arrival(p)
	if x == nil || y == nil { // the export has gone: what is open is still to be closed
		return a.Said.UID == b.Said.UID
	}
	return x.User == y.User && (x.User != 0 || x.Unix.UID == y.Unix.UID)
}

// Person is who the guest is by the policy in force, and with which number they come.
func (n *Namespace) Person(g *Guest) live.Person {
	p := live.Person{UID: &g.Said.UID}
	if a := g.arrival(n.policy()); a != nil {
		p.User = a.User
	}
	return p
}

// Subject is the guest as a subject.
func (g *Guest) Subject() Subject { return Subject{Via: site.NFS, Guest: g} }

// Rules changes what is written in the records on behalf of those who act over the wire:
// MoveRules renames on disk by move and moves the rules along; where it cannot, it takes the rename back by
// back, and gives an error. WriteRule puts a rule in the place of what
// is written on a path. See the service package.
type Rules interface {
	WriteRule(ctx context.Context, folder int64, by identity.ID, r acl.Rule) error
	MoveRules(ctx context.Context, folder int64, from, to string, move, back func() error) error
}

// Namespace is every folder, as the protocols see it.
type Namespace struct {
	policy func() *site.Policy
	rules  Rules
	now    func() time.Time
	index  *foldIndex
	notify *notifier
	cache  *fdCache
	marks  *marks
	budget *budget
	roots  *roots

	verdicts verdicts

	sink   EventSink // nil: nobody is told
	ledger *usage.Ledger
	heldUp func(folder int64) bool // nil: none is

	opened  atomic.Uint64 // handles so far
	looking sync.Map      // folders that are being looked at on the host

	mu      sync.Mutex
	folders map[int64]*folderState
	open    map[openKey]*openFile

	delegations map[*Lease]struct{} // guarded by mu

	makersMu sync.Mutex
	makers   map[madeKey]fileMaker
}

// folderState guards a folder's paths: a rename of a directory excludes everything
// that decides by path meanwhile.
type folderState struct {
	paths sync.RWMutex
	// renaming keeps handles from being decided about while paths and rules change. It is taken
	// after paths, and nothing is waited for under it for reading.
	renaming sync.RWMutex
	handles  map[*Handle]struct{} // guarded by Namespace.mu
	spots    spots
	// epoch counts what may change a verdict other than the policy: a directory with another
	// path, a mode, an owner.
	epoch   atomic.Int64
	rootDev atomic.Pointer[rootDevice]

	dirMarks dirMarks
}

// modesSet counts what SetMode does, of any folder.
var modesSet atomic.Int64

// version changes whenever what a verdict rests on may have been changed, other than the policy, by the service.
func (s *folderState) version() int64 { return s.epoch.Load() + modesSet.Load() }

// New makes a namespace that asks policy for the policy in force.
func New(policy func() *site.Policy, rules Rules) *Namespace {
	return &Namespace{policy: policy, rules: rules, now: time.Now, index: newFoldIndex(), notify: newNotifier(), cache: newFDCache(), marks: newMemory[markKey, marked](),
		budget: newBudget(), roots: newRoots(),
		folders: make(map[int64]*folderState), open: make(map[openKey]*openFile), makers: make(map[madeKey]fileMaker), ledger: usage.New(time.Now)}
}

// HoldUp has folders answered as if their volume were away as long as is says so.
func (n *Namespace) HoldUp(is func(folder int64) bool) { n.heldUp = is }

func (n *Namespace) folder(id int64) *folderState {
	n.mu.Lock()
	defer n.mu.Unlock()
	f := n.folders[id]
	if f == nil {
		f = &folderState{handles: make(map[*Handle]struct{})}
		n.folders[id] = f
	}
	return f
}

// Denied is the error for what a verdict withholds; it wraps ErrDenied.
type Denied struct {
	Gate access.Gate
	Path string // folder and path
}

func (d *Denied) Error() string { return fmt.Sprintf("%s: withheld at the %s gate", d.Path, d.Gate) }

// Unwrap makes errors.Is(err, ErrDenied) true.
func (d *Denied) Unwrap() error { return ErrDenied }

// view is one look at a share or an export: the policy then in force and the records in it.
type view struct {
	policy *site.Policy
	folder *site.PublishedFolder
	share  *site.PublishedShare // over SMB
	nfs    *access.Arrival      // over NFS
	origin *site.Origin         // over SMB, where the share is kept to hosts
	sub    Subject
	now    time.Time
	facts  *Facts // its own

	sink   EventSink
	ledger *usage.Ledger
	index  *foldIndex
}

func (n *Namespace) view(sub Subject, share string) (view, error) {
	p := n.policy()
	v := view{policy: p, sub: sub, now: n.now(), sink: n.sink, ledger: n.ledger, index: n.index}
	if sub.Guest != nil {
		if v.nfs = sub.Guest.arrival(p); v.nfs == nil {
			return view{}, ErrGone
		}
		v.folder = v.nfs.Export.Folder
		if v.nfs.User != 0 && !sub.Guest.told.Load() && !sub.Guest.told.Swap(true) {
			if n.sink != nil && !sub.trial() {
				n.sink.Arrived(v.nfs.User, sub.Guest.Origin.Address.String())
			}
			n.comeHome(v, v.nfs.User)
		}
	} else {
		if v.share = p.ShareNamed(share); v.share == nil {
			return view{}, ErrGone
		}
		v.folder = v.share.Folder
		if sub.Unproved && p.Services.SMBGuest != sub.User { // by the name of somebody whom guests are no more
			return view{}, &Denied{Gate: access.Account, Path: v.folder.Display("")}
		}
		if len(v.share.Hosts) > 0 && sub.Whence != nil {
			v.origin = sub.Whence.Origin(v.share)
		}
	}
	if n.heldUp != nil && n.heldUp(v.folder.ID) {
		return view{}, &Away{v.folder.At.Volume, "a rename is to be settled first"}
	}
	facts := FactsOf(p, v.folder)
	facts.marks = n.marks
	v.facts = &facts
	return v, nil
}

// display names what is at a path, for people.
func (v view) display(path string) string { return v.folder.Display(plain.Spell(path)) }

// hasRulesAt says whether rules are written on a path, or below it.
func (v view) hasRulesAt(path string) bool { return v.folder.Tree.HasRulesAt(plain.Spell(path)) }

// entrance is the name of the share by which a view looks, "" for an export.
func (v view) entrance() string {
	if v.share == nil {
		return ""
	}
	return v.share.Name
}

// decide is the verdict on the object at a path: all that any call may do to it.
func (v view) decide(path string, file bool, want acl.Mask) access.Verdict {
	return v.decideAt(access.InUse, path, file, want)
}

// decideAt is the verdict at one stage of a file's use.
func (v view) decideAt(at access.Stage, path string, file bool, want acl.Mask) access.Verdict {
	return v.decideNamed(at, path, nil, file, want)
}

// decideNamed is the verdict on a file that has other names besides.
func (v view) decideNamed(at access.Stage, path string, others []string, file bool, want acl.Mask) access.Verdict {
	for i, other := range others {
		if i == 0 {
			others = slices.Clone(others)
		}
		others[i] = plain.Spell(other)
	}
	verdict := access.Decide(v.policy, access.Request{User: v.sub.User, Via: v.sub.Via, Share: v.share, NFS: v.nfs, Origin: v.origin, Folder: v.folder,
		Path: plain.Spell(path), Others: others, File: file, Facts: v.facts, Want: want, At: at, Now: v.now})
	if until := v.now.Add(namesHold); v.origin != nil && v.share.NeedsNames(v.origin.Address) && (verdict.ValidUntil.IsZero() || until.Before(verdict.ValidUntil)) {
		verdict.ValidUntil = until
	}
	return verdict
}

// require refuses what the verdict on an object does not allow.
func (v view) require(path string, file bool, want acl.Mask) error {
	if verdict := v.decide(path, file, want); !verdict.Allowed() {
		return v.refuse(verdict.Gate, path)
	}
	return nil
}

// toAdd is what it takes of a directory to put a file, or a directory, into it.
func toAdd(file bool) acl.Mask {
	if file {
		return acl.AddFile
	}
	return acl.AddSubdirectory
}

func (v view) denied(path string, file bool, want acl.Mask) error {
	return v.refuse(v.decide(path, file, want).Gate, path)
}

// Connect says whether the subject may use a share at all: whether they are granted anything at
// its root, whatever it is. The mask is the most they can have at its root.
func (n *Namespace) Connect(sub Subject, share string) (acl.Mask, error) {
	v, err := n.view(sub, share)
	if err != nil {
		return 0, err
	}
	if v.policy.Sealed(v.share) && !sub.Encrypts {
		return 0, v.refuse(access.ShareLevel, "")
	}
	verdict := v.decide("", false, acl.All)
	if verdict.Granted == 0 {
		return 0, v.refuse(verdict.Gate, "")
	}
	n.comeHome(v, sub.User)
	return verdict.Granted, nil
}

// Announced lists the shares that are announced and that the subject may use.
func (n *Namespace) Announced(sub Subject) []site.Share {
	var out []site.Share
	for _, sh := range n.policy().Shares {
		if !sh.Announced {
			continue
		}
		if v, err := n.view(sub, sh.Name); err == nil && v.decide("", false, acl.All).Granted != 0 { // to look at the list is no refusal
			out = append(out, sh.Share)
		}
	}
	return out
}

// openFile is an object that one or more handles are open on.
type openFile struct {
	id            openKey
	stream        atomic.Pointer[string] // how the stream is spelled, of one
	handles       map[*Handle]struct{}
	deletePending bool
	locks         rangeLocks
	leases        []*Lease
	leased        atomic.Int32 // how many of them
}

// under says whether path is dir or below it.
func under(path, dir string) bool {
	return dir == "" || path == dir || len(path) > len(dir) && strings.HasPrefix(path, dir) && path[len(dir)] == '/'
}

// Space is the room on the volume of a folder, in bytes, and in files. Total, Available, Files and FreeFiles are as far as whoever asks may
// use it, as is Free, which for others than administrators of the host may be more; OnVolume is what is free on the volume itself.
type Space struct {
	Total, Free, Available, OnVolume, BlockSize, Files, FreeFiles uint64
	SharesBlocks                                                  bool // the file system is of a kind that can have files share blocks
}

// VolumeSpace reads the room on the file system that holds a volume or a folder.
func VolumeSpace(at site.Location) (Space, error) { return space(at) }

func space(at site.Location) (Space, error) {
	fd, err := openFolder(at)
	if err != nil {
		return Space{}, err
	}
	defer unix.Close(fd)
	var st unix.Statfs_t
	if err := unix.Fstatfs(fd, &st); err != nil {
		return Space{}, translate(err)
	}
	return spaceOf(&st), nil
}

func spaceOf(st *unix.Statfs_t) Space {
	b := uint64(st.Bsize)
	return Space{Total: st.Blocks * b, Free: st.Bfree * b, Available: st.Bavail * b, OnVolume: st.Bfree * b, BlockSize: b, Files: st.Files, FreeFiles: st.Ffree,
		SharesBlocks: st.Type == unix.BTRFS_SUPER_MAGIC || st.Type == unix.XFS_SUPER_MAGIC}
}

// Watch tells of changes in a directory that a handle is open on, and below it if
// deep; stop ends it. Events may be dropped where nobody takes them: a closed
// channel says so.
func (n *Namespace) Watch(h *Handle, deep bool) (events <-chan Event, stop func(), err error) {
	if err := h.check(acl.ListDirectory); err != nil {
		return nil, nil, err
	}
	if !h.Dir() {
		return nil, nil, ErrNotDirectory
	}
	events, stop = n.notify.watch(h.folderID, h.Path(), deep)
	return events, stop, nil
}
