package access

import (
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// What somebody may do to an object is not all in the bits that its entries give: the standards
// have some rights follow from others, or come to nothing alone. Those rules are here, and
// nowhere else: the wire asks them and the audit tells them.

// Amounts is what bits that a gate leaves of an object come to.
//
// Who may run a file may read it: to run it is to read it, and a server cannot tell the one from
// the other (RFC 1813 section 4.4, RFC 8881 section 18.22.4; SMB reads through a handle that was opened to
// execute). And to make or take away a name in a directory takes passing it as well, since
// that is how both protocols, and POSIX, get to the name.
//
// Both are of the form "this bit, hence or only with that", so what several gates leave together
// needs no second look.
func Amounts(m acl.Mask, file bool) acl.Mask {
	switch {
	case file && m&acl.Execute != 0:
		m |= ByRunning
	case !file && m&acl.Execute == 0:
		m &^= AltersNames
	}
	return m
}

// ByRunning is what running a file comes to.
const ByRunning = acl.ReadData | acl.ReadNamedAttrs

// takes is what must be had for all of a mask to come to something.
func takes(want acl.Mask, file bool) acl.Mask {
	if !file && want&AltersNames != 0 {
		want |= acl.Execute
	}
	return want
}

// AltersNames is what changes which names are in a directory.
const AltersNames = acl.AddFile | acl.AddSubdirectory | acl.DeleteChild

// Rights that an object's directory gives, or its place.
const (
	ToBeSeen   = acl.ReadAttributes | acl.Synchronize
	fromParent = acl.DeleteChild | acl.ListDirectory
)

// given is what somebody has of an object by what the entries let them do to the directory it is in,
// which they may pass: to delete it where they may delete what is in there (RFC 8881 section 6.2.1.3.2,
// MS-FSA section 2.1.5.1.2), and to see its attributes where they may list it (MS-FSA section
// 2.1.5.1.2). Over NFS whoever gets as far as the directory sees the attributes of what
// is in it, since LOOKUP tells them; those of the root are told by mounting.
func given(via site.Protocol, dir acl.Mask) acl.Mask {
	var m acl.Mask
	if dir&acl.DeleteChild != 0 {
		m |= acl.Delete
	}
	if dir&acl.ListDirectory != 0 || via == site.NFS {
		m |= ToBeSeen
	}
	return m
}

// notAtRoot is what nobody may do to the directory that a folder is: it is the administrator's to
// remove.
const notAtRoot = acl.Delete

// EntryLeaves is what the entry gate leaves: what the entries of an object and of its directory give, together.
func EntryLeaves(via site.Protocol, path string, file bool, own, dir acl.Mask) acl.Mask {
	m := own | given(via, dir)
	if path == "" {
		m &^= notAtRoot
	}
	return Amounts(m, file)
}

// Stage says at what point of its use a file is asked about, where modes decide. In folders where
// entries decide it makes no difference.
type Stage uint8

// The stages. RFC 1813 section 4.4 has a server let more through once a file is in use than what its
// mode says, since it cannot know that the client has opened it: its owner reads and writes it, and
// who may run it reads it. ToAsk is what the mode says, for ACCESS; ToOpen lets those read
// who may run; InUse is all that any call lets through, and what the audit tells.
const (
	InUse Stage = iota
	ToOpen
	ToAsk
)

// unixPermits says whether a credential has at once all that a mask takes of the mode of an object.
func unixPermits(c *posix.Credential, a *posix.Attributes, want acl.Mask, via site.Protocol, at Stage) bool {
	ways, n := UnixNeeds(want, a.Dir).Ways(via, at)
	for _, need := range ways[:n] {
		if (!need.Owner || posix.Owns(c, a)) && posix.Permits(c, a, need.Bits) {
			return true
		}
	}
	return false
}

// Ways lists, the plainest first, by what a credential can have the bits: any of them does.
func (n UnixNeed) Ways(via site.Protocol, at Stage) (ways [3]UnixNeed, count int) {
	ways[0], count = UnixNeed{Bits: n.Bits}, 1
	if n.Dir || at == ToAsk {
		return ways, count
	}
	if n.Bits&posix.Read != 0 {
		ways[count] = UnixNeed{Bits: n.Bits&^posix.Read | posix.Exec}
		count++
	}
	if at == InUse && via == site.NFS && n.Bits != 0 && n.Bits&posix.Exec == 0 {
		ways[count] = UnixNeed{Owner: true}
		count++
	}
	return ways, count
}
