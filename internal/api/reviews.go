package api

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/report"
	"amber.example/gatekeeper/internal/review"
	"amber.example/gatekeeper/internal/service"
)

// Review is a look at who has what, line by line.
type Review struct {
	Name      string       `json:"name"`
	Folders   []string     `json:"folders"`
	Reviewers []string     `json:"reviewers"`
	Made      time.Time    `json:"made"`
	By        string       `json:"by"`
	Keep      int          `json:"keep" doc:"How many lines are to be kept."`
	Remove    int          `json:"remove"`
	Undecided int          `json:"undecided"`
	Closed    *time.Time   `json:"closed,omitempty"`
	ClosedBy  string       `json:"closedBy,omitempty"`
	Signature string       `json:"signature,omitempty" doc:"Ed25519, base64."`
	Lines     []ReviewLine `json:"lines,omitempty" doc:"Only where one review is asked for."`
}

// ReviewLine is one thing to keep or to remove.
type ReviewLine struct {
	Number   int      `json:"number"`
	Path     string   `json:"path,omitempty" doc:"Of an entry: the path it is written on."`
	Entry    int64    `json:"entry,omitempty" doc:"And its number."`
	Group    string   `json:"group,omitempty" doc:"Of a membership."`
	Member   string   `json:"member,omitempty"`
	Says     string   `json:"says"`
	People   []string `json:"people" doc:"Whom it means."`
	Decision string   `json:"decision,omitempty" enum:"keep,remove"`
	By       string   `json:"by,omitempty"`
	Comment  string   `json:"comment,omitempty"`
}

func reviewOf(r *site.Review, lines bool) Review {
	out := Review{Name: r.Name, Folders: r.Folders, Reviewers: r.Reviewers, Made: r.Made, By: r.By, ClosedBy: r.ClosedBy, Signature: r.Signature}
	out.Closed = orNever(r.Closed)
	for _, l := range r.Lines {
		switch l.Decision {
		case site.Keep:
			out.Keep++
		case site.Remove:
			out.Remove++
		default:
			out.Undecided++
		}
		if lines {
			out.Lines = append(out.Lines, ReviewLine{l.Number, l.Path, l.Entry, l.Group, l.Member, l.Says, l.People, string(l.Decision), l.By, l.Comment})
		}
	}
	return out
}

// Bytes is an answer that is no JSON of this API's.
type Bytes struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// NewReview is what a review is made from.
type NewReview struct {
	Name      string   `json:"name" maxLength:"80"`
	Folders   []string `json:"folders" minItems:"1" maxItems:"1000"`
	Reviewers []string `json:"reviewers" minItems:"1" maxItems:"100" doc:"Users who may sign in here."`
}

// ReviewMarks are decisions about lines of a review.
type ReviewMarks struct {
	Marks []ReviewMark `json:"marks" minItems:"1" maxItems:"20000"`
}

// ReviewMark is a decision about one.
type ReviewMark struct {
	Line     int    `json:"line" minimum:"1"`
	Decision string `json:"decision,omitempty" enum:"keep,remove" doc:"Undecided if left out."`
	Comment  string `json:"comment,omitempty" maxLength:"500"`
}

// ReviewText is a CSV that a review was written to.
type ReviewText struct {
	Text string `json:"text" format:"lines"`
}

// ReviewRecord is the record of a review, as it was signed.
type ReviewRecord struct {
	Record json.RawMessage `json:"record"`
}

func shownReview(r *site.Review, err error) (Review, error) {
	return shownBy(r, err, func(r *site.Review) Review { return reviewOf(r, true) })
}

func (s *Server) reviews() resource[Review, NewReview, struct{}] {
	return resource[Review, NewReview, struct{}]{
		one: "review", many: "reviews", route: "/reviews", tag: "audit",
		does: summaries{list: "List the access reviews", show: "Show a review with its lines", add: "List who has what in some folders, to be kept or removed line by line", remove: "Forget a review"},
		listing: listing[Review]{name: func(r *Review) string { return r.Name }, matches: func(r *Review) []string { return append(slices.Clone(r.Folders), r.Reviewers...) }, sorts: map[string]func(*Review) string{
			"undecided": func(r *Review) string { return byNumber(r.Undecided) }}},
		all: func(ctx context.Context) (out []Review) {
			for i := range s.on(ctx).Policy().Reviews {
				out = append(out, reviewOf(&s.on(ctx).Policy().Reviews[i], false))
			}
			return out
		},
		show: func(ctx context.Context, name string) (Review, error) { return shownReview(s.on(ctx).Review(name)) },
		add: func(ctx context.Context, b NewReview) (Review, error) {
			return shownReview(s.on(ctx).CreateReview(ctx, caller(ctx), b.Name, b.Folders, b.Reviewers))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveReview(ctx, caller(ctx), name) },
	}
}

