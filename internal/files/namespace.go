package files

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Subject is on whose behalf something is done, and by which way in. Over NFS it is a
// guest of an export.
type Subject struct {
	User  identity.ID
	Via   site.Protocol
	From  string // the address; over NFS it is the guest's
	Guest *Guest
}

// Guest is a numbered user of an NFS client, as one export receives them.
type Guest struct {
	Export int64
	Origin site.Origin
	Said   posix.Credential
	memo   atomic.Pointer[received]
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
	return x != nil && y != nil && x.User == y.User && (x.User != 0 || x.Unix.UID == y.Unix.UID)
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

	witness Witness // nil: nobody is told

	mu      sync.Mutex
	folders map[int64]*folderState
	open    map[fileID]*openFile

	makersMu sync.Mutex
	makers   map[makerKey]time.Time // until when
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
}

// New makes a namespace that asks policy for the policy in force.
func New(policy func() *site.Policy, rules Rules) *Namespace {
	return &Namespace{policy: policy, rules: rules, now: time.Now, index: newFoldIndex(), notify: newNotifier(), cache: newFDCache(),
		folders: make(map[int64]*folderState), open: make(map[fileID]*openFile), makers: make(map[makerKey]time.Time)}
}

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
	sub    Subject
	now    time.Time
	facts  access.Facts

	witness Witness
}

func (n *Namespace) view(sub Subject, share string) (view, error) {
	p := n.policy()
	v := view{policy: p, sub: sub, now: n.now(), witness: n.witness}
	if sub.Guest != nil {
		if v.nfs = sub.Guest.arrival(p); v.nfs == nil {
			return view{}, ErrGone
		}
		v.folder = v.nfs.Export.Folder
	} else {
		if v.share = p.ShareNamed(share); v.share == nil {
			return view{}, ErrGone
		}
		v.folder = v.share.Folder
	}
	v.facts = FactsOf(p, v.folder)
	return v, nil
}

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
	return access.Decide(v.policy, access.Request{User: v.sub.User, Via: v.sub.Via, Share: v.share, NFS: v.nfs, Folder: v.folder,
		Path: path, Others: others, File: file, Facts: v.facts, Want: want, At: at, Now: v.now})
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
	verdict := v.decide("", false, acl.All)
	if verdict.Granted == 0 {
		return 0, v.refuse(verdict.Gate, "")
	}
	return verdict.Granted, nil
}

// Announced lists the shares that are announced and that the subject may use.
func (n *Namespace) Announced(sub Subject) []site.Share {
	var out []site.Share
	for _, sh := range n.policy().Shares {
		if !sh.Announced {
			continue
		}
		if _, err := n.Connect(sub, sh.Name); err == nil {
			out = append(out, sh.Share)
		}
	}
	return out
}

// Disposition says what Open does about what is, or is not, there.
type Disposition uint8

// The dispositions of MS-SMB2 section 2.2.13; every other protocol's are among them.
const (
	Supersede   Disposition = iota // replace, or make
	OpenOnly                       // only what is there
	CreateOnly                     // only what is not
	OpenIf                         // open, or make
	Overwrite                      // empty what is there
	OverwriteIf                    // empty, or make
)

// Action is what Open did, MS-SMB2 section 2.2.14.
type Action uint32

// The actions.
const (
	Superseded Action = iota
	Opened
	Created
	Overwritten
)

// Sharing says what others may do to a file while it is open.
type Sharing uint8

// The parts of Sharing, MS-SMB2 section 2.2.13.
const (
	ShareRead Sharing = 1 << iota
	ShareWrite
	ShareDelete
)

// OpenRequest asks for a Handle.
type OpenRequest struct {
	Share         string
	Path          string // below the share, with slashes
	Access        acl.Mask
	Maximum       bool // as much as there is, besides Access
	Sharing       Sharing
	Disposition   Disposition
	Directory     bool // must be one
	File          bool // must not be one
	DeleteOnClose bool
	WriteThrough  bool
	Attributes    uint32  // of what is made
	Mode          *uint32 // of what is made, in the low twelve bits; nil for what SMB makes
	Holder        any     // handles of one holder do not shut each other out
}

