package smb

import (
	"strconv"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/smb/message"
)

var kindsOf = [...]meter.Kind{
	message.Negotiate: meter.Other, message.SessionSetup: meter.Other, message.Logoff: meter.Other, message.TreeConnect: meter.Other, message.TreeDisconnect: meter.Other,
	message.Create: meter.Open, message.Close: meter.Open, message.Flush: meter.Write, message.Read: meter.Read, message.Write: meter.Write, message.Lock: meter.Lock, message.Ioctl: meter.Other,
	message.Cancel: meter.Other, message.Echo: meter.Other, message.QueryDirectory: meter.List, message.ChangeNotify: meter.List, message.QueryInfo: meter.Look, message.SetInfo: meter.Change,
}

func outcome(s Status) meter.Outcome {
	switch s {
	case statusAccessDenied, statusSharingViolation, statusFileLockConflict, statusLockNotGranted, statusCannotDelete, statusPrivilegeNotHeld, statusMediaWriteProtected,
		statusDiskFull, statusLogonFailure, statusAccountDisabled, statusAccountExpired, statusAccountLockedOut, statusLogonTypeNotGranted, statusPasswordExpired, statusPasswordMustChange:
		return meter.Refused
	case statusEndOfFile, statusNoMoreFiles, statusNoMoreEntries, statusMoreProcessingRequired, statusBufferOverflow:
		return meter.Done
	}
	if s.failed() {
		return meter.Failed
	}
	return meter.Done
}

// about is what the requests of a session are counted by, once it is established.
func (s *session) about() *meter.Of {
	m := s.conn.srv.Meter
	if m == nil || s.conn.trial != nil {
		return nil
	}
	return &meter.Of{Protocol: m.Tally(meter.ByProtocol, "SMB "+dialectNames[s.conn.dialect]), Person: m.Tally(meter.ByPerson, s.name), Host: m.Tally(meter.ByHost, s.conn.address)}
}

// through is the same for those on a share.
func (s *session) through(sh *site.PublishedShare) *meter.Of {
	if s.of == nil {
		return nil
	}
	of, m := *s.of, s.conn.srv.Meter
	of.Through, of.Folder = m.Tally(meter.ByShare, sh.Name), m.Tally(meter.ByFolder, strconv.FormatInt(sh.Folder.ID, 10))
	return &of
}

// count counts a request that was answered.
func (r *request) count(began time.Time, status Status) {
	if r.sess == nil || !r.sess.established.Load() || r.sess.of == nil || int(r.h.Command) >= len(kindsOf) {
		return
	}
	of := r.sess.of
	if r.tree != nil && r.tree.of != nil {
		of = r.tree.of
	}
	is := outcome(status)
	if is != meter.Done {
		r.sess.conn.srv.Meter.Ended(meter.Status{Protocol: "SMB", Number: uint32(status)})
	}
	of.Count(meter.Did{Kind: kindsOf[r.h.Command], Outcome: is, Read: r.gave, Written: r.took, Began: began, Took: time.Since(began)})
}
