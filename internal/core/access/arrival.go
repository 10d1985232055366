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
)

// Arrive finds the rule by which a request comes in and whom it acts as.
func Arrive(p *site.Policy, export *site.PublishedExport, origin site.Origin, said posix.Credential) *Arrival {
	return arrive(p, &Arrival{Export: export, Origin: origin, Said: said, Rule: export.Match(&origin), ClientGroups: export.ClientGroups})
}

// ArriveBy is the same for a request that comes in by a given rule, on the terms it wants.
func ArriveBy(p *site.Policy, export *site.PublishedExport, rule *site.ExportRule, said posix.Credential) *Arrival {
	return arrive(p, &Arrival{Export: export, Origin: site.Origin{Port: 1, Flavor: site.FlavorSys}, Said: said, Rule: rule, ClientGroups: export.ClientGroups})
}

func arrive(p *site.Policy, a *Arrival) *Arrival {
	said := a.Said
	if a.Rule == nil { // as they would be, so that what else stands in the way can be told
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
	case RefusedNumber:
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
		return fmt.Sprintf("no user has uid %d", uid)
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
