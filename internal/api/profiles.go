package api

import (
	"context"
	"net/http"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
)

// Profile is a named set of what people are given.
type Profile struct {
	Name        string   `json:"name"`
	Description string   `json:"description"`
	Groups      []string `json:"groups"`
	SMB         bool     `json:"smb"`
	NFS         bool     `json:"nfs"`
	Console     bool     `json:"console"`
	Role        string   `json:"role,omitempty" enum:"administrator,operator,auditor"`
	HardBytes   *int64   `json:"hardBytes,omitempty" doc:"A limit on what each has stored in all."`
	EndsAfter   int      `json:"endsAfter,omitempty" doc:"Days after the first, at the end of which the account ends; 0 for never."`
	People      int      `json:"people" doc:"How many have it."`
}

// NewProfile is what a profile is made from.
type NewProfile struct {
	Name string `json:"name" maxLength:"80"`
	ProfileBody
}

// ProfileBody is what a profile says; what is left out is as it is by itself, or stays.
type ProfileBody struct {
	Description *string   `json:"description,omitempty" maxLength:"200"`
	Groups      *[]string `json:"groups,omitempty" maxItems:"100"`
	SMB         *bool     `json:"smb,omitempty" doc:"By itself, true, as of the others."`
	NFS         *bool     `json:"nfs,omitempty"`
	Console     *bool     `json:"console,omitempty"`
	Role        *string   `json:"role,omitempty" enum:"administrator,operator,auditor," doc:"Empty for none."`
	Hard        *string   `json:"hard,omitempty" maxLength:"40" doc:"How much each may store in all, such as 2GB; none for no limit."`
	EndsAfter   *int      `json:"endsAfter,omitempty" minimum:"0" maximum:"3650" doc:"Days."`
}

// ProfileChange is what is to change of a profile.
type ProfileChange struct {
	Name *string `json:"name,omitempty" maxLength:"80" doc:"Another name; who has it goes on to."`
	ProfileBody
	OnlyNew bool `json:"onlyNew,omitempty" doc:"Who has the profile already stays as they are."`
}

func (b ProfileBody) input() service.ProfileInput {
	return service.ProfileInput{Description: b.Description, Groups: b.Groups, SMB: b.SMB, NFS: b.NFS, Console: b.Console, Role: (*identity.Role)(b.Role), Hard: b.Hard, EndsAfter: b.EndsAfter}
}

func profileOf(p *site.Policy, is site.Profile) Profile {
	out := Profile{Name: is.Name, Description: is.Description, Groups: []string{}, SMB: is.SMB, NFS: is.NFS, Console: is.Console, Role: string(is.Role), HardBytes: is.HardBytes, EndsAfter: is.EndsAfter}
	for _, g := range is.Groups {
		out.Groups = append(out.Groups, p.Directory.Name(identity.GroupPrincipal(g)))
	}
	for _, u := range p.Directory.Users() {
		if u.Profile == is.ID {
			out.People++
		}
	}
	return out
}

func (s *Server) profiles() resource[Profile, NewProfile, ProfileChange] {
	shown := func(ctx context.Context) func(site.Profile) Profile {
		return func(is site.Profile) Profile { return profileOf(s.on(ctx).Policy(), is) }
	}
	return resource[Profile, NewProfile, ProfileChange]{
		one: "profile", many: "profiles", route: "/profiles", tag: "people",
		does: summaries{"List the profiles", "Show a profile", "Add a profile", "Change a profile, and all who have it", "Remove a profile that nobody has"},
		listing: listing[Profile]{name: func(p *Profile) string { return p.Name }, matches: func(p *Profile) []string { return []string{p.Description} }, sorts: map[string]func(*Profile) string{
			"people": func(p *Profile) string { return byNumber(p.People) }}},
		all: func(ctx context.Context) (out []Profile) {
			p := s.on(ctx).Policy()
			for _, is := range p.Profiles {
				out = append(out, profileOf(p, is))
			}
			return out
		},
		show: func(ctx context.Context, name string) (Profile, error) {
			is, err := s.on(ctx).Profile(name)
			return shownBy(is, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewProfile) (Profile, error) {
			in := b.input()
			in.Name = &b.Name
			is, err := s.on(ctx).CreateProfile(ctx, caller(ctx), in)
			return shownBy(is, err, shown(ctx))
		},
		change: func(ctx context.Context, name string, b ProfileChange) (Profile, error) {
			in := b.input()
			in.Name, in.OnlyNew = b.Name, b.OnlyNew
			is, err := s.on(ctx).UpdateProfile(ctx, caller(ctx), name, in)
			return shownBy(is, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveProfile(ctx, caller(ctx), name) },
	}
}

func (s *Server) registerProfiles() {
	register(s, s.profiles())
	do(s, operation("apply-profile", http.MethodPost, "/profiles/{name}/apply", "Give all who have a profile what it says", "people"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).ApplyProfile(ctx, caller(ctx), in.Name)
	})
}
