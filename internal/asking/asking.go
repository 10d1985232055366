// Package asking answers questions about what is in force: why somebody may do something, what to type on a client, and reports.
package asking

import (
	"context"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// Gateway is what is asked about.
type Gateway interface {
	Policy() *site.Policy
	Audit() *audit.Audit
	Now() time.Time // as of which it answers
	User(name string) (*identity.User, error)
	Folder(name string) (*site.PublishedFolder, error)
	Locate(full string) (*site.PublishedFolder, files.Place, error)
	FactsOf(f *site.PublishedFolder) access.Facts
	// Away says why a volume is not where it should be; "" where it is there.
	Away(volume int64) string
	// Room is how it stands with limits on what would grow; nil where nothing is counted.
	Room(f *site.PublishedFolder, at files.Place, user *identity.User, nfs *access.Arrival) []limit.Standing
	// Origin is from where a request over NFS comes, for an address or a host's name and a source port.
	Origin(ctx context.Context, from string, port int) (site.Origin, error)
}

// Answers answers questions about a gateway.
type Answers struct{ Gateway Gateway }

func quote(s string) string { return plain.Word(s) }
