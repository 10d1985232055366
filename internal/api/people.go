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
	Name     string     `json:"name"`
	FullName string     `json:"fullName"`
	UID      uint32     `json:"uid"`
	Primary  string     `json:"primaryGroup,omitempty"`
	Groups   []string   `json:"groups" doc:"Every group the user is in, directly or through others."`
	Role     string     `json:"role,omitempty" enum:"administrator,auditor"`
	Service  bool       `json:"service" doc:"The account of a program."`
	Disabled bool       `json:"disabled"`
	Ends     *time.Time `json:"ends,omitempty" doc:"The first moment at which the account no longer works."`
	SMB      bool       `json:"smb"`
	NFS      bool       `json:"nfs"`
	Mail     string     `json:"mail,omitempty" doc:"An address."`
	Notes    []string   `json:"notes,omitempty" doc:"What is to be known of a number that was just given."`
}

func userOf(p *site.Policy, u *identity.User) User {
	out := User{Name: u.Name, FullName: u.FullName, UID: u.UID, Groups: []string{}, Role: string(u.Role), Service: u.Service,
		Disabled: u.Disabled, SMB: u.SMB, NFS: u.NFS, Mail: u.Mail}
	if g := p.Directory.Group(u.Primary); g != nil {
		out.Primary = g.Name
	}
	for _, g := range p.Directory.MemberOf(u.ID) {
		out.Groups = append(out.Groups, g.Name)
	}
	if !u.Expires.IsZero() {
		out.Ends = &u.Expires
	}
	return out
}

// Group is a group's record.
type Group struct {
	Name        string   `json:"name"`
	GID         uint32   `json:"gid"`
	Description string   `json:"description"`
	Members     []Member `json:"members"`
	PrimaryOf   []string `json:"primaryOf" doc:"The users whose primary group it is, who are in it without being listed."`
}

// Member is one line of a group.
type Member struct {
	Kind string `json:"kind" enum:"user,group"`
	Name string `json:"name"`
}

func groupOf(p *site.Policy, g *identity.Group) Group {
	out := Group{Name: g.Name, GID: g.GID, Description: g.Description, Members: []Member{}, PrimaryOf: []string{}}
	for _, u := range p.Directory.Users() {
		if u.Primary == g.ID {
			out.PrimaryOf = append(out.PrimaryOf, u.Name)
		}
	}
	for _, m := range g.Members {
		kind := "user"
		if m.Kind == identity.KindGroup {
			kind = "group"
		}
		out.Members = append(out.Members, Member{kind, p.Directory.Name(m)})
	}
	return out
}

// NumberMismatch is a client's number that is not ours.
type NumberMismatch struct {
	Kind      string   `json:"kind" enum:"user,group"`
	Name      string   `json:"name" doc:"On the client."`
	There     uint32   `json:"there" doc:"Its number on the client."`
	Here      *uint32  `json:"here,omitempty" doc:"Our number for that name, where it is another."`
	Taken     string   `json:"taken,omitempty" doc:"Whose the client's number is here."`
	MendHere  []string `json:"mendHere" doc:"Commands of this service that mend it."`
	MendThere []string `json:"mendThere" doc:"Or shell commands for the client, as root."`
}

// NumbersChecked is the outcome of comparing a client's accounts.
type NumbersChecked struct {
	Compared   int              `json:"compared" doc:"How many users and groups of the client were looked at."`
	Mismatches []NumberMismatch `json:"mismatches"`
}

// Named is the parameter of what is asked of a record.
type Named struct {
	Name string `path:"name" maxLength:"80"`
}

