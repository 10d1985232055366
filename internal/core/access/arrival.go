package access

import (
	"fmt"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Arrival is an NFS request at an export: by which rule it comes in, and as whom. It holds
// for one policy.
type Arrival struct {
	Export *site.PublishedExport
	Origin site.Origin
	Rule   *site.ExportRule // nil: none lets it in
	Said   posix.Credential // what the client says
	Unix   posix.Credential // what it acts as in folders where modes decide
	User   identity.ID      // 0: nobody in the records
	Person identity.Person
	// Mapping is how the one became the other, and Known whether that leads anywhere.
	Mapping Mapping
	Numbers *site.HostNumbers // by which the client's numbers were translated; nil for none
	// Groups says whose list of groups counts: the records' unless the export honours the client's.
	ClientGroups bool
}

// Mapping is what an export makes of a client's uid.
type Mapping uint8

// The kinds of Mapping.
const (
	ByNumber      Mapping = iota // the user who has that uid
	Squashed                     // taken for the anonymous uid, as the rule says for everyone or for root
	AsAnonymous                  // nobody has that uid: anonymous
	AsNumber                     // nobody has that uid: its bare number
	AsRoot                       // uid 0, not squashed: the superuser
	RefusedNumber                // nobody has that uid, and the rule refuses those
	NoNumber                     // the number map of the host has none for the user who asks
	UnsureNumber                 // which number map the host has cannot be told
)

// Arrive finds the rule by which a request comes in and whom it acts as.
func Arrive(p *site.Policy, export *site.PublishedExport, origin site.Origin, said posix.Credential) *Arrival {
	a := comingFrom(p, export, origin)
	a.Said = said
	return arrive(p, a)
}

// comingFrom is an arrival of which it is not known yet who it is.
func comingFrom(p *site.Policy, export *site.PublishedExport, origin site.Origin) *Arrival {
	a := &Arrival{Export: export, Origin: origin, Rule: export.Match(&origin), ClientGroups: export.ClientGroups}
	sure := false
	if a.Numbers, sure = p.NumbersAt(&origin); !sure {
		a.Mapping = UnsureNumber
	}
	return a
}

// ArriveAs is Arrive for a user of the records, by the numbers that the host has for them and their groups.
func ArriveAs(p *site.Policy, export *site.PublishedExport, origin site.Origin, user identity.ID) *Arrival {
	a := comingFrom(p, export, origin)
	numbers, known := a.Numbers, false
	if a.Mapping == UnsureNumber {
		numbers = nil
	}
	if a.Said, known = there(numbers, UnixCredential(p.Directory, user)); known {
		return arrive(p, a)
	}
	a.User = user
	return nobody(p, a)
}

// there is a credential of the records in a host's numbers, less the groups that it has none for; false where it has none for the user.
func there(h *site.HostNumbers, c posix.Credential) (posix.Credential, bool) {
	if h == nil {
		return c, true
	}
	uid, known := h.UserThere(c.UID)
	_, gid := h.Shown(0, c.GID)
	out := posix.Credential{UID: uid, GID: gid}
	if !known {
		out.UID = site.Anonymous
	}
	for _, g := range c.Groups {
		if g, known := h.GroupThere(g); known {
			out.Groups = append(out.Groups, g)
		}
	}
	return out, known
}

// nobody is the arrival of a user for whom the host has no number. By a rule that takes everyone for one, it does not matter which they come by.
func nobody(p *site.Policy, a *Arrival) *Arrival {
	if a.Rule != nil && a.Rule.Squash == site.SquashAll {
		a.User = 0
		return arrive(p, a)
	}
	a.Mapping = NoNumber
	a.Unix = posix.Credential{UID: posix.Nobody, GID: posix.Nobody}
	if i := p.Directory.UserIndex(a.User); i != identity.None {
		a.Person = p.Directory.Person(i)
	}
	return a
}

// ArriveBy is the same for a request that comes in by a given rule, on the terms it wants.
func ArriveBy(p *site.Policy, export *site.PublishedExport, rule *site.ExportRule, said posix.Credential) *Arrival {
	a := &Arrival{Export: export, Origin: site.Origin{Port: 1, Flavor: site.FlavorSys}, Rule: rule, ClientGroups: export.ClientGroups, Numbers: p.NumbersFor(rule)}
	var known bool
	if a.Said, known = there(a.Numbers, said); !known {
		if i := p.Directory.UserIndexByUID(said.UID); i != identity.None {
			a.User = p.Directory.Users()[i].ID
		}
		return nobody(p, a)
	}
	return arrive(p, a)
}

// translated are the client's numbers as those of the records. A group that is nobody's there is nobody's here, and false says so of the user.
func (a *Arrival) translated() (posix.Credential, bool) {
	if a.Numbers == nil {
		return a.Said, true
	}
	group := func(gid uint32) uint32 {
		if gid, known := a.Numbers.GroupHere(gid); known {
			return gid
		}
		return site.Anonymous
	}
	uid, known := a.Numbers.UserHere(a.Said.UID)
	if !known {
		uid = posix.Nobody
	}
	as := posix.Credential{UID: uid, GID: group(a.Said.GID)}
	for _, g := range a.Said.Groups {
		if g, known := a.Numbers.GroupHere(g); known {
			as.Groups = append(as.Groups, g)
		}
	}
	return as, known
}

func arrive(p *site.Policy, a *Arrival) *Arrival {
	said, known := a.translated()
	if a.Rule == nil || a.Mapping == UnsureNumber { // as they would be, so that what else stands in the way can be told
		a.Unix = posix.Credential{UID: posix.Nobody, GID: posix.Nobody}
		if i := p.Directory.UserIndexByUID(said.UID); i != identity.None {
			a.User, a.Person = p.Directory.Users()[i].ID, p.Directory.Person(i)
			a.Unix = UnixCredential(p.Directory, a.User)
		}
		return a
	}
	rule := a.Rule
	as := said
	anonymous := func(m Mapping) {
		a.Mapping = m
		as = posix.Credential{UID: rule.AnonUID, GID: rule.AnonGID}
	}
	if rule.Squash == site.SquashAll || rule.Squash == site.SquashRoot && said.UID == 0 {
		anonymous(Squashed)
	}
	user := p.Directory.UserIndexByUID(as.UID)
	if user == identity.None && a.Mapping == ByNumber {
		switch {
		case !known && rule.Unknown != site.UnknownAnonymous:
			a.Mapping = RefusedNumber // by its bare number it would be somebody else
		case said.UID == 0:
			a.Mapping = AsRoot
		case rule.Unknown == site.UnknownAnonymous:
			anonymous(AsAnonymous)
			user = p.Directory.UserIndexByUID(as.UID)
		case rule.Unknown == site.UnknownNumber:
			a.Mapping = AsNumber
		default:
			a.Mapping = RefusedNumber
		}
	}
	if user != identity.None {
		a.User = p.Directory.Users()[user].ID
	}
	switch {
	case a.ClientGroups && a.Mapping != Squashed && a.Mapping != AsAnonymous:
		if rule.Squash == site.SquashRoot { // nor root's group, under another user's name
			squash := func(gid uint32) uint32 {
				if gid == 0 {
					return rule.AnonGID
				}
				return gid
			}
			groups := make([]uint32, 0, len(as.Groups))
			for _, g := range as.Groups {
				groups = append(groups, squash(g))
			}
			as = posix.Credential{UID: as.UID, GID: squash(as.GID), Groups: groups}
		}
		a.Unix = as
		a.Person = p.Directory.PersonWith(user, append([]uint32{as.GID}, as.Groups...))
	case user != identity.None:
		gids := p.Directory.GIDs(user)
		a.Unix = posix.Credential{UID: as.UID, GID: rule.AnonGID}
		if p.Directory.Users()[user].Primary != 0 && len(gids) > 0 {
			a.Unix.GID, gids = gids[0], gids[1:]
		} else if a.Mapping == Squashed || a.Mapping == AsAnonymous {
			a.Unix.GID = rule.AnonGID
		}
		a.Unix.Groups = gids
		a.Person = p.Directory.Person(user)
	default:
		// Groups of the records are nobody's here: a bare number brings its own group and no more.
		a.Unix = posix.Credential{UID: as.UID, GID: as.GID}
		if rule.Squash == site.SquashRoot && as.GID == 0 && a.Mapping != AsRoot {
			a.Unix.GID = rule.AnonGID
		}
	}
	return a
}

// accepted says whether the mapping leads to anyone who may ask in a folder of that kind.
func (a *Arrival) accepted(unix bool) bool {
	switch a.Mapping {
	case RefusedNumber, NoNumber, UnsureNumber:
		return false
	case AsNumber, AsRoot:
		return unix
	}
	return true
}

// Says is the mapping in words: "uid 2003 is piran".
func (a *Arrival) Says(d *identity.Directory, unix bool) string {
	uid := a.Said.UID
	name := "nobody in the records"
	if a.User != 0 {
		name = d.Name(identity.UserPrincipal(a.User))
	}
	switch a.Mapping {
	case Squashed:
		return fmt.Sprintf("client rule %d takes uid %d for uid %d, %s", a.Rule.Number, uid, a.Unix.UID, name)
	case AsAnonymous:
		return fmt.Sprintf("no user has uid %d: taken for uid %d, %s", uid, a.Unix.UID, name)
	case AsNumber:
		if !unix {
			return fmt.Sprintf("no user has uid %d, and bare numbers count only where Unix modes decide", uid)
		}
		return fmt.Sprintf("no user has uid %d: it acts by its bare number", uid)
	case AsRoot:
		if !unix {
			return "uid 0 is the client's superuser, who counts only where Unix modes decide"
		}
		return "uid 0 is the client's superuser, and is not squashed"
	case RefusedNumber:
		if a.Numbers != nil {
			return fmt.Sprintf("uid %d is nobody's there, by number map %s", uid, a.Numbers.Name)
		}
		return fmt.Sprintf("no user has uid %d", uid)
	case NoNumber:
		return fmt.Sprintf("%s has no number there, by number map %s", name, a.Numbers.Name)
	case UnsureNumber:
		return fmt.Sprintf("whose uid %d is there depends on the host's name, which cannot be looked up just now", uid)
	}
	if a.Numbers.Mapped(uid) {
		return fmt.Sprintf("uid %d there is %s, by number map %s", uid, name, a.Numbers.Name)
	}
	return fmt.Sprintf("uid %d is %s", uid, name)
}

// originLeaves is what the origin gate leaves.
func (a *Arrival) originLeaves() bool {
	if a == nil || a.Rule == nil {
		return false
	}
	return a.flavorTaken() && (!a.Rule.PrivilegedPort || a.Origin.Port < 1024)
}

func (a *Arrival) flavorTaken() bool {
	for _, f := range a.Rule.Security {
		if f == a.Origin.Flavor {
			return true
		}
	}
	return false
}

// MayMount says whether an origin's requests reach an export at all: the origin gate by
// itself, and the service.
func MayMount(p *site.Policy, export *site.PublishedExport, origin *site.Origin) bool {
	a := Arrival{Rule: export.Match(origin), Origin: *origin}
	return p.Services.NFS && a.originLeaves()
}
