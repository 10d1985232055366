package access

import (
	"fmt"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// arrival reports the account gate of NFS: which user this uid is at this host.
func (c *recorder) arrival(nfs *Arrival, u *identity.User, leaves acl.Mask) {
	says := nfs.Says(c.policy.Directory, c.request.Folder.Unix())
	switch {
	case nfs.User == 0 || nfs.Mapping == NoNumber:
	case nfs.ClientGroups:
		says += "; groups as the client lists them"
	default:
		says += "; groups as in the records"
	}
	record := ""
	if u != nil {
		record = "user " + u.Name
	}
	var fixes []Fix
	switch {
	case leaves != 0 && u != nil && !u.Expires.IsZero():
		says += ", enabled until " + moment(u.Expires)
	case leaves != 0 || nfs.Mapping == NoNumber || nfs.Mapping == UnsureNumber:
	case u == nil:
		if nfs.Numbers == nil && !nfs.accepted(c.request.Folder.Unix()) && nfs.Said.UID != 0 {
			fixes = append(fixes, Fix{Kind: FixUser, UID: nfs.Said.UID})
		}
	case u.Disabled:
		says += ", who is disabled"
		fixes = c.letWork(u)
	case !u.Begun(c.request.Now):
		says += ", whose account begins at " + moment(u.Starts)
		fixes = c.letWork(u)
	default:
		says += ", whose account ended at " + moment(u.Expires)
		fixes = c.letWork(u)
	}
	c.add(Account, leaves, record, says, fixes...)
}

// ofSet spells which hosts a rule is about, and which host set it is of.
func ofSet(l *site.ExportRule) string {
	if l.Set != "" {
		return l.From + ", of host set " + l.Set + ","
	}
	return l.From
}

func (l ruleName) String() string {
	return fmt.Sprintf("client rule %d of %s", l.rule.Number, l.export)
}

type ruleName struct {
	rule   *site.ExportRule
	export string
}

// Terms spells what a client rule lets its hosts do: "rw, root squashed to 65534:65534".
func Terms(r *site.ClientRule) string {
	parts := []string{"ro"}
	if r.Write {
		parts[0] = "rw"
	}
	switch r.Squash {
	case site.SquashRoot:
		parts = append(parts, fmt.Sprintf("root squashed to %d:%d", r.AnonUID, r.AnonGID))
	case site.SquashAll:
		parts = append(parts, fmt.Sprintf("all squashed to %d:%d", r.AnonUID, r.AnonGID))
	default:
		parts = append(parts, "root not squashed")
	}
	switch r.Unknown {
	case site.UnknownAnonymous:
		parts = append(parts, "unknown uids anonymous")
	case site.UnknownNumber:
		parts = append(parts, "unknown uids by number")
	default:
		parts = append(parts, "unknown uids refused")
	}
	if r.PrivilegedPort {
		parts = append(parts, "privileged port")
	}
	return strings.Join(parts, ", ")
}

func (c *recorder) origin(leaves acl.Mask) {
	nfs := c.request.NFS
	from := saysOrigin(&nfs.Origin, nfs.Rule == nil || nfs.Rule.ByName())
	if nfs.Rule == nil {
		c.add(Origin, leaves, "export "+nfs.Export.Path, fmt.Sprintf("no client rule of %s matches %s", nfs.Export.Path, from),
			Fix{Kind: FixRule, Export: nfs.Export.Path, From: nfs.Origin.Address.String(), Touches: "everybody at " + nfs.Origin.Address.String()})
		return
	}
	name := ruleName{nfs.Rule, nfs.Export.Path}.String()
	switch {
	case !nfs.flavorTaken():
		c.add(Origin, leaves, name, fmt.Sprintf("it matches %s (%s), and does not take security flavour %s", from, nfs.Rule.From, nfs.Origin.Flavor))
	case leaves == 0:
		c.add(Origin, leaves, name, fmt.Sprintf("it matches %s (%s), and wants a source port below 1024, not %d", from, nfs.Rule.From, nfs.Origin.Port))
	default:
		c.add(Origin, leaves, name, fmt.Sprintf("%s is the first that matches %s", ofSet(nfs.Rule), from))
	}
}

func (c *recorder) export(leaves acl.Mask) {
	nfs := c.request.NFS
	if nfs.Rule == nil {
		c.add(ShareLevel, leaves, "export "+nfs.Export.Path, "no client rule, so there is none to limit anything")
		return
	}
	name := ruleName{nfs.Rule, nfs.Export.Path}.String()
	if nfs.Rule.Write {
		c.add(ShareLevel, leaves, name, "it is read-write and adds no limits of its own")
		return
	}
	var fixes []Fix
	if c.short(leaves) {
		fixes = append(fixes, Fix{Kind: FixRuleWrite, Export: nfs.Export.Path, Set: nfs.Rule.Set, Rule: nfs.Rule.ID, Touches: "everybody at " + nfs.Rule.From})
	}
	c.add(ShareLevel, leaves, name, "it is read-only", fixes...)
}

// Ls spells the mode of an object as ls does, with a plus for an ACL: "drwxrwsr-x+".
func Ls(a *posix.Attributes) string {
	kind := "-"
	if a.Dir {
		kind = "d"
	}
	b := []byte(kind + posix.Bits(a.Mode>>6) + posix.Bits(a.Mode>>3) + posix.Bits(a.Mode))
	for _, s := range []struct {
		bit   uint32
		at    int
		x, no byte
	}{{posix.SetUID, 3, 's', 'S'}, {posix.SetGID, 6, 's', 'S'}, {posix.Sticky, 9, 't', 'T'}} {
		if a.Mode&s.bit == 0 {
			continue
		}
		if b[s.at] == 'x' {
			b[s.at] = s.x
		} else {
			b[s.at] = s.no
		}
	}
	if a.ACL != nil || a.Default != nil {
		b = append(b, '+')
	}
	return string(b)
}

// Class says as what the mode of an object meets a credential.
func Class(who *posix.Credential, a *posix.Attributes) string {
	switch {
	case who.UID == 0:
		return "as the superuser"
	case who.UID == a.UID:
		return "as the owner"
	case a.ACL != nil && a.Mode&0o070 != 0:
		return "by its ACL"
	case who.In(a.GID):
		return fmt.Sprintf("as a member of group %d", a.GID)
	}
	return "as one of the others"
}

func (c *recorder) subject() string {
	if nfs := c.request.NFS; nfs != nil && nfs.User == 0 {
		return fmt.Sprintf("uid %d", nfs.Unix.UID)
	} else if nfs != nil {
		return c.policy.Directory.Name(identity.UserPrincipal(nfs.User))
	}
	return c.userName()
}

func (c *recorder) owners(a *posix.Attributes) string {
	d := c.policy.Directory
	user, group := fmt.Sprintf("uid %d", a.UID), fmt.Sprintf("gid %d", a.GID)
	if i := d.UserIndexByUID(a.UID); i >= 0 {
		user = d.Users()[i].Name
	}
	if i := d.GroupIndexByGID(a.GID); i >= 0 {
		group = d.Groups()[i].Name
	}
	return user + ", " + group
}

func (c *recorder) modeAncestor(who *posix.Credential, a *posix.Attributes, at string) {
	note := ancestorNote{path: at, passed: posix.Permits(who, a, posix.Exec)}
	if !note.passed {
		note.mode = fmt.Sprintf("%s (%s) does not let %s pass %s", Ls(a), c.owners(a), c.subject(), Class(who, a))
		note.fix, note.touches = fixMode(who, a, posix.Exec), c.modeTouches(who, a)
	}
	c.ancestors = append(c.ancestors, note)
}

// modeTouches says whom a change of those bits of a mode by which a credential is met concerns besides; "" for nobody.
func (c *recorder) modeTouches(who *posix.Credential, a *posix.Attributes) string {
	switch {
	case who.UID == a.UID:
		return c.squashedToo()
	case who.In(a.GID):
		_, group, _ := strings.Cut(c.owners(a), ", ")
		return "everybody in group " + group
	}
	return "everybody who is neither its owner nor in its group"
}

// fixMode is the mode that would give a credential some bits: those of the class
// by which it is met.
func fixMode(who *posix.Credential, a *posix.Attributes, bits uint32) uint32 {
	switch {
	case who.UID == a.UID:
		bits <<= 6
	case who.In(a.GID):
		bits <<= 3
	}
	return a.Mode | bits
}

func (c *recorder) mode(who *posix.Credential, a *posix.Attributes, leaves acl.Mask) {
	r := c.request
	where := r.Folder.Display(r.Path)
	if a == &gone {
		c.add(Entry, leaves, where, "it is not there, so there is no mode to decide by")
		return
	}
	each := posix.Each(who, a)
	reason := fmt.Sprintf("%s (%s) gives %s %s %s", Ls(a), c.owners(a), c.subject(), posix.Bits(each), Class(who, a))
	var fixes []Fix
	if missing := bitsWanted(r.Want&^leaves, a.Dir) &^ each; c.short(leaves) && missing != 0 && a.ACL == nil {
		fixes = append(fixes, Fix{Kind: FixMode, Path: where, Mode: fixMode(who, a, missing), Touches: c.modeTouches(who, a)})
	} else if c.short(leaves) && missing == 0 {
		if r.Want&^leaves&unixOwner != 0 {
			reason += "; only the owner may change mode and times"
		} else if r.Want&^leaves&acl.Delete != 0 {
			reason += "; the directory it is in keeps it from being removed"
		} else {
			reason += ", but not all of it at once"
		}
	}
	c.add(Entry, leaves, where, reason, fixes...)
}
