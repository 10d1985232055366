package files

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// Files with several names. Where entries decide, what holds for such a file is what holds by all of
// its names in the folder together (see core/access/names.go), so they have to be known. Those made over the
// wire are; those that the host made are found by looking through the folder once.

// linked is what is known of the names of a file that has several.
type linked struct {
	names []spot
	// outside is how many names a search did not find in the folder.
	outside uint32
	counted bool // outside has been found out
}

const (
	mostLinked = 1 << 18 // files
	// mostNames of a file are looked at whenever it is decided about. By more it is not to be had where rules differ
	// within a folder, and more are not made there.
	mostNames = 1000
)

// named notes a name of a file that has several.
func (s *spots) named(id fileID, at spot) {
	if at.name == "" {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.namedLocked(id, at)
}

func (s *spots) namedLocked(id fileID, at spot) {
	l := s.links[id]
	if l == nil {
		if s.links == nil {
			s.links = make(map[fileID]*linked)
		}
		for old := range s.links { // any will do: what is forgotten is found again
			if len(s.links) < mostLinked {
				break
			}
			delete(s.links, old)
		}
		l = &linked{}
		s.links[id] = l
	}
	if !slices.Contains(l.names, at) {
		l.names = append(l.names, at)
	}
}

// namesOf gives the paths that were noted, or found, for a file, as they are now; incomplete says that there
// are more, or may be.
func (s *spots) namesOf(root int, rootID fileID, st *unix.Statx_t) (paths []string, incomplete bool) {
	id := fileOf(st)
	s.mu.Lock()
	var at []spot
	l := s.links[id]
	if l != nil {
		at = slices.Clone(l.names)
	} else if one, ok := s.files[id]; ok {
		at = []spot{one}
	}
	walked := s.walked
	s.mu.Unlock()
	var gone []spot
	for _, spot := range at {
		dir, ok := s.path(spot.dir, rootID)
		path := join(dir, spot.name)
		if !ok {
			incomplete = true
			continue
		}
		if same, err := sameObject(root, path, id); err != nil || !same {
			gone = append(gone, spot)
			continue
		}
		paths = append(paths, path)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if l = s.links[id]; l != nil {
		l.names = slices.DeleteFunc(l.names, func(sp spot) bool { return slices.Contains(gone, sp) })
	}
	known := uint32(len(paths))
	switch {
	case incomplete:
	case known >= st.Nlink:
	case l != nil && l.counted && known+l.outside >= st.Nlink:
	case len(gone) == 0 && known > 0 && !walked.IsZero() && time.Unix(st.Ctime.Sec, int64(st.Ctime.Nsec)).Before(walked):
		// Nothing has happened to its names since all of the folder was looked through.
	default:
		incomplete = true
	}
	return paths, incomplete
}

// counted notes how many names of a file a search of the folder did not find.
func (s *spots) counted(id fileID, found []spot, links uint32) {
	for _, at := range found {
		s.named(id, at)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.links[id]; l != nil {
		l.counted, l.outside = true, links-min(links, uint32(len(found)))
	}
}

// others gives the other names of the file at a path, where they matter: errNames where they have to be
// searched for first.
func (s *spots) others(v view, root int, rootID fileID, path string, st *unix.Statx_t) ([]string, error) {
	if st.Nlink <= 1 || st.Mode&unix.S_IFMT == unix.S_IFDIR || v.folder.Unix() || !v.folder.Tree.Varies() {
		return nil, nil
	}
	if st.Nlink > mostNames {
		return nil, fmt.Errorf("%w: %w", ErrDenied, ErrManyNames)
	}
	paths, incomplete := s.namesOf(root, rootID, st)
	if incomplete {
		return nil, errNames
	}
	return slices.DeleteFunc(paths, func(p string) bool { return p == path }), nil
}

// errNames says that a file's names have to be searched for, which takes being outside of a visit.
var errNames = errors.New("its other names are not known yet")

// verdict is the verdict on what is there, by all its names.
func (o *Object) verdict(at access.Stage, want acl.Mask) (access.Verdict, error) {
	alone := o.st.Nlink <= 1 || o.Dir()
	key, epoch := verdictKey{o.w.v.nfs, o.w.v.folder.ID, o.id(), o.path, at}, o.w.state.version()
	if alone {
		if v, ok := o.w.n.verdicts.get(key, o, epoch); ok && want&^v.Granted == 0 {
			return v, nil
		}
	}
	others, err := o.w.state.spots.others(o.w.v, o.w.root, o.w.rootID, o.path, &o.st)
	if errors.Is(err, errNames) {
		o.w.wanted = append(o.w.wanted, o.key)
		err = ErrBusy
	}
	if errors.Is(err, ErrManyNames) {
		return access.Verdict{Gate: access.Entry}, nil // nobody has it
	}
	if err != nil {
		return access.Verdict{Gate: access.Entry}, err
	}
	if o.Dir() && o.real {
		o.owner() // read by what is open, and noted for who decides
	}
	v := o.w.v.decideNamed(at, o.path, others, !o.Dir(), want)
	if alone {
		o.w.n.verdicts.put(key, o, epoch, v)
	}
	return v, nil
}

// known says whether the names of the object are known as far as they matter.
func (o *Object) known() error {
	_, err := o.w.state.spots.others(o.w.v, o.w.root, o.w.rootID, o.path, &o.st)
	if errors.Is(err, errNames) {
		return errLost
	}
	return nil
}

// othersAt gives the other names of the file that a handle is open on, where they matter; a searchNames where they have
// to be searched for first.
func (h *Handle) othersAt(v view, root int) ([]string, error) {
	var st unix.Statx_t
	if err := h.use(func(fd int) error { return statx(fd, &st) }); err != nil {
		return nil, err
	}
	var rst unix.Stat_t
	if err := unix.Fstat(root, &rst); err != nil {
		return nil, translate(err)
	}
	others, err := h.folder.spots.others(v, root, fileID{rst.Dev, rst.Ino}, h.Path(), &st)
	if errors.Is(err, errNames) {
		err = &searchNames{h.folder, v.folder.At, Key{Inode: st.Ino}}
	}
	return others, err
}

// othersNow is othersAt for a handle that has been open for a while; it searches.
func (h *Handle) othersNow(v view) ([]string, error) {
	if !h.file || v.folder.Unix() || !v.folder.Tree.Varies() {
		return nil, nil
	}
	root, err := openFolder(v.folder.At)
	if err != nil {
		return nil, err
	}
	defer unix.Close(root)
	for range 2 {
		others, err := h.othersAt(v, root)
		var search *searchNames
		if !errors.As(err, &search) {
			return others, err
		}
		if err := h.folder.spots.search(root, search.key); err != nil {
			return nil, err
		}
	}
	return nil, ErrBusy
}

// Others is what core/audit asks: the other names below the folder of the file at a path; false where it has
// so many that nobody is let at it.
func (f Facts) Others(path string) (out []string, known bool) {
	known = true
	path = plain.Unspell(path)
	f.at(path, func(_ int, st *unix.Statx_t) {
		if st.Nlink <= 1 || st.Mode&unix.S_IFMT != unix.S_IFREG || f.unix {
			return
		}
		if known = st.Nlink <= mostNames; !known {
			return
		}
		root, err := openFolder(f.place)
		if err != nil {
			return
		}
		defer unix.Close(root)
		s := &spots{}
		key := Key{Inode: st.Ino}
		var rst unix.Stat_t
		if unix.Fstat(root, &rst) != nil {
			return
		}
		if _, err := s.walk(root, key); err != nil {
			return
		}
		paths, _ := s.namesOf(root, fileID{rst.Dev, rst.Ino}, st)
		for _, p := range paths {
			if p != path {
				out = append(out, plain.Spell(p))
			}
		}
	})
	slices.Sort(out)
	return out, known
}

// namesOf gives all names of the file that fd is open on, the one given first; those that are not known are searched for.
func (n *Namespace) namesOf(f *site.PublishedFolder, state *folderState, fd int, path string) []string {
	var st unix.Statx_t
	if statx(fd, &st) != nil {
		return []string{path}
	}
	return n.namesOfStat(f, state, &st, path)
}

// namesOfStat is namesOf for a file that has been looked at.
func (n *Namespace) namesOfStat(f *site.PublishedFolder, state *folderState, st *unix.Statx_t, path string) []string {
	out := []string{path}
	if st.Nlink <= 1 || st.Mode&unix.S_IFMT == unix.S_IFDIR {
		return out
	}
	root, err := openFolder(f.At)
	if err != nil {
		return out
	}
	defer unix.Close(root)
	var rst unix.Stat_t
	if unix.Fstat(root, &rst) != nil {
		return out
	}
	for range 2 {
		paths, incomplete := state.spots.namesOf(root, fileID{rst.Dev, rst.Ino}, st)
		if !incomplete {
			for _, p := range paths {
				if p != path {
					out = append(out, p)
				}
			}
			break
		}
		if state.spots.search(root, Key{Inode: st.Ino}) != nil {
			break
		}
	}
	return out
}

// namesFor is namesOf where trees make names matter.
func (n *Namespace) namesFor(f *site.PublishedFolder, state *folderState, fd int, path string) []string {
	if book := n.ledger.Folder(f.ID); book == nil || !book.HasTrees() {
		return []string{path}
	}
	return n.namesOf(f, state, fd, path)
}

// whereNow is the path of a file that was last seen at one: it may have been renamed since.
func (n *Namespace) whereNow(f *site.PublishedFolder, state *folderState, id fileID, last string) string {
	root, err := openFolder(f.At)
	if err != nil {
		return last
	}
	defer unix.Close(root)
	var rst unix.Stat_t
	if unix.Fstat(root, &rst) != nil {
		return last
	}
	for range 2 {
		if known, ok := state.spots.path(id, fileID{rst.Dev, rst.Ino}); ok {
			last = known
		}
		if same, err := sameObject(root, last, id); err == nil && same {
			return last
		}
		_ = state.spots.search(root, Key{Inode: id.ino})
	}
	return last
}
