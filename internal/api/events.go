package api

import (
	"time"

	"amber.example/gatekeeper/internal/store"
)

// Event is something done or refused at the wire, as often as it was.
type Event struct {
	ID     int64     `json:"id"`
	At     time.Time `json:"at" doc:"When it was written down."`
	Since  time.Time `json:"since" doc:"Of the first."`
	Kind   string    `json:"kind" enum:"refused,read,wrote,removed,renamed,signed in,sign-in refused"`
	Who    string    `json:"who" doc:"A user; of those whom the records do not know, the number that they gave."`
	Path   string    `json:"path"`
	Target string    `json:"target,omitempty" doc:"What it was renamed to."`
	Via    string    `json:"via"`
	From   string    `json:"from,omitempty" doc:"The client's address, of the first."`
	Gate   string    `json:"gate,omitempty" doc:"That refused."`
	Count  int64     `json:"count"`
}

func eventOf(e store.Event) Event {
	return Event{e.ID, e.At.UTC(), e.Since.UTC(), e.Kind, e.Who, e.Path, e.Target, e.Via, e.From, e.Gate, e.Count}
}
