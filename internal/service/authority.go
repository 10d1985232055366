package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// Who is no administrator may change what their role, or what they own, lets them. That is decided by what would be other in the records, and not by the way
// it was asked for: one change, a set of them, an import and an undo are looked at alike.

// mayChange says who may begin a change at all.
func (s *Service) mayChange(by Actor, action string) error {
	if !s.asOf.IsZero() {
		return &Error{Kind: Forbidden, Message: "what is past cannot be changed"}
	}
	if by.Role == identity.Auditor {
		return &Error{Kind: Forbidden, Message: fmt.Sprintf("%s may look but not change: only an administrator can %s", by.Name, action)}
	}
	return nil
}

// mustAdminister refuses everybody but administrators.
func (s *Service) mustAdminister(by Actor, action string) error {
	if err := s.mayChange(by, action); err != nil || administers(by) {
		return err
	}
	return authority{by: by}.refused(action, "an administrator")
}

// administers says whether somebody may change whatever there is.
func administers(by Actor) bool { return by.Role == identity.Administrator || by.Role == entitled }

// MayMake says why somebody may not make the changes that a draft holds, which has been tried out; nil where they may.
func (s *Service) MayMake(by Actor) error {
	if administers(by) {
		return nil
	}
	d := s.drafting.draft
	changes, err := d.Changes()
	if err != nil {
		return err
	}
	return s.drafting.of.mayWrite(by, d, changes)
}

// mayWrite says why somebody may not have records become others; nil where they may.
func (s *Service) mayWrite(by Actor, d *site.Draft, changes []site.Change) error {
	if administers(by) {
		return nil
	}
	a := authority{s, by, s.force.Load().policy}
	if slices.ContainsFunc(d.Effects(), func(e site.Effect) bool { return e.Act != site.RenameOwn }) { // which goes with a name, and follows from it
		return a.refused("alter what is on disk", "an administrator")
	}
	for _, c := range changes {
		if err := a.over(c); err != nil {
			return err
		}
	}
	return nil
}

// authority is what somebody who is no administrator may change.
type authority struct {
	s      *Service
	by     Actor
	policy *site.Policy
}

func (a authority) refused(what, takes string) error {
	return &Error{Kind: Forbidden, Message: fmt.Sprintf("%s may not %s: that takes %s", a.by.Name, what, takes)}
}

// Controls says whether a user may decide about the entries on FOLDER or FOLDER/PATH; nobody may on what is not there.
func (s *Service) Controls(user identity.ID, full string) bool {
	f, at, err := s.place(full)
	return err == nil && s.controls(s.Policy(), f, at.Path, user)
}

// ControlsFolder says whether a user may decide about the entries on a folder.
func (s *Service) ControlsFolder(user identity.ID, f *site.PublishedFolder) bool {
	return s.controls(s.Policy(), f, "", user)
}

func (s *Service) controls(p *site.Policy, f *site.PublishedFolder, path string, user identity.ID) bool {
	return access.Controls(p, f, path, user, s.FactsOf(f), s.Now())
}

// Trying says whether what is changed is only tried out.
func (s *Service) Trying() bool { return s.tried() }

// over says why one record may not become another.
func (a authority) over(c site.Change) error {
	switch c.Kind {
	case "user":
		return a.overUser(c)
	case "group":
		return a.overGroup(c)
	case "rule":
		return a.overRule(c)
	case "token":
		was, is, err := beforeAndAfter[site.Token](c)
		if err != nil || is.User == a.by.ID && is.Role.Within(a.by.Role) && (was.User == 0 || was.User == a.by.ID) || is.User == 0 && was.User == a.by.ID {
			return err
		}
	case "profile":
		was, is, err := beforeAndAfter[site.Profile](c)
		if err != nil || a.by.Role == identity.Operator && was.Role == identity.NoRole && is.Role == identity.NoRole {
			return err
		}
	case "limit", "id list", "retired number":
		if a.by.Role == identity.Operator {
			return nil
		}
	}
	return a.refused("change that ("+c.Kind+")", "an administrator")
}

// beforeAndAfter reads what a record was and is; a record that was not, or is no more, is the zero value.
func beforeAndAfter[T any](c site.Change) (was, is T, err error) {
	for _, one := range []struct {
		raw  json.RawMessage
		into *T
	}{{c.Before, &was}, {c.After, &is}} {
		if err == nil && len(one.raw) > 0 && string(one.raw) != "null" {
			err = json.Unmarshal(one.raw, one.into)
		}
	}
	return was, is, err
}

// overUser lets operators at accounts without a role, and gives none.
func (a authority) overUser(c site.Change) error {
	was, is, err := beforeAndAfter[identity.User](c)
	switch {
	case err != nil:
		return err
	case a.by.Role != identity.Operator:
		return a.refused("change users", "an operator or an administrator")
	case was.Role != is.Role:
		return a.refused("give or take roles", "an administrator")
	case was.Role != identity.NoRole:
		return a.refused(fmt.Sprintf("change %s, who is %s", was.Name, plain.WithArticle(string(was.Role))), "an administrator")
	case is.ID != 0 && (was.ID == 0 || is.UID != was.UID) && identity.Reserved(is.UID):
		return a.refused(fmt.Sprintf("give uid %d, which is reserved (below %d, 65534 and 4294967295)", is.UID, identity.FirstNumber), "an administrator")
	case is.Primary != 0 && is.Primary != was.Primary:
		return a.joins(cmp.Or(is.Name, was.Name), is.Primary)
	}
	return nil
}

