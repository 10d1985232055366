// Package identity holds who exists: users, groups within groups, and the
// compiled directory that answers "is she a member of that" without walking.
//
// It is pure: no clock, no storage, no network.
package identity

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/layered"
)

// ID is the number of a user's or group's record, at least 1. Users and groups
// are numbered apart. It never changes and is never reused, unlike names and uids.
type ID int64

// Kind says which sort of principal is meant.
type Kind uint8

// The kinds of principal. The last three are the special identifiers of
// RFC 8881 section 6.2.1.5 and depend on the object they are asked about.
const (
	KindUser Kind = iota + 1
	KindGroup
	KindOwner
	KindOwningGroup
	KindEveryone
)

// Principal names whom an entry is about. ID is set for users and groups only.
type Principal struct {
	Kind Kind `json:"kind,omitzero"`
	ID   ID   `json:"id,omitzero"`
}

// The special principals of RFC 8881 section 6.2.1.5.
var (
	Owner       = Principal{Kind: KindOwner}
	OwningGroup = Principal{Kind: KindOwningGroup}
	Everyone    = Principal{Kind: KindEveryone}
)

// UserPrincipal names one user.
func UserPrincipal(id ID) Principal { return Principal{KindUser, id} }

// GroupPrincipal names one group.
func GroupPrincipal(id ID) Principal { return Principal{KindGroup, id} }

// Role is what an account may do in the console and over the API.
type Role string

// The roles. Most users have none: they store files and never sign in.
const (
	NoRole        Role = ""
	Administrator Role = "administrator"
	Operator      Role = "operator" // looks after people, limits and sessions; decides about no entries and no roles
	Auditor       Role = "auditor"  // reads everything, changes nothing
)

// User is one account. It works from Starts on, where that is not zero, and until Expires, the first moment at which it no longer does; zero means
// never. Primary is a group's ID and counts as a membership.
type User struct {
	Role     Role      `json:"role,omitzero"`
	ID       ID        `json:"id,omitzero"`
	Name     string    `json:"name,omitzero"`
	FullName string    `json:"fullName,omitzero"`
	UID      uint32    `json:"uid,omitzero"`
	Primary  ID        `json:"primary,omitzero"`
	Service  bool      `json:"service,omitzero"`
	Disabled bool      `json:"disabled,omitzero"`
	Starts   time.Time `json:"starts,omitzero"`
	Expires  time.Time `json:"expires,omitzero"`
	SMB      bool      `json:"smb,omitzero"`  // which protocols the account may use
	NFS      bool      `json:"nfs,omitzero"`  // which protocols the account may use
	Mail     string    `json:"mail,omitzero"` // an address
	// Console says that the account may sign in to the console for what is its own. Who has a role may in any case.
	Console     bool   `json:"console,omitzero"`
	Description string `json:"description,omitzero"`
	// Password is the number of what a password is checked with, which is in no record; 0 where there is none. Each password has a number
	// of its own.
	Password int64 `json:"password,omitzero"`
	// MustChange says that the password opens nothing but the way to another: it was set by somebody else.
	MustChange bool `json:"mustChange,omitzero"`
	// PasswordSet is when it was set, zero where that is not known; PastPasswords are the numbers of those before, the latest first.
	PasswordSet   time.Time `json:"passwordSet,omitzero"`
	PastPasswords []int64   `json:"pastPasswords,omitzero"`
	// Codes is the number of what one-time codes are checked with, which is in no record; 0 where the account has none.
	Codes int64 `json:"codes,omitzero"`
	// Profile is the number of the profile that the user was given, 0 for none.
	Profile int64 `json:"profile,omitzero"`
	// Left is when the user left, zero for who has not; Leaving is what is to be done on the day on which they will.
	Left    time.Time `json:"left,omitzero"`
	Leaving *Leaving  `json:"leaving,omitzero"`
	Labelled
}

// Leaving is how somebody leaves: when, who succeeds them, 0 for nobody, and whether what they own on disk passes to that one too.
type Leaving struct {
	On    time.Time `json:"on,omitzero"`
	To    ID        `json:"to,omitzero"`
	Files bool      `json:"files,omitzero"`
	Hold  int64     `json:"hold,omitzero"`  // the folder in which what they own on disk is kept; 0 for none
	Until time.Time `json:"until,omitzero"` // until when; zero for no day
}

