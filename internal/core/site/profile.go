package site

import (
	"slices"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
)

// Profile is a named set of what people are given: groups, services, a role, a limit, and for how long. A personal folder goes with its group.
type Profile struct {
	ID          int64         `json:"id,omitzero"`
	Name        string        `json:"name,omitzero"`
	Description string        `json:"description,omitzero"`
	Groups      []identity.ID `json:"groups,omitzero"`
	SMB         bool          `json:"smb,omitzero"`
	NFS         bool          `json:"nfs,omitzero"`
	Console     bool          `json:"console,omitzero"`
	Role        identity.Role `json:"role,omitzero"`
	HardBytes   *int64        `json:"hardBytes,omitzero"` // a limit on what each has stored in all; nil for none
	EndsAfter   int           `json:"endsAfter,omitzero"` // days after the first; 0 for never
}

// ProfileNamed finds a profile by name, whatever its case; nil where there is none.
func ProfileNamed(all []Profile, name string) *Profile {
	return profileWhere(all, func(p *Profile) bool { return identity.Fold(p.Name) == identity.Fold(name) })
}

// ProfileOf finds the profile that a user has; nil where they have none.
func ProfileOf(all []Profile, u *identity.User) *Profile {
	return profileWhere(all, func(p *Profile) bool { return p.ID == u.Profile })
}

func profileWhere(all []Profile, is func(*Profile) bool) *Profile {
	for i := range all {
		if is(&all[i]) {
			return &all[i]
		}
	}
	return nil
}

// ProfileName names the profile that a user has; "" for none.
func ProfileName(all []Profile, u *identity.User) string {
	if p := ProfileOf(all, u); p != nil {
		return p.Name
	}
	return ""
}

// Ends is when an account ends that is given the profile at a moment, or begins later; the zero time for never.
func (p *Profile) Ends(starts, now time.Time) time.Time {
	if p.EndsAfter == 0 {
		return time.Time{}
	}
	from := now
	if starts.After(from) {
		from = starts
	}
	return from.AddDate(0, 0, p.EndsAfter).UTC().Truncate(time.Second)
}

// Shape gives a user what the profile says of the record itself: services and role, and, where they did not have the profile before, when they end, if
// nothing else is said of that.
func (p *Profile) Shape(u *identity.User, now time.Time) {
	if u.Profile != p.ID && u.Expires.IsZero() {
		u.Expires = p.Ends(u.Starts, now)
	}
	u.Profile, u.SMB, u.NFS, u.Console, u.Role = p.ID, p.SMB, p.NFS, p.Console, p.Role
}

// Bind gives a user the limit of the profile; limits are those that users have in all, by user, and are kept up. Without one in the profile, what they have
// stays.
func (p *Profile) Bind(d *Draft, id identity.ID, limits map[identity.ID]limit.Limit) {
	if p.HardBytes == nil {
		return
	}
	l, ok := limits[id]
	if !ok {
		l = limit.Limit{Kind: limit.OfUser, User: id, Bounds: limit.Bounds{GraceSeconds: int64(limit.DefaultGrace / time.Second)}}
	}
	if l.HardBytes != nil && *l.HardBytes == *p.HardBytes {
		return
	}
	hard := *p.HardBytes
	l.HardBytes = &hard
	if l.SoftBytes != nil && *l.SoftBytes > hard {
		l.SoftBytes = nil
	}
	l.ID = Put(d, l)
	limits[id] = l
}

// LimitsInAll are the limits that users have on what they have stored in all, by user.
func LimitsInAll(r Records) map[identity.ID]limit.Limit {
	out := make(map[identity.ID]limit.Limit)
	for _, l := range r.Limits {
		if l.Kind == limit.OfUser && l.Volume == 0 && l.Folder == 0 {
			out[l.User] = l
		}
	}
	return out
}

// Reprofile gives all who have a profile what it says now; was is what it said before. Groups that it says no more they leave.
func Reprofile(d *Draft, was, is *Profile, now time.Time) (people int) {
	limits := LimitsInAll(d.Records())
	those := make(map[identity.Principal]bool)
	for _, u := range slices.Clone(d.is.Users) {
		if u.Profile != is.ID || !u.Left.IsZero() {
			continue
		}
		people++
		is.Shape(&u, now)
		Put(d, u)
		is.Bind(d, u.ID, limits)
		those[identity.UserPrincipal(u.ID)] = true
	}
	for _, id := range was.Groups {
		if g, ok := Get[identity.Group](d, int64(id)); ok && !slices.Contains(is.Groups, id) {
			g.Members = Without(g.Members, func(m identity.Principal) bool { return those[m] })
			Put(d, g)
		}
	}
	for _, id := range is.Groups {
		g, ok := Get[identity.Group](d, int64(id))
		if !ok {
			continue
		}
		in := make(map[identity.Principal]bool)
		for _, m := range g.Members {
			in[m] = true
		}
		g.Members = slices.Clone(g.Members)
		for _, u := range d.is.Users { // in the order of the records
			if who := identity.UserPrincipal(u.ID); those[who] && !in[who] && u.Primary != id {
				g.Members = append(g.Members, who)
			}
		}
		Put(d, g)
	}
	return people
}
