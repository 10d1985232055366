package asking

import (
	"cmp"
	"context"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

// Question asks why a user may, or may not, do something.
type Question struct {
	User  string
	Path  string   // FOLDER or FOLDER/PATH
	Via   string   // smb or nfs; "" is smb
	Want  string   // a level, or access rights by their RFC 8881 names with commas between; "" is read
	Mask  acl.Mask // the rights that are wanted, in the place of a level's; 0 for those of the level
	Share string   // which of the folder's shares, or exports; "" is the one that leaves most
	From  string   // the client's address, or a host name; over SMB it may be left out
	Port  int      // over NFS: the source port; 0 for a privileged one
}

// Answer is the verdict on a Question with the account of every gate.
type Answer struct {
	User    string
	Path    string // as it stands on disk, where it is there
	Exists  bool
	File    bool
	Kind    acl.Kind
	Via     site.Protocol
	Share   string   // or the export's path; "" where the folder is not published
	From    string   // "" over SMB where nothing was said, or nothing hangs on it
	Want    string   // as it was asked: a level, or rights
	Rights  acl.Mask // what that takes
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
func (a Answers) Why(ctx context.Context, q Question) (Answer, error) {
	user, said, err := a.asker(ctx, q)
	if err != nil {
		return Answer{}, err
	}
	f, at, err := a.Gateway.Locate(q.Path)
	if err != nil {
		return Answer{}, err
	}
	out := Answer{User: user.Name, Path: f.Display(at.Path), Exists: at.Exists, File: at.File, Kind: acl.KindOf(at.Path, at.File), Via: site.SMB, At: a.Gateway.Now()}
	out.Away = a.Gateway.Away(f.VolumeID)
	switch q.Via {
	case "", "smb":
	case "nfs":
		out.Via = site.NFS
	default:
		return Answer{}, refusal.Bad("via", "%q is not a protocol: smb or nfs", q.Via)
	}
	level, want, err := acl.ParseGrant(cmp.Or(q.Want, acl.Read.String()))
	if err != nil {
		return Answer{}, refusal.Bad("want", "%v", err)
	}
	if level != acl.NoLevel {
		want = level.Wants(out.Kind)
	}
	if q.Mask != 0 {
		level, want = acl.NoLevel, q.Mask
	}
	out.Want, out.Rights = strings.ReplaceAll(acl.GrantText(level, want), ",", ", "), want
	r := access.Request{User: user.ID, Via: out.Via, Folder: f, Path: at.Path, File: at.File, Want: want, Now: out.At,
		Facts: a.Gateway.FactsOf(f)}
	if named, ok := r.Facts.(interface {
		Others(path string) ([]string, bool)
	}); ok && at.File {
		known := false
		r.Others, known = named.Others(at.Path)
		r.Unjudged = !known
	}
	if out.Via == site.SMB {
		if q.From != "" {
			o, err := a.Gateway.Origin(ctx, q.From, q.Port)
			if err != nil {
				return Answer{}, err
			}
			r.Origin = &o
		}
		r.Share, err = a.pickShare(f, q.Share, r)
	} else {
		r.NFS, err = a.pickExport(ctx, f, q, said, r)
	}
	if err != nil {
		return Answer{}, err
	}
	if r.Share != nil {
		out.Share = r.Share.Name
		if r.Origin != nil && len(r.Share.Hosts) > 0 {
			out.From = r.Origin.Address.String()
		}
	}
	if r.NFS != nil {
		out.Share, out.From = r.NFS.Export.Path, r.NFS.Origin.Address.String()
	}
	r.Room = a.Gateway.Room(f, at, user, r.NFS)
	out.Verdict, out.Gates = access.Explain(a.Gateway.Policy(), r)
	out.TakeAway = access.TakeAway(a.Gateway.Policy(), r)
	return out, nil
}

// asker is who asks: a user, or over NFS somebody of whom only the uid is known that their host says.
func (a Answers) asker(ctx context.Context, q Question) (user *identity.User, said *uint32, err error) {
	user, err = a.Gateway.User(q.User)
	uid, notNumber := strconv.ParseUint(q.User, 10, 32)
	if err == nil || notNumber != nil || q.Via != "nfs" {
		return user, nil, err
	}
	p, there := a.Gateway.Policy(), uint32(uid)
	here, known := there, true
	if q.From != "" {
		o, err := a.Gateway.Origin(ctx, q.From, q.Port)
		if err != nil {
			return nil, nil, err
		}
		numbers, _ := p.NumbersAt(&o)
		here, known = numbers.UserHere(there)
	}
	if i := p.Directory.UserIndexByUID(here); known && i >= 0 {
		return &p.Directory.Users()[i], &there, nil
	}
	return &identity.User{Name: "uid " + q.User, UID: there}, &there, nil
}

// pickExport finds by which export of a folder a request arrives that leaves most of what it
// wants; nil where none holds the path. The uid that is said, if any, comes alone, and else the user with what their host calls them.
func (a Answers) pickExport(ctx context.Context, f *site.PublishedFolder, q Question, said *uint32, r access.Request) (*access.Arrival, error) {
	if len(f.Exports) == 0 {
		return nil, nil
	}
	if q.From == "" {
		return nil, refusal.Bad("from", "over NFS it matters from where: say --from ADDRESS")
	}
	o, err := a.Gateway.Origin(ctx, q.From, q.Port)
	if err != nil {
		return nil, err
	}
	var best *access.Arrival
	var most acl.Mask
	for _, e := range f.Exports {
		if q.Share != "" && e != a.Gateway.Policy().ExportAt(q.Share) || e.Below != "" && r.Path != e.Below && !strings.HasPrefix(r.Path, e.Below+"/") {
			continue
		}
		if said != nil {
			r.NFS = access.Arrive(a.Gateway.Policy(), e, o, posix.Credential{UID: *said, GID: *said})
		} else {
			r.NFS = access.ArriveAs(a.Gateway.Policy(), e, o, r.User)
		}
		if got := access.Decide(a.Gateway.Policy(), r).Granted; best == nil || got&r.Want&^most != 0 || best.Rule == nil && r.NFS.Rule != nil {
			best, most = r.NFS, got&r.Want
		}
	}
	if best == nil && q.Share != "" {
		return nil, refusal.Missing("share", "amber folder show "+quote(f.Name), "%s is not published as %q", f.Display(r.Path), q.Share)
	}
	return best, nil
}

func (a Answers) pickShare(f *site.PublishedFolder, name string, r access.Request) (*site.PublishedShare, error) {
	if name != "" {
		for _, sh := range f.Shares {
			if sh == a.Gateway.Policy().ShareNamed(name) {
				return sh, nil
			}
		}
		return nil, refusal.Missing("share", "amber folder show "+quote(f.Name), "%s is not published as %q", f.Name, name)
	}
	var best *site.PublishedShare
	var most acl.Mask
	for _, sh := range f.Shares {
		r.Share = sh
		if got := access.Decide(a.Gateway.Policy(), r).Granted; best == nil || got&r.Want&^most != 0 {
			best, most = sh, got&r.Want
		}
	}
	return best, nil
}
