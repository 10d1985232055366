package nfs

import (
	"errors"
	"log/slog"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// status3 is nfsstat3, RFC 1813 section 2.6.
type status3 uint32

const (
	ok3             status3 = 0
	err3Perm        status3 = 1
	err3NoEnt       status3 = 2
	err3IO          status3 = 5
	err3Acces       status3 = 13
	err3Exist       status3 = 17
	err3XDev        status3 = 18
	err3NotDir      status3 = 20
	err3IsDir       status3 = 21
	err3Inval       status3 = 22
	err3FBig        status3 = 27
	err3NoSpc       status3 = 28
	err3DQuot       status3 = 69
	err3ROFS        status3 = 30
	err3MLink       status3 = 31
	err3NameTooLong status3 = 63
	err3NotEmpty    status3 = 66
	err3Stale       status3 = 70
	err3BadHandle   status3 = 10001
	err3NotSync     status3 = 10002
	err3BadCookie   status3 = 10003
	err3NotSupp     status3 = 10004
	err3TooSmall    status3 = 10005
	err3ServerFault status3 = 10006
	err3BadType     status3 = 10007
	err3Jukebox     status3 = 10008
)

var statuses3 = []struct {
	err    error
	status status3
}{
	{files.ErrNameTooLong, err3NameTooLong}, {files.ErrName, err3Inval}, {files.ErrOwner, err3Perm}, {files.ErrReadOnlyFile, err3Acces},
	{files.ErrNotFound, err3NoEnt}, {files.ErrPathNotFound, err3NoEnt}, {files.ErrExists, err3Exist}, {files.ErrDenied, err3Acces},
	{files.ErrIsDirectory, err3IsDir}, {files.ErrNotDirectory, err3NotDir}, {files.ErrSharing, err3Acces}, {files.ErrLocked, err3Acces},
	{files.ErrNotEmpty, err3NotEmpty}, {files.ErrNoSpace, err3NoSpc}, {files.ErrLimit, err3DQuot}, {files.ErrGone, err3Stale}, {files.ErrStale, err3Stale},
	{files.ErrInvalid, err3Inval}, {files.ErrNotSupported, err3NotSupp}, {files.ErrAcross, err3XDev}, {files.ErrManyNames, err3MLink}, {files.ErrBusy, err3Jukebox}, {files.ErrTooMany, err3Jukebox},
	{files.ErrIO, err3IO}, {files.ErrReadOnlyVolume, err3ROFS}, {files.ErrDeletePending, err3Acces}, {files.ErrLoop, err3Inval},
}

// toStatus3 spells an error for a client. What is not expected is logged.
func toStatus3(log *slog.Logger, err error) status3 {
	if err == nil {
		return ok3
	}
	for _, s := range statuses3 {
		if errors.Is(err, s.err) {
			return s.status
		}
	}
	log.Error("operation failed", "error", err)
	return err3IO
}

// ftype3, RFC 1813 section 2.6; the numbers of nfs_ftype4 are the same.
func fileType(a *files.Attributes) uint32 {
	switch a.Type {
	case unix.S_IFREG:
		return 1
	case unix.S_IFDIR:
		return 2
	case unix.S_IFBLK:
		return 3
	case unix.S_IFCHR:
		return 4
	case unix.S_IFLNK:
		return 5
	case unix.S_IFSOCK:
		return 6
	case unix.S_IFIFO:
		return 7
	}
	return 1
}

// fsid tells exports apart: a client that mounts two sees two file systems.
func fsid(export int64) uint64 { return 0xa3be<<32 | uint64(export) }

func putTime3(w *onc.Writer, t unix.StatxTimestamp) {
	w.Uint32(uint32(t.Sec))
	w.Uint32(t.Nsec)
}

// putAttr3 writes fattr3.
func putAttr3(w *onc.Writer, export int64, a *files.Attributes) {
	w.Uint32(fileType(a))
	w.Uint32(a.Mode)
	w.Uint32(a.Links)
	w.Uint32(a.UID)
	w.Uint32(a.GID)
	w.Uint64(a.Size)
	w.Uint64(a.Used)
	w.Uint32(a.Major)
	w.Uint32(a.Minor)
	w.Uint64(fsid(export))
	w.Uint64(a.FileID)
	putTime3(w, a.Access)
	putTime3(w, a.Modify)
	putTime3(w, a.Change)
}

// putPost writes post_op_attr; nil for none.
func putPost(w *onc.Writer, export int64, a *files.Attributes) {
	w.Bool(a != nil)
	if a != nil {
		putAttr3(w, export, a)
	}
}

// putWCC writes wcc_data.
func putWCC(w *onc.Writer, export int64, before, after *files.Attributes) {
	w.Bool(before != nil)
	if before != nil {
		w.Uint64(before.Size)
		putTime3(w, before.Modify)
		putTime3(w, before.Change)
	}
	putPost(w, export, after)
}

// now3 looks at an object for an answer; nil where that cannot be.
func now3(o *files.Object) *files.Attributes {
	if o == nil {
		return nil
	}
	if _, err := o.Look(); err != nil {
		return nil
	}
	return seen3(o)
}

// seen3 are the attributes of an object as it was last looked at, nil for who may not see them: what comes along with
// an answer is told by the same rule as what is asked for.
func seen3(o *files.Object) *files.Attributes {
	if o.MayLook() != nil {
		return nil
	}
	a := o.Attributes()
	return &a
}

// readSet reads sattr3. Its numbers are the client's, and become the records'.
func (q *call3) readSet() files.Set {
	r := q.r
	var s files.Set
	number := func() *uint32 {
		if !r.Bool() {
			return nil
		}
		v := r.Uint32()
		return &v
	}
	s.Mode, s.UID, s.GID = number(), number(), number()
	if numbers := q.s.numbersAt(q.Call, s.UID != nil || s.GID != nil); !here(numbers, s.UID, s.GID) {
		q.refused = files.ErrInvalid
	}
	if s.Mode != nil {
		*s.Mode &= 0o7777
	}
	if r.Bool() {
		v := r.Uint64()
		s.Size = &v
	}
	when := func() *files.SetTime {
		switch r.Uint32() {
		case 1:
			return &files.SetTime{Now: true}
		case 2:
			return &files.SetTime{Sec: int64(r.Uint32()), Nanosec: r.Uint32() % 1e9}
		}
		return nil
	}
	s.Accessed, s.Modified = when(), when()
	return s
}