// creatorMask is what the handle that makes an object may do with it until it is
// closed, so that who may only add can fill what they add (RFC 1813 section 3.3.8 and
// POSIX open() give the creating descriptor the same).
const creatorMask = acl.ReadData | acl.WriteData | acl.AppendData | acl.ReadNamedAttrs | acl.WriteNamedAttrs |
	acl.ReadAttributes | acl.WriteAttributes | acl.Delete | acl.ReadACL | acl.Synchronize

// Open opens or makes what a request names.
func (n *Namespace) Open(sub Subject, req OpenRequest) (*Handle, Action, error) {
	for try := 0; ; try++ {
		h, action, err := n.openOnce(sub, req)
		var search *searchNames
		if !errors.As(err, &search) {
			return h, action, err
		}
		if try == 2 {
			return nil, 0, ErrBusy
		}
		if err := searchFor(search.state, search.root, search.key); err != nil {
			return nil, 0, err
		}
	}
}

// searchNames says that a file has other names, which have to be searched for before it is decided
// about.
type searchNames struct {
	state *folderState
	root  string
	key   Key
}

func (*searchNames) Error() string { return errNames.Error() }

func (n *Namespace) openOnce(sub Subject, req OpenRequest) (*Handle, Action, error) {
	v, err := n.view(sub, req.Share)
	if err != nil {
		return nil, 0, err
	}
	state := n.folder(v.folder.ID)
	state.paths.RLock()
	defer state.paths.RUnlock()
	// Looked at again now that no rename is under way: a path means what it does
	// under the policy that goes with it.
	if v, err = n.view(sub, req.Share); err != nil || n.folder(v.folder.ID) != state {
		return nil, 0, ErrGone
	}

	root, err := openRoot(v.folder.Root)
	if err != nil {
		return nil, 0, err
	}
	defer unix.Close(root)
	place, err := find(root, req.Path, n.index)
	if err != nil {
		return nil, 0, err
	}
	if place.Exists {
		return n.openExisting(v, state, root, place, req)
	}
	return n.create(v, state, root, place, req)
}

func (n *Namespace) openExisting(v view, state *folderState, root int, place Place, req OpenRequest) (*Handle, Action, error) {
	verdict := v.decideAt(access.ToOpen, place.Path, place.File, 0)
	if verdict.Granted == 0 && v.decide(place.Path, place.File, acl.All).Gate < access.Entry {
		return nil, 0, v.denied(place.Path, place.File, acl.All)
	}
	if req.Disposition == CreateOnly {
		return nil, 0, ErrExists
	}
	switch {
	case req.Directory && place.File:
		return nil, 0, ErrNotDirectory
	case req.File && !place.File:
		return nil, 0, ErrIsDirectory
	}
	action, empty := Opened, false
	switch req.Disposition {
	case Overwrite, OverwriteIf, Supersede:
		if !place.File {
			return nil, 0, ErrInvalid
		}
		empty, action = true, Overwritten
		if req.Disposition == Supersede {
			action = Superseded
		}
	}
	want := req.Access
	if empty {
		want |= acl.WriteData
	}
	var others []string
	decide := func() error {
		if others != nil || v.folder.Unix() { // single bits may come from different groups, and then are not had together
			verdict = v.decideNamed(access.ToOpen, place.Path, others, place.File, want)
		}
		if want&^verdict.Granted != 0 {
			return v.refuse(v.decideNamed(access.ToOpen, place.Path, others, place.File, want).Gate, place.Path)
		}
		if req.Maximum && verdict.Granted == 0 { // nothing is not a maximum to open with
			return v.denied(place.Path, place.File, acl.All)
		}
		return nil
	}
	if err := decide(); err != nil {
		return nil, 0, err
	}
	h := &Handle{ns: n, sub: v.sub, share: v.entrance(), folder: state, folderID: v.folder.ID, path: place.Path, file: place.File,
		holder: req.Holder, asked: req.Access, sharing: req.Sharing, writeThrough: req.WriteThrough}
	if req.Maximum {
		h.asked = verdict.Granted
	}
	const writing = acl.WriteData | acl.AppendData
	if err := h.openFD(root, (want|h.asked)&writing != 0, 0); err != nil {
		return nil, 0, err
	}
	if h.file && h.info.Links > 1 { // by its other names as well
		var err error
		if others, err = h.othersAt(v, root); err == nil {
			err = decide()
		}
		if err != nil {
			h.closeFD()
			return nil, 0, err
		}
		if req.Maximum {
			h.asked = verdict.Granted
		}
	}
	if place.File && h.info.Attributes&AttrReadOnly != 0 {
		if want&writing != 0 {
			h.closeFD()
			return nil, 0, ErrReadOnlyFile
		}
		h.asked &^= writing
	}
	if req.DeleteOnClose {
		if err := h.mayDelete(); err != nil {
			h.closeFD()
			return nil, 0, err
		}
	}
	if err := n.register(h, req.DeleteOnClose, empty); err != nil {
		h.closeFD()
		return nil, 0, err
	}
	h.settle(v, verdict)
	if empty {
		if err := h.overwrite(req.Attributes); err != nil {
			h.Close()
			return nil, 0, err
		}
	}
	return h, action, nil
}