func (s *Server) registerReviews() {
	register(s, s.reviews())
	handle(s, operation(markReview, http.MethodPatch, "/reviews/{name}/lines", "Decide about lines; only those asked to review can", "audit"), func(ctx context.Context, in *struct {
		Named
		Body ReviewMarks
	}) (Review, error) {
		var marks []review.Mark
		for _, m := range in.Body.Marks {
			marks = append(marks, review.Mark{Line: m.Line, Decision: site.Decision(m.Decision), Comment: m.Comment})
		}
		return shownReview(s.on(ctx).MarkReview(ctx, caller(ctx), in.Name, marks))
	})
	op := operation(markReviewText, http.MethodPut, "/reviews/{name}/csv", "Take decisions from a CSV that the review was written to", "audit")
	op.MaxBodyBytes = 16 << 20
	handle(s, op, func(ctx context.Context, in *struct {
		Named
		Body ReviewText
	}) (Review, error) {
		marks, err := review.ReadReviewCSV(in.Body.Text)
		if err != nil {
			return Review{}, err
		}
		return shownReview(s.on(ctx).MarkReview(ctx, caller(ctx), in.Name, marks))
	})
	huma.Register(s.api, operation("export-review", http.MethodGet, "/reviews/{name}/csv", "Write a review's lines as CSV, to be marked in a spreadsheet", "audit"), func(ctx context.Context, in *Named) (*Bytes, error) {
		r, err := s.on(ctx).Review(in.Name)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		var b bytes.Buffer
		if err := review.ReviewCSV(&b, r); err != nil {
			return nil, err
		}
		return &Bytes{report.Formats["csv"], `attachment; filename="review.csv"`, b.Bytes()}, nil
	})
	huma.Register(s.api, operation("export-review-record", http.MethodGet, "/reviews/{name}/record", "Write the record of a review as it is, or was, signed", "audit"), func(ctx context.Context, in *Named) (*Bytes, error) {
		r, err := s.on(ctx).Review(in.Name)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		raw, err := json.MarshalIndent(r, "", "  ")
		return &Bytes{report.Formats["json"], `attachment; filename="review.json"`, raw}, err
	})
	op = operation(verifyReview, http.MethodPost, "/reviews/verify", "Say whether a record is as this gateway signed it", "audit")
	op.MaxBodyBytes = 64 << 20
	handle(s, op, func(ctx context.Context, in *struct {
		Body ReviewRecord
	}) (Verified, error) {
		var r site.Review
		if err := json.Unmarshal(in.Body.Record, &r); err != nil {
			return Verified{}, &service.Error{Kind: service.Invalid, Field: "record", Message: "this is no record of a review: " + err.Error()}
		}
		return Verified{s.on(ctx).VerifyReview(r), s.on(ctx).SignatureKey()}, nil
	})
	handle(s, operation("apply-review", http.MethodPost, "/reviews/{name}/apply", "Make a review's removals as one change, close it and sign the record", "audit"), func(ctx context.Context, in *Named) (Review, error) {
		return shownReview(s.on(ctx).ApplyReview(ctx, caller(ctx), in.Name))
	})
}

// Verified says whether a record is as it was signed.
type Verified struct {
	Valid bool   `json:"valid"`
	Key   string `json:"key" doc:"The gateway's public key, Ed25519, base64."`
}

func (s *Server) registerReports() {
	huma.Register(s.api, operation("report", http.MethodGet, "/reports/{kind}", "Write a report as CSV, JSON or a page for paper", "audit"), func(ctx context.Context, in *struct {
		When
		Kind   string `path:"kind" enum:"folder,person,leaving,findings,review"`
		Of     string `query:"of" maxLength:"255" doc:"Which folder, user or review; nothing for the findings."`
		Format string `query:"format" enum:"csv,json,html" default:"html"`
	}) (*Bytes, error) {
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		var r *report.Report
		switch in.Kind {
		case "folder":
			r, err = svc.FolderReport(caller(ctx), in.Of)
		case "person":
			r, err = svc.PersonReport(caller(ctx), in.Of)
		case "leaving":
			r, err = svc.LeavingReport(ctx, caller(ctx), in.Of)
		case "review":
			r, err = svc.ReviewReport(caller(ctx), in.Of)
		default:
			r = svc.FindingsReport(caller(ctx))
		}
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		var b bytes.Buffer
		if err := r.Write(&b, in.Format); err != nil {
			return nil, err
		}
		return &Bytes{report.Formats[in.Format], `attachment; filename="` + in.Kind + "." + in.Format + `"`, b.Bytes()}, nil
	})
}
