package smb

import (
	"errors"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/descriptor"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// Names is how users and groups are spelled as SIDs.
type Names interface {
	descriptor.Names
	Domain() descriptor.SID // of the service, to which theirs belong
}

// securityInfo is MS-SMB2 section 3.3.5.20.3: who may do what with an object, and whose it is.
func (r *request) securityInfo(o *open, m *message.QueryInfoRequest) (*reply, error) {
	if m.Additional&message.PartSACL != 0 {
		return nil, statusAccessDenied // nobody has it open for that, see genericAccess
	}
	is, err := o.handle.Security()
	if err != nil {
		return nil, err
	}
	d := descriptor.Descriptor{Control: descriptor.SelfRelative}
	owner, group := r.c.srv.userSID(is.UID), r.c.srv.groupSID(is.GID)
	if m.Additional&message.PartOwner != 0 {
		d.Owner = owner
	}
	if m.Additional&message.PartGroup != 0 {
		d.Group = group
	}
	if m.Additional&message.PartDACL != 0 {
		d.Control |= descriptor.DACLPresent | descriptor.DACLAutoInherited
		if is.Cut {
			d.Control |= descriptor.DACLProtected
		}
		d.DACL = r.c.srv.listOf(is, owner, group)
	}
	b, err := d.Append(nil)
	if err != nil {
		r.c.log.Info("entries cannot be told", "share", o.tree.share, "reason", err.Error())
		return nil, statusInsufficientResources
	}
	if len(b) > int(m.Room) {
		return answer(message.TooSmall(len(b), r.c.dialect == dialect311)), statusBufferTooSmall
	}
	return answer(&message.DataResponse{Data: b}), nil
}

func (s *Server) userSID(uid uint32) descriptor.SID {
	d := s.Policy().Directory
	if i := d.UserIndexByUID(uid); i != identity.None {
		return s.Names.SID(identity.UserPrincipal(d.Users()[i].ID))
	}
	return descriptor.UnixUser(uid)
}

func (s *Server) groupSID(gid uint32) descriptor.SID {
	d := s.Policy().Directory
	if i := d.GroupIndexByGID(gid); i != identity.None {
		return s.Names.SID(identity.GroupPrincipal(d.Groups()[i].ID))
	}
	return descriptor.UnixGroup(gid)
}

func (s *Server) listOf(is files.Security, owner, group descriptor.SID) []descriptor.Ace {
	if !is.Unix {
		return descriptor.OfEntries(is.Borne, is.Dir, group, time.Now(), s.Names)
	}
	who := func(g posix.Grant) descriptor.SID {
		switch g.Tag {
		case posix.UserObj:
			return owner
		case posix.User:
			return s.userSID(g.ID)
		case posix.GroupObj:
			return group
		case posix.Group:
			return s.groupSID(g.ID)
		}
		return descriptor.Everyone
	}
	out := descriptor.OfModes(is.Access.Grants(), is.Dir, false, who)
	if is.Dir {
		out = append(out, descriptor.OfModes(is.Below.Grants(), true, true, who)...)
	}
	return out
}

// setSecurity is MS-SMB2 section 3.3.5.21.3.
func (r *request) setSecurity(o *open, m *message.SetInfoRequest) error {
	var d descriptor.Descriptor
	if err := d.Parse(m.Data); err != nil {
		return r.refuseList(o, err)
	}
	if m.Additional&^(message.PartOwner|message.PartGroup|message.PartDACL|message.PartLabel|message.PartProtected|message.PartUnprotected) != 0 {
		return statusAccessDenied // of auditing, nothing is kept
	}
	to, err := r.secured(&d, m.Additional)
	if err != nil {
		return err
	}
	return r.refuseList(o, o.handle.SetSecurity(r.c.ctx, to))
}

// secureMade is for what was made with a descriptor, MS-SMB2 section 3.3.5.9.2: what is refused of it takes away what was made.
func (r *request) secureMade(o *open, raw []byte) error {
	var d descriptor.Descriptor
	if err := d.Parse(raw); err != nil {
		return r.refuseList(o, err)
	}
	var parts uint32
	if d.Owner != "" {
		parts |= message.PartOwner
	}
	if d.Group != "" {
		parts |= message.PartGroup
	}
	if d.Control&descriptor.DACLPresent != 0 {
		parts |= message.PartDACL
	}
	to, err := r.secured(&d, parts)
	if err != nil {
		return err
	}
	return r.refuseList(o, o.handle.SecureMade(r.c.ctx, to))
}

// secured is what parts of a descriptor say.
func (r *request) secured(d *descriptor.Descriptor, parts uint32) (to files.Secured, err error) {
	if parts&message.PartOwner != 0 {
		if to.UID, err = r.number(d.Owner, false); err != nil {
			return to, err
		}
	}
	if parts&message.PartGroup != 0 {
		if to.GID, err = r.number(d.Group, true); err != nil {
			return to, err
		}
	}
	if parts&message.PartDACL != 0 {
		to.Rule = func(is files.Security) (bool, []acl.Entry, error) {
			return d.Entries(is.Written, is.Dir, r.c.srv.groupSID(is.GID), time.Now(), r.c.srv.Names)
		}
	}
	return to, nil
}

// refuseList says in the log why a list cannot be entries, as a status says little; it gives the status.
func (r *request) refuseList(o *open, err error) error {
	var why descriptor.Refusal
	switch {
	case errors.As(err, &why):
		r.c.log.Info("a list of entries was refused", "user", r.sess.name, "share", o.tree.share, "path", o.handle.Path(), "reason", string(why))
		return statusInvalidSecurityDescr
	case errors.Is(err, descriptor.ErrMalformed):
		return statusInvalidSecurityDescr
	}
	return err
}

// number is that of an owner, or of an owning group.
func (r *request) number(sid descriptor.SID, group bool) (*uint32, error) {
	d := r.c.srv.Policy().Directory
	if n, g, ok := sid.Unix(); ok && g == group {
		return &n, nil
	}
	who, known := r.c.srv.Names.Who(sid)
	switch {
	case !known:
	case who.Kind == identity.KindUser && !group:
		if u := d.User(who.ID); u != nil {
			return &u.UID, nil
		}
	case who.Kind == identity.KindGroup && group:
		if g := d.Group(who.ID); g != nil {
			return &g.GID, nil
		}
	}
	return nil, statusInvalidOwner
}