func (n *Namespace) create(v view, state *folderState, root int, place Place, req OpenRequest) (*Handle, Action, error) {
	dir, name := split(place.Path)
	if !place.ParentExists {
		// Say only as much as the deepest directory that is there lets them know.
		for dir != "" {
			at, err := find(root, dir, n.index)
			if err != nil {
				return nil, 0, err
			}
			if at.Exists {
				break
			}
			dir, _ = split(dir)
		}
		if err := v.require(dir, false, acl.Execute); err != nil {
			return nil, 0, err
		}
		return nil, 0, ErrPathNotFound
	}
	if err := v.require(dir, false, acl.Execute); err != nil {
		return nil, 0, err
	}
	if req.Disposition == OpenOnly || req.Disposition == Overwrite {
		return nil, 0, ErrNotFound
	}
	if err := v.require(dir, false, toAdd(!req.Directory)); err != nil {
		return nil, 0, err
	}
	verdict := v.decide(place.Path, !req.Directory, 0)
	verdict.Granted |= creatorMask
	if req.DeleteOnClose && req.Attributes&AttrReadOnly != 0 {
		return nil, 0, ErrReadOnlyFile
	}
	h := &Handle{ns: n, sub: v.sub, share: v.entrance(), folder: state, folderID: v.folder.ID, path: place.Path, file: !req.Directory,
		holder: req.Holder, sharing: req.Sharing, writeThrough: req.WriteThrough, created: true}
	// What a creator asks for beyond what they get is no reason to refuse: clients ask
	// for everything when they make something (MS-FSA section 2.1.5.1.1).
	if h.asked = req.Access & verdict.Granted; req.Maximum {
		h.asked = verdict.Granted
	}
	parent, err := openBeneath(root, dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, 0, err
	}
	defer unix.Close(parent)
	err = n.index.changing(parent, func() error {
		if req.Directory {
			if err := unix.Mkdirat(parent, name, bornDir); err != nil {
				return translate(err)
			}
			return h.openFD(root, false, 0)
		}
		return h.openFD(root, true, unix.O_CREAT|unix.O_EXCL)
	}, func(names map[string]string) { names[FoldName(name)] = name })
	if err != nil {
		return nil, 0, err
	}
	mode := uint32(0o664)
	if req.Directory {
		mode = 0o775
	}
	if req.Mode != nil {
		mode = *req.Mode
	}
	if err := v.born(parent, h.fd, mode, req.Directory); err != nil {
		return nil, 0, errors.Join(err, h.undo(parent, name))
	}
	if attrs := req.Attributes & keptAttributes; attrs != 0 { // not worth failing for
		_ = setDOS(h.fd, attrs, time.Time{})
		h.info.Attributes = attrs
	}
	if err := n.register(h, req.DeleteOnClose, false); err != nil {
		h.closeFD()
		return nil, 0, err
	}
	h.settle(v, verdict)
	state.spots.put(h.info.id(), true, dirSpot(parent, name))
	n.notify.tell(h.folderID, Event{Path: place.Path, Kind: EventAdded, Dir: req.Directory})
	return h, Created, nil
}

