package site

import "time"

// Review is a look at who has what, line by line, by people who are asked to.
type Review struct {
	ID        int64        `json:"id,omitzero"`
	Name      string       `json:"name,omitzero"`
	Folders   []string     `json:"folders,omitzero"`
	Reviewers []string     `json:"reviewers,omitzero"` // names of people who may sign in
	Made      time.Time    `json:"made,omitzero"`
	By        string       `json:"by,omitzero"`
	Lines     []ReviewLine `json:"lines,omitzero"`
	Closed    time.Time    `json:"closed,omitzero"` // zero while it goes on
	ClosedBy  string       `json:"closedBy,omitzero"`
	Signature string       `json:"signature,omitzero"` // Ed25519 over all the rest, base64
}

// ReviewLine is one thing to keep or to remove: an entry, or that somebody is in a group which an
// entry names.
type ReviewLine struct {
	Number   int      `json:"number"`
	Path     string   `json:"path,omitzero"`  // of the entry: folder and path
	Entry    int64    `json:"entry,omitzero"` // its number
	Group    string   `json:"group,omitzero"` // of the membership
	Member   string   `json:"member,omitzero"`
	Says     string   `json:"says"` // in words, as it was when the review was made
	People   []string `json:"people"`
	Decision Decision `json:"decision,omitzero"`
	By       string   `json:"by,omitzero"`
	Comment  string   `json:"comment,omitzero"`
}

// Decision is what becomes of a line.
type Decision string

// The decisions. A line without one is undecided.
const (
	Undecided Decision = ""
	Keep      Decision = "keep"
	Remove    Decision = "remove"
)
