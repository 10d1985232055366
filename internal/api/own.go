package api

import (
	"context"
	"net/http"
	"time"

	"github.com/boombuler/barcode/qr"
	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/signin"
)

// CodesBegun is what a program for one-time codes is set up with.
type CodesBegun struct {
	Secret string   `json:"secret" doc:"Base32, to be typed where no picture can be taken."`
	URI    string   `json:"uri" doc:"otpauth://, as the QR code holds it."`
	QR     []string `json:"qr" doc:"The QR code (ISO/IEC 18004), a line for each row: a 1 is dark, a 0 is light."`
}

// CodesToConfirm shows that one-time codes work.
type CodesToConfirm struct {
	Credentials
	Fresh string `json:"fresh" minLength:"6" maxLength:"16" doc:"A code that was made with what was set up."`
}

// Recovery are codes that each stand for one one-time code, once.
type Recovery struct {
	Codes []string `json:"codes" doc:"Shown once."`
}

// SignInNow is a sign-in that goes on.
type SignInNow struct {
	ID      int64     `json:"id"`
	User    string    `json:"user"`
	Role    string    `json:"role" enum:"administrator,operator,auditor,user"`
	Begun   time.Time `json:"begun"`
	Used    time.Time `json:"used" doc:"When it was last used, to about a minute."`
	Ends    time.Time `json:"ends" doc:"It ends then, or earlier where nobody uses it."`
	Address string    `json:"address"`
	Client  string    `json:"client,omitempty" doc:"As it calls itself."`
	This    bool      `json:"this" doc:"It is the one that asks."`
}

// NewToken is what a token is made from.
type NewToken struct {
	Name string     `json:"name" maxLength:"64"`
	Role string     `json:"role,omitempty" enum:"administrator,operator,auditor,user" doc:"No wider than that of who makes it, which it is if left out."`
	Ends *time.Time `json:"ends,omitempty" doc:"Never, if left out."`
	From []string   `json:"from,omitempty" maxItems:"50" doc:"Addresses and networks from where it may be used; anywhere, if left out."`
}

// Token lets a program use this API on behalf of a user.
type Token struct {
	ID      int64      `json:"id"`
	Name    string     `json:"name"`
	User    string     `json:"user"`
	Role    string     `json:"role" enum:"administrator,operator,auditor,user" doc:"Never wider than the user's own at the moment of use."`
	Made    time.Time  `json:"made"`
	Ends    *time.Time `json:"ends,omitempty"`
	Ended   bool       `json:"ended"`
	From    []string   `json:"from"`
	Used    *time.Time `json:"used,omitempty" doc:"When it was last used, to about a minute."`
	Address string     `json:"address,omitempty" doc:"From where it was last used."`
	Text    string     `json:"text,omitempty" doc:"Send as a bearer token. Shown once, when it is made."`
}

// SigningIn is what signing in to the console and the API takes.
type SigningIn struct {
	Idle         string   `json:"idle" doc:"How long a sign-in lasts that nobody uses, such as 2h0m0s."`
	Longest      string   `json:"longest" doc:"How long any lasts."`
	PasswordDays int      `json:"passwordDays" doc:"After how many days a password has to be changed; 0 for never."`
	CodesFor     []string `json:"codesFor" doc:"Who does not get in without one-time codes, by role; user is that of who has none."`
}

// SigningInChange is what is to change of it; what is left out stays.
type SigningInChange struct {
	Idle         *string   `json:"idle,omitempty" doc:"From 5m to 90 days, as 30m or 2h; empty for what it is by itself."`
	Longest      *string   `json:"longest,omitempty" doc:"From 1h to 90 days; empty for what it is by itself."`
	PasswordDays *int      `json:"passwordDays,omitempty" minimum:"0" maximum:"3650"`
	CodesFor     *[]string `json:"codesFor,omitempty" maxItems:"4" doc:"Roles, or user."`
}

func signingInOf(s site.SigningIn) SigningIn {
	out := SigningIn{s.Idle().String(), s.Longest().String(), s.PasswordDays, []string{}}
	for _, r := range s.CodesFor {
		out.CodesFor = append(out.CodesFor, r.Name())
	}
	return out
}

