// Package posix decides by owner, group, mode bits and POSIX ACL (POSIX 1003.1e draft 17), bit
// for bit as the Linux kernel does, whose answers are what it is tested against.
//
// It is pure: no clock, no storage, no network. What is on a file comes in as Attributes.
package posix

import "slices"

// The bits of Attributes.Mode beyond the nine of permission, and those of access.
const (
	SetUID uint32 = 0o4000
	SetGID uint32 = 0o2000
	Sticky uint32 = 0o1000

	Read  uint32 = 4
	Write uint32 = 2
	Exec  uint32 = 1
)

// Nobody is a number that belongs to no one: (uint32)-1, which chown takes for "leave it".
const Nobody = ^uint32(0)

// Attributes are what decides about one file or directory. Mode holds the low twelve
// bits. ACL and Default are nil where there is none beyond the mode.
type Attributes struct {
	UID, GID uint32
	Mode     uint32
	Dir      bool
	ACL      ACL
	Default  ACL // what is made in the directory starts with this
}

// Credential is who asks. UID 0 has the privileges of the superuser.
type Credential struct {
	UID, GID uint32
	Groups   []uint32 // supplementary
}

// In says whether a group's number is among the credential's.
func (c *Credential) In(gid uint32) bool { return c.GID == gid || slices.Contains(c.Groups, gid) }

func (c *Credential) root() bool { return c.UID == 0 }

// Permits says whether all the wanted bits of Read, Write and Exec are had at once. To have
// each of them alone is not always enough: two ACL entries for groups do not add up.
func Permits(c *Credential, a *Attributes, want uint32) bool {
	if plain(c, a, want) {
		return true
	}
	if !c.root() {
		return false
	}
	return a.Dir || want&Exec == 0 || a.Mode&0o111 != 0
}

func plain(c *Credential, a *Attributes, want uint32) bool {
	if c.UID == a.UID {
		return want&^(a.Mode>>6) == 0
	}
	// The group bits are the mask of an ACL: without any of them the kernel does not look.
	if a.ACL != nil && a.Mode&0o070 != 0 {
		return a.ACL.permits(c, a.GID, want)
	}
	if c.In(a.GID) {
		return want&^(a.Mode>>3) == 0
	}
	return want&^a.Mode == 0
}

// Each gives those of Read, Write and Exec that are had one at a time.
func Each(c *Credential, a *Attributes) uint32 {
	var got uint32
	for _, bit := range []uint32{Read, Write, Exec} {
		if Permits(c, a, bit) {
			got |= bit
		}
	}
	return got
}

// Owns says whether the credential may do what is the owner's: change mode, ACL and times.
func Owns(c *Credential, a *Attributes) bool { return c.root() || c.UID == a.UID }

// MayRemove says whether a name may be taken out of a directory, as unlink, rmdir and
// rename do. owner is whom the object with that name belongs to.
func MayRemove(c *Credential, dir *Attributes, owner uint32) bool {
	return Permits(c, dir, Write|Exec) && !held(c, dir, owner)
}

// held says whether the sticky bit of a directory keeps an object for its owner.
func held(c *Credential, dir *Attributes, owner uint32) bool {
	return dir.Mode&Sticky != 0 && c.UID != owner && c.UID != dir.UID && !c.root()
}

// MayGive says whether an object may be given a new owner and group; Nobody leaves
// one as it is.
func MayGive(c *Credential, a *Attributes, uid, gid uint32) bool {
	if c.root() {
		return true
	}
	if uid != Nobody && (c.UID != a.UID || uid != a.UID) {
		return false
	}
	return gid == Nobody || c.UID == a.UID && (gid == a.GID || c.In(gid))
}

// Given is an object after it has been given a new owner and group.
func Given(c *Credential, a Attributes, uid, gid uint32) Attributes {
	if !a.Dir {
		a = Written(a, a.Mode&0o010 != 0 || !c.root() && !c.In(a.GID))
	}
	if uid != Nobody {
		a.UID = uid
	}
	if gid != Nobody {
		a.GID = gid
	}
	return a
}

// Written is a file after someone without privilege wrote to it: it no longer runs as
// its owner, nor as its group if that bit meant that.
func Written(a Attributes, dropGroup bool) Attributes {
	a.Mode &^= SetUID
	if dropGroup {
		a.Mode &^= SetGID
	}
	return a
}

// WrittenBy is a file after c wrote to it.
func WrittenBy(c *Credential, a Attributes) Attributes {
	if c.root() {
		return a
	}
	return Written(a, a.Mode&0o010 != 0 || !c.In(a.GID))
}

// Chmod is an object after its mode was set.
func Chmod(c *Credential, a Attributes, mode uint32) Attributes {
	mode &= 0o7777
	if !c.root() && !c.In(a.GID) {
		mode &^= SetGID
	}
	a.Mode = mode
	a.ACL = a.ACL.withMode(mode)
	return a
}

// WithACL is an object after its ACL was set. A list that says no more than mode bits
// can becomes mode bits.
func WithACL(c *Credential, a Attributes, list ACL) Attributes {
	mode := a.Mode&^0o777 | list.mode()
	if !c.root() && !c.In(a.GID) {
		mode &^= SetGID
	}
	a.Mode, a.ACL = mode, list
	if !list.extended() {
		a.ACL = nil
	}
	return a
}

// Made is a new object in a directory: whose it is, which group it gets, and what it
// takes of the directory's default ACL. mode is what the maker asked for.
func Made(c *Credential, in *Attributes, mode uint32, dir bool) Attributes {
	a := Attributes{UID: c.UID, GID: c.GID, Mode: mode & 0o7777, Dir: dir}
	if dir {
		a.Mode &^= SetUID | SetGID // those it has from where it is
	}
	if in.Mode&SetGID != 0 {
		a.GID = in.GID
		if dir {
			a.Mode |= SetGID
		} else if !c.In(in.GID) && !c.root() {
			// Only where it would run as a group that its maker is not in.
			if a.Mode&0o010 != 0 {
				a.Mode &^= SetGID
			}
		}
	}
	if in.Default == nil {
		return a
	}
	list := slices.Clone(in.Default)
	perm := a.Mode & 0o777
	group, mask := -1, -1
	for i := range list {
		e := &list[i]
		switch e.Tag {
		case UserObj:
			e.Perm &= perm >> 6
			perm = perm&^0o700 | e.Perm<<6
		case GroupObj:
			group = i
		case Mask:
			mask = i
		case Other:
			e.Perm &= perm & 7
			perm = perm&^7 | e.Perm
		}
	}
	if mask < 0 {
		mask = group
	}
	if mask >= 0 {
		e := &list[mask]
		e.Perm &= perm >> 3 & 7
		perm = perm&^0o070 | e.Perm<<3
	}
	a.Mode = a.Mode&^0o777 | perm
	if list.extended() {
		a.ACL = list
	}
	if dir {
		a.Default = slices.Clone(in.Default)
	}
	return a
}
