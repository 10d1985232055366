package dcerpc

import (
	"slices"
	"strings"
	"time"
)

// Share is one share as it is listed.
type Share struct {
	Name, Comment string
	Pipes         bool // IPC$
	Hidden        bool

	// For administrators.
	Path       string
	MostUsers  uint32 // ^0 for no bound
	Users      uint32
	Descriptor []byte // of its own entries, self-relative
}

// Session is somebody who is connected.
type Session struct {
	Client, User string
	Opens        uint32
	Since        time.Time
	Idle         time.Duration
}

// File is what somebody has open. Access is of the three bits of MS-SRVS section 2.2.4.7: read, write, create.
type File struct {
	ID, Access, Locks uint32
	Path, User        string
}

// Administration is what administrators see and do.
type Administration struct {
	Shares   func() []Share // all there are
	Sessions func() []Session
	// End ends the sessions of a client, of a user, or of a user on a client, and says whether there was any.
	End   func(client, user string) bool
	Files func() []File
	Close func(id uint32) bool
}

// ServerService answers MS-SRVS for one caller, on \PIPE\srvsvc.
type ServerService struct {
	Name   string          // of the server
	Shares func() []Share  // those announced to the caller
	Admin  *Administration // nil for others than administrators
}

// Operations of MS-SRVS section 3.1.4, and the errors of MS-ERREF section 2.2 they give.
const (
	opFileEnum        = 9
	opFileGetInfo     = 10
	opFileClose       = 11
	opSessionEnum     = 12
	opSessionDel      = 13
	opShareEnum       = 15
	opShareGetInfo    = 16
	opServerGetInfo   = 21
	opRemoteTime      = 28
	opShareEnumSticky = 36

	errorAccessDenied = 5
	errorInvalidLevel = 124
	errorFileNotFound = 2314
	errorNoSuchClient = 2312
	errorNoSuchShare  = 2310

	typeDisk   = 0
	typePipe   = 0x80000003 // special, inter-process communication
	typeHidden = 0x80000000
)

func (s *ServerService) pipe() string     { return "srvsvc" }
func (s *ServerService) syntax() [20]byte { return srvsvcSyntax }

func (s *ServerService) call(op uint16, in *reader, w *writer) bool {
	switch op {
	case opShareEnum, opShareEnumSticky:
		in.textPointer()
		level, resume := enumeration(in)
		s.enumerateShares(w, level, resume)
	case opShareGetInfo:
		in.textPointer()
		name := in.text()
		s.shareInfo(w, name, in.u32())
	case opServerGetInfo:
		in.textPointer()
		s.serverInfo(w, in.u32())
	case opRemoteTime:
		in.textPointer()
		remoteTime(w, time.Now())
	case opSessionEnum:
		in.textPointer()
		client, user := in.textPointer(), in.textPointer()
		level, resume := enumeration(in)
		s.enumerateSessions(w, client, user, level, resume)
	case opSessionDel:
		in.textPointer()
		client, user := in.textPointer(), in.textPointer()
		s.endSession(w, in, client, user)
	case opFileEnum:
		in.textPointer()
		below, user := in.textPointer(), in.textPointer()
		level, resume := enumeration(in)
		s.enumerateFiles(w, below, user, level, resume)
	case opFileGetInfo:
		in.textPointer()
		id := in.u32()
		s.fileInfo(w, id, in.u32())
	case opFileClose:
		in.textPointer()
		s.closeFile(w, in, in.u32())
	default:
		return false
	}
	return true
}

// enumeration reads what the enumerations have in common: the level, an empty list, how much at most, and where to go on.
func enumeration(in *reader) (level uint32, resume bool) {
	level = in.u32()
	in.u32() // the union's own copy of it
	if in.u32() != 0 {
		n := in.u32()
		if in.u32() != 0 {
			n |= in.u32()
		}
		if n != 0 { // clients send no entries
			in.err = ErrMalformed
		}
	}
	in.u32() // preferred length: the answer is whole whatever its size
	return level, in.u32() != 0
}

