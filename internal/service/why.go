package service

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Question asks why a user may, or may not, do something.
type Question struct {
	User  string
	Path  string // FOLDER or FOLDER/PATH
	Via   string // smb or nfs; "" is smb
	Want  string // a level; "" is read
	Share string // which of the folder's shares, or exports; "" is the one that leaves most
	From  string // over NFS: the client's address, or a host name
	Port  int    // over NFS: the source port; 0 for a privileged one
}

// Answer is the verdict on a Question with the account of every gate.
type Answer struct {
	User    string
	Path    string // as it stands on disk, where it is there
	Exists  bool
	File    bool
	Kind    acl.Kind
	Via     site.Protocol
	Share   string // or the export's path; "" where the folder is not published
	From    string // over NFS
	Want    acl.Level
	Verdict access.Verdict
	Gates   []access.GateReport
	// TakeAway is the smallest change after which what is allowed is not.
	TakeAway []access.Fix
	At       time.Time
	// Away says why the volume is not where it should be, so that nobody gets at it whatever the verdict; "" where it is there.
	Away string
}

// Why explains. It is the walk by which requests are decided, with a recorder.
//
// Over NFS, User may be a bare uid instead.
func (s *Service) Why(ctx context.Context, q Question) (Answer, error) {
	user, err := s.asker(q)
	if err != nil {
		return Answer{}, err
	}
	f, at, err := s.place(q.Path)
	if err != nil {
		return Answer{}, err
	}
	a := Answer{User: user.Name, Path: f.Display(at.Path), Exists: at.Exists, File: at.File, Kind: acl.KindOf(at.Path, at.File), Via: site.SMB, Want: acl.Read, At: s.now()}
	if v, away := s.VolumeAway(f.VolumeID); away {
		a.Away = v.Why
	}
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
	r := access.Request{User: user.ID, Via: a.Via, Folder: f, Path: at.Path, File: at.File, Want: a.Want.Wants(acl.KindOf(at.Path, at.File)), Now: a.At,
		Facts: s.factsOf(f)}
	if named, ok := r.Facts.(interface {
		Others(path string) ([]string, bool)
	}); ok && at.File {
		known := false
		r.Others, known = named.Others(at.Path)
		r.Unjudged = !known
	}
	if a.Via == site.SMB {
		r.Share, err = s.pickShare(f, q.Share, r)
	} else {
		r.NFS, err = s.pickExport(ctx, f, q, user.UID, r)
	}
	if err != nil {
		return Answer{}, err
	}
	if r.Share != nil {
		a.Share = r.Share.Name
	}
	if r.NFS != nil {
		a.Share, a.From = r.NFS.Export.Path, r.NFS.Origin.Address.String()
	}
	r.Room = s.room(f, at, user, r.NFS)
	a.Verdict, a.Gates = access.Explain(s.Policy(), r)
	a.TakeAway = access.TakeAway(s.Policy(), r)
	return a, nil
}

// asker is who asks: a user, or over NFS somebody of whom only a uid is known.
func (s *Service) asker(q Question) (*identity.User, error) {
	user, err := s.User(q.User)
	if uid, notNumber := strconv.ParseUint(q.User, 10, 32); err != nil && notNumber == nil && q.Via == "nfs" {
		d := s.Policy().Directory
		if i := d.UserIndexByUID(uint32(uid)); i >= 0 {
			return &d.Users()[i], nil
		}
		return &identity.User{Name: "uid " + q.User, UID: uint32(uid)}, nil
	}
	return user, err
}

