package api

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/command"
	"amber.example/gatekeeper/internal/core/audit"
)

// Finding is something that the audit holds to be wrong or risky.
type Finding struct {
	Key      string    `json:"key"`
	Kind     string    `json:"kind"`
	Severity string    `json:"severity" enum:"low,medium,high"`
	Subject  string    `json:"subject" doc:"The record it is about."`
	Says     string    `json:"says"`
	Fix      []string  `json:"fix" doc:"The commands that together fix it."`
	Changes  []Change  `json:"changes,omitempty" doc:"The same as changes for /changes, in order; left out where that takes a decision more."`
	Accepted *Accepted `json:"accepted,omitempty" doc:"Somebody lives with it."`
}

// Accepted is who lives with a finding, and for how long.
type Accepted struct {
	Reason string    `json:"reason"`
	Until  time.Time `json:"until"`
	By     string    `json:"by"`
}

func findingsOf(list []audit.Finding) []Finding {
	out := []Finding{}
	for _, f := range list {
		one := Finding{Key: f.Key, Kind: f.Kind, Severity: f.Severity.String(), Subject: f.Subject, Says: f.Says, Fix: []string{}, Changes: changesOf(f.Fixes)}
		for _, m := range f.Fixes {
			one.Fix = append(one.Fix, command.Of(m))
		}
		if f.Accepted != nil {
			one.Accepted = &Accepted{f.Accepted.Reason, f.Accepted.Until.UTC(), f.Accepted.By}
		}
		out = append(out, one)
	}
	return out
}

// FindingToAccept says why and until when somebody lives with a finding.
type FindingToAccept struct {
	Reason string    `json:"reason" minLength:"1" maxLength:"500"`
	Until  time.Time `json:"until"`
}

func (s *Server) registerFindings() {
	findings := listing[Finding]{name: func(f *Finding) string { return f.Subject }, matches: func(f *Finding) []string { return []string{f.Kind, f.Says, f.Key} },
		sorts: map[string]func(*Finding) string{"kind": func(f *Finding) string { return f.Kind }}}
	op := operation("list-findings", http.MethodGet, "/findings", "List what the audit holds to be wrong or risky, the gravest first", "audit")
	huma.Register(s.api, op, func(ctx context.Context, in *struct {
		When
		ListQuery
		All bool `query:"all" doc:"Those that are accepted as well."`
	}) (*Listed[Finding], error) {
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		var found []audit.Finding
		for _, f := range svc.Audit().Findings() {
			if in.All || f.Accepted == nil {
				found = append(found, f)
			}
		}
		also := url.Values{}
		if in.All {
			also.Set("all", "true")
		}
		if !in.At.IsZero() {
			also.Set("at", in.At.Format(time.RFC3339))
		}
		return answer(s, op, findings, findingsOf(found), in.ListQuery, also)
	})
	sayOrders(s, op, findings)
	do(s, operation("accept-finding", http.MethodPut, "/findings/{name}/acceptance", "Live with a finding until a day", "audit"), func(ctx context.Context, in *struct {
		Named
		Body FindingToAccept
	}) error {
		return s.on(ctx).AcceptFinding(ctx, caller(ctx), in.Name, in.Body.Reason, in.Body.Until)
	})
	do(s, operation("reopen-finding", http.MethodDelete, "/findings/{name}/acceptance", "Live with a finding no more", "audit"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).ReopenFinding(ctx, caller(ctx), in.Name)
	})
}