// me is who asks.
func (s *Server) me(ctx context.Context) Me {
	by, svc := caller(ctx), s.on(ctx)
	me := Me{User: by.Name, Role: by.Role.Name(), Token: by.Token, Trouble: svc.TroubleSays(), Decides: []string{}, Owns: []string{}}
	d := svc.Policy().Directory
	u := d.User(by.ID)
	if u == nil {
		return me
	}
	if me.Codes = u.Codes != 0; me.Codes {
		me.Left = svc.RecoveryLeft(ctx, u)
	}
	if by.Role != identity.Administrator {
		for _, f := range svc.Policy().Folders {
			if svc.ControlsFolder(by.ID, f) {
				me.Decides = append(me.Decides, f.Name)
			}
		}
	}
	for i := range d.Groups() {
		if g := &d.Groups()[i]; len(g.Owners) > 0 && service.OwnsGroup(d, g.ID, by.ID) {
			me.Owns = append(me.Owns, g.Name)
		}
	}
	return me
}

// whose is the user that a list is of: who asks, or, for those who may look, anybody; 0 for everybody.
func (s *Server) whose(ctx context.Context, user string, all bool) (identity.ID, error) {
	by := caller(ctx)
	if user == "" && !all {
		return by.ID, nil
	}
	if !looks(by) && identity.Fold(user) != identity.Fold(by.Name) {
		return 0, forbidden("%s may see their own, and nobody else's", by.Name)
	}
	if all {
		return 0, nil
	}
	u, err := s.on(ctx).User(user)
	if err != nil {
		return 0, err
	}
	return u.ID, nil
}

// Whose are the parameters of a list that is of one user, or of everybody.
type Whose struct {
	User string `query:"user" maxLength:"64" doc:"Of this user; one's own, if left out."`
	All  bool   `query:"all" doc:"Of everybody."`
}

// OwnFolder is a folder that somebody may open.
type OwnFolder struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	Level       Levels `json:"level" doc:"The widest that they have anywhere in it."`
	At          string `json:"at" doc:"Where in it they get first."`
	Ways        []Way  `json:"ways" doc:"How they open it."`
}

// mostOwnSessions is of how many sessions of theirs somebody is told.
const mostOwnSessions = 50

// Own is what is somebody's own.
type Own struct {
	User     string      `json:"user"`
	FullName string      `json:"fullName,omitempty"`
	Groups   []string    `json:"groups"`
	Folders  []OwnFolder `json:"folders"`
	Use      *Use        `json:"use,omitempty" doc:"What they have stored, and how it stands with limits; left out where nothing is counted."`
	// Who else comes from the same host over NFS is nobody's business here.
	Sessions []OwnSession `json:"sessions" doc:"Where they are connected over SMB and NFS now."`
}

// OwnSession is a session in which somebody is.
type OwnSession struct {
	Via     string    `json:"via" enum:"smb,nfs"`
	Version string    `json:"version" doc:"Of the protocol."`
	Address string    `json:"address"`
	Host    string    `json:"host,omitempty" doc:"What the address is called."`
	Since   time.Time `json:"since"`
	Idle    int64     `json:"idle" doc:"Seconds since something was last asked for."`
}

// ownOf is what is a caller's own, as it is reached by a name of the gateway.
func (s *Server) ownOf(ctx context.Context, name, host string) (Own, error) {
	svc := s.on(ctx)
	u, err := svc.User(name)
	if err != nil {
		return Own{}, err
	}
	p := svc.Policy()
	out := Own{User: u.Name, FullName: u.FullName, Groups: []string{}, Folders: []OwnFolder{}, Sessions: []OwnSession{}}
	for _, one := range latest(s.svc.Connected(s.live, service.LiveQuery{Who: u.Name}), mostOwnSessions) {
		is := sessionOf(one, time.Now())
		out.Sessions = append(out.Sessions, OwnSession{is.Via, is.Version, is.Address, is.Host, is.Since, is.Idle})
	}
	for _, g := range p.Directory.MemberOf(u.ID) {
		out.Groups = append(out.Groups, g.Name)
	}
	at := make(map[*site.PublishedFolder]int)
	widest := make(map[*site.PublishedFolder]audit.Pair)
	for _, spot := range svc.Audit().Reach(p.Directory.UserIndex(u.ID)) {
		pair := widest[spot.Folder]
		pair = spot.Pair.Or(pair)
		if !pair.Any() {
			continue
		}
		widest[spot.Folder] = pair
		if _, known := at[spot.Folder]; !known {
			at[spot.Folder] = len(out.Folders)
			out.Folders = append(out.Folders, OwnFolder{Name: spot.Folder.Name, Description: spot.Folder.Description, At: spot.Folder.Display(spot.Path), Ways: []Way{}})
		}
	}
	for f, i := range at {
		pair := widest[f]
		out.Folders[i].Level = levelsOf(pair)
		ways, err := svc.Connect(f.Name, host, asking.Ports{SMB: s.smbPort, NFS: s.nfsPort}, u.Name)
		if err != nil {
			return Own{}, err
		}
		for _, w := range ways {
			if w.Over == "SMB" && pair.AnyOverSMB() || w.Over == "NFS" && pair.AnyOverNFS() {
				out.Folders[i].Ways = append(out.Folders[i].Ways, wayOf(w))
			}
		}
	}
	uses, err := svc.Uses(ctx, service.ByUser)
	if err != nil {
		return Own{}, err
	}
	for i := range uses {
		if uses[i].Known && uses[i].Name == u.Name {
			use := useOf(p, &uses[i], svc.Ledger().Now())
			out.Use = &use
		}
	}
	return out, nil
}

