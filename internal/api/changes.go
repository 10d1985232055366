package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/service"
)

// Change is something to do: act on what kind of thing, on which one, and with what. Of and With are what the operation for it takes in its path and query,
// and in its body.
type Change struct {
	Kind string                     `json:"kind"`
	Act  string                     `json:"act"`
	Of   map[string]json.RawMessage `json:"of,omitempty"`
	With json.RawMessage            `json:"with,omitempty"`
}

// changing are the operations that may stand in a set of changes, by the first of their routes.
var changing = map[string]string{
	"add-user": "POST /users", "change-user": "PATCH /users/{name}", "remove-user": "DELETE /users/{name}",
	"set-password": "PUT /users/{name}/password", "import-users": "POST /users/import", "add-group": "POST /groups", "change-group": "PATCH /groups/{name}",
	"remove-group": "DELETE /groups/{name}", "add-member": "PUT /groups/{name}/members/{member}",
	"remove-member": "DELETE /groups/{name}/members/{member}", "forget-ids": "DELETE /ids/{name}", "add-volume": "POST /volumes",
	"change-volume": "PATCH /volumes/{name}", "remove-volume": "DELETE /volumes/{name}", "add-folder": "POST /folders",
	"change-folder": "PATCH /folders/{name}", "remove-folder": "DELETE /folders/{name}", "convert-folder": "POST /folders/{name}/convert",
	"add-entry": "POST /entries", "change-entry": "PATCH /entries/{id}", "remove-entry": "DELETE /entries/{id}", "set-inheritance": "PUT /inheritance",
	"clear-rules": "DELETE /rules", "copy-rules": "POST /rules/copy", "arrange-rules": "PUT /arrangement", "import-entries": "PUT /acls",
	"set-mode": "PUT /mode", "set-owner": "PUT /owner", "add-share": "POST /shares", "change-share": "PATCH /shares/{name}",
	"remove-share": "DELETE /shares/{name}", "add-share-entry": "POST /shares/{name}/entries",
	"change-share-entry": "PATCH /shares/{name}/entries/{id}", "remove-share-entry": "DELETE /shares/{name}/entries/{id}",
	"switch-service": "PUT /services/{protocol}", "add-export": "POST /exports", "change-export": "PATCH /exports/{name}",
	"remove-export": "DELETE /exports/{name}", "add-export-rule": "POST /exports/{name}/rules",
	"change-export-rule": "PATCH /exports/{name}/rules/{id}", "move-export-rule": "PUT /exports/{name}/rules/{id}/position",
	"remove-export-rule": "DELETE /exports/{name}/rules/{id}", "add-server-name": "POST /server-names", "change-server-name": "PATCH /server-names/{name}",
	"remove-server-name": "DELETE /server-names/{name}", "add-host-set": "POST /host-sets", "change-host-set": "PATCH /host-sets/{name}",
	"remove-host-set": "DELETE /host-sets/{name}", "add-host-set-rule": "POST /host-sets/{name}/rules",
	"change-host-set-rule": "PATCH /host-sets/{name}/rules/{id}", "move-host-set-rule": "PUT /host-sets/{name}/rules/{id}/position",
	"remove-host-set-rule": "DELETE /host-sets/{name}/rules/{id}", "set-limit": "PUT /limits", "remove-limit": "DELETE /limits",
	"change-notice-settings": "PATCH /notices/settings", "set-letter": "PUT /notices/templates/{name}", "remove-hook": "DELETE /notices/hooks/{name}",
	"accept-finding": "PUT /findings/{name}/acceptance", "reopen-finding": "DELETE /findings/{name}/acceptance", "add-review": "POST /reviews",
	"apply-review": "POST /reviews/{name}/apply", "remove-review": "DELETE /reviews/{name}", "check-ids": "POST /ids/check",
	"count-volume": "POST /counts/{name}", "pause-count": "PUT /counts/{name}/paused", "add-hook": "POST /notices/hooks",
	"change-hook": "PATCH /notices/hooks/{name}", "mark-review": "PATCH /reviews/{name}/lines", "mark-review-text": "PUT /reviews/{name}/csv",
	"verify-review": "POST /reviews/verify", "undo-rows": "POST /journal/undo",
	"add-number-map": "POST /number-maps", "change-number-map": "PATCH /number-maps/{name}", "remove-number-map": "DELETE /number-maps/{name}",
	"add-profile": "POST /profiles", "change-profile": "PATCH /profiles/{name}", "remove-profile": "DELETE /profiles/{name}", "apply-profile": "POST /profiles/{name}/apply",
	"change-holding": "PATCH /holdings/{name}",
	"leave-user":     "POST /users/{name}/leaving", "stay-user": "DELETE /users/{name}/leaving",
	"remove-codes": "DELETE /users/{name}/codes", "remove-token": "DELETE /tokens/{id}", "change-signing-in": "PATCH /signing-in",
}

