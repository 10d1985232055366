// Package command spells what an administrator types: the commands that fix something, and those that set a limit.
package command

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

func quote(s string) string { return plain.Word(s) }

// Of spells a fix as what an administrator types.
func Of(m access.Fix) string {
	switch m.Kind {
	case access.FixEnable:
		return "amber user set " + quote(m.User) + " --enable"
	case access.FixExtend:
		return "amber user set " + quote(m.User) + " --ends never"
	case access.FixHolding:
		return "amber holding remove " + quote(m.Path)
	case access.FixHandOver:
		return fmt.Sprintf("amber ids hand-over %d USER", m.UID)
	case access.FixBegin:
		return "amber user set " + quote(m.User) + " --starts now"
	case access.FixProtocol:
		return fmt.Sprintf("amber user set %s --%s on", quote(m.User), Word(m.Protocol))
	case access.FixService:
		return "amber service on " + Word(m.Protocol)
	case access.FixUser:
		return fmt.Sprintf("amber user add NAME --uid %d", m.UID)
	case access.FixRule:
		return fmt.Sprintf("amber export rule add %s %s", quote(m.Export), m.From)
	case access.FixShareHost:
		return fmt.Sprintf("amber share set %s --hosts %s", quote(m.Share), quote(m.From))
	case access.FixRuleWrite:
		return fmt.Sprintf("amber %s rule set %s %d --rw", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixMode:
		return fmt.Sprintf("amber mode set %s %04o", quote(m.Path), m.Mode)
	case access.FixRuleRemove:
		return fmt.Sprintf("amber %s rule remove %s %d", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixRuleSquash:
		return fmt.Sprintf("amber %s rule set %s %d --squash root", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixRuleUnknown:
		return fmt.Sprintf("amber %s rule set %s %d --unknown refused", ruleOwner(m), quote(cmp.Or(m.Set, m.Export)), m.Rule)
	case access.FixClear:
		return "amber entry clear " + quote(m.Path)
	case access.FixFolderRemove:
		return "amber folder remove " + quote(m.Path)
	case access.FixGroupRemove:
		return "amber group remove " + quote(m.User)
	case access.FixNumber:
		if m.Group {
			return fmt.Sprintf("amber group set %s --gid %d", quote(m.User), m.UID)
		}
		return fmt.Sprintf("amber user set %s --uid %d", quote(m.User), m.UID)
	case access.FixNumberMap:
		return fmt.Sprintf("amber ids map add %s --from %s --like %s", quote(m.From), quote(m.From), quote(m.From))
	case access.FixLimit:
		return OfLimit("set", m.Limit) + boundFlags(m.Bounds)
	case access.FixLimitRemove:
		return OfLimit("remove", m.Limit)
	case access.FixCounting:
		return "amber volume set " + quote(m.Volume) + " --counting size"
	case access.FixPublish:
		if m.Protocol == site.NFS {
			return "amber export add " + quote(m.Path)
		}
		return "amber share add " + quote(m.Path)
	case access.FixReadWrite:
		return "amber share set " + quote(m.Share) + " --read-only=false"
	case access.FixGuests:
		return "amber share set " + quote(m.Share) + " --guests"
	case access.FixNoGuests:
		return "amber share set " + quote(m.Share) + " --guests=false"
	case access.FixShareAllow:
		return fmt.Sprintf("amber share entry add %s allow %s %s", quote(m.Share), quote(m.User), acl.GrantText(m.Level, m.Mask))
	case access.FixShareRemove:
		return fmt.Sprintf("amber share entry remove %s %d", quote(m.Share), m.EntryID)
	case access.FixRemove:
		return fmt.Sprintf("amber entry remove %s %d", quote(m.Path), m.EntryID)
	case access.FixAllow:
		act, applies := "allow", m.Applies
		if m.Deny {
			act = "deny"
		}
		if m.HereOnly {
			applies = acl.Here
		}
		c := fmt.Sprintf("amber entry add %s %s %s %s", quote(m.Path), act, quote(m.User), acl.GrantText(m.Level, m.Mask))
		if applies != 0 && applies != acl.Everywhere {
			c += " --applies " + strings.Join(applies.Names(), ",")
		}
		return c
	}
	return ""
}

// ruleOwner is the command whose rule a fix is about.
func ruleOwner(m access.Fix) string {
	if m.Set != "" {
		return "hosts"
	}
	return "export"
}

// Word is how a protocol is written in commands and the API.
func Word(p site.Protocol) string {
	if p == site.NFS {
		return "nfs"
	}
	return "smb"
}

// OfLimit spells a command about a limit.
func OfLimit(verb string, n access.LimitName) string {
	c := "amber limit " + verb + " " + string(n.Kind)
	if n.Name != "" {
		c += " " + quote(n.Name)
	}
	if n.Volume != "" {
		c += " --volume " + quote(n.Volume)
	}
	if n.Folder != "" {
		c += " --folder " + quote(n.Folder)
	}
	return c
}

func boundFlags(b limit.Bounds) (c string) {
	for _, f := range []struct {
		flag  string
		to    *int64
		bytes bool
	}{{"soft", b.SoftBytes, true}, {"hard", b.HardBytes, true}, {"soft-files", b.SoftFiles, false}, {"hard-files", b.HardFiles, false}} {
		if f.to != nil {
			c += fmt.Sprintf(" --%s %s", f.flag, Bound(*f.to, f.bytes))
		}
	}
	return c
}

// Bound spells a bound so that it reads back as the same number.
func Bound(n int64, bytes bool) string {
	if bytes {
		for _, u := range []struct {
			of   int64
			name string
		}{{1e15, "PB"}, {1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
			if n >= u.of && n%(u.of/10) == 0 {
				return strconv.FormatFloat(float64(n)/float64(u.of), 'f', -1, 64) + u.name
			}
		}
	}
	return strconv.FormatInt(n, 10)
}
