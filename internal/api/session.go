package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/signin"
)

// SignedIn is the answer to a sign-in.
type SignedIn struct {
	Token   string    `json:"token" doc:"Send as a bearer token. Shown once."`
	Expires time.Time `json:"expires"`
	User    string    `json:"user"`
	Role    string    `json:"role" enum:"administrator,operator,auditor,user"`
}

// Health says that the service answers.
type Health struct {
	Status     string `json:"status" enum:"ok,cannot record" doc:"Whether what is to be recorded can be."`
	NeedsFirst bool   `json:"needsFirst" doc:"There is no administrator yet: see /api/v1/first-administrator."`
}

// Me is who is signed in.
type Me struct {
	User    string   `json:"user"`
	Token   string   `json:"token,omitempty" doc:"The name of the token that acts on their behalf."`
	Codes   bool     `json:"codes" doc:"They sign in with one-time codes."`
	Left    int      `json:"recoveryLeft,omitempty" doc:"How many recovery codes they have not used."`
	Decides []string `json:"decides" doc:"The folders that they hold control of, by name; of an administrator, none."`
	Owns    []string `json:"owns" doc:"The groups that they own, by name."`
	Role    string   `json:"role" enum:"administrator,operator,auditor,user"`
	Trouble string   `json:"trouble,omitempty" doc:"What everybody who looks after the gateway has to know at once: that nothing can be written down, and why."`
}

type signedInOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      SignedIn
}

func cookie(ctx context.Context, value string, expires time.Time) http.Cookie {
	c := http.Cookie{Name: CookieName, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: reachedBy(ctx).secure, Expires: expires}
	if value == "" {
		c.MaxAge = -1
	}
	return c
}

// Credentials is who signs in.
type Credentials struct {
	User     string `json:"user" minLength:"1" maxLength:"64"`
	Password string `json:"password" minLength:"1" maxLength:"256" format:"password"`
	Code     string `json:"code,omitempty" maxLength:"64" doc:"A one-time code (RFC 6238), or a recovery code, where the account has them."`
}

func (c Credentials) try(ctx context.Context) signin.Try {
	by := reachedBy(ctx)
	return signin.Try{Name: c.User, Password: c.Password, Code: c.Code, Address: by.address, Client: by.client}
}

// OwnPassword is a password that takes the place of another.
type OwnPassword struct {
	User     string `json:"user" minLength:"1" maxLength:"64"`
	Old      string `json:"old,omitempty" maxLength:"256" format:"password" doc:"The password as it is; left out with a code that the service printed on its machine."`
	Code     string `json:"code,omitempty" maxLength:"64" doc:"A one-time code, or a recovery code, where the account has them."`
	Reset    string `json:"reset,omitempty" maxLength:"64" doc:"The code that the service printed on its machine, for an administrator who has forgotten the password."`
	Password string `json:"password" minLength:"1" maxLength:"256" format:"password" doc:"What it is to be."`
}

// FirstAdministrator is who is to be the first administrator, and the code that lets them.
type FirstAdministrator struct {
	Code     string `json:"code" minLength:"1" maxLength:"64"`
	User     string `json:"user" minLength:"1" maxLength:"64"`
	Password string `json:"password" minLength:"1" maxLength:"256" format:"password"`
}

func (s *Server) registerSession() {
	answer := func(ctx context.Context, session signin.Session, err error) (*signedInOutput, error) {
		if err != nil {
			return nil, s.asProblem(err, "body")
		}
		return &signedInOutput{cookie(ctx, session.Token, session.Expires),
			SignedIn{session.Token, session.Expires.UTC(), session.Actor.Name, session.Actor.Role.Name()}}, nil
	}
	op := operation("sign-in", http.MethodPost, "/sign-in", "Sign in", "session")
	op.Security = public
	huma.Register(s.api, op, func(ctx context.Context, in *struct{ Body Credentials }) (*signedInOutput, error) {
		session, err := s.on(ctx).SignIn(ctx, in.Body.try(ctx))
		return answer(ctx, session, err)
	})

	op = operation("make-first-administrator", http.MethodPost, "/first-administrator", "Make the first administrator with the code the service printed", "session")
	op.Security = public
	huma.Register(s.api, op, func(ctx context.Context, in *struct{ Body FirstAdministrator }) (*signedInOutput, error) {
		session, err := s.on(ctx).MakeFirst(ctx, in.Body.Code, Credentials{User: in.Body.User, Password: in.Body.Password}.try(ctx))
		return answer(ctx, session, err)
	})

	op = operation("change-own-password", http.MethodPost, "/own-password", "Change one's own password", "session")
	op.Security = public
	op.DefaultStatus = http.StatusNoContent
	huma.Register(s.api, op, func(ctx context.Context, in *struct{ Body OwnPassword }) (*struct{}, error) {
		b := in.Body
		if b.Reset != "" {
			return nil, s.asProblem(s.on(ctx).ResetPassword(ctx, b.User, b.Reset, b.Password, reachedBy(ctx).address), "body")
		}
		return nil, s.asProblem(s.on(ctx).ChangePassword(ctx, Credentials{User: b.User, Password: b.Old, Code: b.Code}.try(ctx), b.Password), "body")
	})

	op = operation("health", http.MethodGet, "/health", "Say that the service answers", "session")
	op.Security = public
	handle(s, op, func(ctx context.Context, _ *struct{}) (Health, error) {
		h := Health{Status: "ok", NeedsFirst: s.on(ctx).NeedsFirst()}
		if s.on(ctx).Trouble().Why != "" {
			h.Status = "cannot record"
		}
		return h, nil
	})

	handle(s, operation("me", http.MethodGet, "/me", "Say who is signed in", "session"), func(ctx context.Context, _ *struct{}) (Me, error) {
		return s.me(ctx), nil
	})

	type signedOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	op = operation(signOut, http.MethodPost, "/sign-out", "Sign out", "session")
	op.DefaultStatus = http.StatusNoContent
	huma.Register(s.api, op, func(ctx context.Context, in *struct {
		Authorization string `header:"Authorization"`
		Cookie        string `header:"Cookie"`
	}) (*signedOut, error) {
		err := s.on(ctx).SignOut(ctx, token(in.Authorization, in.Cookie))
		return &signedOut{cookie(ctx, "", time.Time{})}, s.asProblem(err, "header")
	})
}