// kindAndAct part an operation's id: "add-share-entry" adds a share entry.
func kindAndAct(id string) (kind, act string) {
	act, kind, _ = strings.Cut(id, "-")
	return strings.ReplaceAll(kind, "-", " "), act
}

// AsChange is a request to this API as a change; false where it is none that may stand in a set. The path is below /api/v1, its parts escaped.
func AsChange(method, path string, query url.Values, body any) (Change, bool, error) {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	for id, route := range changing {
		of, is := match(method, parts, route)
		if !is {
			continue
		}
		for name := range query {
			of[name] = query.Get(name)
		}
		c := Change{Of: make(map[string]json.RawMessage)}
		c.Kind, c.Act = kindAndAct(id)
		for name, text := range of {
			raw, err := json.Marshal(text)
			if name == "id" || name == "below" { // a number, and true or false
				raw = json.RawMessage(text)
			}
			if err != nil || !json.Valid(raw) {
				return c, false, fmt.Errorf("%s is %q", name, text)
			}
			c.Of[name] = raw
		}
		if body == nil {
			return c, true, nil
		}
		with, err := json.Marshal(body)
		if string(with) != "{}" { // nothing is the same
			c.With = with
		}
		return c, true, err
	}
	return Change{}, false, nil
}

// match says whether a request is for a route, and what stands in its path.
func match(method string, parts []string, route string) (map[string]string, bool) {
	m, path, _ := strings.Cut(route, " ")
	of := strings.Split(strings.Trim(path, "/"), "/")
	if m != method || len(of) != len(parts) {
		return nil, false
	}
	out := make(map[string]string)
	for i, part := range of {
		if name, ok := strings.CutPrefix(part, "{"); ok {
			value, err := url.PathUnescape(parts[i])
			if err != nil {
				return nil, false
			}
			out[strings.TrimSuffix(name, "}")] = value
		} else if part != parts[i] {
			return nil, false
		}
	}
	return out, true
}

// changer makes changes of one kind and act.
type changer struct {
	op     huma.Operation
	schema *huma.Schema
	run    func(ctx context.Context, c Change) error
}

func changeName(kind, act string) string { return act + " " + kind }

// mayBeSet has an operation be one that may stand in a set of changes, if it is one of those.
func mayBeSet[I any](s *Server, op huma.Operation, run func(context.Context, *I) error) {
	if changing[op.OperationID] == "" {
		return
	}
	s.changers[changeName(kindAndAct(op.OperationID))] = &changer{op: op, run: func(ctx context.Context, c Change) error {
		in := new(I)
		if err := fillFrom(reflect.ValueOf(in).Elem(), c); err != nil {
			return err
		}
		if err := plainText(in); err != nil {
			return err
		}
		if err := s.mayAbout(ctx, &op, in); err != nil {
			return err
		}
		return run(ctx, in)
	}}
}

// fillFrom puts what a change says into an operation's input.
func fillFrom(v reflect.Value, c Change) error {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name := f.Tag.Get("path")
		if name == "" {
			name = f.Tag.Get("query")
		}
		var raw json.RawMessage
		switch {
		case name != "":
			raw = c.Of[strings.Split(name, ",")[0]]
		case f.Name == "Body":
			raw = c.With
		case f.Anonymous && f.Type.Kind() == reflect.Struct:
			if err := fillFrom(v.Field(i), c); err != nil {
				return err
			}
		}
		if raw != nil {
			if err := json.Unmarshal(raw, v.Field(i).Addr().Interface()); err != nil {
				return err
			}
		}
	}
	return nil
}

