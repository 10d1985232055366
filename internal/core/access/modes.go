package access

import (
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/posix"
)

// MaskOf is what permissions of a mode or a POSIX ACL are as the bits of an entry.
func MaskOf(g posix.Grant, dir bool) acl.Mask {
	var bits acl.Mask
	if g.Perm&posix.Read != 0 {
		bits |= acl.ReadData
	}
	if g.Perm&posix.Write != 0 {
		bits |= acl.WriteData | acl.AppendData
		if dir {
			bits |= acl.DeleteChild
		}
	}
	if g.Perm&posix.Exec != 0 {
		bits |= acl.Execute
	}
	if g.Deny {
		return bits
	}
	bits |= acl.ReadAttributes | acl.ReadACL | acl.Synchronize
	if g.Tag == posix.UserObj {
		bits |= acl.WriteAttributes | acl.WriteACL
	}
	return bits
}
