package service

import (
	"fmt"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// Question asks why a user may, or may not, do something.
type Question struct {
	User  string
	Path  string // FOLDER or FOLDER/PATH
	Via   string // smb or nfs; "" is smb
	Want  string // a level; "" is read
	Share string // which of the folder's shares; "" is the one that leaves most
}

// Answer is the verdict on a Question with the account of every gate.
type Answer struct {
	User    string
	Path    string // as it stands on disk, where it is there
	Exists  bool
	File    bool
	Via     site.Protocol
	Share   string // "" where the folder is not published
	Want    acl.Level
	Verdict access.Verdict
	Gates   []access.GateReport
	At      time.Time
}

// Why explains. It is the walk by which requests are decided, with a recorder.
func (s *Service) Why(q Question) (Answer, error) {
	user, err := s.User(q.User)
	if err != nil {
		return Answer{}, err
	}
	f, at, err := s.place(q.Path)
	if err != nil {
		return Answer{}, err
	}
	a := Answer{User: user.Name, Path: f.Display(at.Path), Exists: at.Exists, File: at.File, Via: site.SMB, Want: acl.Read, At: time.Now()}
	switch q.Via {
	case "", "smb":
	case "nfs":
		a.Via = site.NFS
	default:
		return Answer{}, invalid("via", "%q is not a protocol: smb or nfs", q.Via)
	}
	if q.Want != "" {
		if a.Want, err = acl.ParseLevel(q.Want); err != nil {
			return Answer{}, invalid("want", "%v", err)
		}
	}
	r := access.Request{User: user.ID, Via: a.Via, Folder: f, Path: at.Path, File: at.File, Want: a.Want.Mask(!at.File), Now: a.At,
		Facts: files.Owners{Root: f.Root, Directory: s.Policy().Directory}}
	if a.Via == site.SMB {
		if r.Share, err = s.pickShare(f, q.Share, r); err != nil {
			return Answer{}, err
		}
	}
	if r.Share != nil {
		a.Share = r.Share.Name
	}
	a.Verdict, a.Gates = access.Explain(s.Policy(), r)
	return a, nil
}

func (s *Service) pickShare(f *site.PublishedFolder, name string, r access.Request) (*site.PublishedShare, error) {
	if name != "" {
		for _, sh := range f.Shares {
			if sh == s.Policy().ShareNamed(name) {
				return sh, nil
			}
		}
		return nil, notFound("share", "amber folder show "+quote(f.Name), "%s is not published as %q", f.Name, name)
	}
	var best *site.PublishedShare
	var most acl.Mask
	for _, sh := range f.Shares {
		r.Share = sh
		if got := access.Decide(s.Policy(), r).Granted; best == nil || got&r.Want&^most != 0 {
			best, most = sh, got&r.Want
		}
	}
	return best, nil
}

// Command spells a mend as what an administrator types.
func Command(m access.Mend) string {
	switch m.Kind {
	case access.MendEnable:
		return "amber user set " + quote(m.User) + " --enable"
	case access.MendExtend:
		return "amber user set " + quote(m.User) + " --ends never"
	case access.MendProtocol:
		return fmt.Sprintf("amber user set %s --%s on", quote(m.User), ProtocolWord(m.Protocol))
	case access.MendService:
		return "amber service on " + ProtocolWord(m.Protocol)
	case access.MendPublish:
		return "amber share add " + quote(m.Path)
	case access.MendReadWrite:
		return "amber share set " + quote(m.Share) + " --read-only=false"
	case access.MendShareAllow:
		return fmt.Sprintf("amber share entry add %s allow %s %s", quote(m.Share), quote(m.User), m.Level)
	case access.MendShareRemove:
		return fmt.Sprintf("amber share entry remove %s %d", quote(m.Share), m.EntryID)
	case access.MendRemove:
		return fmt.Sprintf("amber entry remove %s %d", quote(m.Path), m.EntryID)
	case access.MendAllow:
		if m.HereOnly {
			return fmt.Sprintf("amber entry add %s allow %s %s --applies folder", quote(m.Path), quote(m.User), m.Level)
		}
		return fmt.Sprintf("amber entry add %s allow %s %s", quote(m.Path), quote(m.User), m.Level)
	}
	return ""
}

// ProtocolWord is how a protocol is written in commands and the API.
func ProtocolWord(p site.Protocol) string {
	if p == site.NFS {
		return "nfs"
	}
	return "smb"
}
