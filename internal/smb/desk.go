package smb

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/descriptor"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/dcerpc"
	"amber.example/gatekeeper/internal/live"
)

// What desktops ask on the pipes of IPC$, and by which administrators look after the service with the tools of their desktop.

// Administrators carries out what administrators ask for over the wire, and writes it down as theirs.
type Administrators interface {
	EndOverWire(ctx context.Context, by identity.ID, doors live.Doors, id string) error
	CloseOverWire(ctx context.Context, by identity.ID, doors live.Doors, id string) error
}

// service gives what answers on a pipe; nil where there is none of this name.
func (r *request) service(pipe string) dcerpc.Service {
	r = &request{c: r.c, sess: r.sess} // the frame is used again: keep no more than this
	switch pipe {
	case "srvsvc":
		sub, srv := r.subject(), r.c.srv
		s := &dcerpc.ServerService{Name: srv.Name, Shares: func() []dcerpc.Share { return announced(srv.Files.Announced(sub)) }}
		if r.administers() {
			s.Admin = &dcerpc.Administration{Shares: srv.allShares, Sessions: srv.sessionsNow, End: r.endSessions, Files: srv.filesNow, Close: r.closeFile}
		}
		return s
	}
	if r.sess.guest { // who has no account is told of nobody who has
		return nil
	}
	switch pipe {
	case "lsarpc":
		return &dcerpc.LocalAuthority{Directory: r.directory()}
	case "samr":
		return &dcerpc.AccountManager{Directory: r.directory()}
	}
	return nil
}

// administers says whether whoever asks is an administrator, by the policy in force.
func (r *request) administers() bool {
	u := r.c.srv.Policy().Directory.User(r.sess.user)
	return u != nil && u.Role == identity.Administrator
}

func announced(shares []site.Share) []dcerpc.Share {
	out := make([]dcerpc.Share, 0, len(shares)+1)
	for _, s := range shares {
		out = append(out, dcerpc.Share{Name: s.Name, Comment: s.Description})
	}
	return append(out, dcerpc.Share{Name: "IPC$", Comment: "Remote procedure calls", Pipes: true})
}

// mostUsers is the shi2_max_uses of a share, MS-SRVS section 2.2.4.24.
func mostUsers(sh *site.PublishedShare) uint32 {
	if sh.MostConnections == 0 {
		return ^uint32(0)
	}
	return uint32(sh.MostConnections)
}

// allShares are all there are, with their descriptors.
func (s *Server) allShares() (out []dcerpc.Share) {
	users := make(map[string]uint32)
	for _, one := range s.signedIn() {
		_, trees := one.openNow()
		for _, t := range trees {
			users[t.share]++
		}
	}
	for _, sh := range s.Policy().Shares {
		d := descriptor.Descriptor{Control: descriptor.DACLPresent, DACL: []descriptor.Ace{{Mask: uint32(acl.All), Who: descriptor.Everyone}}}
		if len(sh.Share.Entries) > 0 {
			borne := sh.Entries.Bearing("", false)
			d.DACL = descriptor.OfEntries(borne, true, "", time.Now(), s.Names)
		}
		packed, err := d.Append(nil)
		if err != nil {
			packed = nil // more than a descriptor holds
		}
		out = append(out, dcerpc.Share{Name: sh.Name, Comment: sh.Description, Hidden: !sh.Announced, Path: sh.Folder.Name,
			MostUsers: mostUsers(sh), Users: users[sh.Name], Descriptor: packed})
	}
	return append(out, dcerpc.Share{Name: "IPC$", Comment: "Remote procedure calls", Pipes: true, MostUsers: ^uint32(0), Users: users[""]})
}

func (s *Server) sessionsNow() (out []dcerpc.Session) {
	for _, one := range s.signedIn() {
		opens, _ := one.openNow()
		out = append(out, dcerpc.Session{Client: one.conn.address, User: one.name, Opens: uint32(len(opens)), Since: one.since,
			Idle: time.Since(one.traffic.Count().Last)})
	}
	slices.SortFunc(out, func(a, b dcerpc.Session) int {
		return cmp.Or(cmp.Compare(a.Client, b.Client), cmp.Compare(a.User, b.User), a.Since.Compare(b.Since))
	})
	return out
}