// MayUseConsole says whether the account may sign in to the console, in whatever role.
func (u *User) MayUseConsole() bool { return u.Console || u.Role != NoRole }

// OnlyOwns says that nobody signs in as the account, by any way: it owns, and that is all.
func (u *User) OnlyOwns() bool { return u.Service && !u.SMB && !u.NFS && !u.MayUseConsole() }

// Begun says whether the account's first day has come.
func (u *User) Begun(now time.Time) bool { return !now.Before(u.Starts) }

// Ended says whether the account's end date has passed.
func (u *User) Ended(now time.Time) bool { return !u.Expires.IsZero() && !now.Before(u.Expires) }

// InForce says whether the account works.
func (u *User) InForce(now time.Time) bool { return !u.Disabled && u.Begun(now) && !u.Ended(now) }

// Group is a set of users and of other groups.
type Group struct {
	ID          ID          `json:"id,omitzero"`
	Name        string      `json:"name,omitzero"`
	GID         uint32      `json:"gid,omitzero"`
	Description string      `json:"description,omitzero"`
	Members     []Principal `json:"members,omitzero"` // of KindUser or KindGroup
	Owners      []Principal `json:"owners,omitzero"`  // who decide who is in it, whatever their role; of KindUser or KindGroup
	Labelled
}

// Errors that Compile wraps, to be told apart with errors.Is.
var (
	ErrCycle     = errors.New("groups contain each other in a circle")
	ErrDuplicate = errors.New("used twice")
	ErrAbsent    = errors.New("does not exist")
)

// None is the dense index of nobody.
const None int32 = -1

// Directory is the compiled form: every user and group has a dense index, and each user's groups, direct or through others, are a list
// of theirs. It is immutable and safe for any number of readers; what Next makes of one shares with it what it does not alter.
type Directory struct {
	users       []User
	groups      []Group
	userByID    byID
	groupByID   byID
	userByName  layered.Index[string]
	groupByName layered.Index[string]
	userByUID   layered.Index[uint32]
	groupByGID  layered.Index[uint32]
	primary     layered.List[int32]       // by user index: the primary group, or None
	direct      layered.List[[]int32]     // by user index: groups that list the user, primary first
	memberOf    layered.List[*groupSet]   // by user index
	listed      layered.List[[]Principal] // by group index: its members, as they were compiled
	primaryOf   layered.List[[]int32]     // by group index: the users whose primary group it is
	above       layered.List[*groupSet]   // by group index: it and every group that contains it
	members     layered.List[*lazyPeople] // by group index: every user in it
	everybody   *lazyPeople
}

// The numbers that are given to who is given none: from the first of people, by common custom, up to those of the system's own.
const (
	FirstNumber  = 1000
	endOfNumbers = 60000
)

// Reserved says whether a uid or gid is the superuser's, nobody's, a system account's, or the one that means "leave it" to chown(2): numbers that
// stand for somebody on every client.
func Reserved(number uint32) bool {
	return number < FirstNumber || number == 65534 || number == 1<<32-1
}

// NextUID is the number above all that people have in the range in which numbers are chosen; NextGID is the same for groups.
func (d *Directory) NextUID() uint32 {
	return nextNumber(d.users, func(u *User) uint32 { return u.UID })
}

// NextGID is NextUID for groups.
func (d *Directory) NextGID() uint32 {
	return nextNumber(d.groups, func(g *Group) uint32 { return g.GID })
}

func nextNumber[T any](all []T, number func(*T) uint32) uint32 {
	next := uint32(FirstNumber)
	for i := range all {
		if n := number(&all[i]); n >= next && n < endOfNumbers {
			next = n + 1
		}
	}
	return next
}

// Fold is the form in which account, share and folder names are compared: names
// that differ only in case are the same name.
func Fold(name string) string { return strings.ToLower(name) }

// Users lists every user in the order of the records.
func (d *Directory) Users() []User { return d.users }

// Groups lists every group in the order of the records.
func (d *Directory) Groups() []Group { return d.groups }