// mayAlter says why somebody may not change a user's record at all; nil where they may. It looks at nothing but the two.
func (s *Service) mayAlter(by Actor, user *identity.User) error {
	if err := s.mayChange(by, "change users"); err != nil || administers(by) {
		return err
	}
	raw, err := json.Marshal(user)
	if err != nil {
		return err
	}
	return authority{s, by, s.known()}.overUser(site.Change{Kind: "user", ID: int64(user.ID), Before: raw, After: raw})
}

// within says whether a group is another, or in it.
func within(d *identity.Directory, group, other identity.ID) bool {
	i, j := d.GroupIndex(group), d.GroupIndex(other)
	return group == other || i != identity.None && j != identity.None && d.GroupPerson(i).In(j)
}

// joins says why somebody may not be put into a group: whoever is in it decides about permissions, directly or through a group that contains it.
func (a authority) joins(who string, group identity.ID) error {
	d := a.policy.Directory
	for _, f := range a.policy.Folders {
		for i := range f.Rules {
			for j := range f.Rules[i].Entries {
				e := &f.Rules[i].Entries[j]
				if e.Deny || (e.Bits(true)|e.Bits(false))&(acl.WriteACL|acl.WriteOwner) == 0 || e.Ended(a.s.Now()) {
					continue
				}
				controls := identity.ID(0)
				switch e.Who.Kind {
				case identity.KindGroup:
					controls = e.Who.ID
				case identity.KindOwningGroup:
					controls = f.Group
				}
				if controls != 0 && within(d, group, controls) {
					return a.refused(fmt.Sprintf("put %s into %s, which decides about the permissions of %s", who, d.Name(identity.GroupPrincipal(group)), f.Display(f.Rules[i].Path)), "an administrator")
				}
			}
		}
	}
	return nil
}

// overGroup lets operators at groups, and the owners of one at who is in it. Whoever puts a group into it has to own that as well.
func (a authority) overGroup(c site.Change) error {
	was, is, err := beforeAndAfter[identity.Group](c)
	if err != nil {
		return err
	}
	for _, m := range is.Members {
		if is.ID != 0 && !slices.Contains(was.Members, m) {
			if err := a.joins(a.policy.Directory.Name(m), is.ID); err != nil {
				return err
			}
		}
	}
	if is.ID != 0 && (was.ID == 0 || is.GID != was.GID) && identity.Reserved(is.GID) {
		return a.refused(fmt.Sprintf("give gid %d, which is reserved (below %d, 65534 and 4294967295)", is.GID, identity.FirstNumber), "an administrator")
	}
	if a.by.Role == identity.Operator {
		return nil
	}
	if !a.owns(was.ID) || len(c.After) == 0 {
		return a.refused("change the group "+cmp.Or(was.Name, is.Name), "who owns it, an operator or an administrator")
	}
	for _, m := range is.Members {
		if m.Kind == identity.KindGroup && !slices.Contains(was.Members, m) && !a.owns(m.ID) {
			return a.refused(fmt.Sprintf("put %s into %s", a.policy.Directory.Name(m), was.Name), "who owns both groups, an operator or an administrator")
		}
	}
	was.Members, is.Members = nil, nil
	if !sameRecord(was, is) {
		return a.refused("change more of "+was.Name+" than who is in it", "an operator or an administrator")
	}
	return nil
}

// sameRecord says whether two records are written down alike.
func sameRecord(x, y any) bool {
	a, err := json.Marshal(x)
	b, err2 := json.Marshal(y)
	return err == nil && err2 == nil && string(a) == string(b)
}

// owns says whether somebody owns a group, themselves or as one of a group that does.
func (a authority) owns(id identity.ID) bool { return OwnsGroup(a.policy.Directory, id, a.by.ID) }

// OwnsGroup says whether a user owns a group, themselves or as one of a group that does.
func OwnsGroup(d *identity.Directory, group, user identity.ID) bool {
	g := d.Group(group)
	return g != nil && slices.ContainsFunc(g.Owners, func(o identity.Principal) bool {
		if o.Kind == identity.KindGroup {
			return d.Member(d.UserIndex(user), d.GroupIndex(o.ID))
		}
		return o == identity.UserPrincipal(user)
	})
}

// overRule lets those who hold control of a path at what is written there.
func (a authority) overRule(c site.Change) error {
	was, is, err := beforeAndAfter[site.RuleRecord](c)
	if err != nil {
		return err
	}
	for _, r := range []site.RuleRecord{was, is} {
		if r.FolderID == 0 {
			continue
		}
		f := a.policy.Folder(r.FolderID)
		if f == nil || !a.s.controls(a.policy, f, r.Path, a.by.ID) {
			at := "that folder"
			if f != nil {
				at = f.Display(r.Path)
			}
			return a.refused("decide about "+at, "control there, or an administrator")
		}
	}
	return nil
}
