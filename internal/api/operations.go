package api

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// operationsText has a block for each operation: its id; what it does; after "may: " who may ask for it, see mayBe; after "> " an example, its path and its body; and the refusals that are its own:
// the status, the field at fault if there is one, and when. "after" names operations whose examples come before, and "decide" stands for each line of
// the review decided; "{made}" is the number that the last of them made, and "{answer}" all that it answered. A test sends the examples, and checks the
// refusals.
//
//go:embed operations.txt
var operationsText string

// described is what a block says of an operation.
type described struct {
	does     string
	path     string // of the example, with its query
	body     string // "" for none
	refusals []string
	statuses []int  // of those, and of those that any operation has
	may      string // who may ask for it: one of mayBe
}

// operations are the blocks, by the operations' ids.
var operations = func() map[string]described {
	out := make(map[string]described)
	for block := range strings.SplitSeq(strings.TrimSpace(operationsText), "\n\n") {
		id, text, _ := strings.Cut(block, "\n")
		var d described
		for line := range strings.SplitSeq(text, "\n") {
			about, when, _ := strings.Cut(line, ": ")
			status, field, named := strings.Cut(about, " ")
			code, err := strconv.Atoi(status)
			if err == nil {
				d.statuses = append(d.statuses, code)
			}
			switch {
			case strings.HasPrefix(line, "> "):
				d.path, d.body, _ = strings.Cut(strings.ReplaceAll(line[2:], "{made}", "24"), " ")
			case strings.HasPrefix(line, "after "):
			case about == "may":
				d.may = when
			case err != nil:
				d.does = line
			case named:
				d.refusals = append(d.refusals, fmt.Sprintf("- %s for `%s`: %s", status, field, when))
			default:
				d.refusals = append(d.refusals, fmt.Sprintf("- %s: %s", status, when))
			}
		}
		out[id] = d
	}
	return out
}()

// tags are what operations are about.
var tags = []*huma.Tag{
	{Name: "session", Description: "Signing in and out."},
	{Name: "people", Description: "Users, groups, and what clients number them."},
	{Name: "places", Description: "Volumes, folders, and owners and modes in them."},
	{Name: "entries", Description: "Entries of access control lists on folders and paths."},
	{Name: "publishing", Description: "Shares over SMB, exports over NFS, and who may mount them."},
	{Name: "limits", Description: "Who may store how much, and who has how much in use."},
	{Name: "jobs", Description: "What takes long and so goes on by itself."},
	{Name: "notices", Description: "What is told of limits, to whom, and how."},
	{Name: "audit", Description: "Who may do what and why, what would become other, findings, reviews and reports."},
	{Name: "journal", Description: "What was changed, by whom."},
	{Name: "live", Description: "Who is connected, and what they hold open."},
	{Name: "running", Description: "The process that serves: its settings, its certificate, backups of its records."},
	{Name: "events", Description: "What was done or refused at the wire."},
}

// operation is what every route shares.
func operation(id, method, path, summary, tag string) huma.Operation {
	d := operations[id]
	op := huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary, Description: d.does, Tags: []string{tag}}
	op.Errors = append(d.statuses, http.StatusBadRequest, http.StatusUnauthorized, http.StatusUnprocessableEntity, http.StatusTooManyRequests)
	if method != http.MethodGet {
		op.Errors = append(op.Errors, http.StatusForbidden, http.StatusServiceUnavailable)
	}
	slices.Sort(op.Errors)
	op.Errors = slices.Compact(op.Errors)
	if len(d.refusals) > 0 {
		op.Description += "\n\nIt is refused with\n\n" + strings.Join(d.refusals, "\n")
	}
	sayWho(&op, d.may)
	op.Description += "\n\nFor example\n\n    " + method + " /api/v1" + d.path
	var example any
	if json.Unmarshal([]byte(d.body), &example) == nil {
		op.RequestBody = &huma.RequestBody{Content: map[string]*huma.MediaType{"application/json": {Example: example}}}
	}
	return op
}
