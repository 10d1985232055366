package api

import (
	"context"
	"net/http"

	"amber.example/gatekeeper/internal/service"
)

// Arrangement is a ready-made set of entries.
type Arrangement struct {
	Name   string `json:"name"`
	Text   string `json:"text"`
	Team   string `json:"team" doc:"What the team is for."`
	Others string `json:"others,omitempty" doc:"What the others are for; there are none where it is left out."`
}

// ArrangementBody picks an arrangement and fills its blanks.
type ArrangementBody struct {
	Arrangement string   `json:"arrangement,omitempty" enum:"together,few-change,only-named,drop-place,personal" doc:"A ready-made set of entries."`
	Team        []string `json:"team,omitempty" maxItems:"100" doc:"Users and groups for the arrangement's first blank."`
	Others      []string `json:"others,omitempty" maxItems:"100" doc:"And for its second, where it has one."`
}

// RulesToCopy are paths of which one is to have the rules of the other.
type RulesToCopy struct {
	From string `json:"from" maxLength:"4096"`
	To   string `json:"to" maxLength:"4096"`
}

// RulesToArrange is an arrangement with its blanks filled, and where it is to hold.
type RulesToArrange struct {
	Path string `json:"path" maxLength:"4096"`
	ArrangementBody
}

func (s *Server) registerArrangements() {
	handle(s, operation("change-entry", http.MethodPatch, "/entries/{id}", "Change an entry on the path it is written on", "entries"), func(ctx context.Context, in *struct {
		AtPath
		ID   int64 `path:"id"`
		Body EntryChange
	}) (Place, error) {
		if err := s.on(ctx).UpdateEntry(ctx, caller(ctx), in.Path, in.ID, in.Body.change()); err != nil {
			return Place{}, err
		}
		return s.placeAt(ctx, in.Path)
	})
	do(s, operation("clear-rules", http.MethodDelete, "/rules", "Remove what is written on a path; data stays", "entries"), func(ctx context.Context, in *struct {
		AtPath
		Below bool `query:"below" doc:"And on all paths below."`
	}) error {
		return s.on(ctx).ClearRules(ctx, caller(ctx), in.Path, in.Below)
	})
	do(s, operation("copy-rules", http.MethodPost, "/rules/copy", "Make what holds on one path hold on another", "entries"), func(ctx context.Context, in *struct{ Body RulesToCopy }) error {
		return s.on(ctx).CopyRules(ctx, caller(ctx), in.Body.From, in.Body.To)
	})
	handle(s, operation("list-arrangements", http.MethodGet, "/arrangements", "List the ready-made sets of entries", "entries"), func(context.Context, *struct{}) ([]Arrangement, error) {
		out := []Arrangement{}
		for _, a := range service.Arrangements() {
			out = append(out, Arrangement(a))
		}
		return out, nil
	})
	handle(s, operation("arrange-rules", http.MethodPut, "/arrangement", "Write a ready-made set of entries on a path, in the place of what is written there", "entries"), func(ctx context.Context, in *struct{ Body RulesToArrange }) (Place, error) {
		b := in.Body
		if err := s.on(ctx).Arrange(ctx, caller(ctx), b.Path, b.Arrangement, b.Team, b.Others); err != nil {
			return Place{}, err
		}
		return s.placeAt(ctx, b.Path)
	})
}

// EntriesToImport is the text of a list, and the path that it is for.
type EntriesToImport struct {
	Path   string `json:"path" maxLength:"4096"`
	Format string `json:"format" enum:"nfs4,sddl"`
	ListText
}

func (s *Server) registerTexts() {
	handle(s, operation("export-entries", http.MethodGet, "/acls", "Write what is explicit on a path in an open form", "entries"), func(ctx context.Context, in *struct {
		AtPath
		Format string `query:"format" enum:"nfs4,sddl,getfacl" default:"nfs4" doc:"NFSv4 ACL text, SDDL, or, where modes decide, what getfacl prints."`
	}) (ListText, error) {
		text, err := s.on(ctx).ListText(in.Path, service.Format(in.Format))
		return ListText{text}, err
	})
	op := operation("import-entries", http.MethodPut, "/acls", "Write on a path what a text in an open form says, in the place of what is written there", "entries")
	handle(s, op, func(ctx context.Context, in *struct{ Body EntriesToImport }) (Place, error) {
		if err := s.on(ctx).ReadListText(ctx, caller(ctx), in.Body.Path, service.Format(in.Body.Format), in.Body.Text); err != nil {
			return Place{}, err
		}
		return s.placeAt(ctx, in.Body.Path)
	})
	handle(s, operation(makeOwn, http.MethodPost, "/folders/{name}/personal", "Make the directories of all who have one of their own in a folder; that is a job", "places"), func(ctx context.Context, in *Named) (Job, error) {
		j, err := s.on(ctx).MakeAllOwn(ctx, caller(ctx), in.Name)
		return shownBy(j, err, jobOf)
	})
	handle(s, operation("convert-folder", http.MethodPost, "/folders/{name}/convert", "Turn owners, modes and POSIX ACLs into entries, which decide from then on; that is a job", "places"), func(ctx context.Context, in *Named) (Job, error) {
		j, err := s.on(ctx).ConvertFolder(ctx, caller(ctx), in.Name)
		if err != nil || j == nil { // in a set it has been done
			return Job{}, err
		}
		return jobOf(j), nil
	})
}

// ListText is an access control list in an open form.
type ListText struct {
	Text string `json:"text" maxLength:"200000" format:"lines"`
}

// placeAt shows a path as it is now.
func (s *Server) placeAt(ctx context.Context, path string) (Place, error) {
	f, at, err := s.on(ctx).Locate(path)
	if err != nil {
		return Place{}, err
	}
	return placeOf(s.on(ctx).Policy(), f, at.Path, at.File), nil
}
