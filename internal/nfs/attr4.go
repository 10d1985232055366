package nfs

import (
	"errors"
	"log/slog"
	"math"
	"math/bits"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// status4 is nfsstat4, RFC 8881 section 15.1.
type status4 uint32

const (
	ok4                   status4 = 0
	err4Perm              status4 = 1
	err4NoEnt             status4 = 2
	err4IO                status4 = 5
	err4Access            status4 = 13
	err4Exist             status4 = 17
	err4XDev              status4 = 18
	err4NotDir            status4 = 20
	err4IsDir             status4 = 21
	err4Inval             status4 = 22
	err4FBig              status4 = 27
	err4NoSpc             status4 = 28
	err4DQuot             status4 = 69
	err4ROFS              status4 = 30
	err4MLink             status4 = 31
	err4NameTooLong       status4 = 63
	err4NotEmpty          status4 = 66
	err4Stale             status4 = 70
	err4BadHandle         status4 = 10001
	err4BadCookie         status4 = 10003
	err4NotSupp           status4 = 10004
	err4TooSmall          status4 = 10005
	err4ServerFault       status4 = 10006
	err4BadType           status4 = 10007
	err4Delay             status4 = 10008
	err4Same              status4 = 10009
	err4Denied            status4 = 10010
	err4Expired           status4 = 10011
	err4Locked            status4 = 10012
	err4Grace             status4 = 10013
	err4ShareDenied       status4 = 10015
	err4WrongSec          status4 = 10016
	err4ClidInUse         status4 = 10017
	err4Resource          status4 = 10018
	err4NoFileHandle      status4 = 10020
	err4MinorVersMismatch status4 = 10021
	err4StaleClientID     status4 = 10022
	err4StaleStateID      status4 = 10023
	err4OldStateID        status4 = 10024
	err4BadStateID        status4 = 10025
	err4AdminRevoked      status4 = 10047
	err4BadSeqID          status4 = 10026
	err4NotSame           status4 = 10027
	err4LockRange         status4 = 10028
	err4Symlink           status4 = 10029
	err4AttrNotSupp       status4 = 10032
	err4NoGrace           status4 = 10033
	err4ReclaimBad        status4 = 10034
	err4BadXDR            status4 = 10036
	err4LocksHeld         status4 = 10037
	err4OpenMode          status4 = 10038
	err4BadOwner          status4 = 10039
	err4BadChar           status4 = 10040
	err4BadName           status4 = 10041
	err4FileOpen          status4 = 10046
	err4OpIllegal         status4 = 10044
	err4BadSession        status4 = 10052
	err4BadSlot           status4 = 10053
	err4CompleteAlready   status4 = 10054
	err4NotConnected      status4 = 10055
	err4SeqMisordered     status4 = 10063
	err4SequencePos       status4 = 10064
	err4ReqTooBig         status4 = 10065
	err4RepTooBig         status4 = 10066
	err4RepTooBigToCache  status4 = 10067
	err4RetryUncachedRep  status4 = 10068
	err4TooManyOps        status4 = 10070
	err4OpNotInSession    status4 = 10071
	err4ClientIDBusy      status4 = 10074
	err4SeqFalseRetry     status4 = 10076
	err4WrongType         status4 = 10083
	err4DelegRevoked      status4 = 10087
)

var statuses4 = []struct {
	err    error
	status status4
}{
	{files.ErrNameTooLong, err4NameTooLong}, {files.ErrName, err4Inval}, {files.ErrOwner, err4Perm}, {files.ErrReadOnlyFile, err4Access},
	{files.ErrNotFound, err4NoEnt}, {files.ErrPathNotFound, err4NoEnt}, {files.ErrExists, err4Exist}, {files.ErrDenied, err4Access},
	{files.ErrIsDirectory, err4IsDir}, {files.ErrNotDirectory, err4NotDir}, {files.ErrSharing, err4ShareDenied}, {files.ErrLocked, err4Locked},
	{files.ErrNotEmpty, err4NotEmpty}, {files.ErrNoSpace, err4NoSpc}, {files.ErrLimit, err4DQuot}, {files.ErrGone, err4Stale}, {files.ErrStale, err4Stale},
	{files.ErrInvalid, err4Inval}, {files.ErrNotSupported, err4NotSupp}, {files.ErrAcross, err4XDev}, {files.ErrManyNames, err4MLink}, {files.ErrBusy, err4Delay}, {files.ErrTooMany, err4Delay},
	{files.ErrIO, err4IO}, {files.ErrReadOnlyVolume, err4ROFS}, {files.ErrDeletePending, err4FileOpen}, {files.ErrLoop, err4Inval}, {files.ErrClosed, err4BadStateID}, {errBadHandle, err4BadHandle},
}

func toStatus4(log *slog.Logger, err error) status4 {
	if err == nil {
		return ok4
	}
	if st := status4(0); errors.As(err, &st) {
		return st
	}
	for _, s := range statuses4 {
		if errors.Is(err, s.err) {
			return s.status
		}
	}
	log.Error("operation failed", "error", err)
	return err4IO
}

// Error makes a status an error, for what has no other.
func (s status4) Error() string { return "nfsstat4 " + strconv.Itoa(int(s)) }

// Attributes, by their numbers in RFC 8881 section 5.
const (
	attrSupported      = 0
	attrType           = 1
	attrExpire         = 2
	attrChange         = 3
	attrSize           = 4
	attrLinkSupport    = 5
	attrSymlinkSupport = 6
	attrNamedAttr      = 7
	attrFSID           = 8
	attrUniqueHandles  = 9
	attrLease          = 10
	attrRdattrError    = 11
	attrACL            = 12
	attrACLSupport     = 13
	attrCanSetTime     = 15
	attrCaseFold       = 16
	attrCaseKept       = 17
	attrChownRestrict  = 18
	attrHandle         = 19
	attrFileID         = 20
	attrFilesAvail     = 21
	attrFilesFree      = 22
	attrFilesTotal     = 23
	attrHomogeneous    = 26
	attrMaxSize        = 27
	attrMaxLink        = 28
	attrMaxName        = 29
	attrMaxRead        = 30
	attrMaxWrite       = 31
	attrMode           = 33
	attrNoTrunc        = 34
	attrLinks          = 35
	attrOwner          = 36
	attrOwnerGroup     = 37
	attrQuotaHard      = 38
	attrQuotaSoft      = 39
	attrQuotaUsed      = 40
	attrRawDev         = 41
	attrSpaceAvail     = 42
	attrSpaceFree      = 43
	attrSpaceTotal     = 44
	attrSpaceUsed      = 45
	attrAccess         = 47
	attrAccessSet      = 48
	attrCreate         = 50
	attrTimeDelta      = 51
	attrMetadata       = 52
	attrModify         = 53
	attrModifySet      = 54
	attrMountedOn      = 55
	attrExclCreate     = 75 // version 4.1
)

// bitmap is a set of attributes.
type bitmap [3]uint32

func (b bitmap) has(n int) bool { return b[n/32]&(1<<(n%32)) != 0 }
func (b *bitmap) set(n int)     { b[n/32] |= 1 << (n % 32) }

func bitmapOf(attrs ...int) (b bitmap) {
	for _, a := range attrs {
		b.set(a)
	}
	return b
}

var (
	settable = bitmapOf(attrSize, attrACL, attrMode, attrOwner, attrOwnerGroup, attrAccessSet, attrModifySet)
	// supported leaves out, of version 4.0, what it does not know.
	supported = func() (all [2]bitmap) {
		b := bitmapOf(attrSupported, attrType, attrExpire, attrChange, attrSize, attrLinkSupport, attrSymlinkSupport, attrNamedAttr, attrFSID,
			attrUniqueHandles, attrLease, attrRdattrError, attrACL, attrACLSupport, attrCanSetTime, attrCaseFold, attrCaseKept, attrChownRestrict,
			attrHandle, attrFileID, attrFilesAvail, attrFilesFree, attrFilesTotal, attrHomogeneous, attrMaxSize, attrMaxLink, attrMaxName,
			attrMaxRead, attrMaxWrite, attrMode, attrNoTrunc, attrLinks, attrOwner, attrOwnerGroup, attrQuotaHard, attrQuotaSoft, attrQuotaUsed, attrRawDev, attrSpaceAvail, attrSpaceFree,
			attrSpaceTotal, attrSpaceUsed, attrAccess, attrAccessSet, attrCreate, attrTimeDelta, attrMetadata, attrModify, attrModifySet, attrMountedOn)
		all[0] = b
		b.set(attrExclCreate)
		all[1] = b
		return all
	}()
)

// each gives the attributes in the order of their numbers.
func (b bitmap) each(yield func(n int) bool) {
	for i, word := range b {
		for ; word != 0; word &= word - 1 {
			if !yield(32*i + bits.TrailingZeros32(word)) {
				return
			}
		}
	}
}

func readBitmap(r *onc.Reader) (b bitmap) {
	for i := range r.Count(8, 4) {
		if v := r.Uint32(); i < len(b) {
			b[i] = v
		}
	}
	return b
}

func putBitmap(w *onc.Writer, b bitmap) {
	n := len(b)
	for n > 0 && b[n-1] == 0 {
		n--
	}
	w.Uint32(uint32(n))
	for _, v := range b[:n] {
		w.Uint32(v)
	}
}

// facts4 is what attributes are written from: an object, or a directory of the pseudo-root.
type facts4 struct {
	files.Attributes
	o         *files.Object // nil for a directory of the pseudo-root, as is v
	v         *files.Visit
	fh        []byte // of that directory
	fsMajor   uint64
	fsMinor   uint64 // the export
	mountedOn uint64
	rdattrErr status4
}

func putTime4(w *onc.Writer, t unix.StatxTimestamp) {
	w.Uint64(uint64(t.Sec))
	w.Uint32(t.Nsec)
}

// changeOf is the change attribute: the host's time of the last change, which moves in steps, and
// the size and links besides, so that two changes within a step differ where they can.
func changeOf(a *files.Attributes) uint64 {
	return uint64(a.Change.Sec)*1e9 + uint64(a.Change.Nsec) ^ a.Size<<40 ^ uint64(a.Links)<<52
}

// putAttrs writes fattr4: of what is asked, what there is.
func (s *Server) putAttrs(w *onc.Writer, minor uint32, asked bitmap, f *facts4) {
	all := supported[minor]
	for i := range asked {
		asked[i] &= all[i]
	}
	asked[attrAccessSet/32] &^= 1 << (attrAccessSet % 32)
	asked[attrModifySet/32] &^= 1 << (attrModifySet % 32)
	if f.o == nil || f.o.Symlink() {
		asked[attrACL/32] &^= 1 << (attrACL % 32)
	}
	var class files.Class
	bounded := false
	if quotas := bitmapOf(attrQuotaHard, attrQuotaSoft, attrQuotaUsed); f.o != nil && asked[1]&quotas[1] != 0 {
		class, bounded = f.o.Class()
	}
	if !bounded {
		for _, n := range []int{attrQuotaHard, attrQuotaSoft, attrQuotaUsed} {
			asked[n/32] &^= 1 << (n % 32)
		}
	}
	putBitmap(w, asked)
	at := w.Len()
	w.Uint32(0)
	var space files.Space
	looked := f.v == nil
	room := func() files.Space {
		if !looked {
			space, _ = f.v.Space()
			looked = true
		}
		return space
	}
	for n := range asked.each {
		switch n {
		case attrSupported:
			putBitmap(w, all)
		case attrType:
			w.Uint32(fileType(&f.Attributes))
		case attrExpire, attrNamedAttr, attrCaseFold:
			w.Uint32(0) // handles are persistent; no; no
		case attrChange:
			w.Uint64(changeOf(&f.Attributes))
		case attrSize:
			w.Uint64(f.Size)
		case attrLinkSupport, attrSymlinkSupport, attrUniqueHandles, attrCanSetTime, attrCaseKept, attrChownRestrict, attrHomogeneous, attrNoTrunc:
			w.Bool(true)
		case attrFSID:
			w.Uint64(f.fsMajor)
			w.Uint64(f.fsMinor)
		case attrLease:
			w.Uint32(uint32(s.Lease.Seconds()))
		case attrRdattrError:
			w.Uint32(uint32(f.rdattrErr))
		case attrACL:
			if f.v.Unix() {
				putACL4(w, unixACL(f.o))
			} else {
				putACL4(w, entriesACL(s.Policy().Directory, f.o))
			}
		case attrACLSupport:
			w.Uint32(3) // allow and deny
		case attrHandle:
			if f.o == nil {
				w.Opaque(f.fh)
			} else {
				w.Opaque(s.seal(int64(f.fsMinor), f.o))
			}
		case attrFileID:
			w.Uint64(f.FileID)
		case attrFilesAvail, attrFilesFree:
			w.Uint64(room().FreeFiles)
		case attrFilesTotal:
			w.Uint64(room().Files)
		case attrMaxSize:
			w.Uint64(math.MaxInt64)
		case attrMaxLink:
			w.Uint32(32000)
		case attrMaxName:
			w.Uint32(255)
		case attrMaxRead, attrMaxWrite:
			w.Uint64(onc.MostData)
		case attrMode:
			w.Uint32(f.Mode)
		case attrLinks:
			w.Uint32(f.Links)
		case attrOwner:
			w.String(strconv.FormatUint(uint64(f.UID), 10))
		case attrOwnerGroup:
			w.String(strconv.FormatUint(uint64(f.GID), 10))
		case attrQuotaHard:
			w.Uint64(class.AvailableHard)
		case attrQuotaSoft:
			w.Uint64(class.AvailableSoft)
		case attrQuotaUsed:
			w.Uint64(class.Used)
		case attrRawDev:
			w.Uint32(f.Major)
			w.Uint32(f.Minor)
		case attrSpaceAvail:
			w.Uint64(room().Available)
		case attrSpaceFree:
			w.Uint64(room().Free)
		case attrSpaceTotal:
			w.Uint64(room().Total)
		case attrSpaceUsed:
			w.Uint64(f.Used)
		case attrAccess:
			putTime4(w, f.Access)
		case attrCreate:
			putTime4(w, f.Created)
		case attrTimeDelta:
			w.Uint64(0)
			w.Uint32(1)
		case attrMetadata:
			putTime4(w, f.Change)
		case attrModify:
			putTime4(w, f.Modify)
		case attrMountedOn:
			w.Uint64(f.mountedOn)
		case attrExclCreate:
			made := settable
			made[attrACL/32] &^= 1 << attrACL
			putBitmap(w, made)
		}
	}
	w.PutUint32(at, uint32(w.Len()-at-4))
}

// set4 is what is to change of an object by version 4; a nil list leaves the ACL.
type set4 struct {
	files.Set
	aces []ace4
	list bool // there is one, though it be empty
}

// readSet4 reads fattr4 for setting. The set that is read is given back for the answer.
func (q *compound) readSet4() (set set4, which bitmap, err error) {
	r, minor := q.r, q.minor
	which = readBitmap(r)
	body := onc.NewReader(r.Opaque(64 << 10))
	if r.Err() != nil {
		return set, which, err4BadXDR
	}
	all := supported[minor]
	for n := range 96 {
		if !which.has(n) {
			continue
		}
		if !settable.has(n) {
			if all.has(n) {
				return set, which, err4Inval // it can only be read
			}
			return set, which, err4AttrNotSupp
		}
		switch n {
		case attrSize:
			v := body.Uint64()
			set.Size = &v
		case attrACL:
			set.aces, set.list = readACL4(body), true
		case attrMode:
			v := body.Uint32() & 0o7777
			set.Mode = &v
		case attrOwner, attrOwnerGroup:
			name := body.String(longestOwner)
			id, ok := q.s.ownerOf(q.s.numbersAt(q.Call, true), name, n == attrOwnerGroup)
			if !ok && body.Err() == nil {
				return set, which, err4BadOwner
			}
			if n == attrOwner {
				set.UID = &id
			} else {
				set.GID = &id
			}
		case attrAccessSet, attrModifySet:
			t := &files.SetTime{Now: true}
			if body.Uint32() == 1 {
				*t = files.SetTime{Sec: int64(body.Uint64()), Nanosec: body.Uint32() % 1e9}
			}
			if n == attrAccessSet {
				set.Accessed = t
			} else {
				set.Modified = t
			}
		}
	}
	if body.Err() != nil || body.Len() > 0 {
		return set, which, err4BadXDR
	}
	if set.list && set.Mode != nil {
		return set, which, err4Inval // which of the two is it to be
	}
	return set, which, nil
}

// readNewSet4 is readSet4 for what is made: its ACL comes from its directory, and is set after.
func (q *compound) readNewSet4() (files.Set, bitmap, error) {
	set, which, err := q.readSet4()
	if err == nil && set.list {
		err = err4AttrNotSupp
	}
	return set.Set, which, err
}

// parseOwner reads a number as an owner (RFC 8881 section 5.9).
func parseOwner(s string) (uint32, bool) {
	n, err := strconv.ParseUint(s, 10, 32)
	return uint32(n), err == nil && uint32(n) != posix.Nobody
}

// ownerOf turns what a client calls an owner, or a group, into a number of the records: its own number, or NAME@DOMAIN.
func (s *Server) ownerOf(numbers *site.HostNumbers, text string, group bool) (id uint32, known bool) {
	if id, known = parseOwner(text); !known {
		return s.namedOwner(text, group)
	}
	if group {
		return numbers.GroupHere(id)
	}
	return numbers.UserHere(id)
}

// namedOwner turns NAME@DOMAIN into a number of the records, or NUMBER with the domain that says that it is one.
func (s *Server) namedOwner(name string, group bool) (uint32, bool) {
	if number, here := strings.CutSuffix(name, hereMark); here {
		if id, ok := parseOwner(number); ok {
			return id, true
		}
	}
	name, _, _ = strings.Cut(name, "@")
	d := s.Policy().Directory
	if group {
		if g := d.GroupNamed(name); g != nil {
			return g.GID, true
		}
		return 0, false
	}
	if u := d.UserNamed(name); u != nil {
		return u.UID, true
	}
	return 0, false
}
