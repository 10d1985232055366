package nfs

import (
	"encoding/binary"
	"strconv"
	"time"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/onc"
)

var kinds3 = [...]meter.Kind{
	proc3Null: meter.Other, proc3GetAttr: meter.Look, proc3SetAttr: meter.Change, proc3Lookup: meter.Look, proc3Access: meter.Look, proc3ReadLink: meter.Look,
	proc3Read: meter.Read, proc3Write: meter.Write, proc3Create: meter.Change, proc3Mkdir: meter.Change, proc3Symlink: meter.Change, proc3Mknod: meter.Change,
	proc3Remove: meter.Change, proc3Rmdir: meter.Change, proc3Rename: meter.Change, proc3Link: meter.Change, proc3ReadDir: meter.List, proc3ReadDirPlus: meter.List,
	proc3FSStat: meter.Look, proc3FSInfo: meter.Other, proc3PathConf: meter.Other, proc3Commit: meter.Write,
}

// kinds4 are the operations of version 4 that are counted: the others move handles about, or keep what is open alive.
var kinds4 = func() (of [opLast + 1]*meter.Kind) {
	for kind, ops := range map[meter.Kind][]uint32{
		meter.Look:   {opAccess, opGetAttr, opLookup, opLookupP, opReadLink},
		meter.Open:   {opClose, opOpen, opOpenDowngrade},
		meter.Write:  {opCommit, opWrite},
		meter.Change: {opCreate, opLink, opRemove, opRename, opSetAttr},
		meter.Lock:   {opLock, opLockT, opLockU},
		meter.Read:   {opRead},
		meter.List:   {opReadDir},
		meter.Other:  {opSetClientID, opExchangeID, opCreateSession},
	} {
		for _, op := range ops {
			of[op] = &kind
		}
	}
	return of
}()

// outcome is what a status of either version says: those of version 3 are among those of version 4.
func outcome(status uint32) meter.Outcome {
	switch status {
	case 0:
		return meter.Done
	case 1, 13, 30, 69, uint32(err4Denied), uint32(err4ShareDenied), uint32(err4WrongSec), 10012: // not permitted, no access, read-only, quota; locked
		return meter.Refused
	}
	return meter.Failed
}

// about is what the calls of a guest are counted by.
func (s *Server) about(c *onc.Call, export int64, g *files.Guest) *meter.Of {
	if s.Meter == nil || c.Conn.Trial {
		return nil
	}
	of := &meter.Of{Host: s.Meter.Tally(meter.ByHost, c.Conn.Remote.Addr().String())}
	p := s.Policy()
	if e := p.Export(export); e != nil {
		of.Through, of.Folder = s.Meter.Tally(meter.ByExport, e.Path), s.Meter.Tally(meter.ByFolder, strconv.FormatInt(e.Folder.ID, 10))
	}
	name := "uid " + strconv.FormatUint(uint64(g.Said.UID), 10)
	if u := p.Directory.User(s.Files.Person(g).User); u != nil {
		name = u.Name
	} else if of.Through == nil {
		name = ""
	}
	if name != "" {
		of.Person = s.Meter.Tally(meter.ByPerson, name)
	}
	return of
}

// counted counts a request in what its guest is counted by, and in the protocol.
func (s *Server) counted(c *onc.Call, version uint32, kind meter.Kind, status uint32, began, ended time.Time, read, written int) {
	if s.Meter == nil || c.Conn.Trial {
		return
	}
	of := meter.Of{}
	if about, ok := c.Note.(*meter.Of); ok && about != nil {
		of = *about
	}
	of.Protocol = s.spoken[version]
	is := outcome(status)
	if is != meter.Done {
		s.Meter.Ended(meter.Status{Protocol: "NFS", Number: status})
	}
	of.Count(meter.Did{Kind: kind, Outcome: is, Read: read, Written: written, Began: began, Took: ended.Sub(began)})
}

// What of version 3, 4.0 and 4.1 are counted as.
var spokenNames = [...]string{"NFS 3", "NFS 4.0", "NFS 4.1"}

// statusAt is the status that an answer of version 3 begins with.
func statusAt(w *onc.Writer, at int) uint32 {
	if len(w.B) < at+4 {
		return 0
	}
	return binary.BigEndian.Uint32(w.B[at:])
}
