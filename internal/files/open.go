package files

import (
	"cmp"
	"errors"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

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
	Stream        string // the named stream of it; "" for the object itself
	Access        acl.Mask
	Maximum       bool // as much as there is, besides Access
	Sharing       Sharing
	Disposition   Disposition
	Directory     bool // must be one
	File          bool // must not be one
	DeleteOnClose bool
	WriteThrough  bool
	Attributes    uint32          // of what is made
	Link          bool            // a symbolic link itself, where that is there
	Mode          *uint32         // of what is made, in the low twelve bits; nil for what SMB makes
	Holder        any             // handles of one holder do not shut each other out
	Key           any             // by which the client calls what it may cache; see Handle.Cache
	ParentKey     any             // the same of the directory that it is in: what changes by this handle is known to whoever has it
	made          bool            // the object has just been made by this very request
	Done          <-chan struct{} // closed when nobody waits for the open any more; nil where nobody would wait
}

// creatorMask is what the handle that makes an object may do with it until it is
// closed, so that who may only add can fill what they add (RFC 1813 section 3.3.8 and
// POSIX open() give the creating descriptor the same).
const creatorMask = acl.ReadData | acl.WriteData | acl.AppendData | acl.ReadNamedAttrs | acl.WriteNamedAttrs |
	acl.ReadAttributes | acl.WriteAttributes | acl.Delete | acl.ReadACL | acl.Synchronize

// Open opens or makes what a request names.
func (n *Namespace) Open(sub Subject, req OpenRequest) (*Handle, Action, error) {
	searched := 0
	for began := time.Now(); ; {
		h, action, err := n.openOnce(sub, req)
		var search *searchNames
		var others *breaking
		switch {
		case errors.As(err, &others) && req.Done != nil && time.Since(began) < mostPatience:
			select {
			case <-others.until:
				continue
			case <-req.Done:
				return nil, 0, ErrClosed
			}
		case !errors.As(err, &search):
			return h, action, err
		}
		if searched++; searched == 3 {
			return nil, 0, ErrBusy
		}
		if err := searchFor(search.state, search.root, search.key); err != nil {
			return nil, 0, err
		}
	}
}

// mostPatience is how long clients are waited for, one after another, that are to give caching back.
const mostPatience = 2 * patience

// searchNames says that a file has other names, which have to be searched for before it is decided
// about.
type searchNames struct {
	state *folderState
	root  site.Location
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
	if n.policy() != v.policy || n.heldUp != nil && n.heldUp(v.folder.ID) {
		if v, err = n.view(sub, req.Share); err != nil || n.folder(v.folder.ID) != state {
			return nil, 0, ErrGone
		}
	}

	rooted, err := n.roots.take(v.folder.At, false)
	if err != nil {
		return nil, 0, err
	}
	defer n.roots.give(rooted)
	held := newHeldRoot(rooted, state, v.now)
	defer held.close()
	v.facts.root = held
	if place, ok := n.glance(v, state, rooted, req.Path); ok {
		h, action, err := n.openPlace(v, state, rooted.fd, place, req)
		if !errors.Is(err, ErrNotFound) && !errors.Is(err, errOther) {
			return h, action, err
		} // the host has changed something on the way, a moment ago
	}
	place, err := findBy(rooted.fd, req.Path, n.index, v.tellsLinks())
	if err != nil {
		return nil, 0, err
	}
	return n.openPlace(v, state, rooted.fd, place, req)
}

// glance finds what is at a path where nothing but files and directories are on the way, spelled as on disk, by what is kept open; false where it has to be
// found otherwise. What it finds is opened by its path, and so may turn out not to be there.
func (n *Namespace) glance(v view, state *folderState, root rootInUse, path string) (Place, bool) {
	var st unix.Statx_t
	if checkPath(path) != nil || root.glance(path, state.version(), v.now, &st) != nil {
		return Place{}, false
	}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		return Place{Path: path, Exists: true, File: true}, true
	case unix.S_IFDIR:
		return Place{Path: path, Exists: true}, true
	}
	return Place{}, false
}

func (n *Namespace) openPlace(v view, state *folderState, root int, place Place, req OpenRequest) (*Handle, Action, error) {
	if l := place.link; l != nil && (l.rest != "" || !req.Link) {
		if err := v.require(place.Path, true, acl.ReadAttributes); err != nil {
			return nil, 0, err
		}
		return nil, 0, &LinkMet{Target: l.target, Rest: l.rest}
	}
	return n.within(v.sub, func() (*Handle, Action, error) {
		switch {
		case place.Exists:
			return n.openExisting(v, state, root, place, req)
		case req.Stream != "":
			return n.createWithStream(v, state, root, place, req)
		}
		return n.create(v, state, root, place, req)
	})
}