// register enters a handle among those open on the same object, if the ways in
// which those are open allow it (MS-FSA section 2.1.5.1.2).
func (n *Namespace) register(h *Handle, deleteOnClose, empties bool) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	id := h.info.id()
	of := n.open[id]
	if of == nil {
		of = &openFile{id: id}
	}
	if of.deletePending {
		return ErrDeletePending
	}
	h.claims = sharingNeeded(h.asked)
	mine := h.claims
	if empties {
		mine |= ShareWrite
	}
	for other := range of.handles {
		theirs := other.claims
		if mine == 0 || theirs == 0 || h.holder != nil && h.holder == other.holder {
			continue // to look at a file disturbs nobody, and nobody it
		}
		if mine&^other.sharing != 0 || theirs&^h.sharing != 0 {
			return ErrSharing
		}
	}
	if of.handles == nil {
		of.handles = make(map[*Handle]struct{})
		n.open[id] = of
	}
	of.handles[h] = struct{}{}
	h.of, h.deleteOnClose = of, deleteOnClose
	h.folder.handles[h] = struct{}{}
	return nil
}

// sharingNeeded is what others must allow for a handle with this access.
func sharingNeeded(m acl.Mask) Sharing {
	var s Sharing
	if m&(acl.ReadData|acl.Execute) != 0 {
		s |= ShareRead
	}
	if m&(acl.WriteData|acl.AppendData) != 0 {
		s |= ShareWrite
	}
	if m&acl.Delete != 0 {
		s |= ShareDelete
	}
	return s
}

// openFile is an object that one or more handles are open on.
type openFile struct {
	id            fileID
	handles       map[*Handle]struct{}
	deletePending bool
	locks         rangeLocks
}

// under says whether path is dir or below it.
func under(path, dir string) bool {
	return dir == "" || path == dir || len(path) > len(dir) && strings.HasPrefix(path, dir) && path[len(dir)] == '/'
}

// Space is the room on the volume of a share, in bytes, and in files.
type Space struct{ Total, Free, Available, BlockSize, Files, FreeFiles uint64 }

// Space reads the room on a share's volume.
func (n *Namespace) Space(share string) (Space, error) {
	sh := n.policy().ShareNamed(share)
	if sh == nil {
		return Space{}, ErrGone
	}
	return space(sh.Folder.Root)
}

func space(root string) (Space, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(root, &st); err != nil {
		return Space{}, errors.Join(ErrGone, err)
	}
	b := uint64(st.Bsize)
	return Space{Total: st.Blocks * b, Free: st.Bfree * b, Available: st.Bavail * b, BlockSize: b, Files: st.Files, FreeFiles: st.Ffree}, nil
}

// Watch tells of changes in a directory that a handle is open on, and below it if
// deep; stop ends it. Events may be dropped where nobody takes them: a closed
// channel says so.
func (n *Namespace) Watch(h *Handle, deep bool) (events <-chan Event, stop func(), err error) {
	if err := h.check(acl.ListDirectory); err != nil {
		return nil, nil, err
	}
	if h.file {
		return nil, nil, ErrNotDirectory
	}
	events, stop = n.notify.watch(h.folderID, h.Path(), deep)
	return events, stop, nil
}
