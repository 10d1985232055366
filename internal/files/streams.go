package files

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
)

// Named streams are contents that a file or a directory has besides its own (MS-FSCC section 2.1.4): where a file was downloaded from, what a
// desktop knows of it. All those of an object are one extended attribute of it, so that whatever moves or copies the object with its
// attributes takes them along, within the service and beside it.
//
// The attribute's value is a byte 1, and then for each stream the length of its name, the name, the length of its bytes and these; lengths
// are those of encoding/binary's Uvarint. A name of no length ends it.
const streamsAttr = "user.amber.streams"

const (
	// mostStreamBytes is how long the value may be: what the kernel lets an attribute be, and room for marks besides. Many file
	// systems take less.
	mostStreamBytes = 64<<10 - spareMarks
	// spareMarks is room that stays free beside the streams of an object, for what the service itself has to write down about it.
	spareMarks = 1 << 10
	// mostStreams of one object.
	mostStreams = 256
	// longestStream is how long a stream's name may be, in UTF-16 units (MS-FSCC section 2.1.5.3).
	longestStream = 255
)

// namedStream is one of them.
type namedStream struct {
	name string
	data []byte
}

// streams are those of one object, each name once whatever its case.
type streams []namedStream

var errStreams = fmt.Errorf("%w: what is kept of its streams is damaged", ErrIO)

// parseStreams reads the value of the attribute. The bytes are the value's own.
func parseStreams(b []byte) (out streams, err error) {
	if len(b) == 0 || b[0] != 1 {
		return nil, errStreams
	}
	b = b[1:]
	part := func() (string, []byte, bool) {
		n, used := binary.Uvarint(b)
		if used <= 0 || n > uint64(len(b)-used) {
			return "", nil, false
		}
		p := b[used : used+int(n) : used+int(n)]
		b = b[used+int(n):]
		return string(p), p, true
	}
	for len(b) > 0 {
		name, _, ok := part()
		if ok && name == "" {
			break
		}
		_, data, have := part()
		if !ok || !have || CheckStream(name) != nil || out.find(name) >= 0 || len(out) == mostStreams {
			return nil, errStreams
		}
		out = append(out, namedStream{name, data})
	}
	return out, nil
}

// bytes is the value of the attribute; nil for none.
func (s streams) bytes() []byte {
	if len(s) == 0 {
		return nil
	}
	b := []byte{1}
	for _, one := range s {
		b = binary.AppendUvarint(b, uint64(len(one.name)))
		b = append(b, one.name...)
		b = binary.AppendUvarint(b, uint64(len(one.data)))
		b = append(b, one.data...)
	}
	return b
}

// find gives where a stream is, -1 for nowhere.
func (s streams) find(name string) int {
	folded := FoldName(name)
	return slices.IndexFunc(s, func(one namedStream) bool { return FoldName(one.name) == folded })
}

// with has a stream have other bytes, or be there.
func (s streams) with(name string, data []byte) streams {
	out := slices.Clone(s)
	if i := out.find(name); i >= 0 {
		out[i].data = data
		return out
	}
	return append(out, namedStream{name, data})
}

// without takes a stream away.
func (s streams) without(name string) streams {
	folded := FoldName(name)
	return slices.DeleteFunc(slices.Clone(s), func(one namedStream) bool { return FoldName(one.name) == folded })
}

// CheckStream refuses what is no name of a stream: an empty one, one that is too long, and one with a character that parts paths
// and streams.
func CheckStream(name string) error {
	units := 0
	for _, r := range name {
		if units++; r > 0xffff {
			units++
		}
	}
	if name == "" || units > longestStream || strings.ContainsAny(name, "/\\:\x00") || !utf8.ValidString(name) {
		return fmt.Errorf("%w: a stream cannot be called %q", ErrName, name)
	}
	return nil
}

// readStreams reads the streams of an object, and how long the value is.
func readStreams(get xattrs) (streams, int, error) {
	var small [512]byte
	buf := small[:]
	n, err := get(streamsAttr, buf)
	if errors.Is(err, unix.ERANGE) {
		buf = make([]byte, 64<<10)
		n, err = get(streamsAttr, buf)
	}
	switch {
	case errors.Is(err, unix.ENODATA) || errors.Is(err, unix.EOPNOTSUPP):
		return nil, 0, nil
	case err != nil:
		return nil, 0, translate(err)
	}
	s, err := parseStreams(slices.Clone(buf[:n]))
	return s, n, err
}