func (s *Server) registerOwn() {
	handle(s, operation("show-own", http.MethodGet, "/own", "Say what is one's own: where one gets and how to open it, and what one has stored", "session"), func(ctx context.Context, _ *struct{}) (Own, error) {
		return s.ownOf(ctx, caller(ctx).Name, reachedBy(ctx).host)
	})
	s.registerCodes()
	s.registerSignIns()
	s.registerTokens()
	handle(s, operation("show-signing-in", http.MethodGet, "/signing-in", "Say what signing in to the console and the API takes", "session"), func(ctx context.Context, _ *struct{}) (SigningIn, error) {
		return signingInOf(s.on(ctx).Policy().SigningIn), nil
	})
	handle(s, operation("change-signing-in", http.MethodPatch, "/signing-in", "Change what signing in to the console and the API takes", "session"), func(ctx context.Context, in *struct{ Body SigningInChange }) (SigningIn, error) {
		change := service.SigningInChange{PasswordDays: in.Body.PasswordDays}
		var err error
		if change.Idle, err = duration("idle", in.Body.Idle); err != nil {
			return SigningIn{}, err
		}
		if change.Longest, err = duration("longest", in.Body.Longest); err != nil {
			return SigningIn{}, err
		}
		if in.Body.CodesFor != nil {
			roles, err := service.ParseRoles("codesFor", *in.Body.CodesFor)
			if err != nil {
				return SigningIn{}, err
			}
			change.CodesFor = &roles
		}
		is, err := s.on(ctx).SetSigningIn(ctx, caller(ctx), change)
		return signingInOf(is), err
	})
}

func duration(field string, text *string) (*time.Duration, error) {
	if text == nil {
		return nil, nil
	}
	var d time.Duration
	if *text != "" {
		var err error
		if d, err = time.ParseDuration(*text); err != nil || d <= 0 {
			return nil, &service.Error{Kind: service.Invalid, Field: field, Message: "write it as 30m or 2h"}
		}
	}
	return &d, nil
}

// qrRows is a text as a QR code (ISO/IEC 18004): a row of modules each, 1 for a dark one, without the margin.
func qrRows(text string) (rows []string, err error) {
	code, err := qr.Encode(text, qr.M, qr.Auto)
	if err != nil {
		return nil, err
	}
	size := code.Bounds().Dx()
	for y := range size {
		row := make([]byte, size)
		for x := range size {
			row[x] = '0'
			if r, _, _, _ := code.At(x, y).RGBA(); r == 0 {
				row[x] = '1'
			}
		}
		rows = append(rows, string(row))
	}
	return rows, nil
}