// within opens something, if whoever asks may have one more open.
func (n *Namespace) within(sub Subject, open func() (*Handle, Action, error)) (*Handle, Action, error) {
	from := sub.From
	if sub.Guest != nil {
		from = sub.Guest.Origin.Address.String()
	}
	if err := n.budget.take(from); err != nil {
		return nil, 0, err
	}
	h, action, err := open()
	if err != nil {
		n.budget.give(from)
		return nil, 0, err
	}
	h.from, h.held, h.number, h.since = from, true, n.opened.Add(1), time.Now()
	return h, action, nil
}

func (n *Namespace) openExisting(v view, state *folderState, root int, place Place, req OpenRequest) (*Handle, Action, error) {
	verdict := v.decideAt(access.ToOpen, place.Path, place.File, 0)
	if verdict.Granted == 0 && v.decide(place.Path, place.File, acl.All).Gate < access.Entry {
		return nil, 0, v.denied(place.Path, place.File, acl.All)
	}
	stream, link := req.Stream != "", place.link != nil
	if req.Disposition == CreateOnly && !stream {
		return nil, 0, ErrExists
	}
	switch {
	case link && (stream || req.Disposition != OpenOnly && req.Disposition != OpenIf):
		return nil, 0, ErrInvalid
	case req.Directory && (place.File && !link || stream):
		return nil, 0, ErrNotDirectory
	case req.File && !place.File && !stream:
		return nil, 0, ErrIsDirectory
	}
	action, empty := Opened, false
	switch req.Disposition {
	case Overwrite, OverwriteIf, Supersede:
		if !place.File && !stream {
			return nil, 0, ErrInvalid
		}
		empty, action = true, Overwritten
		if req.Disposition == Supersede {
			action = Superseded
		}
	}
	want := req.Access
	if empty || stream && req.Disposition == CreateOnly {
		want |= acl.WriteData
	}
	var others []string
	decide := func() error {
		if others != nil || v.folder.Unix() { // single bits may come from different groups, and then are not had together
			verdict = v.decideNamed(access.ToOpen, place.Path, others, place.File, want)
		}
		if req.made {
			verdict.Granted |= creatorMask
		}
		if stream {
			verdict.Granted = forStream(verdict.Granted, !place.File)
		}
		if want&^verdict.Granted != 0 {
			return v.refuse(cmp.Or(v.decideNamed(access.ToOpen, place.Path, others, place.File, want).Gate, access.Entry), place.Path)
		}
		if req.Maximum && verdict.Granted == 0 { // nothing is not a maximum to open with
			return v.denied(place.Path, place.File, acl.All)
		}
		return nil
	}
	if err := decide(); err != nil {
		return nil, 0, err
	}
	h := &Handle{ns: n, sub: v.sub, share: v.entrance(), folder: state, folderID: v.folder.ID, file: place.File,
		holder: req.Holder, parentKey: req.ParentKey, asked: req.Access, sharing: req.Sharing, writeThrough: req.WriteThrough,
		streamed: stream, linked: link, created: req.made}
	h.setPath(place.Path)
	if req.Maximum {
		h.asked = verdict.Granted
	}
	const writing = acl.WriteData | acl.AppendData
	if err := h.openFD(root, place.Path, !stream && !link && (want|h.asked)&writing != 0, 0); err != nil {
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
	if stream {
		there := false
		var err error
		if req.Stream, there, err = h.hasStream(req.Stream); err == nil && !there {
			if want |= acl.WriteData; req.Disposition == OpenOnly || req.Disposition == Overwrite {
				err = ErrNotFound
			} else {
				err = decide()
			}
		}
		if err != nil {
			h.closeFD()
			return nil, 0, err
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
	if err := n.register(h, req.Stream, req.Key, req.DeleteOnClose, empty); err != nil {
		h.closeFD()
		return nil, 0, err
	}
	h.settle(v, verdict)
	if stream {
		action, err := h.beginStream(req)
		if err != nil {
			h.abandon()
			return nil, 0, err
		}
		return h, action, nil
	}
	if empty {
		if err := h.overwrite(req.Attributes); err != nil {
			h.abandon()
			return nil, 0, err
		}
	}
	return h, action, nil
}

func (n *Namespace) create(v view, state *folderState, root int, place Place, req OpenRequest) (*Handle, Action, error) {
	dir, _ := split(place.Path)
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
	parent, err := openBeneath(root, dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, 0, err
	}
	defer unix.Close(parent)
	return n.createIn(v, state, parent, place.Path, req)
}

// createIn is create in an open directory, for who may add to it.
func (n *Namespace) createIn(v view, state *folderState, parent int, path string, req OpenRequest) (*Handle, Action, error) {
	_, name := split(path)
	if h := v.facts.root; h != nil {
		h.not = path // so that nobody looks
		defer func() { h.not = "" }()
	}
	verdict := v.decide(path, !req.Directory, 0)
	verdict.Granted |= creatorMask
	if req.DeleteOnClose && req.Attributes&AttrReadOnly != 0 {
		return nil, 0, ErrReadOnlyFile
	}
	h := &Handle{ns: n, sub: v.sub, share: v.entrance(), folder: state, folderID: v.folder.ID, file: !req.Directory,
		holder: req.Holder, parentKey: req.ParentKey, sharing: req.Sharing, writeThrough: req.WriteThrough, created: true}
	h.setPath(path)
	// What a creator asks for beyond what they get is no reason to refuse: clients ask
	// for everything when they make something (MS-FSA section 2.1.5.1.1).
	if h.asked = req.Access & verdict.Granted; req.Maximum {
		h.asked = verdict.Granted
	}
	kind := uint32(unix.S_IFREG)
	if req.Directory {
		kind = unix.S_IFDIR
	}
	mode := uint32(0o664)
	if req.Directory {
		mode = 0o775
	}
	if req.Mode != nil {
		mode = *req.Mode
	}
	m, err := v.maker(parent, path, kind, 0, mode)
	if err != nil {
		return nil, 0, err
	}
	if err := v.make(m, func() (int, error) {
		if req.Directory {
			if err := makeDirectory(parent, name); err != nil {
				return -1, err
			}
			if err := h.openFD(parent, name, false, 0); err != nil {
				return -1, err
			}
			return h.fd, nil
		}
		if err := h.openFD(parent, name, true, unix.O_CREAT|unix.O_EXCL); err != nil {
			return -1, err
		}
		return h.fd, nil
	}); err != nil {
		if h.fd > 0 {
			h.closeFD()
		}
		return nil, 0, err
	}
	if attrs := req.Attributes & keptAttributes; attrs != 0 { // not worth failing for
		_ = setDOS(h.fd, attrs, time.Time{})
		h.info.Attributes = attrs
	}
	if err := n.register(h, "", req.Key, req.DeleteOnClose, false); err != nil {
		h.closeFD()
		return nil, 0, err
	}
	h.settle(v, verdict)
	state.spots.put(h.info.id(), true, spot{m.in, name})
	n.notify.tell(h.folderID, Event{Path: path, Kind: EventAdded, Dir: req.Directory, by: h.parentKey})
	return h, Created, nil
}

// register enters a handle among those open on the same object, if the ways in
// which those are open allow it (MS-FSA section 2.1.5.1.2), and clients of others give back what they cache of it
// where that would be in the way: a breaking error until they have.
func (n *Namespace) register(h *Handle, stream string, key any, deleteOnClose, empties bool) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	id := openKey{h.info.id(), FoldName(stream)}
	of := n.open[id]
	if of == nil {
		of = &openFile{id: id}
		of.stream.Store(&stream)
	}
	if of.deletePending {
		return ErrDeletePending
	}
	if object := n.open[id.fileID.data()]; object != nil && object.deletePending {
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
			if l := other.lease; l != nil && l.key != key { // it may be open for no one any more but the client's cache
				if until := l.lower(CacheHandle); until != nil {
					return &breaking{until}
				}
			}
			return ErrSharing
		}
	}
	if takes := CacheWrite; mine != 0 {
		if empties {
			takes = cacheAll
		}
		if until := of.lowerOthers(key, takes); until != nil {
			return &breaking{until}
		}
	}
	if mine&ShareWrite != 0 {
		if until := of.recall(); until != nil {
			return &breaking{until}
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

// createWithStream makes a file for a stream that is to be made.
func (n *Namespace) createWithStream(v view, state *folderState, root int, place Place, req OpenRequest) (*Handle, Action, error) {
	if req.Directory {
		return nil, 0, ErrNotDirectory
	}
	object := req
	object.Stream, object.Access, object.Maximum, object.DeleteOnClose, object.Key = "", acl.ReadAttributes, false, false, nil
	object.Sharing = ShareRead | ShareWrite | ShareDelete
	made, _, err := n.create(v, state, root, place, object)
	if err != nil {
		return nil, 0, err
	}
	place, req.made = Place{Path: made.Path(), Exists: true, File: true}, true
	h, action, err := n.openExisting(v, state, root, place, req)
	if err != nil {
		made.Unmake()
	}
	return h, action, errors.Join(err, made.close())
}