// streamBytes is how many bytes the streams of an object take.
func streamBytes(get xattrs) int64 {
	n, err := get(streamsAttr, nil)
	if err != nil {
		return 0
	}
	return int64(n)
}

// forStream is what somebody may do with a stream of an object, by what they may do with the object. A directory's bits to list it and to add to
// it are no leave to read and write what it has for contents: those take the ones for named attributes besides.
func forStream(m acl.Mask, dir bool) acl.Mask {
	if dir && m&acl.WriteNamedAttrs == 0 {
		m &^= acl.WriteData | acl.AppendData
	}
	if dir && m&acl.ReadNamedAttrs == 0 {
		m &^= acl.ReadData
	}
	return m
}

// Stream is one of an object's named streams.
type Stream struct {
	Name      string
	Size      int64
	Allocated int64
}

// streamTakes is how many bytes on disk a stream is said to take.
func streamTakes(size int64) int64 { return (size + 511) &^ 511 }

// Streams gives the named streams of what the handle is open on.
func (h *Handle) Streams() (out []Stream, err error) {
	all, err := h.streams()
	for _, s := range all {
		size := int64(len(s.data))
		out = append(out, Stream{s.name, size, streamTakes(size)})
	}
	return out, err
}

func (h *Handle) streams() (all streams, err error) {
	err = h.use(func(fd int) error {
		if err := before(callLook, fd); err != nil {
			return translate(err)
		}
		all, _, err = readStreams(xattrsOf(fd))
		return err
	})
	return all, err
}

// Stream is the name of the stream that the handle is open on; "" for the object itself.
func (h *Handle) Stream() string {
	if !h.streamed {
		return ""
	}
	return *h.of.stream.Load()
}

// own gives the bytes of the stream that the handle is open on: ErrStale where it is not there any more.
func (h *Handle) own() ([]byte, error) {
	all, err := h.streams()
	if err != nil {
		return nil, err
	}
	i := all.find(h.Stream())
	if i < 0 {
		return nil, ErrStale
	}
	return all[i].data, nil
}

// readStream reads into p from an offset.
func (h *Handle) readStream(p []byte, off int64) (int, error) {
	data, err := h.own()
	if err != nil || off >= int64(len(data)) {
		return 0, err
	}
	return copy(p, data[off:]), nil
}

// restream changes the streams of what the handle is open on, within use.
func (h *Handle) restream(change func(streams) (streams, error)) error {
	return h.alter().restream(&h.data, change)
}

// changeStream gives the stream that the handle is open on other bytes, within use.
func (h *Handle) changeStream(change func(was []byte) ([]byte, error)) error {
	return h.restream(func(all streams) (streams, error) {
		name := h.Stream()
		i := all.find(name)
		if i < 0 {
			return nil, ErrStale
		}
		is, err := change(all[i].data)
		return all.with(name, is), err
	})
}

// writeStream writes p at an offset, or at the end where that is negative.
func (h *Handle) writeStream(p []byte, off int64) (int, error) {
	err := h.changeStream(func(was []byte) ([]byte, error) {
		at := off
		if at < 0 {
			at = int64(len(was))
		}
		end := at + int64(len(p))
		if end < at || end > mostStreamBytes {
			return nil, ErrNoSpace
		}
		is := make([]byte, max(end, int64(len(was))))
		copy(is, was)
		copy(is[at:], p)
		return is, nil
	})
	if err != nil {
		return 0, err
	}
	return len(p), nil
}

// resizeStream sets how long the stream is.
func (h *Handle) resizeStream(size int64) error {
	if size > mostStreamBytes {
		return ErrNoSpace
	}
	return h.changeStream(func(was []byte) ([]byte, error) {
		is := make([]byte, size)
		copy(is, was)
		return is, nil
	})
}

// zeroStream has a range of the stream be zeros, up to where it ends.
func (h *Handle) zeroStream(off, end int64) error {
	return h.changeStream(func(was []byte) ([]byte, error) {
		is := slices.Clone(was)
		if off = min(off, int64(len(is))); off < end {
			clear(is[off:min(end, int64(len(is)))])
		}
		return is, nil
	})
}

