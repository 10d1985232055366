package access

import (
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// DerivedMode gives the permission bits that are shown for an object of a folder in which
// entries decide (RFC 8881 section 6.4.1): what its owner, a member of its owning group who is in
// no other, and anyone else are left by the entries. They are for display and decide nothing.
// For files, the execute bits are those of exec, the file's own, as far as entries leave them.
func DerivedMode(p *site.Policy, f *site.PublishedFolder, path string, dir bool, own acl.Ownership, exec bool, now time.Time) uint32 {
	list := f.Tree.List(path, !dir)
	of := func(who identity.Person) uint32 {
		m := list.Evaluate(who, own, now, acl.ReadData|acl.WriteData|acl.Execute, nil)
		var bits uint32
		if m&acl.ReadData != 0 {
			bits |= posix.Read
		}
		if m&acl.WriteData != 0 {
			bits |= posix.Write
		}
		if m&acl.Execute != 0 && (dir || exec) {
			bits |= posix.Exec
		}
		return bits
	}
	return of(p.Directory.Person(own.User))<<6 | of(p.Directory.GroupPerson(own.Group))<<3 | of(identity.Person{})
}