// Indexes are the dense indexes of a directory's users and groups. They hold for all that are made of it by Next, as long as they are kept.
type Indexes struct{ users, groups byID }

// Indexes gives them.
func (d *Directory) Indexes() Indexes { return Indexes{d.userByID, d.groupByID} }

// User gives the dense index of a user, or None.
func (x Indexes) User(id ID) int32 { return orNone(x.users.Find(id)) }

// Group gives the dense index of a group, or None.
func (x Indexes) Group(id ID) int32 { return orNone(x.groups.Find(id)) }

func orNone(i int32, ok bool) int32 {
	if !ok {
		return None
	}
	return i
}

// UserIndex gives the dense index of a user, or None.
func (d *Directory) UserIndex(id ID) int32 {
	return orNone(d.userByID.Find(id))
}

// GroupIndex gives the dense index of a group, or None.
func (d *Directory) GroupIndex(id ID) int32 {
	return orNone(d.groupByID.Find(id))
}

// found looks a key up, if what is found still has it.
func found[K comparable, T any](x layered.Index[K], key K, in []T, is func(*T) K) int32 {
	if i, ok := x.Find(key); ok && int(i) < len(in) && is(&in[i]) == key {
		return i
	}
	return None
}

func at[T any](in []T, i int32) *T {
	if i == None {
		return nil
	}
	return &in[i]
}

func (d *Directory) userNamed(name string) int32 {
	return found(d.userByName, Fold(name), d.users, func(u *User) string { return Fold(u.Name) })
}

func (d *Directory) groupNamed(name string) int32 {
	return found(d.groupByName, Fold(name), d.groups, func(g *Group) string { return Fold(g.Name) })
}

// User finds a user by record; nil when there is none.
func (d *Directory) User(id ID) *User { return at(d.users, d.UserIndex(id)) }

// Group finds a group by record; nil when there is none.
func (d *Directory) Group(id ID) *Group { return at(d.groups, d.GroupIndex(id)) }

// UserNamed finds a user by name, whatever its case; nil when there is none.
func (d *Directory) UserNamed(name string) *User { return at(d.users, d.userNamed(name)) }

// GroupNamed finds a group by name, whatever its case; nil when there is none.
func (d *Directory) GroupNamed(name string) *Group { return at(d.groups, d.groupNamed(name)) }

// Member says whether the user with dense index u is in the group with dense
// index g, directly or through other groups.
func (d *Directory) Member(u, g int32) bool {
	if u < 0 || g < 0 {
		return false
	}
	return d.memberOf.At(u).has(g)
}

// Person is who is asking, for the evaluation of entries: a user with the groups that
// count for them, or nobody in particular. The zero value is nobody.
type Person struct {
	user   int32 // dense index and 1; 0 is nobody
	groups *groupSet
}

// Person gives the user with a dense index, with the groups of the records.
func (d *Directory) Person(user int32) Person {
	if user < 0 {
		return Person{}
	}
	return Person{user: user + 1, groups: d.memberOf.At(user)}
}

// PersonWith gives the user with a dense index, None for nobody, with the groups of these
// numbers, and those that contain them, and no others.
func (d *Directory) PersonWith(user int32, gids []uint32) Person {
	var p Person
	if user >= 0 {
		p.user = user + 1
	}
	var groups []int32
	for _, gid := range gids {
		if g := d.GroupIndexByGID(gid); g >= 0 {
			groups = append(groups, g)
		}
	}
	p.groups = d.groupsOver(groups)
	return p
}

// GroupPerson gives somebody of whom only one group is known, by its dense index.
func (d *Directory) GroupPerson(group int32) Person {
	if group < 0 {
		return Person{}
	}
	return Person{groups: d.above.At(group)}
}

// Is says whether the person is the user with a dense index.
func (p Person) Is(user int32) bool { return user >= 0 && p.user == user+1 }

// In says whether the person is in the group with a dense index.
func (p Person) In(group int32) bool {
	return group >= 0 && p.groups.has(group)
}

