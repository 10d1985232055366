package dcerpc

import (
	"strings"

	"amber.example/gatekeeper/internal/core/descriptor"
)

// AccountManager answers those calls of MS-SAMR on \PIPE\samr by which desktops find users and groups and say who is in what. Nothing is changed
// by it. Names are found by whoever is signed in; lists of all are for those whom the Directory gives them to.
type AccountManager struct{ Directory }

// Operations of MS-SAMR section 3.1.5.
const (
	samrConnect          = 0
	samrClose            = 1
	samrLookupDomain     = 5
	samrEnumerateDomains = 6
	samrOpenDomain       = 7
	samrEnumerateGroups  = 11
	samrEnumerateUsers   = 13
	samrEnumerateAliases = 15
	samrAliasMembership  = 16
	samrLookupNames      = 17
	samrLookupIDs        = 18
	samrOpenUser         = 34
	samrQueryUser        = 36
	samrGroupsOfUser     = 39
	samrConnect2         = 57
	samrConnect4         = 62
	samrConnect5         = 64
)

const builtin descriptor.SID = "S-1-5-32" // where there is nobody

// What handles are of: a kind, and for a user the number.
const (
	ofServer  = 's'
	ofDomain  = 'd'
	ofBuiltin = 'b'
	ofUser    = 'u'
)

func handleOf(kind byte, rid uint32) (h handle) {
	copy(h[4:], "accounts")
	h[12] = kind
	le.PutUint32(h[16:], rid)
	return h
}

// is says what a handle is of; 0 for one that was never given.
func (h handle) is() (kind byte, rid uint32) {
	kind, rid = h[12], le.Uint32(h[16:])
	if h != handleOf(kind, rid) || !strings.ContainsRune("sdbu", rune(kind)) || rid != 0 && kind != ofUser {
		return 0, 0
	}
	return kind, rid
}

func (*AccountManager) pipe() string     { return "samr" }
func (*AccountManager) syntax() [20]byte { return samrSyntax }

func (m *AccountManager) call(op uint16, in *reader, w *writer) bool {
	opened := func(h handle, status uint32) {
		w.handle(h)
		w.u32(status)
	}
	switch op {
	case samrConnect, samrConnect2, samrConnect4:
		opened(handleOf(ofServer, 0), ntOK)
		return true
	case samrConnect5: // MS-SAMR section 3.1.5.1.1: with the revision that both have
		w.u32(1)
		w.u32(1)
		w.u32(3)
		w.u32(0)
		opened(handleOf(ofServer, 0), ntOK)
		return true
	case samrClose, samrLookupDomain, samrEnumerateDomains, samrOpenDomain, samrEnumerateGroups, samrEnumerateUsers, samrEnumerateAliases, samrAliasMembership,
		samrLookupNames, samrLookupIDs, samrOpenUser, samrQueryUser, samrGroupsOfUser:
	default:
		return false
	}
	kind, rid := in.handle().is()
	inDomain, inAny := kind == ofDomain, kind == ofDomain || kind == ofBuiltin
	switch op {
	case samrClose:
		opened(handle{}, orInvalid(kind != 0, ntOK))
	case samrLookupDomain:
		m.lookupDomain(w, in.counted(1)[0], kind == ofServer)
	case samrEnumerateDomains:
		m.enumerate(w, in.u32(), []Account{{Name: m.Name}, {Name: "Builtin"}}, orInvalid(kind == ofServer, ntOK))
	case samrOpenDomain:
		in.u32()
		switch sid := in.sid(); {
		case kind != ofServer:
			opened(handle{}, ntInvalidHandle)
		case sid == m.Domain:
			opened(handleOf(ofDomain, 0), ntOK)
		case sid == builtin:
			opened(handleOf(ofBuiltin, 0), ntOK)
		default:
			opened(handle{}, ntNoSuchDomain)
		}
	case samrEnumerateUsers, samrEnumerateGroups, samrEnumerateAliases:
		m.enumerateAccounts(w, op, in.u32(), kind)
	case samrLookupNames:
		m.lookupNames(w, in.counted(in.varying()), inAny, inDomain)
	case samrLookupIDs:
		rids := make([]uint32, in.varying())
		for i := range rids {
			rids[i] = in.u32()
		}
		m.lookupIDs(w, rids, inAny, inDomain)
	case samrOpenUser:
		in.u32()
		id := in.u32()
		a, known := m.BySID(m.Domain.In(id))
		switch {
		case !inAny:
			opened(handle{}, ntInvalidHandle)
		case !inDomain || !known || a.Kind != KindUser:
			opened(handle{}, ntNoSuchUser)
		default:
			opened(handleOf(ofUser, id), ntOK)
		}
	case samrQueryUser:
		m.queryUser(w, in.u16(), rid, kind == ofUser)
	case samrGroupsOfUser:
		groups := []Account{}
		if kind == ofUser {
			groups = m.GroupsOf(m.Domain.In(rid))
		}
		const enabled = 0x7 // mandatory, by default, in force
		w.pointer(func() {
			w.list(len(groups), func(i int) {
				id, _ := groups[i].SID.Within(m.Domain)
				w.u32(id)
				w.u32(enabled)
			})
		})
		w.whole()
		w.u32(orInvalid(kind == ofUser, ntOK))
	case samrAliasMembership:
		m.memberships(w, in.sids(), inDomain, inAny)
	}
	return true
}