// registerCodes registers what one-time codes are set up with. Who does so says who they are each time, as some cannot sign in before.
func (s *Server) registerCodes() {
	open := func(id, path, summary string) huma.Operation {
		op := operation(id, http.MethodPost, path, summary, "session")
		op.Security = public
		return op
	}
	handle(s, open("begin-own-codes", "/own-codes", "Begin to set up one-time codes for oneself"), func(ctx context.Context, in *struct{ Body Credentials }) (CodesBegun, error) {
		e, err := s.on(ctx).BeginCodes(ctx, in.Body.try(ctx))
		if err != nil {
			return CodesBegun{}, err
		}
		rows, err := qrRows(e.URI)
		return CodesBegun{Secret: e.Secret, URI: e.URI, QR: rows}, err
	})
	handle(s, open("confirm-own-codes", "/own-codes/confirm", "Show that they work, and have them from then on"), func(ctx context.Context, in *struct{ Body CodesToConfirm }) (Recovery, error) {
		codes, err := s.on(ctx).ConfirmCodes(ctx, in.Body.try(ctx), in.Body.Fresh)
		return Recovery{codes}, err
	})
	do(s, open("remove-own-codes", "/own-codes/remove", "Have no one-time codes any more"), func(ctx context.Context, in *struct{ Body Credentials }) error {
		return s.on(ctx).RemoveOwnCodes(ctx, in.Body.try(ctx))
	})
}

func (s *Server) registerSignIns() {
	handle(s, operation("list-sign-ins", http.MethodGet, "/sign-ins", "List the sign-ins that go on", "session"), func(ctx context.Context, in *Whose) ([]SignInNow, error) {
		of, err := s.whose(ctx, in.User, in.All)
		if err != nil {
			return nil, err
		}
		all, err := s.on(ctx).Sessions(ctx, of)
		out := []SignInNow{}
		for _, is := range all {
			out = append(out, signInOf(is, caller(ctx)))
		}
		return out, err
	})
	do(s, operation(endSignIn, http.MethodDelete, "/sign-ins/{id}", "End a sign-in", "session"), func(ctx context.Context, in *struct {
		ID int64 `path:"id"`
	}) error {
		return s.on(ctx).EndSignIn(ctx, caller(ctx), in.ID)
	})
}

func signInOf(is signin.Session, by service.Actor) SignInNow {
	return SignInNow{ID: is.ID, User: is.Actor.Name, Role: is.Actor.Role.Name(), Begun: is.Begun.UTC(), Used: is.Used.UTC(), Ends: is.Expires.UTC(),
		Address: is.Address, Client: is.Client, This: is.ID == by.Session && is.ID != 0}
}

func (s *Server) tokenOf(ctx context.Context, t site.Token) Token {
	svc := s.on(ctx)
	out := Token{ID: t.ID, Name: t.Name, User: svc.Policy().Directory.Name(identity.UserPrincipal(t.User)), Role: t.Role.Name(), Made: t.Made, Ended: t.Ended(svc.Now()), From: []string{}}
	out.From = append(out.From, t.From...)
	out.Ends = orNever(t.Ends)
	at, from := svc.TokenUse(ctx, t.ID)
	out.Used, out.Address = orNever(at.UTC()), from
	return out
}

func (s *Server) registerTokens() {
	handle(s, operation("list-tokens", http.MethodGet, "/tokens", "List the tokens by which programs use this API", "session"), func(ctx context.Context, in *Whose) ([]Token, error) {
		of, err := s.whose(ctx, in.User, in.All)
		if err != nil {
			return nil, err
		}
		out := []Token{}
		for _, t := range s.on(ctx).Tokens(of) {
			out = append(out, s.tokenOf(ctx, t))
		}
		return out, nil
	})
	op := operation(addToken, http.MethodPost, "/tokens", "Make a token for a program", "session")
	op.DefaultStatus = http.StatusCreated
	handle(s, op, func(ctx context.Context, in *struct{ Body NewToken }) (Token, error) {
		input := service.TokenInput{Name: in.Body.Name, Role: in.Body.Role, From: in.Body.From}
		if in.Body.Ends != nil {
			input.Ends = *in.Body.Ends
		}
		t, text, err := s.on(ctx).CreateToken(ctx, caller(ctx), input)
		if err != nil {
			return Token{}, err
		}
		out := s.tokenOf(ctx, t)
		out.Text = text
		return out, nil
	})
	do(s, operation(removeToken, http.MethodDelete, "/tokens/{id}", "Take a token back", "session"), func(ctx context.Context, in *struct {
		ID int64 `path:"id"`
	}) error {
		return s.on(ctx).RemoveToken(ctx, caller(ctx), in.ID)
	})
}

const (
	endSignIn   = "end-sign-in"
	addToken    = "add-token"
	removeToken = "remove-token"
)
