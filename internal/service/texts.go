package service

import (
	"context"
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
		text, err := acl.SDDL(rule.Cut, rule.Entries, SIDs{s})
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
		cut, entries, err = acl.ParseSDDL(text, SIDs{s})
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
