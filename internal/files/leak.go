package files

import (
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
)

// sameRules says whether the same rules hold for a path and for what would be there under another.
func (v view) sameRules(from, to string) bool {
	dir, _ := split(from)
	toDir, _ := split(to)
	return v.folder.Unix() || v.folder.Tree.SameWithin(plain.Spell(dir), plain.Spell(toDir)) && !v.hasRulesAt(to)
}

// mayCarry says whether an object may be moved from one path to another. Where other rules hold there,
// that takes what a copy would: to read it and all that is below it. A file that has other names must
// then be copied indeed, as they would not come along; and where rules wait for what will be
// there, nothing comes that brings its own.
func (v view) mayCarry(from, to string, file bool, links uint32) error {
	if v.sameRules(from, to) {
		return nil
	}
	if file && links > 1 || v.hasRulesAt(from) && v.hasRulesAt(to) && to != from {
		return ErrAcross
	}
	read := acl.Read.Mask(!file)
	if v.decide(from, file, 0).Granted&read != read {
		return v.denied(from, file, read)
	}
	if file {
		return nil
	}
	// Below, only paths with rules differ, and how far an object is from them.
	spots := []string{plain.Spell(from)}
	for _, r := range v.folder.Rules {
		if under(r.Path, spots[0]) && r.Path != spots[0] {
			spots = append(spots, r.Path)
		}
	}
	for _, spot := range spots {
		for _, below := range []string{"", "/" + nowhere, "/" + nowhere + "/" + nowhere} {
			for _, file := range []bool{false, true} {
				if below == "" && file {
					continue
				}
				want := acl.Read.Mask(!file)
				verdict := access.Decide(v.policy, access.Request{User: v.sub.User, Via: v.sub.Via, Share: v.share, NFS: v.nfs, Folder: v.folder,
					Path: spot + below, File: file, Facts: strangers{}, Want: want, Now: v.now})
				if !verdict.Allowed() {
					return v.refuse(verdict.Gate, plain.Unspell(spot))
				}
			}
		}
	}
	return nil
}

// nowhere is a name that nothing has: it stands for anything without rules of its own.
const nowhere = "\x00"

// strangers are facts by which everything belongs to somebody else: what owner@ and group@ give
// for one's own things says nothing of all things below a directory.
type strangers struct{}

func (strangers) OwnerOf(string) (acl.Ownership, bool) {
	return acl.Ownership{User: identity.None, Group: identity.None}, true
}
func (strangers) UnixOf(string) (*posix.Attributes, bool) { return nil, false }