// enumerated writes their answer.
func enumerated(w *writer, level uint32, n int, status uint32, resume bool, each func(i int)) {
	w.u32(level)
	w.u32(level)
	if status == 0 {
		w.pointer(func() { w.list(n, each) })
		w.whole()
	} else {
		n = 0
		w.null()
	}
	w.u32(uint32(n))
	if resume {
		w.pointer(nil)
		w.u32(0)
	} else {
		w.null()
	}
	w.u32(status)
}

// level says with which error a level ends: those of all are for everybody.
func (s *ServerService) level(level uint32, forAll, forAdministrators []uint32) uint32 {
	switch {
	case slices.Contains(forAll, level):
		return 0
	case !slices.Contains(forAdministrators, level):
		return errorInvalidLevel
	case s.Admin == nil:
		return errorAccessDenied
	}
	return 0
}

var (
	shareLevels      = []uint32{0, 1, 501}
	shareAdminLevels = []uint32{2, 502}
)

// writeShare writes a SHARE_INFO of a level, MS-SRVS section 2.2.4.22 and after.
func writeShare(w *writer, level uint32, s *Share) {
	w.textPointer(s.Name)
	if level == 0 {
		return
	}
	kind := uint32(typeDisk)
	switch {
	case s.Pipes:
		kind = typePipe
	case s.Hidden:
		kind = typeDisk | typeHidden
	}
	w.u32(kind)
	w.textPointer(s.Comment)
	switch level {
	case 501:
		w.u32(0)
	case 2, 502:
		w.u32(0) // permissions, of servers that have no entries
		w.u32(s.MostUsers)
		w.u32(s.Users)
		w.textPointer(s.Path)
		w.null() // the password, likewise
		if level == 502 {
			if len(s.Descriptor) == 0 {
				w.u32(0)
				w.null()
			} else {
				w.bytes(s.Descriptor)
			}
		}
	}
}

// shares are those that a caller is told of at a level.
func (s *ServerService) shares(level uint32) []Share {
	if slices.Contains(shareAdminLevels, level) {
		return s.Admin.Shares()
	}
	return s.Shares()
}

// enumerateShares is NetrShareEnum, MS-SRVS section 3.1.4.8.
func (s *ServerService) enumerateShares(w *writer, level uint32, resume bool) {
	status := s.level(level, shareLevels, shareAdminLevels)
	var shares []Share
	if status == 0 {
		shares = s.shares(level)
	}
	enumerated(w, level, len(shares), status, resume, func(i int) { writeShare(w, level, &shares[i]) })
}

// told writes a union of one pointer: an entry, or nothing and an error.
func told(w *writer, level, status uint32, entry func()) {
	w.u32(level)
	if status != 0 {
		w.null()
	} else {
		w.pointer(entry)
		w.whole()
	}
	w.u32(status)
}

// shareInfo is NetrShareGetInfo, MS-SRVS section 3.1.4.10.
func (s *ServerService) shareInfo(w *writer, name string, level uint32) {
	status := s.level(level, shareLevels, shareAdminLevels)
	var found *Share
	if status == 0 {
		shares := s.shares(level)
		if i := slices.IndexFunc(shares, func(sh Share) bool { return strings.EqualFold(sh.Name, name) }); i >= 0 {
			found = &shares[i]
		} else {
			status = errorNoSuchShare
		}
	}
	told(w, level, status, func() { writeShare(w, level, found) })
}

// serverInfo is NetrServerGetInfo, MS-SRVS section 3.1.4.17.
func (s *ServerService) serverInfo(w *writer, level uint32) {
	const platform, major, minor, serverType = 500, 10, 0, 0x00000003
	told(w, level, s.level(level, []uint32{100, 101}, nil), func() {
		w.u32(platform)
		w.textPointer(s.Name)
		if level == 101 {
			w.u32(major)
			w.u32(minor)
			w.u32(serverType)
			w.textPointer("")
		}
	})
}

