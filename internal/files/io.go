package files

import (
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
)

// ReadAt reads into p from an offset in bytes; 0 bytes is the end of the file.
func (h *Handle) ReadAt(p []byte, off int64) (int, error) {
	need := acl.ReadData
	if h.asked&acl.ReadData == 0 && h.asked&acl.Execute != 0 {
		need = acl.Execute // MS-SMB2 section 3.3.5.12: execute reads too
	}
	if err := h.check(need); err != nil {
		return 0, err
	}
	if h.noContents() {
		return 0, ErrInvalid
	}
	if err := h.mayTouch(off, int64(len(p)), false); err != nil {
		return 0, err
	}
	n := 0
	if h.streamed {
		n, err := h.readStream(p, off)
		h.did(Read, &h.toldRead)
		return n, err
	}
	err := h.use(func(fd int) (err error) {
		n, err = whole(readFrom, fd, p, off)
		return err
	})
	h.did(Read, &h.toldRead)
	return n, err
}

// whole calls a system call until all of p has been moved, or nothing more is.
func whole(call func(fd int, p []byte, off int64) (int, error), fd int, p []byte, off int64) (int, error) {
	n := 0
	for n < len(p) {
		m, err := call(fd, p[n:], off+int64(n))
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return n, translate(err)
		}
		if m == 0 {
			break
		}
		n += m
	}
	return n, nil
}

// WriteAt writes all of p at an offset in bytes. What a handle that may only append writes goes to the end of
// the file, wherever that is by then, so that nobody's bytes are written over (MS-FSA section 2.1.5.4).
// through asks for it to be on disk.
func (h *Handle) WriteAt(p []byte, off int64, through bool) (int, error) {
	need := acl.WriteData
	if h.asked&acl.WriteData == 0 {
		need = acl.AppendData
	}
	if err := h.check(need); err != nil {
		return 0, err
	}
	if h.noContents() {
		return 0, ErrInvalid
	}
	write, at := writeTo, off
	if need == acl.AppendData {
		info, err := h.Stat()
		if err != nil {
			return 0, err
		}
		off, write, at = info.Size, appendTo, -1
	}
	if err := h.mayTouch(off, int64(len(p)), true); err != nil {
		return 0, err
	}
	n := 0
	if h.streamed {
		err := h.rewritten(func(int) (err error) { n, err = h.writeStream(p, at); return err })
		if err == nil && (through || h.writeThrough) {
			err = h.Flush()
		}
		return n, err
	}
	h.did(Wrote, &h.toldWrote)
	h.alters()
	err := h.use(func(fd int) (err error) {
		if err := h.altering(fd); err != nil {
			return err
		}
		if n, err = h.alter().write(&h.data, at, len(p), func() (int, error) { return whole(write, fd, p, off) }); err != nil {
			return err
		}
		if err := h.altering(fd); err != nil { // somebody may have set them meanwhile
			return err
		}
		if through || h.writeThrough {
			return flushData(fd)
		}
		return nil
	})
	h.touched()
	return n, err
}

// altering takes the bits that run the file as someone else, as whatever alters it without privilege
// does. It looks again only when some mode in the folder has changed since it last did.
func (h *Handle) altering(fd int) error {
	epoch := h.folder.version() + 1
	if h.plainAt.Load() == epoch {
		return nil
	}
	v, err := h.ns.view(h.sub, h.share)
	if err != nil {
		return err
	}
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return err
	}
	if err := v.altering(fd, &st); err != nil {
		return err
	}
	h.plainAt.Store(epoch)
	return nil
}

func (h *Handle) touched() {
	h.mu.RLock()
	wrote := h.wrote
	h.mu.RUnlock()
	if !wrote {
		h.mu.Lock()
		h.wrote = true
		h.mu.Unlock()
	}
}

// Flush puts what was written on disk.
func (h *Handle) Flush() error {
	if err := h.check(0); err != nil {
		return err
	}
	if h.linked {
		return nil
	}
	return h.use(func(fd int) error { return flush(fd) })
}

// Truncate sets the size in bytes.
func (h *Handle) Truncate(size int64) error {
	if err := h.check(acl.WriteData); err != nil {
		return err
	}
	if h.noContents() || size < 0 {
		return ErrInvalid
	}
	h.touched()
	h.alters()
	return h.use(func(fd int) error {
		if h.streamed {
			return h.resizeStream(size)
		}
		if err := h.altering(fd); err != nil {
			return err
		}
		return h.alter().resize(&h.data, size)
	})
}

// MayGrow says whether there is room under the limits to make the file so long.
func (h *Handle) MayGrow(size int64) error {
	if err := h.check(acl.WriteData); err != nil {
		return err
	}
	if h.streamed {
		if size > mostStreamBytes {
			return ErrNoSpace
		}
		return nil
	}
	return h.use(func(int) error { return h.alter().mayGrow(&h.data, size) })
}

// overwrite empties a file that is replaced.
func (h *Handle) overwrite(attributes uint32) error {
	h.touched()
	return h.use(func(fd int) error {
		if err := h.altering(fd); err != nil {
			return err
		}
		if err := h.alter().resize(&h.data, 0); err != nil {
			return err
		}
		if streamBytes(xattrsOf(fd)) > 0 { // what is replaced takes its streams with it (MS-FSA section 2.1.5.1.2)
			if err := h.restream(func(streams) (streams, error) { return nil, nil }); err != nil {
				return err
			}
		}
		return setDOS(fd, attributes&keptAttributes|AttrArchive, time.Time{})
	})
}

// Times are what SetBasic sets; a zero time or a nil attribute set stays as it is.
type Times struct {
	Created, Accessed, Modified time.Time
	Attributes                  *uint32
}

// SetBasic sets times and attributes, MS-FSCC section 2.4.7. Who caches what it read of a file trusts what it knows of these too, and gives
// that back first; they are set in any case once done is closed.
func (h *Handle) SetBasic(t Times, done <-chan struct{}) error {
	if err := h.check(acl.WriteAttributes); err != nil {
		return err
	}
	if h.file {
		h.GiveBack(cacheAll, done)
	}
	err := h.use(func(fd int) error {
		if (t.Attributes != nil || !t.Created.IsZero()) && !h.linked { // the kernel keeps no marks on links
			info, err := stat(fd)
			if err != nil {
				return err
			}
			attrs, created := info.Attributes, info.Created
			if t.Attributes != nil {
				attrs = *t.Attributes&keptAttributes | info.Attributes&AttrSparse
			}
			if !t.Created.IsZero() {
				created = t.Created
			}
			if err := setDOS(fd, attrs, created); err != nil {
				return err
			}
		}
		if t.Accessed.IsZero() && t.Modified.IsZero() {
			return nil
		}
		spec := func(t time.Time) unix.Timespec {
			if t.IsZero() {
				return unix.Timespec{Nsec: unix.UTIME_OMIT}
			}
			return unix.NsecToTimespec(t.UnixNano())
		}
		return setTimes(fd, spec(t.Accessed), spec(t.Modified))
	})
	if err == nil {
		h.ns.notify.tell(h.folderID, Event{Path: h.Path(), Kind: EventModified, Dir: !h.file, by: h.parentKey})
	}
	return err
}