// GIDs lists the numbers of every group that the user with a dense index is in, directly
// or through others, the primary one first.
func (d *Directory) GIDs(user int32) []uint32 {
	if user < 0 {
		return nil
	}
	var out []uint32
	first := d.GroupIndex(d.users[user].Primary)
	if first >= 0 {
		out = append(out, d.groups[first].GID)
	}
	for _, g := range d.memberOf.At(user).of {
		if g != first {
			out = append(out, d.groups[g].GID)
		}
	}
	return out
}

// MemberOf lists every group that the user is in, directly or through others.
func (d *Directory) MemberOf(id ID) []Group {
	var out []Group
	if u := d.UserIndex(id); u >= 0 {
		for _, g := range d.memberOf.At(u).of {
			out = append(out, d.groups[g])
		}
	}
	return out
}

// Chain gives a shortest chain of group names from one that lists the user to
// the group asked about; nil when the user is not in it.
func (d *Directory) Chain(user, group ID) []string {
	return d.ChainBy(d.UserIndex(user), d.StepsTo(group))
}

// StepsTo tells, for each group that leads to one, by dense index, which group that contains it
// is next on a shortest way there; the group itself leads to None.
func (d *Directory) StepsTo(group ID) map[int32]int32 {
	target := d.GroupIndex(group)
	if target == None {
		return nil
	}
	steps := map[int32]int32{target: None}
	queue := []int32{target}
	for len(queue) > 0 {
		g := queue[0]
		queue = queue[1:]
		for _, m := range d.groups[g].Members {
			if m.Kind != KindGroup {
				continue
			}
			c := d.GroupIndex(m.ID)
			if _, seen := steps[c]; !seen {
				steps[c] = g
				queue = append(queue, c)
			}
		}
	}
	return steps
}

// ChainBy is Chain, for the user with a dense index, by what StepsTo tells.
func (d *Directory) ChainBy(user int32, steps map[int32]int32) []string {
	if user < 0 {
		return nil
	}
	var best []string
	for _, g := range d.direct.At(user) {
		var names []string
		at, ok := g, true
		for ok && at != None {
			names = append(names, d.groups[at].Name)
			at, ok = steps[at]
		}
		if ok && (best == nil || len(names) < len(best)) {
			best = names
		}
	}
	return best
}

// GIDsAbove lists the numbers of the groups that contain the group with a dense index.
func (d *Directory) GIDsAbove(group int32) []uint32 {
	var out []uint32
	for _, g := range d.above.At(group).of {
		if g != group {
			out = append(out, d.groups[g].GID)
		}
	}
	return out
}

// Name spells a principal as people read it: a name, or owner@, group@, everyone@.
// A principal whose record is gone is spelt with its number.
func (d *Directory) Name(p Principal) string {
	switch p.Kind {
	case KindUser:
		if u := d.User(p.ID); u != nil {
			return u.Name
		}
		return fmt.Sprintf("user #%d", p.ID)
	case KindGroup:
		if g := d.Group(p.ID); g != nil {
			return g.Name
		}
		return fmt.Sprintf("group #%d", p.ID)
	case KindOwner:
		return "owner@"
	case KindOwningGroup:
		return "group@"
	case KindEveryone:
		return "everyone@"
	}
	return "nobody"
}

// UserNumbered spells a uid: the name of the user who has it, else the number.
func (d *Directory) UserNumbered(uid uint32) string {
	if i := d.UserIndexByUID(uid); i != None {
		return d.users[i].Name
	}
	return strconv.FormatUint(uint64(uid), 10)
}

// GroupNumbered spells a gid in the same way.
func (d *Directory) GroupNumbered(gid uint32) string {
	if i := d.GroupIndexByGID(gid); i != None {
		return d.groups[i].Name
	}
	return strconv.FormatUint(uint64(gid), 10)
}

// UserIndexByUID gives the dense index of the user with a uid, or None.
func (d *Directory) UserIndexByUID(uid uint32) int32 {
	return found(d.userByUID, uid, d.users, func(u *User) uint32 { return u.UID })
}

// GroupIndexByGID gives the dense index of the group with a gid, or None.
func (d *Directory) GroupIndexByGID(gid uint32) int32 {
	return found(d.groupByGID, gid, d.groups, func(g *Group) uint32 { return g.GID })
}
