package api

import (
	"fmt"
	"strconv"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
)

func octal(mode uint32) string { return fmt.Sprintf("%04o", mode) }

// parseOctal reads a mode; nil for none. What is not octal has been turned down before.
func parseOctal(s string) *uint32 {
	n, err := strconv.ParseUint(s, 8, 12)
	if err != nil {
		return nil
	}
	mode := uint32(n)
	return &mode
}

func linesOf(d *identity.Directory, list posix.ACL) []ModeLine {
	out := []ModeLine{}
	for _, e := range list {
		l := ModeLine{Perm: posix.Bits(e.Perm)}
		switch e.Tag {
		case posix.UserObj:
			l.Tag = "user"
		case posix.User:
			l.Tag, l.Name = "user", d.UserNumbered(e.ID)
		case posix.GroupObj:
			l.Tag = "group"
		case posix.Group:
			l.Tag, l.Name = "group", d.GroupNumbered(e.ID)
		case posix.Mask:
			l.Tag = "mask"
		case posix.Other:
			l.Tag = "other"
		}
		out = append(out, l)
	}
	return out
}
