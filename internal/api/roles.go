package api

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
)

// Besides the roles that accounts are given there are two that everybody has who is signed in: a user, for what is their own, and an owner, of the folders
// that they hold control of and the groups that they own.
const (
	plainUser = "user" // identity.NoRole.Name()
	anOwner   = "owner"
)

// mayBe are the words by which operations.txt says who may ask for an operation, each with the roles that it stands for. An operation without one is asked
// for by nobody.
var mayBe = map[string][]string{
	"anybody":        {}, // signed in or not
	"signed in":      {administrator, operator, auditor, plainUser},
	"look":           {administrator, operator, auditor},
	"look, or own":   {administrator, operator, auditor, anOwner},
	"people":         {administrator, operator},
	"people, or own": {administrator, operator, anOwner},
	"own":            {administrator, anOwner},
	"all":            {administrator},
}

const (
	administrator = string(identity.Administrator)
	operator      = string(identity.Operator)
	auditor       = string(identity.Auditor)
)

// inWords says who they are, for the document.
var inWords = map[string]string{
	"anybody":        "For anybody: nobody has to be signed in.",
	"signed in":      "For everybody who is signed in, about what is theirs.",
	"look":           "For administrators, operators and auditors.",
	"look, or own":   "For administrators, operators and auditors; and for owners, about the folders that they hold control of and the groups that they own.",
	"people":         "For administrators and operators.",
	"people, or own": "For administrators; for operators, of people, groups and limits; and for owners, of the folders that they hold control of and the groups that they own.",
	"own":            "For administrators, and for who holds control there.",
	"all":            "For administrators.",
}

// sayWho has the document say for which roles an operation is.
func sayWho(op *huma.Operation, may string) {
	roles := mayBe[may]
	if roles == nil {
		roles = []string{"nobody"}
	}
	op.Extensions = map[string]any{"x-roles": roles}
	op.Description += "\n\n" + inWords[may]
}

// looks says whether somebody may look at everything there is.
func looks(by service.Actor) bool {
	return by.Role == identity.Administrator || by.Role == identity.Operator || by.Role == identity.Auditor
}

// mayAsk says why somebody may not ask for an operation; nil where they may. Whose role lets them look may try what they may not do. Of what people own, the
// use case says whether it is theirs: by what would be other, and not by the way it was asked for.
func mayAsk(by service.Actor, op *huma.Operation, trying bool) error {
	may := operations[op.OperationID].may
	roles := mayBe[may]
	switch {
	case may == "anybody", slices.Contains(roles, string(by.Role)), trying && looks(by):
		return nil
	case by.Role == identity.NoRole && slices.Contains(roles, plainUser), by.Role != identity.Auditor && slices.Contains(roles, anOwner):
		return nil
	case by.Role == identity.Auditor && op.Method != http.MethodGet:
		return forbidden("%s may look but not change: that takes an administrator", by.Name)
	case may == "people":
		return forbidden("%s may not do that: it takes an operator or an administrator", by.Name)
	case may == "look":
		return forbidden("%s may not see that: it takes an auditor, an operator or an administrator", by.Name)
	}
	return forbidden("%s may not do that: it takes an administrator", by.Name)
}

func forbidden(format string, args ...any) error {
	return &service.Error{Kind: service.Forbidden, Message: fmt.Sprintf(format, args...)}
}

// mayAbout says why somebody may not ask about the paths that an operation names: who may not look at everything is told of those that they hold control of,
// and of no others whether they are there.
func (s *Server) mayAbout(ctx context.Context, op *huma.Operation, in any) error {
	by := caller(ctx)
	if looks(by) || !slices.Contains(mayBe[operations[op.OperationID].may], anOwner) {
		return nil
	}
	for _, path := range pathsIn(reflect.ValueOf(in).Elem()) {
		if !s.on(ctx).Controls(by.ID, path) {
			return &service.Error{Kind: service.Forbidden, Field: "path", Message: by.Name + " does not hold control of " + path + ": only who does, or an administrator, may ask about it or decide there"}
		}
	}
	return nil
}

// pathsIn are the paths that an operation's input names.
func pathsIn(v reflect.Value) (out []string) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name := f.Tag.Get("query")
		if name == "" {
			name, _, _ = strings.Cut(f.Tag.Get("json"), ",")
		}
		switch {
		case f.Type.Kind() == reflect.String && slices.Contains([]string{"path", "from", "to"}, name):
			out = append(out, v.Field(i).String())
		case f.Type.Kind() == reflect.Struct && (f.Anonymous || f.Name == "Body"):
			out = append(out, pathsIn(v.Field(i))...)
		}
	}
	return out
}

// ownOr says why somebody may not ask about a user, and a path: it is neither theirs nor may they look.
func (s *Server) ownOr(ctx context.Context, user, path string) error {
	by := caller(ctx)
	if looks(by) || identity.Fold(user) == identity.Fold(by.Name) || path != "" && s.on(ctx).Controls(by.ID, path) {
		return nil
	}
	return &service.Error{Kind: service.Forbidden, Field: "user", Message: by.Name + " may ask about their own access, and about folders that they hold control of"}
}

// ownGroup says why somebody may not ask about a group: they may not look, and do not own it, if it is there.
func (s *Server) ownGroup(ctx context.Context, name string) error {
	by := caller(ctx)
	if looks(by) {
		return nil
	}
	if d := s.on(ctx).Policy().Directory; d.GroupNamed(name) != nil && service.OwnsGroup(d, d.GroupNamed(name).ID, by.ID) {
		return nil
	}
	return &service.Error{Kind: service.Forbidden, Field: "name", Message: by.Name + " owns no group " + name}
}
