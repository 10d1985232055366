package api

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/store"
)

// Throughput is what was asked at the wire over time.
type Throughput struct {
	Of     string    `json:"of,omitempty" doc:"The folder; left out for all."`
	Step   int       `json:"step" doc:"Seconds that each span takes."`
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"`
	Spans  []Span    `json:"spans" doc:"Those in which something was asked."`
	Totals Span      `json:"totals" doc:"All of them as one."`
}

// Span is what was asked in a span of time.
type Span struct {
	At         time.Time `json:"at" doc:"Its beginning."`
	Operations uint64    `json:"operations" doc:"Requests that were answered."`
	Read       uint64    `json:"read" doc:"Bytes of files."`
	Written    uint64    `json:"written" doc:"Bytes of files."`
	Median     float64   `json:"median" doc:"Milliseconds within which half of the requests were answered."`
	Slow       float64   `json:"slow" doc:"Milliseconds within which 99 of 100 were."`
}

func spanOf(at time.Time, s store.Span) Span {
	ms := func(part float64) float64 { return float64(s.Times.Quantile(part).Microseconds()) / 1000 }
	return Span{At: at.UTC(), Operations: s.Operations, Read: s.Read, Written: s.Written, Median: ms(0.5), Slow: ms(0.99)}
}

// ThroughputQuery are the parameters of it.
type ThroughputQuery struct {
	Of    string    `query:"of" maxLength:"64" doc:"A folder; all, if left out."`
	Since time.Time `query:"since" doc:"Two hours ago, if left out."`
	Until time.Time `query:"until" doc:"Now, if left out."`
}

func (s *Server) throughput(ctx context.Context, q ThroughputQuery) (Throughput, error) {
	if q.Until.IsZero() {
		q.Until = time.Now()
	}
	if q.Since.IsZero() {
		q.Since = q.Until.Add(-2 * time.Hour)
	}
	step, points, err := s.on(ctx).Throughput(ctx, q.Of, q.Since, q.Until)
	out := Throughput{Of: q.Of, Step: int(step / time.Second), From: q.Since.UTC(), Until: q.Until.UTC(), Spans: []Span{}}
	var all store.Span
	for _, p := range points {
		out.Spans = append(out.Spans, spanOf(p.At, p.Span))
		all.Operations += p.Operations
		all.Read += p.Read
		all.Written += p.Written
		all.Times = all.Times.And(p.Times)
	}
	out.Totals = spanOf(q.Since, all)
	return out, err
}

func (s *Server) registerThroughput() {
	handle(s, operation("show-throughput", http.MethodGet, "/throughput", "Say what was asked at the wire over time: how much, and how fast it was answered", "live"), func(ctx context.Context, in *ThroughputQuery) (Throughput, error) {
		return s.throughput(ctx, *in)
	})
	huma.Register(s.api, operation("export-throughput", http.MethodGet, "/throughput/export", "Write the same out as CSV", "live"), func(ctx context.Context, in *struct{ ThroughputQuery }) (*huma.StreamResponse, error) {
		t, err := s.throughput(ctx, in.ThroughputQuery)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		return exported("csv", "throughput", []string{"at", "seconds", "operations", "read", "written", "median_ms", "slow_ms"},
			func(visit func(Span) error) error {
				for _, span := range t.Spans {
					if err := visit(span); err != nil {
						return err
					}
				}
				return nil
			},
			func(p Span) []string {
				ms := func(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
				return []string{p.At.Format(time.RFC3339), strconv.Itoa(t.Step), strconv.FormatUint(p.Operations, 10), strconv.FormatUint(p.Read, 10), strconv.FormatUint(p.Written, 10), ms(p.Median), ms(p.Slow)}
			}), nil
	})
}

// scraped answers a scrape to whoever may look.
func (s *Server) scraped(h http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		by, err := s.who(r.Context(), r.Header.Get("Authorization"), r.Header.Get("Cookie"))
		switch {
		case err != nil:
			writeProblem(w, http.StatusUnauthorized, "a scrape takes a bearer token of somebody who may look: amber token add NAME --role auditor")
		case !looks(by):
			writeProblem(w, http.StatusForbidden, by.Name+" may not see that: it takes an auditor, an operator or an administrator")
		default:
			h.ServeHTTP(w, r)
		}
	}
}