// lookupDomain is SamrLookupDomainInSamServer, MS-SAMR section 3.1.5.11.1.
func (m *AccountManager) lookupDomain(w *writer, name string, ours bool) {
	sid := descriptor.SID("")
	switch {
	case strings.EqualFold(name, m.Name):
		sid = m.Domain
	case strings.EqualFold(name, "Builtin"):
		sid = builtin
	}
	if sid == "" || !ours {
		w.null()
		w.u32(orInvalid(ours, ntNoSuchDomain))
		return
	}
	w.pointer(func() { w.sid(sid) })
	w.whole()
	w.u32(ntOK)
}

// enumerate writes an enumeration from where the one before ended, MS-SAMR section 3.1.5.2.
func (m *AccountManager) enumerate(w *writer, from uint32, all []Account, status uint32) {
	const moreEntries = 0x00000105
	if status != ntOK {
		all = nil
	}
	rest := all[min(int(from), len(all)):]
	if len(rest) > most {
		rest, status = rest[:most], moreEntries
	}
	w.u32(from + uint32(len(rest)))
	w.pointer(func() {
		w.list(len(rest), func(i int) {
			rid, _ := rest[i].SID.Within(m.Domain)
			w.u32(rid)
			w.counted(rest[i].Name)
		})
	})
	w.whole()
	w.u32(uint32(len(rest)))
	w.u32(status)
}

func (m *AccountManager) enumerateAccounts(w *writer, op uint16, from uint32, in byte) {
	var all []Account
	status := uint32(ntOK)
	switch {
	case in == ofBuiltin:
	case in != ofDomain:
		status = ntInvalidHandle
	case op == samrEnumerateGroups: // they are all groups of this server: aliases
	default:
		kind := uint16(KindUser)
		if op == samrEnumerateAliases {
			kind = KindGroup
		}
		var may bool
		if all, may = m.All(kind); !may {
			status = ntAccessDenied
		}
	}
	m.enumerate(w, from, all, status)
}

// lookupNames is SamrLookupNamesInDomain, MS-SAMR section 3.1.5.11.2.
func (m *AccountManager) lookupNames(w *writer, names []string, ours, any bool) {
	ids, kinds := make([]uint32, len(names)), make([]uint32, len(names))
	found := 0
	for i, name := range names {
		a, known := Account{}, false
		if any {
			a, known = m.ByName(name)
		}
		if kinds[i] = KindUnknown; known {
			found++
			ids[i], _ = a.SID.Within(m.Domain)
			kinds[i] = uint32(a.Kind)
		}
	}
	if !ours || found == 0 {
		ids, kinds = nil, nil
	}
	for _, list := range [][]uint32{ids, kinds} {
		w.list(len(list), func(i int) { w.u32(list[i]) })
		w.whole()
	}
	w.u32(orInvalid(ours, mapped(found, len(names))))
}

// lookupIDs is SamrLookupIdsInDomain, MS-SAMR section 3.1.5.11.3.
func (m *AccountManager) lookupIDs(w *writer, rids []uint32, ours, any bool) {
	names, kinds := make([]string, len(rids)), make([]uint32, len(rids))
	found := 0
	for i, rid := range rids {
		a, known := Account{}, false
		if any {
			a, known = m.BySID(m.Domain.In(rid))
		}
		if kinds[i] = KindUnknown; known {
			found++
			names[i], kinds[i] = a.Name, uint32(a.Kind)
		}
	}
	if !ours || found == 0 {
		names, kinds = nil, nil
	}
	w.list(len(names), func(i int) { w.counted(names[i]) })
	w.whole()
	w.list(len(kinds), func(i int) { w.u32(kinds[i]) })
	w.whole()
	w.u32(orInvalid(ours, mapped(found, len(rids))))
}

// queryUser is SamrQueryInformationUser, MS-SAMR section 3.1.5.5.6: the names.
func (m *AccountManager) queryUser(w *writer, class uint16, rid uint32, ours bool) {
	const bothNames, accountName, fullName = 6, 7, 8
	a, known := m.BySID(m.Domain.In(rid))
	if !ours || !known || class < bothNames || class > fullName {
		w.null()
		switch {
		case !ours:
			w.u32(ntInvalidHandle)
		case !known:
			w.u32(ntNoSuchUser)
		default:
			w.u32(ntInvalidInfoClass)
		}
		return
	}
	w.pointer(func() {
		w.u16(class)
		w.align(4)
		if class != fullName {
			w.counted(a.Name)
		}
		if class != accountName {
			w.counted(a.Full)
		}
	})
	w.whole()
	w.u32(ntOK)
}

// memberships is SamrGetAliasMembership, MS-SAMR section 3.1.5.9.2: the groups that any of these are in.
func (m *AccountManager) memberships(w *writer, sids []descriptor.SID, any, ours bool) {
	var in []uint32
	seen := make(map[uint32]bool)
	for _, sid := range sids {
		if !any {
			break
		}
		for _, g := range m.GroupsOf(sid) {
			if rid, ok := g.SID.Within(m.Domain); ok && !seen[rid] {
				seen[rid] = true
				in = append(in, rid)
			}
		}
	}
	w.list(len(in), func(i int) { w.u32(in[i]) })
	w.whole()
	w.u32(orInvalid(ours, ntOK))
}