// remoteTime is NetrRemoteTOD, MS-SRVS section 3.1.4.21.
func remoteTime(w *writer, now time.Time) {
	now = now.UTC()
	w.pointer(func() {
		for _, v := range []int{int(now.Unix()), int(now.UnixMilli()), now.Hour(), now.Minute(), now.Second(), now.Nanosecond() / 1e7, 0, 310,
			now.Day(), int(now.Month()), now.Year(), int(now.Weekday())} {
			w.u32(uint32(v))
		}
	})
	w.whole()
	w.u32(0)
}

// plainClient is a client's name as it is compared: without the backslashes before it.
func plainClient(name string) string { return strings.TrimLeft(name, `\`) }

// enumerateSessions is NetrSessionEnum, MS-SRVS section 3.1.4.5.
func (s *ServerService) enumerateSessions(w *writer, client, user string, level uint32, resume bool) {
	status := s.level(level, nil, []uint32{0, 1, 2, 10, 502})
	var all []Session
	if status == 0 {
		all = slices.DeleteFunc(s.Admin.Sessions(), func(x Session) bool {
			return client != "" && !strings.EqualFold(x.Client, plainClient(client)) || user != "" && !strings.EqualFold(x.User, user)
		})
		if client != "" && len(all) == 0 {
			status = errorNoSuchClient
		}
	}
	enumerated(w, level, len(all), status, resume, func(i int) {
		x := &all[i]
		seconds := func(d time.Duration) { w.u32(uint32(max(d, 0) / time.Second)) }
		w.textPointer(`\\` + x.Client)
		if level == 0 {
			return
		}
		w.textPointer(x.User)
		if level != 10 {
			w.u32(x.Opens)
		}
		seconds(time.Since(x.Since))
		seconds(x.Idle)
		if level == 10 {
			return
		}
		w.u32(0) // neither a guest nor without a password that is encrypted
		if level != 1 {
			w.textPointer("")
		}
		if level == 502 {
			w.textPointer("TCP")
		}
	})
}

// endSession is NetrSessionDel, MS-SRVS section 3.1.4.6.
func (s *ServerService) endSession(w *writer, in *reader, client, user string) {
	switch {
	case in.err != nil:
	case s.Admin == nil:
		w.u32(errorAccessDenied)
	case client == "" && user == "" || !s.Admin.End(plainClient(client), user):
		w.u32(errorNoSuchClient)
	default:
		w.u32(0)
	}
}

var fileLevels = []uint32{2, 3}

func writeFile(w *writer, level uint32, f *File) {
	w.u32(f.ID)
	if level == 3 {
		w.u32(f.Access)
		w.u32(f.Locks)
		w.textPointer(f.Path)
		w.textPointer(f.User)
	}
}

// enumerateFiles is NetrFileEnum, MS-SRVS section 3.1.4.2.
func (s *ServerService) enumerateFiles(w *writer, below, user string, level uint32, resume bool) {
	status := s.level(level, nil, fileLevels)
	var all []File
	if status == 0 {
		all = slices.DeleteFunc(s.Admin.Files(), func(f File) bool {
			return user != "" && !strings.EqualFold(f.User, user) || below != "" && !strings.HasPrefix(strings.ToLower(f.Path), strings.ToLower(below))
		})
	}
	enumerated(w, level, len(all), status, resume, func(i int) { writeFile(w, level, &all[i]) })
}

// fileInfo is NetrFileGetInfo, MS-SRVS section 3.1.4.3.
func (s *ServerService) fileInfo(w *writer, id, level uint32) {
	status := s.level(level, nil, fileLevels)
	var found *File
	if status == 0 {
		files := s.Admin.Files()
		if i := slices.IndexFunc(files, func(f File) bool { return f.ID == id }); i >= 0 {
			found = &files[i]
		} else {
			status = errorFileNotFound
		}
	}
	told(w, level, status, func() { writeFile(w, level, found) })
}

// closeFile is NetrFileClose, MS-SRVS section 3.1.4.4.
func (s *ServerService) closeFile(w *writer, in *reader, id uint32) {
	switch {
	case in.err != nil:
	case s.Admin == nil:
		w.u32(errorAccessDenied)
	case !s.Admin.Close(id):
		w.u32(errorFileNotFound)
	default:
		w.u32(0)
	}
}
