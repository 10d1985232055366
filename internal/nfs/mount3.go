package nfs

import (
	"errors"
	"sort"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// Procedures and errors of MOUNT version 3, RFC 1813 appendix I.
const (
	mountNull    = 0
	mountMnt     = 1
	mountDump    = 2
	mountUmnt    = 3
	mountUmntAll = 4
	mountExport  = 5

	mntOK            = 0
	mntNoEnt         = 2
	mntIO            = 5
	mntAcces         = 13
	mntNotDir        = 20
	mntInval         = 22
	mntNameTooLong   = 63
	mntServerFault   = 10006
	longestMountPath = 1024
)

func (s *Server) serveMount(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	switch c.Procedure {
	case mountNull, mountUmntAll:
	case mountMnt:
		path := c.Args.String(longestMountPath)
		if c.Args.Err() != nil {
			return onc.GarbageArgs
		}
		s.mnt(c, w, path)
	case mountDump: // who has mounted what is nobody's business, and not known: mounts are no state
		w.Bool(false)
	case mountUmnt:
		c.Args.String(longestMountPath)
		if c.Args.Err() != nil {
			return onc.GarbageArgs
		}
	case mountExport:
		o := s.origin(c.Conn, onc.AuthSys)
		paths := []string{}
		for _, e := range s.mountable(&o) {
			paths = append(paths, e.Path)
		}
		sort.Strings(paths)
		for _, path := range paths {
			w.Bool(true)
			w.String(path)
			w.Bool(true) // to the one who asks; to whom else is not told
			w.String(c.Conn.Remote.Addr().String())
			w.Bool(false)
		}
		w.Bool(false)
	default:
		return onc.ProcUnavail
	}
	return onc.Success
}

// mnt gives the handle of an export's root, or of a directory below it. A host that may
// not mount is told that nothing is there.
func (s *Server) mnt(c *onc.Call, w *onc.Writer, path string) {
	o := s.origin(c.Conn, onc.AuthSys) // mounting itself comes without a credential
	e, below := s.exportHolding(path)
	if e == nil || !access.MayMount(s.Policy(), e, &o) {
		s.Log.Debug("mount refused", "client", c.Conn.Remote, "path", path)
		if e != nil && s.Refused != nil && !c.Conn.Trial {
			s.Refused.Saw(files.AccessEvent{Kind: files.Refused, Via: site.NFS, From: o.Address.String(), UID: c.Cred.UID, Path: e.Path, Gate: access.Origin})
		}
		w.Uint32(mntAcces)
		return
	}
	// What is below an export is looked up as whoever is asking; its root is anyone's to mount.
	if below != "" && c.Cred.Flavor != onc.AuthSys {
		w.Uint32(mntAcces)
		return
	}
	v, err := s.Files.Visit(s.guest(c, e.ID), files.Working)
	if err != nil {
		w.Uint32(mntServerFault)
		return
	}
	defer v.End()
	at, err := v.Root()
	for name := range strings.SplitSeq(below, "/") {
		if err == nil && name != "" {
			at, err = at.Lookup(name)
		}
	}
	if err == nil && !at.Dir() && below != "" {
		err = files.ErrNotDirectory
	}
	if err != nil {
		w.Uint32(mountStatus(err))
		return
	}
	w.Uint32(mntOK)
	w.Opaque(s.seal(e.ID, at))
	w.Uint32(1) // flavours
	w.Uint32(onc.AuthSys)
}

// exportHolding finds the export whose path is the longest part of a path from its beginning, and
// what follows.
func (s *Server) exportHolding(path string) (*site.PublishedExport, string) {
	path = "/" + strings.Trim(path, "/")
	for _, e := range s.Policy().Exports {
		if rest, ok := strings.CutPrefix(path, e.Path); ok && (rest == "" || rest[0] == '/') {
			return e, strings.Trim(rest, "/")
		}
	}
	return nil, ""
}

func mountStatus(err error) uint32 {
	switch {
	case errors.Is(err, files.ErrNotFound), errors.Is(err, files.ErrStale), errors.Is(err, files.ErrGone):
		return mntNoEnt
	case errors.Is(err, files.ErrNotDirectory):
		return mntNotDir
	case errors.Is(err, files.ErrDenied):
		return mntAcces
	case errors.Is(err, files.ErrNameTooLong):
		return mntNameTooLong
	case errors.Is(err, files.ErrName), errors.Is(err, files.ErrInvalid):
		return mntInval
	}
	return mntIO
}
