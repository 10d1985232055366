package service

import (
	"context"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
)

// Format is an open form that an access control list can be written in.
type Format string

// The forms.
const (
	NFS4Text Format = "nfs4"    // as the common NFSv4 client tools read and print it
	SDDL     Format = "sddl"    // MS-DTYP section 2.5.1
	Getfacl  Format = "getfacl" // what getfacl(1) prints
)

// byName spells principals for NFSv4 text.
type byName struct{ s *Service }

func (n byName) Spell(who identity.Principal) (string, error) {
	switch who.Kind {
	case identity.KindOwner, identity.KindOwningGroup, identity.KindEveryone:
		return strings.ToUpper(n.s.Policy().Directory.Name(who)), nil
	}
	return n.s.Policy().Directory.Name(who), nil
}

func (n byName) Read(name string, group bool) (identity.Principal, error) {
	if strings.HasSuffix(name, "@") {
		return n.s.Principal("text", name)
	}
	name, _, _ = strings.Cut(name, "@") // the domain
	if number, err := strconv.ParseUint(name, 10, 32); err == nil {
		d := n.s.Policy().Directory
		if i := d.GroupIndexByGID(uint32(number)); group && i >= 0 {
			return identity.GroupPrincipal(d.Groups()[i].ID), nil
		}
		if i := d.UserIndexByUID(uint32(number)); !group && i >= 0 {
			return identity.UserPrincipal(d.Users()[i].ID), nil
		}
	}
	kind := "user:"
	if group {
		kind = "group:"
	}
	return n.s.Principal("text", kind+name)
}

// bySID spells principals for SDDL. The special ones have SIDs of the standard, MS-DTYP section
// 2.4.2.4; those of users and groups begin with the gateway's own, and end with the number
// of the record.
type bySID struct{ s *Service }

const (
	sidEveryone = "S-1-1-0"
	sidOwner    = "S-1-3-4" // OWNER_RIGHTS
	sidGroup    = "S-1-3-1" // CREATOR_GROUP
	firstUser   = 1 << 28
	firstGroup  = 2 << 28
)

// domain is the gateway's own SID: made from its key, so that it is always the same.
func (b bySID) domain() string {
	sum := b.s.keys.Derive("SID")
	return fmt.Sprintf("S-1-5-21-%d-%d-%d", binary.BigEndian.Uint32(sum[:]), binary.BigEndian.Uint32(sum[4:]), binary.BigEndian.Uint32(sum[8:]))
}

func (b bySID) Spell(who identity.Principal) (string, error) {
	switch who.Kind {
	case identity.KindOwner:
		return sidOwner, nil
	case identity.KindOwningGroup:
		return sidGroup, nil
	case identity.KindEveryone:
		return sidEveryone, nil
	case identity.KindGroup:
		return fmt.Sprintf("%s-%d", b.domain(), firstGroup+int64(who.ID)), nil
	}
	return fmt.Sprintf("%s-%d", b.domain(), firstUser+int64(who.ID)), nil
}

func (b bySID) Read(sid string, _ bool) (identity.Principal, error) {
	switch strings.ToUpper(sid) {
	case "WD", sidEveryone:
		return identity.Everyone, nil
	case "OW", sidOwner:
		return identity.Owner, nil
	case "CG", sidGroup:
		return identity.OwningGroup, nil
	}
	last, ours := strings.CutPrefix(strings.ToUpper(sid), b.domain()+"-")
	n, err := strconv.ParseInt(last, 10, 64)
	d := b.s.Policy().Directory
	switch {
	case !ours || err != nil:
	case n >= firstGroup && d.Group(identity.ID(n-firstGroup)) != nil:
		return identity.GroupPrincipal(identity.ID(n - firstGroup)), nil
	case n >= firstUser && d.User(identity.ID(n-firstUser)) != nil:
		return identity.UserPrincipal(identity.ID(n - firstUser)), nil
	}
	return identity.Principal{}, fmt.Errorf("%s is nobody here", sid)
}

// ListText writes what is explicit on a path in an open form; getfacl's is what the object carries,
// where modes decide.
func (s *Service) ListText(full string, as Format) (string, error) {
	f, at, err := s.place(full)
	if err != nil {
		return "", err
	}
	if as == Getfacl {
		a, ok := s.FactsOf(f).UnixOf(at.Path)
		switch {
		case !f.Unix():
			return "", conflict("format", "amber entry export "+quote(full)+" --format nfs4", "in %s entries decide, which say more than getfacl can", f.Name)
		case !ok:
			return "", notFound("path", "", "%s is not on disk", f.Display(at.Path))
		}
		d := s.Policy().Directory
		return posix.Getfacl(f.Display(at.Path), a, d.UserNumbered, d.GroupNumbered), nil
	}
	if f.Unix() {
		return "", conflict("format", "amber entry export "+quote(full)+" --format getfacl", "in %s owner, group, mode and POSIX ACL decide", f.Name)
	}
	rule := s.rule(f.ID, at.Path)
	switch as {
	case NFS4Text:
		return acl.NFS4Text(rule.Entries, byName{s})
	case SDDL:
		text, err := acl.SDDL(rule.Cut, rule.Entries, bySID{s})
		return text + "\n", err
	}
	return "", invalid("format", "%q is not one of nfs4, sddl, getfacl", as)
}

// ReadListText writes on a path what a text in an open form says, in the place of what is written
// there.
func (s *Service) ReadListText(ctx context.Context, by Actor, full string, as Format, text string) error {
	f, at, err := s.entryPlace(full)
	if err != nil {
		return err
	}
	cut := s.rule(f.ID, at.Path).Cut
	var entries []acl.Entry
	switch as {
	case NFS4Text:
		entries, err = acl.ParseNFS4Text(text, byName{s})
	case SDDL:
		cut, entries, err = acl.ParseSDDL(text, bySID{s})
	default:
		return invalid("format", "%q is not one of nfs4, sddl", as)
	}
	if err != nil {
		return invalid("text", "%v", err)
	}
	if len(entries) > mostEntries {
		return invalid("text", "%d entries are more than a list holds", len(entries))
	}
	return s.SetRule(ctx, by, "read entries from "+string(as), full, cut, entries)
}
