package files

import (
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
)

// mayCarry says whether an object may be put into another directory, or be named there as well.
// Where other rules hold there, that takes what a copy would: to read it and all that is below it.
// A name more for a file leaves the rules behind that are written on its first.
func (v view) mayCarry(from string, file, link bool, toDir string) error {
	tree := v.folder.Tree
	dir, _ := split(from)
	if v.folder.Unix() || tree.SameWithin(dir, toDir) && (!link || tree.Rule(from) == nil) {
		return nil
	}
	read := acl.Read.Mask(!file)
	if v.decide(from, file, 0).Granted&read != read {
		return v.denied(from, file, read)
	}
	if file {
		return nil
	}
	// Below, only paths with rules differ, and how far an object is from them.
	spots := []string{from}
	for _, r := range v.folder.Rules {
		if under(r.Path, from) && r.Path != from {
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
					return v.refuse(verdict.Gate, spot)
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
