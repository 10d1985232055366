package posix

import "strings"

// Getfacl spells owner, group, mode and POSIX ACL as getfacl(1) does, POSIX 1003.1e draft 17
// section 23.3. user and group name numbers.
func Getfacl(path string, a *Attributes, user, group func(uint32) string) string {
	var b strings.Builder
	b.WriteString("# file: " + path + "\n# owner: " + user(a.UID) + "\n# group: " + group(a.GID) + "\n")
	if special := a.Mode >> 9 & 7; special != 0 {
		flags := []byte("---")
		for i, letter := range "sst" {
			if special&(4>>i) != 0 {
				flags[i] = byte(letter)
			}
		}
		b.WriteString("# flags: " + string(flags) + "\n")
	}
	list := a.ACL
	if list == nil {
		list = Of(a.Mode & 0o777)
	}
	put := func(prefix string, list ACL) {
		mask := uint32(7)
		for _, e := range list {
			if e.Tag == Mask {
				mask = e.Perm
			}
		}
		for _, e := range list {
			tag, name := "", ""
			switch e.Tag {
			case UserObj:
				tag = "user"
			case User:
				tag, name = "user", user(e.ID)
			case GroupObj:
				tag = "group"
			case Group:
				tag, name = "group", group(e.ID)
			case Mask:
				tag = "mask"
			case Other:
				tag = "other"
			}
			line := prefix + tag + ":" + name + ":" + Bits(e.Perm)
			masked := e.Tag == User || e.Tag == GroupObj || e.Tag == Group
			if masked && e.Perm&^mask != 0 {
				line += "\t#effective:" + Bits(e.Perm&mask)
			}
			b.WriteString(line + "\n")
		}
	}
	put("", list)
	put("default:", a.Default)
	return b.String()
}
