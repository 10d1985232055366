package api

import (
	"cmp"
	"context"
	"net/http"
	"time"

	"amber.example/gatekeeper/internal/files"
)

// Event is something done or refused at the wire, as often as it was.
type Event struct {
	ID    int64     `json:"id"`
	At    time.Time `json:"at" doc:"When it was written down."`
	Since time.Time `json:"since" doc:"Of the first."`
	Kind  string    `json:"kind" enum:"refused,read,wrote"`
	Who   string    `json:"who" doc:"A user; of those whom the records do not know, the number that they gave."`
	Path  string    `json:"path"`
	Via   string    `json:"via"`
	From  string    `json:"from,omitempty" doc:"The client's address, of the first."`
	Gate  string    `json:"gate,omitempty" doc:"That refused."`
	Count int64     `json:"count"`
}

func (s *Server) registerEvents() {
	handle(s, operation("list-events", http.MethodGet, "/events", "List what was done or refused at the wire, the latest first", "events"), func(ctx context.Context, in *struct {
		Only   string `query:"only" enum:"refused,read,wrote" doc:"Only those of that kind."`
		Limit  int    `query:"limit" minimum:"1" maximum:"10000" default:"100"`
		Before int64  `query:"before" minimum:"0" doc:"Only those with a lower number."`
		After  int64  `query:"after" minimum:"-1" default:"-1" doc:"Only those with a higher number, and the oldest of them first."`
	}) ([]Event, error) {
		from, back := in.Before, in.After < 0
		if !back {
			from = in.After
		}
		list, err := s.on(ctx).Events(ctx, from, back, files.DeedKind(in.Only), cmp.Or(in.Limit, 100))
		out := []Event{}
		for _, e := range list {
			out = append(out, Event{e.ID, e.At.UTC(), e.Since.UTC(), e.Kind, e.Who, e.Path, e.Via, e.From, e.Gate, e.Count})
		}
		return out, err
	})
}
