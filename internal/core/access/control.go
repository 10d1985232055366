package access

import (
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// Controls says whether somebody may decide about the entries at a path of a folder, whatever it is published by: their account works, they pass every
// directory above, and hold WRITE_ACL there (RFC 8881 section 6.2.1.3.1). Nobody does where modes decide.
func Controls(p *site.Policy, f *site.PublishedFolder, path string, user identity.ID, facts Facts, now time.Time) bool {
	if f.Unix() || accountLeaves(p.Directory.User(user), now) == 0 {
		return false
	}
	r := Request{Folder: f, Facts: facts}
	who := p.Directory.Person(p.Directory.UserIndex(user))
	for w := f.Tree.Start(path, false); w.Next(); {
		var own acl.Ownership
		if w.List.NeedsOwnership() {
			own = r.ownerOf(w.At)
		}
		want := acl.Execute
		if w.Last {
			want = acl.WriteACL
		}
		if w.List.Evaluate(who, own, now, want, nil)&want != want {
			return false
		}
	}
	return true
}