// fileNumber is by which a file is known there: 32 bits of what it is known by here.
func fileNumber(id uint64) uint32 { return uint32(id) }

func (s *Server) filesNow() (out []dcerpc.File) {
	const reads, writes, creates = 1, 2, 4
	for _, one := range s.signedIn() {
		opens, _ := one.openNow()
		for _, o := range opens {
			f := dcerpc.File{ID: fileNumber(o.id), User: one.name, Access: reads | writes}
			if o.pipe != nil {
				f.Path = `\PIPE\` + o.pipe.name
			} else {
				is := o.handle.Live()
				f.Path, f.Locks, f.Access = o.tree.share+`\`+wirePath(is.Path), uint32(len(is.Locks)), 0
				for bit, mask := range map[uint32]acl.Mask{reads: acl.ReadData, writes: acl.WriteData | acl.AppendData, creates: acl.AddSubdirectory} {
					if is.Access&mask != 0 && (bit != creates || is.Directory) {
						f.Access |= bit
					}
				}
			}
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b dcerpc.File) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// endSessions ends those of a client, of a user, or of a user on a client.
func (r *request) endSessions(client, user string) bool {
	s, any := r.c.srv, false
	for _, one := range s.signedIn() {
		if client != "" && one.conn.address != client || user != "" && !strings.EqualFold(one.name, user) || !r.administers() {
			continue
		}
		if err := s.Administrators.EndOverWire(r.c.ctx, r.sess.user, live.Doors{s}, liveID(one.number)); err == nil {
			any = true
		}
	}
	return any
}

func (r *request) closeFile(id uint32) bool {
	s := r.c.srv
	for _, one := range s.signedIn() {
		opens, _ := one.openNow()
		for _, o := range opens {
			if fileNumber(o.id) == id && r.administers() {
				return s.Administrators.CloseOverWire(r.c.ctx, r.sess.user, live.Doors{s}, liveID(o.id)) == nil
			}
		}
	}
	return false
}

// directory is what is told of users and groups: names to whoever is signed in, lists of all to administrators.
func (r *request) directory() dcerpc.Directory {
	srv := r.c.srv
	people := func() *identity.Directory { return srv.Policy().Directory }
	user := func(u *identity.User) dcerpc.Account {
		return dcerpc.Account{Name: u.Name, SID: srv.Names.SID(identity.UserPrincipal(u.ID)), Kind: dcerpc.KindUser, Full: u.FullName}
	}
	group := func(g *identity.Group) dcerpc.Account {
		return dcerpc.Account{Name: g.Name, SID: srv.Names.SID(identity.GroupPrincipal(g.ID)), Kind: dcerpc.KindGroup}
	}
	find := func(who identity.Principal) (dcerpc.Account, bool) {
		switch who.Kind {
		case identity.KindUser:
			if u := people().User(who.ID); u != nil {
				return user(u), true
			}
		case identity.KindGroup:
			if g := people().Group(who.ID); g != nil {
				return group(g), true
			}
		}
		return dcerpc.Account{}, false
	}
	return dcerpc.Directory{
		Name: srv.Name, Domain: srv.Names.Domain(),
		ByName: func(name string) (dcerpc.Account, bool) {
			if u := people().UserNamed(name); u != nil {
				return user(u), true
			}
			if g := people().GroupNamed(name); g != nil {
				return group(g), true
			}
			return dcerpc.Account{}, false
		},
		BySID: func(sid descriptor.SID) (dcerpc.Account, bool) {
			who, known := srv.Names.Who(sid)
			if !known {
				return dcerpc.Account{}, false
			}
			return find(who)
		},
		All: func(kind uint16) (out []dcerpc.Account, may bool) {
			if !r.administers() {
				return nil, false
			}
			d := people()
			if kind == dcerpc.KindUser {
				for i := range d.Users() {
					out = append(out, user(&d.Users()[i]))
				}
				return out, true
			}
			for i := range d.Groups() {
				out = append(out, group(&d.Groups()[i]))
			}
			return out, true
		},
		GroupsOf: func(sid descriptor.SID) (out []dcerpc.Account) {
			who, known := srv.Names.Who(sid)
			if !known || who.Kind != identity.KindUser {
				return nil
			}
			for _, g := range people().MemberOf(who.ID) {
				out = append(out, group(&g))
			}
			return out
		},
	}
}