// describeChanges gives each kind of change its schema: what the operation takes, put together.
func (s *Server) describeChanges() {
	doc := s.api.OpenAPI()
	schemas := doc.Components.Schemas.Map()
	var all []*huma.Schema
	for _, name := range slices.Sorted(maps.Keys(s.changers)) {
		c := s.changers[name]
		item := doc.Paths[c.op.Path]
		op := map[string]*huma.Operation{
			http.MethodPost: item.Post, http.MethodPut: item.Put, http.MethodPatch: item.Patch, http.MethodDelete: item.Delete}[c.op.Method]
		kind, act := kindAndAct(c.op.OperationID)
		schema := &huma.Schema{Type: huma.TypeObject, Description: c.op.Summary + ".", AdditionalProperties: false, Required: []string{"kind", "act"},
			Properties: map[string]*huma.Schema{"kind": {Type: huma.TypeString, Enum: []any{kind}}, "act": {Type: huma.TypeString, Enum: []any{act}}}}
		if of := paramsOf(op); len(of.Properties) > 0 {
			schema.Properties["of"] = of
			if len(of.Required) > 0 {
				schema.Required = append(schema.Required, "of")
			}
		}
		if op.RequestBody != nil {
			with := op.RequestBody.Content["application/json"].Schema
			schema.Properties["with"] = with
			if is := s.api.OpenAPI().Components.Schemas.SchemaFromRef(with.Ref); with.Ref == "" || is == nil || len(is.Required) > 0 {
				schema.Required = append(schema.Required, "with")
			}
		}
		schema.PrecomputeMessages()
		c.schema = schema
		title := "Change"
		for _, word := range strings.Fields(changeName(kind, act)) {
			title += strings.ToUpper(word[:1]) + word[1:]
		}
		schemas[title] = schema
		all = append(all, &huma.Schema{Ref: "#/components/schemas/" + title})
	}
	*schemas["Change"] = huma.Schema{OneOf: all, Description: "Something to do, by the kind of thing and what is done to it."}
}

func paramsOf(op *huma.Operation) *huma.Schema {
	of := &huma.Schema{Type: huma.TypeObject, AdditionalProperties: false, Properties: make(map[string]*huma.Schema)}
	for _, p := range op.Parameters {
		if p.In != "path" && p.In != "query" {
			continue
		}
		schema := *p.Schema
		schema.Description = p.Description
		of.Properties[p.Name] = &schema
		if p.Required {
			of.Required = append(of.Required, p.Name)
		}
	}
	of.PrecomputeMessages()
	return of
}

// longestSet is how long a request with a set of changes may be: one of them may hold a list of people.
const longestSet = 32 << 20

// mostChanges is how many there may be in a set.
const mostChanges = 10_000

// makeAll makes changes on the service in the context, in their order.
func (s *Server) makeAll(ctx context.Context, changes []Change) error {
	if len(changes) == 0 {
		return &service.Error{Kind: service.Invalid, Field: "changes", Message: "there is no change to make"}
	}
	if len(changes) > mostChanges {
		return &service.Error{Kind: service.Invalid, Field: "changes", Message: fmt.Sprintf("%d changes are more than are made at once: %d", len(changes), mostChanges)}
	}
	for i, c := range changes {
		if ctx.Err() != nil {
			return tookTooLong(ctx)
		}
		if err := s.makeOne(ctx, c); err != nil {
			return s.inSet(err, i, len(changes), c)
		}
	}
	return nil
}

func (s *Server) makeOne(ctx context.Context, c Change) error {
	known := s.changers[changeName(c.Kind, c.Act)]
	if known == nil {
		return &service.Error{Kind: service.Invalid, Field: "kind", Message: fmt.Sprintf("%q of %q is no change that can be made here; see /openapi.json", c.Act, c.Kind)}
	}
	if err := mayAsk(caller(ctx), &known.op, s.on(ctx).Trying()); err != nil {
		return err
	}
	raw, err := json.Marshal(c)
	if err != nil {
		return err
	}
	var value any
	if err := json.Unmarshal(raw, &value); err != nil {
		return err
	}
	var wrong huma.ValidateResult
	huma.Validate(s.api.OpenAPI().Components.Schemas, known.schema, huma.NewPathBuffer(nil, 0), huma.ModeWriteToServer, value, &wrong)
	if len(wrong.Errors) > 0 {
		return huma.NewError(http.StatusUnprocessableEntity, "validation failed", wrong.Errors...)
	}
	return known.run(ctx, c)
}

