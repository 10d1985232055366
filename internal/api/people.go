package api

import (
	"context"
	"net/http"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
)

// User is a user's record.
type User struct {
	Name     string            `json:"name"`
	FullName string            `json:"fullName"`
	UID      uint32            `json:"uid"`
	Primary  string            `json:"primaryGroup,omitempty"`
	Groups   []string          `json:"groups" doc:"Every group the user is in, directly or through others."`
	Role     string            `json:"role,omitempty" enum:"administrator,operator,auditor"`
	Service  bool              `json:"service" doc:"The account of a program."`
	Disabled bool              `json:"disabled"`
	Starts   *time.Time        `json:"starts,omitempty" doc:"The account does not work before."`
	Ends     *time.Time        `json:"ends,omitempty" doc:"The first moment at which the account no longer works."`
	SMB      bool              `json:"smb"`
	NFS      bool              `json:"nfs"`
	Console  bool              `json:"console" doc:"May sign in to the console for what is theirs; with a role, whatever this says."`
	OnlyOwns bool              `json:"onlyOwns" doc:"Nobody signs in as the account, by any way."`
	About    string            `json:"description,omitempty"`
	Password PasswordState     `json:"password"`
	Codes    bool              `json:"codes" doc:"One-time codes are asked for."`
	Profile  string            `json:"profile,omitempty" doc:"The profile that they were given."`
	Left     *time.Time        `json:"left,omitempty" doc:"When they left."`
	Leaving  *PlannedLeaving   `json:"leaving,omitempty" doc:"That they will leave."`
	Mail     string            `json:"mail,omitempty" doc:"An address."`
	Notes    []string          `json:"notes,omitempty" doc:"What is to be known of a number that was just given."`
	Labels   map[string]string `json:"labels,omitempty" doc:"What it is marked with, by key."`
}

func userOf(p *site.Policy, u *identity.User) User {
	out := User{Name: u.Name, FullName: u.FullName, UID: u.UID, Groups: []string{}, Role: string(u.Role), Service: u.Service,
		Disabled: u.Disabled, SMB: u.SMB, NFS: u.NFS, Console: u.Console, OnlyOwns: u.OnlyOwns(), About: u.Description, Mail: u.Mail, Labels: u.Labels.Map(), Codes: u.Codes != 0,
		Password: PasswordState{Set: u.Password != 0, MustChange: u.MustChange}}
	out.Starts, out.Ends, out.Left, out.Password.Since = orNever(u.Starts), orNever(u.Expires), orNever(u.Left), orNever(u.PasswordSet)
	out.Leaving, out.Profile = leavingOf(p, u), site.ProfileName(p.Profiles, u)
	if g := p.Directory.Group(u.Primary); g != nil {
		out.Primary = g.Name
	}
	for _, g := range p.Directory.MemberOf(u.ID) {
		out.Groups = append(out.Groups, g.Name)
	}
	return out
}

// PasswordState is what is known of a password.
type PasswordState struct {
	Set        bool       `json:"set" doc:"There is one."`
	MustChange bool       `json:"mustChange" doc:"It opens nothing but the way to another."`
	Since      *time.Time `json:"since,omitempty" doc:"When it was set, where that is known."`
}

// Group is a group's record.
type Group struct {
	Name        string            `json:"name"`
	GID         uint32            `json:"gid"`
	Description string            `json:"description"`
	Members     []Member          `json:"members"`
	Owners      []Member          `json:"owners" doc:"Who decide who is in it, whatever their role."`
	PrimaryOf   []string          `json:"primaryOf" doc:"The users whose primary group it is, who are in it without being listed."`
	Labels      map[string]string `json:"labels,omitempty" doc:"What it is marked with, by key."`
}

// Member is one line of a group.
type Member struct {
	Kind string `json:"kind" enum:"user,group"`
	Name string `json:"name"`
}

// groupOf shows a group; primary are the users whose primary group each is, nil where they are to be looked for.
func groupOf(p *site.Policy, g *identity.Group, primary map[identity.ID][]string) Group {
	out := Group{Name: g.Name, GID: g.GID, Description: g.Description, Members: membersOf(p, g.Members), Owners: membersOf(p, g.Owners), PrimaryOf: []string{}, Labels: g.Labels.Map()}
	if primary == nil {
		primary = primaries(p)
	}
	out.PrimaryOf = append(out.PrimaryOf, primary[g.ID]...)
	return out
}

