package access

import (
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// TakeAway gives the smallest change after which a request that is allowed is not: one entry less,
// where the user has it by one of their own alone, else one deny where it comes before all else.
// It is nil for what is refused, for who is nobody in the records, and where modes decide.
func TakeAway(p *site.Policy, r Request) []Fix {
	if r.NFS != nil {
		r.User = r.NFS.User
	}
	if r.User == 0 || r.Folder.Unix() || !Decide(p, r).Allowed() || r.Want == 0 {
		return nil
	}
	list := r.Folder.Tree.List(r.Path, r.File)
	who := p.Directory.Person(p.Directory.UserIndex(r.User))
	if r.NFS != nil {
		who = r.NFS.Person
	}
	own := r.ownerOf(r.Path)
	parent := r.Path[:max(strings.LastIndexByte(r.Path, '/'), 0)]
	var dir acl.Mask
	if r.Path != "" {
		dir = r.Folder.Tree.List(parent, false).Evaluate(who, r.ownerOf(parent), r.Now, fromParent, nil)
	}
	left := func(list *acl.ACL) acl.Mask {
		return EntryLeaves(r.Via, r.Path, r.File, list.Evaluate(who, own, r.Now, acl.All, nil), dir)
	}
	var giving []*acl.Ace
	list.Evaluate(who, own, r.Now, takes(r.Want, r.File), func(a *acl.Ace, _ acl.Mask) { giving = append(giving, a) })
	if len(giving) == 1 && giving[0].Entry.ID > 0 && giving[0].Entry.Who == identity.UserPrincipal(r.User) && r.Want&^left(list.Without(giving)) != 0 {
		return []Fix{{Kind: FixRemove, Path: r.Folder.Display(giving[0].From), EntryID: giving[0].Entry.ID}}
	}
	rec := &recorder{policy: p, request: &r}
	at := r.Path
	if r.Want&^given(r.Via, dir) == 0 {
		at = parent // whatever is denied of the object itself, its directory gives
	}
	if !r.onDisk() { // an entry is written on what is there
		at = r.Folder.Tree.DeepestRule(at)
	}
	fix := Fix{Kind: FixAllow, Deny: true, Path: r.Folder.Display(at), User: rec.userName(), Level: rec.fixLevel()}
	if fix.Level == acl.NoLevel { // just the rights, and of the directory those that give them
		if fix.Mask = r.Want; at != r.Path {
			fix.Mask = 0
			if r.Want&acl.Delete != 0 {
				fix.Mask |= acl.DeleteChild
			}
			if r.Want&ToBeSeen != 0 {
				fix.Mask |= acl.ListDirectory
			}
		}
	}
	return []Fix{fix}
}