func (s *Server) registerPeople() {
	handle(s, operation("list-users", http.MethodGet, "/users", "List the users", "people"), func(ctx context.Context, _ *struct{}) ([]User, error) {
		p := s.on(ctx).Policy()
		out := []User{}
		for i := range p.Directory.Users() {
			out = append(out, userOf(p, &p.Directory.Users()[i]))
		}
		return out, nil
	})
	handle(s, operation("show-user", http.MethodGet, "/users/{name}", "Show a user", "people"), func(ctx context.Context, in *Named) (User, error) {
		u, err := s.on(ctx).User(in.Name)
		if err != nil {
			return User{}, err
		}
		return userOf(s.on(ctx).Policy(), u), nil
	})
	op := operation("add-user", http.MethodPost, "/users", "Add a user", "people")
	op.DefaultStatus = http.StatusCreated
	handle(s, op, func(ctx context.Context, in *struct {
		Body struct {
			Name     string     `json:"name" maxLength:"64"`
			FullName string     `json:"fullName,omitempty" maxLength:"200"`
			UID      *uint32    `json:"uid,omitempty" maximum:"4294967294" doc:"The number NFS clients know the user by; the next free one from 1000 if left out."`
			Primary  string     `json:"primaryGroup,omitempty"`
			Groups   []string   `json:"groups,omitempty" maxItems:"1000"`
			Role     string     `json:"role,omitempty" enum:"administrator,auditor"`
			Service  bool       `json:"service,omitempty"`
			Ends     *time.Time `json:"ends,omitempty"`
			SMB      *bool      `json:"smb,omitempty" doc:"May use SMB; true if left out."`
			NFS      *bool      `json:"nfs,omitempty" doc:"May use NFS; true if left out."`
			Mail     string     `json:"mail,omitempty" maxLength:"254" doc:"An address, to which it is told that a limit is close."`
			Password string     `json:"password,omitempty" maxLength:"256" format:"password"`
		}
	}) (User, error) {
		b := in.Body
		input := service.UserInput{Name: b.Name, FullName: b.FullName, UID: b.UID, Primary: b.Primary, Groups: b.Groups, Role: identity.Role(b.Role),
			Service: b.Service, NoSMB: b.SMB != nil && !*b.SMB, NoNFS: b.NFS != nil && !*b.NFS, Password: b.Password, Mail: b.Mail}
		if b.Ends != nil {
			input.Expires = *b.Ends
		}
		u, err := s.on(ctx).CreateUser(ctx, caller(ctx), input)
		if err != nil {
			return User{}, err
		}
		out := userOf(s.on(ctx).Policy(), u)
		out.Notes = s.on(ctx).NumberNotes(u, nil)
		return out, nil
	})
	handle(s, operation("change-user", http.MethodPatch, "/users/{name}", "Change a user", "people"), func(ctx context.Context, in *struct {
		Named
		Body struct {
			Name     *string    `json:"name,omitempty" maxLength:"80" doc:"Another name; what refers to it goes on to."`
			FullName *string    `json:"fullName,omitempty" maxLength:"200"`
			UID      *uint32    `json:"uid,omitempty" maximum:"4294967294"`
			Primary  *string    `json:"primaryGroup,omitempty" doc:"Empty for none."`
			Role     *string    `json:"role,omitempty" enum:"administrator,auditor," doc:"Empty for none."`
			Disabled *bool      `json:"disabled,omitempty"`
			Ends     *time.Time `json:"ends,omitempty"`
			Endless  bool       `json:"endless,omitempty" doc:"Take the end date away."`
			SMB      *bool      `json:"smb,omitempty"`
			NFS      *bool      `json:"nfs,omitempty"`
			Mail     *string    `json:"mail,omitempty" maxLength:"254" doc:"Empty for none."`
		}
	}) (User, error) {
		b := in.Body
		change := service.UserChange{Name: b.Name, FullName: b.FullName, UID: b.UID, Primary: b.Primary, Role: (*identity.Role)(b.Role), Disabled: b.Disabled, Expires: b.Ends, SMB: b.SMB, NFS: b.NFS, Mail: b.Mail}
		if b.Endless {
			change.Expires = &time.Time{}
		}
		var before *uint32
		if b.UID != nil {
			if u, err := s.on(ctx).User(in.Name); err == nil {
				uid := u.UID
				before = &uid
			}
		}
		u, err := s.on(ctx).UpdateUser(ctx, caller(ctx), in.Name, change)
		if err != nil {
			return User{}, err
		}
		out := userOf(s.on(ctx).Policy(), u)
		if before != nil {
			out.Notes = s.on(ctx).NumberNotes(u, before)
		}
		return out, nil
	})
	do(s, operation("remove-user", http.MethodDelete, "/users/{name}", "Remove a user that no entry names", "people"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).RemoveUser(ctx, caller(ctx), in.Name)
	})
	do(s, operation("set-password", http.MethodPut, "/users/{name}/password", "Set a user's password", "people"), func(ctx context.Context, in *struct {
		Named
		Body struct {
			Password string `json:"password" maxLength:"256" format:"password"`
		}
	}) error {
		return s.on(ctx).SetPassword(ctx, caller(ctx), in.Name, in.Body.Password)
	})

	handle(s, operation("list-groups", http.MethodGet, "/groups", "List the groups", "people"), func(ctx context.Context, _ *struct{}) ([]Group, error) {
		p := s.on(ctx).Policy()
		out := []Group{}
		for i := range p.Directory.Groups() {
			out = append(out, groupOf(p, &p.Directory.Groups()[i]))
		}
		return out, nil
	})
	handle(s, operation("show-group", http.MethodGet, "/groups/{name}", "Show a group", "people"), func(ctx context.Context, in *Named) (Group, error) {
		g, err := s.on(ctx).Group(in.Name)
		if err != nil {
			return Group{}, err
		}
		return groupOf(s.on(ctx).Policy(), g), nil
	})
	op = operation("add-group", http.MethodPost, "/groups", "Add a group", "people")
	op.DefaultStatus = http.StatusCreated
	handle(s, op, func(ctx context.Context, in *struct {
		Body struct {
			Name        string   `json:"name" maxLength:"64"`
			GID         *uint32  `json:"gid,omitempty" maximum:"4294967294"`
			Description string   `json:"description,omitempty" maxLength:"200"`
			Members     []string `json:"members,omitempty" maxItems:"10000" doc:"Names; user:NAME or group:NAME where both exist."`
		}
	}) (Group, error) {
		b := in.Body
		g, err := s.on(ctx).CreateGroup(ctx, caller(ctx), service.GroupInput{Name: b.Name, GID: b.GID, Description: b.Description, Members: b.Members})
		if err != nil {
			return Group{}, err
		}
		return groupOf(s.on(ctx).Policy(), g), nil
	})
	handle(s, operation("change-group", http.MethodPatch, "/groups/{name}", "Change a group", "people"), func(ctx context.Context, in *struct {
		Named
		Body struct {
			Name        *string `json:"name,omitempty" maxLength:"80" doc:"Another name; what refers to it goes on to."`
			GID         *uint32 `json:"gid,omitempty" maximum:"4294967294"`
			Description *string `json:"description,omitempty" maxLength:"200"`
		}
	}) (Group, error) {
		g, err := s.on(ctx).UpdateGroup(ctx, caller(ctx), in.Name, service.GroupChange{Name: in.Body.Name, GID: in.Body.GID, Description: in.Body.Description})
		if err != nil {
			return Group{}, err
		}
		return groupOf(s.on(ctx).Policy(), g), nil
	})
	op = operation(checkIDs, http.MethodPost, "/ids/check", "Compare a client's user and group numbers with the records", "people")
	op.MaxBodyBytes = 8 << 20
	handle(s, op, func(ctx context.Context, in *struct {
		Body struct {
			Passwd string `json:"passwd,omitempty" format:"lines" doc:"Lines of passwd(5)."`
			Group  string `json:"group,omitempty" format:"lines" doc:"Lines of group(5)."`
			Host   string `json:"host,omitempty" maxLength:"80" doc:"Remember them under this name, so that the audit's findings tell of them from now on."`
		}
	}) (NumbersChecked, error) {
		found, n, err := s.on(ctx).CheckNumbers(ctx, caller(ctx), in.Body.Host, in.Body.Passwd, in.Body.Group)
		out := NumbersChecked{Compared: n, Mismatches: []NumberMismatch{}}
		for _, c := range found {
			m := NumberMismatch{Kind: "user", Name: c.Name, There: c.There, Taken: c.Taken, MendHere: c.MendHere, MendThere: c.MendThere}
			if c.Group {
				m.Kind = "group"
			}
			if c.Known {
				m.Here = &c.Here
			}
			out.Mismatches = append(out.Mismatches, m)
		}
		return out, err
	})
	do(s, operation("forget-ids", http.MethodDelete, "/ids/{name}", "Forget what a client has, so that the audit looks at it no more", "people"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).ForgetNumbers(ctx, caller(ctx), in.Name)
	})
	do(s, operation("remove-group", http.MethodDelete, "/groups/{name}", "Remove a group that no entry names", "people"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).RemoveGroup(ctx, caller(ctx), in.Name)
	})
	type membership struct {
		Named
		Member string `path:"member" maxLength:"80"`
	}
	do(s, operation("add-member", http.MethodPut, "/groups/{name}/members/{member}", "Put a user or a group into a group", "people"), func(ctx context.Context, in *membership) error {
		return s.on(ctx).AddMember(ctx, caller(ctx), in.Name, in.Member)
	})
	do(s, operation("remove-member", http.MethodDelete, "/groups/{name}/members/{member}", "Take a user or a group out of a group", "people"), func(ctx context.Context, in *membership) error {
		return s.on(ctx).RemoveMember(ctx, caller(ctx), in.Name, in.Member)
	})
}