// copyStream is CopyFrom where one of the two is a stream.
func (h *Handle) copyStream(from *Handle, toOff, fromOff int64, length int) (n int, err error) {
	buf := make([]byte, length)
	if from.streamed {
		n, err = from.readStream(buf, fromOff)
	} else {
		err = from.use(func(fd int) error { n, err = whole(readFrom, fd, buf, fromOff); return err })
	}
	if err != nil || n == 0 {
		return 0, err
	}
	from.did(Read, &from.toldRead)
	err = h.rewritten(func(fd int) error {
		if h.streamed {
			n, err = h.writeStream(buf[:n], toOff)
			return err
		}
		n, err = h.alter().write(&h.data, toOff, n, func() (int, error) { return whole(writeTo, fd, buf[:n], toOff) })
		return err
	})
	return n, err
}

// errAsItIs ends a change of streams that changes nothing.
var errAsItIs = errors.New("it stays as it is")

// beginStream opens the stream of a handle that has just been registered, or makes it.
func (h *Handle) beginStream(req OpenRequest) (action Action, err error) {
	name := req.Stream
	defer func() {
		if err == nil {
			h.info, err = h.Stat()
		}
	}()
	if req.Disposition == OpenOnly {
		_, err = h.own()
		if errors.Is(err, ErrStale) {
			err = ErrNotFound
		}
		return Opened, err
	}
	err = h.use(func(int) error {
		return h.restream(func(all streams) (streams, error) {
			if all.find(name) < 0 {
				if action = Created; req.Disposition == Overwrite {
					return nil, ErrNotFound
				}
				return all.with(name, nil), nil
			}
			switch action = Overwritten; req.Disposition {
			case CreateOnly:
				return nil, ErrExists
			case OpenIf:
				action = Opened
				return nil, errAsItIs
			case Supersede:
				action = Superseded
			}
			return all.with(name, nil), nil
		})
	})
	if errors.Is(err, errAsItIs) {
		err = nil
	}
	if err == nil && action != Opened {
		h.touched()
	}
	return action, err
}

// hasStream says whether what a handle is about to be open on has a stream, and how that is spelled.
func (h *Handle) hasStream(name string) (string, bool, error) {
	all, _, err := readStreams(xattrsOf(h.fd))
	if i := all.find(name); i >= 0 {
		return all[i].name, true, err
	}
	return name, false, err
}

// removeStream takes away the stream that a handle was open on.
func (n *Namespace) removeStream(h *Handle) error {
	name := *h.of.stream.Load()
	err := h.restream(func(all streams) (streams, error) { return all.without(name), nil })
	if err == nil {
		n.notify.tell(h.folderID, Event{Path: h.Path(), Kind: EventModified, Dir: !h.file, by: h.parentKey})
	}
	return err
}

// RenameStream gives the stream that the handle is open on another name (MS-FSCC section 2.4.43). With replace, a stream that has that
// already makes way.
func (h *Handle) RenameStream(to string, replace bool) error {
	if !h.streamed {
		return ErrInvalid
	}
	if err := h.check(acl.Delete); err != nil {
		return err
	}
	if err := CheckStream(to); err != nil {
		return err
	}
	n, key := h.ns, openKey{h.info.id(), FoldName(to)}
	n.mu.Lock()
	of := h.of
	if other := n.open[key]; other != nil && other != of {
		n.mu.Unlock()
		return ErrDenied // it is open
	}
	was := of.id
	delete(n.open, was)
	of.id = key // nobody opens either meanwhile
	n.open[was], n.open[key] = of, of
	n.mu.Unlock()

	name := h.Stream()
	err := h.use(func(int) error {
		return h.restream(func(all streams) (streams, error) {
			i := all.find(name)
			if i < 0 {
				return nil, ErrStale
			}
			data := all[i].data
			rest := all.without(name)
			if rest.find(to) >= 0 && !replace {
				return nil, ErrExists
			}
			return rest.without(to).with(to, data), nil
		})
	})
	n.mu.Lock()
	defer n.mu.Unlock()
	switch {
	case err != nil:
		of.id = was
		if was != key {
			delete(n.open, key)
		}
		return err
	case was != key:
		delete(n.open, was)
	}
	of.stream.Store(&to)
	return nil
}