func membersOf(p *site.Policy, all []identity.Principal) []Member {
	out := []Member{}
	for _, m := range all {
		kind := "user"
		if m.Kind == identity.KindGroup {
			kind = "group"
		}
		out = append(out, Member{kind, p.Directory.Name(m)})
	}
	return out
}

// primaries are the users whose primary group each is.
func primaries(p *site.Policy) map[identity.ID][]string {
	out := make(map[identity.ID][]string)
	for _, u := range p.Directory.Users() {
		if u.Primary != 0 {
			out[u.Primary] = append(out[u.Primary], u.Name)
		}
	}
	return out
}

// NewUser is what a user is made from.
type NewUser struct {
	Name     string            `json:"name" maxLength:"64"`
	FullName string            `json:"fullName,omitempty" maxLength:"200"`
	UID      *uint32           `json:"uid,omitempty" maximum:"4294967294" doc:"The number NFS clients know the user by; the next free one from 1000 if left out."`
	Reuse    bool              `json:"reuse,omitempty" doc:"Give the number even though it was somebody else's within a year."`
	Primary  string            `json:"primaryGroup,omitempty"`
	Groups   []string          `json:"groups,omitempty" maxItems:"1000"`
	Role     string            `json:"role,omitempty" enum:"administrator,operator,auditor"`
	Service  bool              `json:"service,omitempty" doc:"The account of a program, or one that only owns."`
	Starts   *time.Time        `json:"starts,omitempty"`
	Ends     *time.Time        `json:"ends,omitempty"`
	SMB      *bool             `json:"smb,omitempty" doc:"May use SMB; true if left out."`
	NFS      *bool             `json:"nfs,omitempty" doc:"May use NFS; true if left out."`
	Console  *bool             `json:"console,omitempty" doc:"May sign in to the console for what is theirs; if left out, people may and programs may not."`
	About    string            `json:"description,omitempty" maxLength:"200"`
	Profile  string            `json:"profile,omitempty" maxLength:"80" doc:"Give what this profile says: groups, services, role, limit and end. What else is said counts after it."`
	Mail     string            `json:"mail,omitempty" maxLength:"254" doc:"An address, to which it is told that a limit is close."`
	Password string            `json:"password,omitempty" maxLength:"256" format:"password"`
	Change   bool              `json:"mustChange,omitempty" doc:"The password opens nothing but the way to another: the user has to change it first."`
	Labels   map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// UserChange is what is to change of a user; what is left out stays.
type UserChange struct {
	Name     *string           `json:"name,omitempty" maxLength:"80" doc:"Another name; what refers to it goes on to."`
	FullName *string           `json:"fullName,omitempty" maxLength:"200"`
	UID      *uint32           `json:"uid,omitempty" maximum:"4294967294"`
	Reuse    bool              `json:"reuse,omitempty" doc:"Give the number even though it was somebody else's within a year."`
	Primary  *string           `json:"primaryGroup,omitempty" doc:"Empty for none."`
	Role     *string           `json:"role,omitempty" enum:"administrator,operator,auditor," doc:"Empty for none."`
	Service  *bool             `json:"service,omitempty" doc:"The account of a program, or one that only owns."`
	Disabled *bool             `json:"disabled,omitempty"`
	Starts   *time.Time        `json:"starts,omitempty" doc:"A moment that has passed has the account work at once."`
	Ends     *time.Time        `json:"ends,omitempty"`
	Endless  bool              `json:"endless,omitempty" doc:"Take the end date away."`
	SMB      *bool             `json:"smb,omitempty"`
	NFS      *bool             `json:"nfs,omitempty"`
	Console  *bool             `json:"console,omitempty" doc:"May sign in to the console for what is theirs."`
	About    *string           `json:"description,omitempty" maxLength:"200"`
	Profile  *string           `json:"profile,omitempty" maxLength:"80" doc:"Give what this profile says: groups, services, role, limit and end. What else is said counts after it."`
	Mail     *string           `json:"mail,omitempty" maxLength:"254" doc:"Empty for none."`
	Labels   map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// NewGroup is what a group is made from.
type NewGroup struct {
	Name        string            `json:"name" maxLength:"64"`
	GID         *uint32           `json:"gid,omitempty" maximum:"4294967294"`
	Description string            `json:"description,omitempty" maxLength:"200"`
	Members     []string          `json:"members,omitempty" maxItems:"10000" doc:"Names; user:NAME or group:NAME where both exist."`
	Owners      []string          `json:"owners,omitempty" maxItems:"100" doc:"Who decide who is in it, whatever their role; names likewise."`
	Labels      map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// GroupChange is what is to change of a group; what is left out stays.
type GroupChange struct {
	Name        *string           `json:"name,omitempty" maxLength:"80" doc:"Another name; what refers to it goes on to."`
	GID         *uint32           `json:"gid,omitempty" maximum:"4294967294"`
	Description *string           `json:"description,omitempty" maxLength:"200"`
	Owners      *[]string         `json:"owners,omitempty" maxItems:"100" doc:"Who decide who is in it, whatever their role, in the place of those before."`
	Labels      map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// NewPassword is a password to be set.
type NewPassword struct {
	Password string `json:"password" maxLength:"256" format:"password"`
	Change   bool   `json:"mustChange,omitempty" doc:"It opens nothing but the way to another: the user has to change it first."`
}

// MadePassword is a password that was made up.
type MadePassword struct {
	Password string `json:"password" doc:"Shown once. The user has to change it first."`
}

// users are the people and programs.
func (s *Server) users() resource[User, NewUser, UserChange] {
	shown := func(ctx context.Context) func(*identity.User) User {
		return func(u *identity.User) User { return userOf(s.on(ctx).Policy(), u) }
	}
	return resource[User, NewUser, UserChange]{
		one: "user", many: "users", route: "/users", tag: "people",
		does: summaries{"List the users", "Show a user", "Add a user", "Change a user", "Remove a user that no entry names"},
		listing: listing[User]{name: func(u *User) string { return u.Name }, labels: func(u *User) map[string]string { return u.Labels }, matches: func(u *User) []string { return []string{u.FullName, u.Mail} }, sorts: map[string]func(*User) string{
			"uid": func(u *User) string { return byNumber(u.UID) }, "full-name": func(u *User) string { return identity.Fold(u.FullName) }}},
		all: func(ctx context.Context) (out []User) {
			p := s.on(ctx).Policy()
			for i := range p.Directory.Users() {
				out = append(out, userOf(p, &p.Directory.Users()[i]))
			}
			return out
		},
		show: func(ctx context.Context, name string) (User, error) {
			u, err := s.on(ctx).User(name)
			return shownBy(u, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewUser) (User, error) {
			input := service.UserInput{Name: b.Name, FullName: b.FullName, UID: b.UID, Reuse: b.Reuse, Primary: b.Primary, Groups: b.Groups, Role: identity.Role(b.Role),
				Service: b.Service, NoSMB: b.SMB != nil && !*b.SMB, NoNFS: b.NFS != nil && !*b.NFS, Console: b.Console, Description: b.About,
				Password: b.Password, MustChange: b.Change, Profile: b.Profile, Mail: b.Mail, Labels: b.Labels}
			if b.Starts != nil {
				input.Starts = *b.Starts
			}
			if b.Ends != nil {
				input.Expires = *b.Ends
			}
			u, err := s.on(ctx).CreateUser(ctx, caller(ctx), input)
			out, err := shownBy(u, err, shown(ctx))
			if err == nil {
				out.Notes = s.on(ctx).NumberNotes(u, nil)
			}
			return out, err
		},
		change: func(ctx context.Context, name string, b UserChange) (User, error) {
			change := service.UserChange{Name: b.Name, FullName: b.FullName, UID: b.UID, Reuse: b.Reuse, Primary: b.Primary, Role: (*identity.Role)(b.Role), Service: b.Service, Disabled: b.Disabled, Starts: b.Starts, Expires: b.Ends,
				SMB: b.SMB, NFS: b.NFS, Console: b.Console, Description: b.About, Profile: b.Profile, Mail: b.Mail, Labels: b.Labels}
			if b.Endless {
				change.Expires = &time.Time{}
			}
			var before *uint32
			if b.UID != nil {
				if u, err := s.on(ctx).User(name); err == nil {
					uid := u.UID
					before = &uid
				}
			}
			u, err := s.on(ctx).UpdateUser(ctx, caller(ctx), name, change)
			out, err := shownBy(u, err, shown(ctx))
			if err == nil && before != nil {
				out.Notes = s.on(ctx).NumberNotes(u, before)
			}
			return out, err
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveUser(ctx, caller(ctx), name) },
	}
}

func (s *Server) groups() resource[Group, NewGroup, GroupChange] {
	shown := func(ctx context.Context) func(*identity.Group) Group {
		return func(g *identity.Group) Group { return groupOf(s.on(ctx).Policy(), g, nil) }
	}
	return resource[Group, NewGroup, GroupChange]{
		one: "group", many: "groups", route: "/groups", tag: "people",
		does: summaries{"List the groups", "Show a group", "Add a group", "Change a group", "Remove a group that no entry names"},
		listing: listing[Group]{name: func(g *Group) string { return g.Name }, labels: func(g *Group) map[string]string { return g.Labels }, matches: func(g *Group) []string { return []string{g.Description} }, sorts: map[string]func(*Group) string{
			"gid": func(g *Group) string { return byNumber(g.GID) }, "members": func(g *Group) string { return byNumber(len(g.Members) + len(g.PrimaryOf)) }}},
		all: func(ctx context.Context) (out []Group) {
			p := s.on(ctx).Policy()
			primary := primaries(p)
			for i := range p.Directory.Groups() {
				out = append(out, groupOf(p, &p.Directory.Groups()[i], primary))
			}
			return out
		},
		show: func(ctx context.Context, name string) (Group, error) {
			if err := s.ownGroup(ctx, name); err != nil {
				return Group{}, err
			}
			g, err := s.on(ctx).Group(name)
			return shownBy(g, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewGroup) (Group, error) {
			g, err := s.on(ctx).CreateGroup(ctx, caller(ctx), service.GroupInput{Name: b.Name, GID: b.GID, Description: b.Description, Members: b.Members, Owners: b.Owners, Labels: b.Labels})
			return shownBy(g, err, shown(ctx))
		},
		change: func(ctx context.Context, name string, b GroupChange) (Group, error) {
			g, err := s.on(ctx).UpdateGroup(ctx, caller(ctx), name, service.GroupChange{Name: b.Name, GID: b.GID, Description: b.Description, Owners: b.Owners, Labels: b.Labels})
			return shownBy(g, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveGroup(ctx, caller(ctx), name) },
	}
}

// Membership names a member of a group.
type Membership struct {
	Named
	Member string `path:"member" maxLength:"80"`
}

func (s *Server) registerPeople() {
	register(s, s.users())
	register(s, s.groups())
	do(s, operation("set-password", http.MethodPut, "/users/{name}/password", "Set a user's password", "people"), func(ctx context.Context, in *struct {
		Named
		Body NewPassword
	}) error {
		return s.on(ctx).SetPassword(ctx, caller(ctx), in.Name, in.Body.Password, in.Body.Change)
	})
	handle(s, operation(resetPassword, http.MethodPost, "/users/{name}/password", "Give a user a password that is made up, to be told them once", "people"), func(ctx context.Context, in *Named) (MadePassword, error) {
		password, err := s.on(ctx).NewPassword(ctx, caller(ctx), in.Name)
		return MadePassword{password}, err
	})
	do(s, operation("remove-codes", http.MethodDelete, "/users/{name}/codes", "Take a user's one-time codes away", "people"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).RemoveCodes(ctx, caller(ctx), in.Name)
	})

	do(s, operation("add-member", http.MethodPut, "/groups/{name}/members/{member}", "Put a user or a group into a group", "people"), func(ctx context.Context, in *Membership) error {
		if err := s.ownGroup(ctx, in.Name); err != nil {
			return err
		}
		return s.on(ctx).AddMember(ctx, caller(ctx), in.Name, in.Member)
	})
	do(s, operation("remove-member", http.MethodDelete, "/groups/{name}/members/{member}", "Take a user or a group out of a group", "people"), func(ctx context.Context, in *Membership) error {
		if err := s.ownGroup(ctx, in.Name); err != nil {
			return err
		}
		return s.on(ctx).RemoveMember(ctx, caller(ctx), in.Name, in.Member)
	})
}
