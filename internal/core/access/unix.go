package access

import (
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// The RFC 8881 bits that each permission bit of a mode stands for.
const (
	unixRead      = acl.ReadData | acl.ReadNamedAttrs
	unixWriteFile = acl.WriteData | acl.AppendData | acl.WriteNamedAttrs
	unixWriteDir  = acl.AddFile | acl.AddSubdirectory | acl.DeleteChild | acl.WriteNamedAttrs
	unixAlways    = acl.ReadAttributes | acl.ReadACL | acl.Synchronize
	unixOwner     = acl.WriteAttributes | acl.WriteACL | acl.WriteOwner
)

// UnixClasses parts the rights that modes decide about by what they take: those of one class are granted together or not at all. Rights that
// everybody has who gets as far as the object are the first.
func UnixClasses(dir bool) (always acl.Mask, others []acl.Mask) {
	writes := unixWriteFile
	if dir {
		writes = unixWriteDir
	}
	return unixAlways, []acl.Mask{unixRead, acl.Execute, writes, unixOwner, acl.Delete}
}

// unixCredential is as whom a request acts where modes decide.
func unixCredential(p *site.Policy, r *Request) posix.Credential {
	if r.NFS != nil {
		return r.NFS.Unix
	}
	return UnixCredential(p.Directory, r.User)
}

// UnixCredential gives the numbers of a user of the records.
func UnixCredential(d *identity.Directory, user identity.ID) posix.Credential {
	u := d.User(user)
	if u == nil {
		return posix.Credential{UID: posix.Nobody, GID: posix.Nobody}
	}
	c := posix.Credential{UID: u.UID, GID: site.Anonymous, Groups: d.GIDs(d.UserIndex(user))}
	if u.Primary != 0 {
		c.GID, c.Groups = c.Groups[0], c.Groups[1:]
	}
	return c
}

// bitsWanted is what of Read, Write and Exec a mask needs.
func bitsWanted(want acl.Mask, dir bool) uint32 {
	var bits uint32
	if want&unixRead != 0 {
		bits |= posix.Read
	}
	switch {
	case dir && want&(acl.AddFile|acl.AddSubdirectory|acl.DeleteChild) != 0:
		bits |= posix.Write | posix.Exec // to change what is in a directory takes both at once
	case want&(unixWriteFile|acl.DeleteChild) != 0:
		bits |= posix.Write
	}
	if want&acl.Execute != 0 {
		bits |= posix.Exec
	}
	return bits
}

// unixMask is what a credential may do to an object, each thing by itself. parent is the
// directory it is in, nil at the folder's root.
func unixMask(c *posix.Credential, a, parent *posix.Attributes, via site.Protocol, at Stage) acl.Mask {
	m, classes := UnixClasses(a.Dir)
	for _, bits := range classes {
		if bits&(unixOwner|acl.Delete) == 0 && unixPermits(c, a, bits, via, at) {
			m |= bits
		}
	}
	if posix.Owns(c, a) {
		m |= unixOwner
	}
	if parent != nil && posix.MayRemove(c, parent, a.UID) {
		m |= acl.Delete
	}
	return m
}

// gone stands for what is not there: nobody's, and closed.
var gone = posix.Attributes{UID: posix.Nobody, GID: posix.Nobody}

func walkUnix(p *site.Policy, r *Request, v *Verdict, pass func(Gate, acl.Mask), rec *recorder) {
	who := unixCredential(p, r)
	passed := acl.All
	var parent *posix.Attributes
	at, rest := "", r.Path
	for {
		a := &gone
		if r.Facts != nil {
			if known, ok := r.Facts.UnixOf(at); ok {
				a = known
			}
		}
		if at == r.Path {
			allowed := unixMask(&who, a, parent, r.Via, r.At)
			// Single bits may come from different groups, and then are not had together.
			if !unixPermits(&who, a, r.Want&allowed, r.Via, r.At) {
				allowed &^= r.Want & (unixRead | unixWriteFile | acl.DeleteChild | acl.Execute)
			}
			pass(Path, passed)
			if rec != nil {
				rec.path(passed)
			}
			pass(Entry, allowed)
			if rec != nil {
				rec.mode(&who, a, allowed)
			}
			return
		}
		if !posix.Permits(&who, a, posix.Exec) {
			passed = 0
		}
		if rec != nil {
			rec.modeAncestor(&who, a, at)
		}
		parent = a
		name := rest
		for i := range len(rest) {
			if rest[i] == '/' {
				name = rest[:i]
				break
			}
		}
		rest = rest[min(len(rest), len(name)+1):]
		at = r.Path[:len(r.Path)-len(rest)]
		if rest != "" {
			at = at[:len(at)-1]
		}
	}
}

// UnixNeed is what it takes, where modes decide, to be granted a mask: the permission bits that must
// be had at once, to own the object, to be allowed to take it out of its directory. Never is
// set where nobody can have it.
type UnixNeed struct {
	Bits                      uint32
	Owner, Remove, Never, Dir bool
}

// UnixNeeds spells out a mask for a directory or a file.
func UnixNeeds(want acl.Mask, dir bool) UnixNeed {
	can := unixAlways | unixRead | acl.Execute | unixOwner | acl.Delete | unixWriteFile
	if dir {
		can |= unixWriteDir
	}
	return UnixNeed{Dir: dir, Bits: bitsWanted(want, dir), Owner: want&unixOwner != 0, Remove: want&acl.Delete != 0, Never: want&^can != 0}
}
