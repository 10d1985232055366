package dcerpc

import (
	"strings"

	"amber.example/gatekeeper/internal/core/descriptor"
)

// Account is a user or a group of the records, as desktops are told of it.
type Account struct {
	Name string
	SID  descriptor.SID
	Kind uint16
	Full string // of a user, the full name
}

// Kinds of accounts, SID_NAME_USE of MS-LSAT section 2.2.13.
const (
	KindUser      = 1
	KindDomain    = 3
	KindGroup     = 4 // a group of one server
	KindWellKnown = 5
	KindUnknown   = 8
)

// Directory is what is told of users and groups.
type Directory struct {
	Name   string         // of the service, which is also what its accounts belong to
	Domain descriptor.SID // to which their SIDs belong
	ByName func(name string) (Account, bool)
	BySID  func(sid descriptor.SID) (Account, bool)
	// All are those of a kind, in the order of their SIDs; false for who may not ask.
	All func(kind uint16) ([]Account, bool)
	// GroupsOf are the groups that somebody is in, of groups' groups too.
	GroupsOf func(sid descriptor.SID) []Account
}

// wellKnown are the accounts of the standard that bear on entries, MS-DTYP section 2.4.2.4.
var wellKnown = []Account{
	{Name: "Everyone", SID: descriptor.Everyone, Kind: KindWellKnown}, {Name: "CREATOR OWNER", SID: descriptor.CreatorOwner, Kind: KindWellKnown},
	{Name: "CREATOR GROUP", SID: descriptor.CreatorGroup, Kind: KindWellKnown}, {Name: "OWNER RIGHTS", SID: descriptor.OwnerRights, Kind: KindWellKnown},
}

