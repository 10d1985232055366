package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

// Power is something other than rights on paths that a change gives somebody or takes from them: a role, a service, a token, the uid of the
// superuser, membership in a group that owns a folder, or a quota.
type Power struct {
	User  identity.ID // 0 where it is nobody's alone
	Gains bool
	Says  string // "wren gets the role administrator"
}

// maxPowers bounds how many are told one by one.
const maxPowers = 1000

// Powers lists what people gain and lose beside rights on paths, in the order of their names. More than maxPowers are counted in a last one.
func (c *Comparison) Powers() []Power {
	w := &powers{Comparison: c, had: foldersOf(c.before), has: foldersOf(c.after)}
	for n, id := range c.ids {
		var was, is identity.User
		if c.was[n] != identity.None {
			was = *c.before.Policy.Directory.User(id)
		}
		if c.is[n] != identity.None {
			is = *c.after.Policy.Directory.User(id)
		}
		w.user(id, was, is)
	}
	w.tokens()
	slices.SortStableFunc(w.out, func(a, b Power) int { return cmp.Compare(a.Says, b.Says) })
	w.quotas()
	if more := len(w.out) - maxPowers; more > 0 {
		gains := slices.ContainsFunc(w.out[maxPowers:], func(p Power) bool { return p.Gains })
		w.out = append(w.out[:maxPowers], Power{Gains: gains, Says: fmt.Sprintf("and %d more changes of roles, services, numbers and groups", more)})
	}
	return w.out
}

type powers struct {
	*Comparison
	out      []Power
	had, has map[identity.ID][]string // names of the folders that each group owns, before and after
}

// foldersOf names the folders that each group owns.
func foldersOf(a *Audit) map[identity.ID][]string {
	out := make(map[identity.ID][]string)
	for _, f := range a.Policy.Folders {
		out[f.Group] = append(out[f.Group], f.Name)
	}
	return out
}

func (w *powers) say(user identity.ID, gains bool, format string, args ...any) {
	w.out = append(w.out, Power{user, gains, fmt.Sprintf(format, args...)})
}

// user compares one account. Where there is none on a side, or it is not in force, nothing is had there.
func (w *powers) user(id identity.ID, was, is identity.User) {
	name := cmp.Or(is.Name, was.Name)
	had, has := was.ID != 0 && was.InForce(w.before.Now), is.ID != 0 && is.InForce(w.after.Now)
	if !had {
		was.Role, was.SMB, was.NFS, was.Console = identity.NoRole, false, false, false
	}
	if !has {
		is.Role, is.SMB, is.NFS, is.Console = identity.NoRole, false, false, false
	}
	if was.Role != is.Role {
		if is.Role != identity.NoRole {
			w.say(id, rank(is.Role) > rank(was.Role), "%s gets the role %s", name, is.Role)
		} else {
			w.say(id, false, "%s loses the role %s", name, was.Role)
		}
	}
	for _, s := range []struct {
		was, is bool
		what    string
	}{{was.SMB, is.SMB, "use SMB"}, {was.NFS, is.NFS, "use NFS"}, {was.Console, is.Console, "sign in to the console"}} {
		switch {
		case s.was == s.is || was.ID == 0 || is.ID == 0: // what an account may use comes and goes with it
		case s.is:
			w.say(id, true, "%s may %s", name, s.what)
		default:
			w.say(id, false, "%s may no longer %s", name, s.what)
		}
	}
	if root := is.ID != 0 && is.UID == 0; root != (was.ID != 0 && was.UID == 0) {
		if root {
			w.say(id, true, "%s gets uid 0 and is the superuser wherever owner and mode decide", name)
		} else {
			w.say(id, false, "%s is no longer the superuser (uid 0)", name)
		}
	}
	if w.sameSite {
		return
	}
	before, after := owned(w.before, w.had, id), owned(w.after, w.has, id)
	for _, group := range after {
		if !slices.Contains(before, group) {
			w.say(id, true, "%s joins group %s", name, group)
		}
	}
	for _, group := range before {
		if !slices.Contains(after, group) {
			w.say(id, false, "%s leaves group %s", name, group)
		}
	}
}

// rank orders roles by what they may do.
func rank(r identity.Role) int {
	return slices.Index([]identity.Role{identity.NoRole, identity.Auditor, identity.Operator, identity.Administrator}, r)
}

// owned lists the groups of a user that own folders, with what they own.
func owned(a *Audit, folders map[identity.ID][]string, id identity.ID) (out []string) {
	d := a.Policy.Directory
	if d.UserIndex(id) == identity.None {
		return nil
	}
	for _, g := range d.MemberOf(id) {
		if names := folders[g.ID]; len(names) > 0 {
			out = append(out, fmt.Sprintf("%s, which owns %s", g.Name, strings.Join(names, ", ")))
		}
	}
	return out
}

func (w *powers) tokens() {
	index := func(list []site.Token) map[int64]site.Token {
		out := make(map[int64]site.Token, len(list))
		for _, t := range list {
			out[t.ID] = t
		}
		return out
	}
	was, is := index(w.before.Policy.Tokens), index(w.after.Policy.Tokens)
	for id, t := range is {
		if _, known := was[id]; !known {
			w.say(t.User, true, "a program can act as %s by token %q", w.after.Policy.Directory.Name(identity.UserPrincipal(t.User)), t.Name)
		}
	}
	for id, t := range was {
		if _, known := is[id]; !known {
			w.say(t.User, false, "no program can act as %s by token %q any more", w.before.Policy.Directory.Name(identity.UserPrincipal(t.User)), t.Name)
		}
	}
}

// quotas tells of hard limits that come, go, rise or fall.
func (w *powers) quotas() {
	index := func(a *Audit) map[int64]*limit.Limit {
		out := make(map[int64]*limit.Limit)
		for i := range a.Policy.Limits.Limits {
			l := &a.Policy.Limits.Limits[i]
			out[l.ID] = l
		}
		return out
	}
	was, is := index(w.before), index(w.after)
	spell := func(d limit.Dimension, l *limit.Limit) string {
		if l == nil {
			return "none"
		}
		if hard, ok := l.Hard(d); ok {
			return d.Spell(hard)
		}
		return "none"
	}
	// Without a hard limit of their own people have what the defaults say, or no bound: told as it stands in the record.
	tell := func(p *site.Policy, one, before, after *limit.Limit) {
		for d := range limit.Dimensions {
			x, y := spell(d, before), spell(d, after)
			if x == y {
				continue
			}
			gains := y == "none"
			if x != "none" && y != "none" {
				from, _ := before.Hard(d)
				to, _ := after.Hard(d)
				gains = to > from
			}
			w.say(one.User, gains, "the hard limit of %s becomes %s; it was %s", access.LimitSubject(p, one), y, x)
		}
		if before == nil && after.Kind == limit.OfUser && after.HardBytes == nil && after.HardFiles == nil {
			w.say(one.User, true, "the quota of %s has no hard limit, so that no default binds", access.LimitSubject(p, one))
		}
	}
	for i := range w.after.Policy.Limits.Limits {
		l := &w.after.Policy.Limits.Limits[i]
		tell(w.after.Policy, l, was[l.ID], l)
	}
	for i := range w.before.Policy.Limits.Limits {
		if l := &w.before.Policy.Limits.Limits[i]; is[l.ID] == nil {
			tell(w.before.Policy, l, l, nil)
		}
	}
}
