package nfs

import (
	"errors"
	"math"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// Reading and writing, RFC 8881 sections 18.22 and 18.32.

// readerOf gives what reads the current file: the open file that a stateid names or, for a special one,
// a file as version 3 has it.
func (q *compound) readerOf(id stateID) (readAt func([]byte, int64) (int, error), size func() (uint64, error), done func(), st status4) {
	o, st := q.forUse(id)
	if st != ok4 {
		return nil, nil, nil, st
	}
	if o == nil {
		h, _ := q.s.handles.open(q.current)
		if h.export == 0 {
			return nil, nil, nil, err4IsDir
		}
		f, err := q.s.Files.File(q.s.guest(q.Call, h.export), h.key, false)
		if err != nil {
			return nil, nil, nil, q.fail(err)
		}
		return f.ReadAt, f.Size, f.Release, ok4
	}
	if !q.mayMount(o.fh.export) {
		return nil, nil, nil, err4Access
	}
	if o.access&shareRead == 0 && o.file.Granted()&(acl.ReadData|acl.Execute) == 0 {
		return nil, nil, nil, err4OpenMode
	}
	return o.file.ReadAt, o.file.Size, func() {}, ok4
}

// forUse finds the open file by which the current file is read or written: nil where the stateid is a special
// one, or somebody else's, and the file is used without.
func (q *compound) forUse(id stateID) (*open4, status4) {
	if special(id) {
		return nil, ok4
	}
	o, st := q.find(id)
	if st != ok4 || !q.opener(o) {
		return nil, st
	}
	return o, ok4
}

func (q *compound) read() status4 {
	id, offset, count := q.readStateID(), q.r.Uint64(), q.r.Uint32()
	if q.r.Err() != nil {
		return err4BadXDR
	}
	readAt, size, done, st := q.readerOf(id)
	if st != ok4 {
		return st
	}
	defer done()
	length, err := size()
	if err != nil {
		return q.fail(err)
	}
	n := int(min(count, onc.MostData))
	switch {
	case offset >= length:
		n = 0
	case uint64(n) > length-offset:
		n = int(length - offset)
	}
	q.Reserve(q.w, n)
	at := q.w.Len()
	q.w.Uint32(0)
	q.w.Uint32(0)
	got := 0
	if n > 0 || offset < math.MaxInt64 {
		if got, err = readAt(q.w.Room(n), int64(min(offset, math.MaxInt64))); err != nil {
			return q.fail(err)
		}
		q.w.Cut(n, got)
	}
	if offset+uint64(got) >= length {
		q.w.PutUint32(at, 1)
	}
	q.w.PutUint32(at+4, uint32(got))
	heard(q.Conn).traffic().Read(got)
	q.moved.read = got
	return ok4
}

func (q *compound) write() status4 {
	id, offset, stable := q.readStateID(), q.r.Uint64(), q.r.Uint32()
	data := q.r.Opaque(onc.MostData)
	if q.r.Err() != nil {
		return err4BadXDR
	}
	if stable > uint32(files.FileSync) {
		return err4BadXDR
	}
	if offset > math.MaxInt64-onc.MostData {
		return err4FBig
	}
	var n int
	var did files.Stability
	var err error
	o, st := q.forUse(id)
	if st != ok4 {
		return st
	}
	if o == nil {
		h, _ := q.s.handles.open(q.current)
		if h.export == 0 {
			return err4IsDir
		}
		f, ferr := q.s.Files.File(q.s.guest(q.Call, h.export), h.key, true)
		if ferr != nil {
			return q.fail(ferr)
		}
		defer f.Release()
		n, did, err = f.WriteAt(data, int64(offset), files.Stability(stable))
	} else {
		switch {
		case !q.mayMount(o.fh.export):
			return err4Access
		case o.access&shareWrite == 0:
			return err4OpenMode
		}
		did = files.Stability(stable)
		if e := q.s.Policy().Export(o.fh.export); e != nil && e.Sync {
			did = files.FileSync
		}
		if n, err = o.file.WriteAt(data, int64(offset), false); err == nil {
			err = o.file.Sync(did)
		}
	}
	if err != nil {
		return q.fail(err)
	}
	heard(q.Conn).traffic().Wrote(n)
	q.moved.written = n
	q.w.Uint32(uint32(n))
	q.w.Uint32(uint32(did))
	q.w.Uint64(q.s.verifier)
	return ok4
}

func (q *compound) commit() status4 {
	q.r.Uint64()
	q.r.Uint32()
	if q.r.Err() != nil {
		return err4BadXDR
	}
	if q.inPseudo(q.current) {
		return err4IsDir
	}
	h, _ := q.s.handles.open(q.current)
	// Whoever has it open for writing may have it put on disk, even if they could not open it now.
	st := q.s.state
	st.mu.Lock()
	var open *files.Handle
	for _, c := range st.clients {
		if q.minor == 1 && c != q.client || c.minor != q.minor || c.address != q.Conn.Remote.Addr() {
			continue
		}
		for _, o := range c.opens {
			if o.fh == h && o.access&shareWrite != 0 {
				open = o.file
			}
		}
	}
	st.unlock()
	var err error
	if open != nil {
		err = open.Sync(files.FileSync)
	}
	if open == nil || errors.Is(err, files.ErrClosed) {
		f, ferr := q.s.Files.File(q.s.guest(q.Call, h.export), h.key, true)
		if ferr != nil {
			return q.fail(ferr)
		}
		defer f.Release()
		err = f.Commit()
	}
	if err != nil {
		return q.fail(err)
	}
	q.w.Uint64(q.s.verifier)
	return ok4
}