// named finds an account by NAME, SERVER\NAME or NAME@SERVER.
func (d *Directory) named(name string) (Account, bool) {
	domain, plain, ok := strings.Cut(name, `\`)
	if !ok {
		if plain, domain, ok = strings.Cut(name, "@"); !ok {
			plain, domain = name, ""
		}
	}
	if domain == "" {
		for _, a := range wellKnown {
			if strings.EqualFold(a.Name, plain) {
				return a, true
			}
		}
	}
	if domain != "" && !strings.EqualFold(domain, d.Name) {
		return Account{}, false
	}
	return d.ByName(plain)
}

func (d *Directory) bySID(sid descriptor.SID) (Account, bool) {
	for _, a := range wellKnown {
		if a.SID == sid {
			return a, true
		}
	}
	if sid == d.Domain {
		return Account{Name: d.Name, SID: sid, Kind: KindDomain}, true
	}
	return d.BySID(sid)
}

// Errors of MS-ERREF section 2.3.1 that calls end with.
const (
	ntOK               = 0
	ntSomeNotMapped    = 0x00000107
	ntInvalidHandle    = 0xc0000008
	ntInvalidParameter = 0xc000000d
	ntAccessDenied     = 0xc0000022
	ntNoSuchUser       = 0xc0000064
	ntNoneMapped       = 0xc0000073
	ntNoSuchDomain     = 0xc00000df
	ntInvalidInfoClass = 0xc0000003
)

// LocalAuthority answers the look-ups of MS-LSAT, and what of MS-LSAD goes before them, on \PIPE\lsarpc.
type LocalAuthority struct{ Directory }

// Operations of MS-LSAT section 3.1.4 and MS-LSAD section 3.1.4.
const (
	lsaClose        = 0
	lsaOpenPolicy   = 6
	lsaQueryPolicy  = 7
	lsaLookupNames  = 14
	lsaLookupSIDs   = 15
	lsaOpenPolicy2  = 44
	lsaQueryPolicy2 = 46
	lsaLookupSIDs2  = 57
	lsaLookupNames2 = 58
	lsaLookupNames3 = 68
)

// policyHandle is the one thing that a client opens here.
var policyHandle = handle{4: 'p', 5: 'o', 6: 'l', 7: 'i', 8: 'c', 9: 'y'}

func (*LocalAuthority) pipe() string     { return "lsarpc" }
func (*LocalAuthority) syntax() [20]byte { return lsarpcSyntax }

func (l *LocalAuthority) call(op uint16, in *reader, w *writer) bool {
	switch op {
	case lsaOpenPolicy, lsaOpenPolicy2: // whoever is signed in may look up names
		w.handle(policyHandle)
		w.u32(ntOK)
		return true
	case lsaClose, lsaQueryPolicy, lsaQueryPolicy2, lsaLookupNames, lsaLookupNames2, lsaLookupNames3, lsaLookupSIDs, lsaLookupSIDs2:
	default:
		return false
	}
	ours := in.handle() == policyHandle
	switch op {
	case lsaClose:
		w.handle(handle{})
		w.u32(orInvalid(ours, ntOK))
	case lsaQueryPolicy, lsaQueryPolicy2:
		l.policy(w, in.u16(), ours)
	case lsaLookupNames, lsaLookupNames2, lsaLookupNames3:
		n := in.count()
		if m := in.count(); m != n {
			in.err = ErrMalformed
		}
		names := in.counted(n)
		if !ours {
			names = nil
		}
		l.lookupNames(w, op, names, ours)
	default:
		sids := in.sids()
		if !ours {
			sids = nil
		}
		l.lookupSIDs(w, op == lsaLookupSIDs2, sids, ours)
	}
	return true
}

func orInvalid(ours bool, status uint32) uint32 {
	if !ours {
		return ntInvalidHandle
	}
	return status
}

// policy is LsarQueryInformationPolicy2, MS-LSAD section 3.1.4.4.4: of which domain this is.
func (l *LocalAuthority) policy(w *writer, class uint16, ours bool) {
	const primary, account, dns = 3, 5, 12
	if !ours || class != primary && class != account && class != dns {
		w.null()
		w.u32(orInvalid(ours, ntInvalidParameter))
		return
	}
	w.pointer(func() {
		w.u16(class)
		w.align(4)
		switch class {
		case account:
			w.counted(l.Name)
			w.pointer(func() { w.sid(l.Domain) })
		case primary: // of none
			w.counted(l.Name)
			w.null()
		case dns:
			for range 3 {
				w.u32(0)
				w.null()
			}
			w.b = append(w.b, make([]byte, 16)...)
			w.null()
		}
	})
	w.whole()
	w.u32(ntOK)
}

// domains writes the LSAPR_REFERENCED_DOMAIN_LIST that answers have, MS-LSAT section 2.2.12: the service's own, and the one without a name to
// which the accounts of the standard belong.
func (l *LocalAuthority) domains(w *writer) {
	const nobodys = descriptor.SID("S-1-1")
	w.pointer(func() {
		w.list(2, func(i int) {
			w.counted([]string{l.Name, ""}[i])
			w.pointer(func() { w.sid([]descriptor.SID{l.Domain, nobodys}[i]) })
		})
		w.u32(2)
	})
	w.whole()
}

// domainOf is which of them an account belongs to; -1 for none.
func domainOf(a Account, known bool) uint32 {
	switch {
	case !known:
		return ^uint32(0)
	case a.Kind == KindWellKnown:
		return 1
	}
	return 0
}

func mapped(found, asked int) uint32 {
	switch {
	case found == asked:
		return ntOK
	case found == 0:
		return ntNoneMapped
	}
	return ntSomeNotMapped
}

// looked ends the answer to a look-up: how many were found of those asked about. What was put off is written (whole) before, since it counts them.
func looked(w *writer, found, asked int, ours bool) {
	w.u32(uint32(found))
	w.u32(orInvalid(ours, mapped(found, asked)))
}

// lookupNames is LsarLookupNames to LsarLookupNames3, MS-LSAT sections 3.1.4.6 to 3.1.4.8.
func (l *LocalAuthority) lookupNames(w *writer, op uint16, names []string, ours bool) {
	l.domains(w)
	found := 0
	w.list(len(names), func(i int) {
		a, known := l.named(names[i])
		if known {
			found++
		} else {
			a.Kind = KindUnknown
		}
		w.align(4)
		w.u16(a.Kind)
		if op == lsaLookupNames3 {
			if known {
				w.pointer(func() { w.sid(a.SID) })
			} else {
				w.null()
			}
		} else {
			rid, _ := a.SID.Within(l.Domain)
			w.u32(rid)
		}
		w.u32(domainOf(a, known))
		if op != lsaLookupNames {
			w.u32(0)
		}
	})
	w.whole()
	looked(w, found, len(names), ours)
}

// lookupSIDs is LsarLookupSids and LsarLookupSids2, MS-LSAT sections 3.1.4.10 and 3.1.4.11.
func (l *LocalAuthority) lookupSIDs(w *writer, flags bool, sids []descriptor.SID, ours bool) {
	l.domains(w)
	found := 0
	w.list(len(sids), func(i int) {
		a, known := l.bySID(sids[i])
		if known {
			found++
		} else {
			a = Account{Name: string(sids[i]), Kind: KindUnknown}
		}
		w.align(4)
		w.u16(a.Kind)
		w.counted(a.Name)
		w.u32(domainOf(a, known))
		if flags {
			w.u32(0)
		}
	})
	w.whole()
	looked(w, found, len(sids), ours)
}
