package service

import (
	"encoding/binary"
	"fmt"
	"strings"

	"amber.example/gatekeeper/internal/core/descriptor"
	"amber.example/gatekeeper/internal/core/identity"
)

// SIDs spells users and groups as security identifiers: the special ones have those of the standard, MS-DTYP section 2.4.2.4; those of users and groups
// begin with the service's own, and end with the number of the record. They stay the same whatever is renamed, and wherever the service is restored.
type SIDs struct{ s *Service }

// SIDs gives them.
func (s *Service) SIDs() SIDs { return SIDs{s} }

const (
	firstUser  = 1 << 28
	firstGroup = 2 << 28
)

// Domain is the service's own SID: made from its key, so that it is always the same.
func (n SIDs) Domain() descriptor.SID {
	sum := n.s.keys.Derive("SID")
	return descriptor.SID(fmt.Sprintf("S-1-5-21-%d-%d-%d", binary.BigEndian.Uint32(sum[:]), binary.BigEndian.Uint32(sum[4:]), binary.BigEndian.Uint32(sum[8:])))
}

// SID is descriptor.Names'.
func (n SIDs) SID(who identity.Principal) descriptor.SID {
	switch who.Kind {
	case identity.KindOwner:
		return descriptor.OwnerRights
	case identity.KindOwningGroup:
		return descriptor.CreatorGroup
	case identity.KindEveryone:
		return descriptor.Everyone
	case identity.KindGroup:
		return n.Domain().In(uint32(firstGroup + int64(who.ID)))
	}
	return n.Domain().In(uint32(firstUser + int64(who.ID)))
}

// Who is descriptor.Names'.
func (n SIDs) Who(sid descriptor.SID) (identity.Principal, bool) {
	d := n.s.Policy().Directory
	if number, group, ok := sid.Unix(); ok {
		if i := d.GroupIndexByGID(number); group && i != identity.None {
			return identity.GroupPrincipal(d.Groups()[i].ID), true
		}
		if i := d.UserIndexByUID(number); !group && i != identity.None {
			return identity.UserPrincipal(d.Users()[i].ID), true
		}
		return identity.Principal{}, false
	}
	rid, ours := sid.Within(n.Domain())
	switch {
	case !ours:
	case rid >= firstGroup && d.Group(identity.ID(rid-firstGroup)) != nil:
		return identity.GroupPrincipal(identity.ID(rid - firstGroup)), true
	case rid >= firstUser && rid < firstGroup && d.User(identity.ID(rid-firstUser)) != nil:
		return identity.UserPrincipal(identity.ID(rid - firstUser)), true
	}
	return identity.Principal{}, false
}

// Spell is acl.Speller's.
func (n SIDs) Spell(who identity.Principal) (string, error) { return string(n.SID(who)), nil }

// Read is acl.Speller's; it knows the short forms of MS-DTYP section 2.5.1.1 besides.
func (n SIDs) Read(text string, _ bool) (identity.Principal, error) {
	sid := descriptor.SID(strings.ToUpper(text))
	switch sid {
	case "WD", descriptor.Everyone:
		return identity.Everyone, nil
	case "OW", descriptor.OwnerRights:
		return identity.Owner, nil
	case "CG", descriptor.CreatorGroup:
		return identity.OwningGroup, nil
	}
	if who, ok := n.Who(sid); ok {
		return who, nil
	}
	return identity.Principal{}, fmt.Errorf("%s is nobody here", text)
}
