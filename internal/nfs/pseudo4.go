package nfs

import (
	"hash/fnv"
	"path"
	"sort"
	"strings"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// The pseudo-root: directories in which the exports appear at their paths (RFC 8881 section 7.3). A
// host sees what leads to an export that it may mount, and nothing else.

// pseudoID numbers a directory of the pseudo-root.
func pseudoID(p string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(p))
	return h.Sum64()>>1 | 1
}

func (s *Server) pseudoHandle(p string) []byte {
	return s.handles.seal(handle{key: files.Key{Inode: pseudoID(p)}})
}

// pseudoChildren gives what appears in a directory of the pseudo-root to an origin: the names, with
// the export for those that are one. The second result is false where there is no such directory.
func (s *Server) pseudoChildren(o *site.Origin, dir string) (map[string]*site.PublishedExport, bool) {
	out := make(map[string]*site.PublishedExport)
	prefix := strings.TrimSuffix(dir, "/") + "/"
	for _, e := range s.mountable(o) {
		rest, ok := strings.CutPrefix(e.Path, prefix)
		if !ok {
			continue
		}
		name, deeper, _ := strings.Cut(rest, "/")
		if deeper == "" {
			out[name] = e
		} else {
			out[name] = nil
		}
	}
	return out, dir == "/" || len(out) > 0
}

// pseudoPath finds the directory of the pseudo-root that has a number.
func (s *Server) pseudoPath(o *site.Origin, id uint64) (string, bool) {
	if id == pseudoID("/") {
		return "/", true
	}
	for _, e := range s.mountable(o) {
		for p := path.Dir(e.Path); p != "/"; p = path.Dir(p) {
			if pseudoID(p) == id {
				return p, true
			}
		}
	}
	return "", false
}

func (q *compound) pseudoFacts(dir string) *facts4 {
	// What is in it changes with the records, and with what is switched on.
	changed := uint64(q.s.began.UnixNano())
	h := fnv.New64a()
	for _, e := range q.s.Policy().Exports {
		h.Write([]byte(e.Path))
	}
	changed ^= h.Sum64()
	at := unix.StatxTimestamp{Sec: q.s.began.Unix(), Nsec: uint32(changed % 1e9)}
	return &facts4{Attributes: files.Attributes{Type: unix.S_IFDIR, Mode: 0o555, Links: 2, Size: 4096, FileID: pseudoID(dir), Access: at, Modify: at, Change: at, Created: at},
		fh: q.s.pseudoHandle(dir), fsMajor: fsid(0), mountedOn: pseudoID(dir)}
}

func (q *compound) pseudo(op uint32, h handle) status4 {
	o := q.s.origin(q.Conn, q.Cred.Flavor)
	dir, ok := q.s.pseudoPath(&o, h.key.Inode)
	if !ok {
		return err4Stale
	}
	children, _ := q.s.pseudoChildren(&o, dir)
	enter := func(name string) ([]byte, status4) {
		e, ok := children[name]
		switch {
		case !ok:
			return nil, err4NoEnt
		case e == nil:
			return q.s.pseudoHandle(path.Join(dir, name)), ok4
		}
		v, err := q.s.Files.Visit(q.s.guest(q.Call, e.ID), files.Looking)
		if err != nil {
			return nil, q.fail(err)
		}
		defer v.End()
		root, err := v.Root()
		if err != nil {
			return nil, q.fail(err)
		}
		return q.s.seal(e.ID, root), ok4
	}
	switch op {
	case opLookup, opSecInfo:
		name, st := q.name()
		if st != ok4 {
			return st
		}
		fh, st := enter(name)
		if st != ok4 {
			return st
		}
		if op == opSecInfo {
			q.putFlavors()
			q.consumed()
		} else {
			q.setCurrent(fh)
		}
		return ok4
	case opLookupP:
		if dir == "/" {
			return err4NoEnt
		}
		q.setCurrent(q.s.pseudoHandle(path.Dir(dir)))
		return ok4
	case opGetAttr:
		asked := readBitmap(q.r)
		q.s.putAttrs(q.w, q.minor, asked, q.pseudoFacts(dir))
		return ok4
	case opAccess:
		asked := q.r.Uint32()
		q.w.Uint32(asked & (accessRead | accessLookup | accessModify | accessExtend | accessDelete | accessExecute))
		q.w.Uint32(asked & (accessRead | accessLookup))
		return ok4
	case opReadDir:
		var names []string
		for name := range children {
			names = append(names, name)
		}
		sort.Strings(names)
		return q.readDir4(q.s.handles.cookieVerifier(h), func(cookie uint64, asked bitmap, entry func(uint64, string, func(*onc.Writer)) bool) error {
			for i, name := range names {
				if uint64(i)+3 <= cookie {
					continue
				}
				if !entry(uint64(i)+3, name, func(w *onc.Writer) { q.pseudoEntry(w, asked, dir, name, children[name]) }) {
					break
				}
			}
			return nil
		})
	case opReadLink:
		return err4Inval
	}
	return err4ROFS
}

func (q *compound) pseudoEntry(w *onc.Writer, asked bitmap, dir, name string, e *site.PublishedExport) {
	if e == nil {
		q.s.putAttrs(w, q.minor, asked, q.pseudoFacts(path.Join(dir, name)))
		return
	}
	v, err := q.s.Files.Visit(q.s.guest(q.Call, e.ID), files.Looking)
	if err == nil {
		defer v.End()
		var root *files.Object
		if root, err = v.Root(); err == nil {
			q.s.putAttrs(w, q.minor, asked, q.facts(v, root, e.ID, root.Attributes()))
			return
		}
	}
	q.s.putAttrs(w, q.minor, bitmap{asked[0] & (1 << attrRdattrError)}, &facts4{rdattrErr: q.fail(err)})
}