// inSet says of which change of a set something is.
func (s *Server) inSet(err error, i, of int, c Change) error {
	var p *Problem
	where := "with"
	if c.With == nil {
		where = "of"
	}
	if e := (*service.Error)(nil); errors.As(err, &e) && e.Field == "kind" {
		where = ""
	}
	if !errors.As(s.asProblem(err, where), &p) {
		return err
	}
	out := *p
	out.Errors = nil
	for _, e := range p.Errors {
		detail := *e
		detail.Location = strings.TrimSuffix(fmt.Sprintf("body.changes[%d].%s", i, strings.TrimPrefix(e.Location, ".")), ".")
		out.Errors = append(out.Errors, &detail)
	}
	if of > 1 {
		out.Detail = fmt.Sprintf("change %d of %d: %s", i+1, of, p.Detail)
	}
	return &out
}

// ChangesBody is a set of changes.
type ChangesBody struct {
	Changes []Change `json:"changes" minItems:"1" maxItems:"10000" doc:"In this order, as one."`
	AsOf    int64    `json:"asOf,omitempty" minimum:"0" doc:"A row of the journal: refused where anything has been changed after it."`
}

// ChangesMade is what came of a set of changes.
type ChangesMade struct {
	Row  int64 `json:"row" doc:"The row of the journal that tells of them; 0 where nothing had to be changed."`
	Made int   `json:"made" doc:"How many there were."`
}

// readBody reads what describes itself too richly to be checked before.
func readBody[T any](raw []byte) (out T, err error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(&out); err != nil {
		return out, &service.Error{Kind: service.Invalid, Message: "the request is not as it should be: it holds a set of changes, each with its kind and its act; see /openapi.json"}
	}
	return out, nil
}

// RowsToUndo are rows of the journal that are to be taken back.
type RowsToUndo struct {
	Rows []int64 `json:"rows,omitempty" maxItems:"1000" doc:"Their numbers; the last change of who asks that has not been taken back, if left out."`
}

func (s *Server) registerChanges() {
	op := operation("make-changes", http.MethodPost, "/changes", "Make changes as one, or none of them", "journal")
	op.SkipValidateBody = true
	op.MaxBodyBytes = longestSet
	handle(s, op, func(ctx context.Context, in *struct {
		Body    ChangesBody
		RawBody []byte
	}) (ChangesMade, error) {
		body, err := readBody[ChangesBody](in.RawBody)
		if err != nil {
			return ChangesMade{}, err
		}
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		row, err := s.on(ctx).Make(ctx, caller(ctx), body.AsOf, func(ctx context.Context, set *service.Service) error {
			return s.makeAll(context.WithValue(ctx, draftKey{}, set), body.Changes)
		})
		if err != nil && ctx.Err() != nil { // that is why, whatever it came upon
			err = tookTooLong(ctx)
		}
		return ChangesMade{row, len(body.Changes)}, err
	})
	handle(s, operation("undo-rows", http.MethodPost, "/journal/undo", "Take back what rows of the journal changed", "journal"), func(ctx context.Context, in *struct{ Body RowsToUndo }) (Undone, error) {
		rows, err := s.on(ctx).Undo(ctx, caller(ctx), in.Body.Rows)
		out := Undone{Rows: []UndoneRow{}}
		for _, r := range rows {
			out.Rows = append(out.Rows, UndoneRow{r.Seq, r.Action, r.Subject})
		}
		return out, err
	})
}

// Undone is what was taken back.
type Undone struct {
	Rows []UndoneRow `json:"rows" doc:"The latest first."`
}

// UndoneRow is a row that was taken back.
type UndoneRow struct {
	Row     int64  `json:"row"`
	Action  string `json:"action"`
	Subject string `json:"subject"`
}