// pickExport finds by which export of a folder a request arrives that leaves most of what it
// wants; nil where none holds the path.
func (s *Service) pickExport(ctx context.Context, f *site.PublishedFolder, q Question, uid uint32, r access.Request) (*access.Arrival, error) {
	if len(f.Exports) == 0 {
		return nil, nil
	}
	if q.From == "" {
		return nil, invalid("from", "over NFS it matters from where: say --from ADDRESS")
	}
	o, err := s.origin(ctx, q.From, q.Port)
	if err != nil {
		return nil, err
	}
	var best *access.Arrival
	var most acl.Mask
	for _, e := range f.Exports {
		if q.Share != "" && e != s.Policy().ExportAt(q.Share) || e.Below != "" && !inside(r.Path, e.Below) {
			continue
		}
		r.NFS = access.Arrive(s.Policy(), e, o, posix.Credential{UID: uid, GID: uid})
		if got := access.Decide(s.Policy(), r).Granted; best == nil || got&r.Want&^most != 0 || best.Rule == nil && r.NFS.Rule != nil {
			best, most = r.NFS, got&r.Want
		}
	}
	if best == nil && q.Share != "" {
		return nil, notFound("share", "amber folder show "+quote(f.Name), "%s is not published as %q", f.Display(r.Path), q.Share)
	}
	return best, nil
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

// Command spells a fix as what an administrator types.
func Command(m access.Fix) string {
	switch m.Kind {
	case access.FixEnable:
		return "amber user set " + quote(m.User) + " --enable"
	case access.FixExtend:
		return "amber user set " + quote(m.User) + " --ends never"
	case access.FixProtocol:
		return fmt.Sprintf("amber user set %s --%s on", quote(m.User), ProtocolWord(m.Protocol))
	case access.FixService:
		return "amber service on " + ProtocolWord(m.Protocol)
	case access.FixUser:
		return fmt.Sprintf("amber user add NAME --uid %d", m.UID)
	case access.FixRule:
		return fmt.Sprintf("amber export rule add %s %s", quote(m.Export), m.From)
	case access.FixRuleWrite:
		return fmt.Sprintf("amber %s rule set %s %d --rw", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixMode:
		return fmt.Sprintf("amber mode set %s %04o", quote(m.Path), m.Mode)
	case access.FixRuleRemove:
		return fmt.Sprintf("amber %s rule remove %s %d", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixRuleSquash:
		return fmt.Sprintf("amber %s rule set %s %d --squash root", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixRuleUnknown:
		return fmt.Sprintf("amber %s rule set %s %d --unknown refused", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixClear:
		return "amber entry clear " + quote(m.Path)
	case access.FixFolderRemove:
		return "amber folder remove " + quote(m.Path)
	case access.FixGroupRemove:
		return "amber group remove " + quote(m.User)
	case access.FixNumber:
		if m.Group {
			return fmt.Sprintf("amber group set %s --gid %d", quote(m.User), m.UID)
		}
		return fmt.Sprintf("amber user set %s --uid %d", quote(m.User), m.UID)
	case access.FixLimit:
		return LimitCommand("set", m.Limit) + boundFlags(m.Bounds)
	case access.FixLimitRemove:
		return LimitCommand("remove", m.Limit)
	case access.FixCounting:
		return "amber volume set " + quote(m.Volume) + " --counting size"
	case access.FixPublish:
		if m.Protocol == site.NFS {
			return "amber export add " + quote(m.Path)
		}
		return "amber share add " + quote(m.Path)
	case access.FixReadWrite:
		return "amber share set " + quote(m.Share) + " --read-only=false"
	case access.FixShareAllow:
		return fmt.Sprintf("amber share entry add %s allow %s %s", quote(m.Share), quote(m.User), m.Level)
	case access.FixShareRemove:
		return fmt.Sprintf("amber share entry remove %s %d", quote(m.Share), m.EntryID)
	case access.FixRemove:
		return fmt.Sprintf("amber entry remove %s %d", quote(m.Path), m.EntryID)
	case access.FixAllow:
		act, applies := "allow", m.Applies
		if m.Deny {
			act = "deny"
		}
		if m.HereOnly {
			applies = acl.Here
		}
		c := fmt.Sprintf("amber entry add %s %s %s %s", quote(m.Path), act, quote(m.User), acl.GrantText(m.Level, m.Mask))
		if applies != 0 && applies != acl.Everywhere {
			c += " --applies " + strings.Join(applies.Names(), ",")
		}
		return c
	}
	return ""
}

// ruleOwner is the command whose rule a fix is about.
func ruleOwner(m access.Fix) string {
	if m.Set != "" {
		return "hosts"
	}
	return "export"
}

// ProtocolWord is how a protocol is written in commands and the API.
func ProtocolWord(p site.Protocol) string {
	if p == site.NFS {
		return "nfs"
	}
	return "smb"
}
