package audit

import (
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// nothing stands for an object that is not there: nobody's, and closed.
var nothing = posix.Attributes{UID: posix.Nobody, GID: posix.Nobody}

// Permits is posix.Permits for everybody: who has all the wanted bits at once. anon is the group
// that those are in who have no primary one.
func (a *Audit) Permits(at *posix.Attributes, want, anon uint32) identity.People {
	d := a.Policy.Directory
	out := d.NoPeople()
	if want == 0 {
		copy(out, d.Everybody())
		return out
	}
	rest := d.Everybody().Clone()
	one := func(uid uint32) {
		u := d.UserIndexByUID(uid)
		if u == identity.None || !rest.Has(u) {
			return
		}
		rest.Remove(u)
		if posix.Permits(&posix.Credential{UID: uid, GID: posix.Nobody}, at, want) {
			out.Add(u)
		}
	}
	one(0)
	one(at.UID)
	if at.ACL == nil || at.Mode&0o070 == 0 {
		group := a.inGID(at.GID, anon)
		group.And(rest)
		if want&^(at.Mode>>3) == 0 {
			out.Or(group)
		}
		rest.AndNot(group)
		if want&^at.Mode == 0 {
			out.Or(rest)
		}
		return out
	}
	mask := uint32(7)
	for _, e := range at.ACL {
		if e.Tag == posix.Mask {
			mask = e.Perm
		}
	}
	matched := d.NoPeople()
	for _, e := range at.ACL {
		switch e.Tag {
		case posix.User:
			one(e.ID)
		case posix.GroupObj, posix.Group:
			gid := at.GID
			if e.Tag == posix.Group {
				gid = e.ID
			}
			group := a.inGID(gid, anon)
			group.And(rest)
			matched.Or(group)
			if want&^(e.Perm&mask) == 0 {
				out.Or(group)
			}
		case posix.Other:
			rest.AndNot(matched)
			if want&^e.Perm == 0 {
				out.Or(rest)
			}
		}
	}
	return out
}

// inGID is who is in the group of a number.
func (a *Audit) inGID(gid, anon uint32) identity.People {
	d := a.Policy.Directory
	out := d.NoPeople()
	if g := d.GroupIndexByGID(gid); g >= 0 {
		copy(out, d.Members(g))
	}
	if gid == anon {
		for i, u := range d.Users() {
			if u.Primary == 0 {
				out.Add(int32(i))
			}
		}
	}
	return out
}

// unixLeft is what owner, mode and ACL leave everybody of an object, before shares and client rules. parent is the directory it is in, nil
// for the folder itself.
func (f *folder) unixLeft(kind acl.Kind, at, parent *posix.Attributes, passed identity.People, via site.Protocol, anon uint32) Sets {
	a := f.audit
	out := noSets(a.Policy.Directory, f.parts)
	always, classes := access.UnixClasses(at.Dir)
	for i, atom := range f.parts {
		if atom&always != 0 {
			copy(out.has[i], passed)
		}
	}
	for _, class := range classes {
		who := a.unixHave(access.UnixNeeds(class, at.Dir), at, parent, passed, via, anon)
		for i, atom := range f.parts {
			if atom&class != 0 && who != nil {
				copy(out.has[i], who)
			}
		}
	}
	for _, l := range acl.LevelsOf(kind) {
		if who := a.unixHave(access.UnixNeeds(l.Wants(kind), !kind.File()), at, parent, passed, via, anon); who != nil {
			copy(out.levels[l], who)
		}
	}
	return out
}

// unixHave is who has what a need says; nil for nobody.
func (a *Audit) unixHave(need access.UnixNeed, at, parent *posix.Attributes, passed identity.People, via site.Protocol, anon uint32) identity.People {
	if need.Never || need.Remove && parent == nil {
		return nil
	}
	out := passed.Clone()
	able := a.Policy.Directory.NoPeople()
	ways, n := need.Ways(via, access.InUse)
	for _, way := range ways[:n] {
		if way.Owner {
			able.Or(a.those(0, at.UID))
		} else {
			able.Or(a.Permits(at, way.Bits, anon))
		}
	}
	out.And(able)
	if need.Owner {
		out.And(a.those(0, at.UID))
	}
	if need.Remove {
		out.And(a.Permits(parent, posix.Write|posix.Exec, anon))
		if parent.Mode&posix.Sticky != 0 {
			out.And(a.those(0, at.UID, parent.UID))
		}
	}
	return out
}

// those is the users with some uids.
func (a *Audit) those(uids ...uint32) identity.People {
	out := a.Policy.Directory.NoPeople()
	for _, uid := range uids {
		if u := a.Policy.Directory.UserIndexByUID(uid); u != identity.None {
			out.Add(u)
		}
	}
	return out
}

// unixAt is At where modes decide.
func (f *folder) unixAt(path string) *Standing {
	chain := []string{""}
	if path != "" {
		for name := range strings.SplitSeq(path, "/") {
			chain = append(chain, below(chain[len(chain)-1], name))
		}
	}
	attributes := make([]*posix.Attributes, len(chain))
	for i, at := range chain {
		if attributes[i] = f.attributes(at); attributes[i] == nil {
			attributes[i] = &nothing
		}
	}
	last := len(chain) - 1
	var parent *posix.Attributes
	if last > 0 {
		parent = attributes[last-1]
	}
	return f.unixStanding(path, attributes[last], parent, func(anon uint32) identity.People {
		passed := f.audit.Policy.Directory.Everybody().Clone()
		for _, up := range attributes[:last] {
			passed.And(f.audit.Permits(up, posix.Exec, anon))
		}
		return passed
	})
}

// unixObject is what everybody may do to an object of a comparison: what is at a path, or something below it.
func (f *folder) unixObject(path string, o object) *Standing {
	if o.dist == 0 {
		return f.unixAt(path)
	}
	dir := f.attributes(path)
	if dir == nil {
		dir = &nothing
	}
	at := &posix.Attributes{UID: posix.Nobody, GID: posix.Nobody, Dir: !o.file}
	switch o.own {
	case openToAll:
		at.Mode = 0o777
	case mineUser, byUID:
		at.Mode, at.UID = 0o700, o.uid
	case byGID:
		at.Mode, at.GID = 0o070, o.gid
	}
	passed := func(anon uint32) identity.People {
		return f.unixPassed(path, anon)
	}
	if o.own != mineUser {
		return f.unixStanding(below(path, unnamed), at, dir, passed)
	}
	return f.unixOwn(below(path, unnamed), at, dir, passed)
}

// unixPassed is who gets into a directory.
func (f *folder) unixPassed(path string, anon uint32) identity.People {
	passed := f.audit.Policy.Directory.Everybody().Clone()
	for at := path; ; at = at[:max(0, strings.LastIndexByte(at, '/'))] {
		dir := f.attributes(at)
		if dir == nil {
			dir = &nothing
		}
		passed.And(f.audit.Permits(dir, posix.Exec, anon))
		if at == "" {
			return passed
		}
	}
}

// unixOwn is what everybody may do to an object of mode 0700 that is their own.
func (f *folder) unixOwn(path string, at, parent *posix.Attributes, passed func(anon uint32) identity.People) *Standing {
	d := f.audit.Policy.Directory
	kind := acl.KindOf(path, !at.Dir)
	left := func(anon uint32) *Sets {
		out := noSets(d, f.parts)
		able := passed(anon)
		remove := able.Clone()
		remove.And(f.audit.Permits(parent, posix.Write|posix.Exec, anon))
		always, classes := access.UnixClasses(at.Dir)
		for _, class := range append(classes, always) {
			for i, atom := range f.parts {
				switch {
				case atom&class == 0:
				case class == acl.Delete:
					copy(out.has[i], remove)
				default:
					copy(out.has[i], able)
				}
			}
		}
		out.count(d, kind)
		return &out
	}
	return f.unixThrough(path, kind, true, func(_ site.Protocol, anon uint32) *Sets { return left(anon) }, func(user int32) *posix.Attributes {
		own := *at
		own.UID = d.Users()[user].UID
		return &own
	})
}

// standIn are facts in which something of given attributes is at a path.
type standIn struct {
	access.Facts
	path string
	unix *posix.Attributes
}

func (s standIn) UnixOf(path string) (*posix.Attributes, bool) {
	if path == s.path {
		return s.unix, true
	}
	if s.Facts == nil {
		return nil, false
	}
	return s.Facts.UnixOf(path)
}

// unixStanding puts together what mode, shares and client rules leave. passed says who may come as
// far as the object.
func (f *folder) unixStanding(path string, at, parent *posix.Attributes, passed func(anon uint32) identity.People) *Standing {
	kind := acl.KindOf(path, !at.Dir)
	if at == &nothing {
		kind = acl.Directory
	}
	type way struct {
		via  site.Protocol
		anon uint32
	}
	known := make(map[way]*Sets)
	own := func(via site.Protocol, anon uint32) *Sets {
		if have := known[way{via, anon}]; have != nil {
			return have
		}
		left := f.unixLeft(kind, at, parent, passed(anon), via, anon)
		known[way{via, anon}] = &left
		return &left
	}
	return f.unixThrough(path, kind, false, own, func(int32) *posix.Attributes { return at })
}

// unixThrough puts together what shares and client rules leave of own. For whom a client rule makes somebody else of, the gates are asked about an
// object with the attributes that as gives. With theirs it is each user's own.
func (f *folder) unixThrough(path string, kind acl.Kind, theirs bool, own func(via site.Protocol, anon uint32) *Sets, as func(user int32) *posix.Attributes) *Standing {
	s := f.noStanding(kind)
	for _, share := range f.Shares {
		got := f.throughShare(share, own(site.SMB, site.Anonymous), kind)
		s.SMB.or(&got)
	}
	for i, rule := range f.rules {
		if !inExport(f.of[i], path) {
			continue
		}
		anon := rule.AnonGID
		if f.of[i].ClientGroups {
			anon = site.Anonymous
		}
		var alike func(int32) int32
		if theirs { // an object is the arriving one's, or not
			d := f.audit.Policy.Directory
			alike = func(user int32) int32 {
				if d.Users()[user].UID == rule.AnonUID {
					return user
				}
				return identity.None
			}
		}
		got := f.throughRule(i, rule, own(site.NFS, anon), kind, func(user int32) acl.Had {
			at := as(user)
			return f.decideBy(i, rule, user, standIn{f.facts, path, at}, path, kind)
		}, alike)
		s.NFS.or(&got)
	}
	return s
}
