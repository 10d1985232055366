package roster

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// Write writes the users of a directory down in a form that Read reads.
func Write(d *identity.Directory, profiles []site.Profile, format Format) ([]byte, error) {
	direct := make(map[identity.ID][]string)
	for _, g := range d.Groups() {
		for _, m := range g.Members {
			if m.Kind == identity.KindUser {
				direct[m.ID] = append(direct[m.ID], g.Name)
			}
		}
	}
	primary := func(u *identity.User) (name string, gid uint32) {
		if g := d.Group(u.Primary); g != nil {
			return g.Name, g.GID
		}
		return "", site.Anonymous
	}
	var b bytes.Buffer
	switch format {
	case CSV, "":
		out := csv.NewWriter(&b)
		_ = out.Write(columns)
		for i := range d.Users() {
			u := &d.Users()[i]
			group, _ := primary(u)
			var labels []string
			for _, l := range u.Labels {
				labels = append(labels, l.Key+"="+l.Value)
			}
			row := []string{u.Name, u.FullName, strconv.FormatUint(uint64(u.UID), 10), group, strings.Join(direct[u.ID], " "), u.Mail, site.Moment(u.Starts), site.Moment(u.Expires), strings.Join(labels, ";"), site.ProfileName(profiles, u)}
			for i := range row {
				row[i] = plain.Cell(row[i])
			}
			_ = out.Write(row) // to memory
		}
		out.Flush()
	case Groups:
		return WriteGroups(d), nil
	case Passwd:
		for i := range d.Users() {
			u := &d.Users()[i]
			_, gid := primary(u)
			fmt.Fprintf(&b, "%s:x:%d:%d:%s:/home/%s:/usr/sbin/nologin\n", u.Name, u.UID, gid, strings.NewReplacer(":", " ", ",", " ").Replace(u.FullName), u.Name)
		}
	case LDIF:
		for i := range d.Users() {
			u := &d.Users()[i]
			_, gid := primary(u)
			writeLDIF(&b, u, gid)
		}
		for i := range d.Groups() {
			writeLDIFGroup(&b, d, &d.Groups()[i])
		}
	default:
		return nil, errFormat(format)
	}
	return b.Bytes(), nil
}

// writeLDIF writes a user as an entry of class posixAccount (RFC 2307).
func writeLDIF(w *bytes.Buffer, u *identity.User, gid uint32) {
	line := lineOfLDIF(w)
	line("dn", "uid="+escapedDN.Replace(u.Name)+",ou=people")
	line("objectClass", "posixAccount")
	line("uid", u.Name)
	full := u.FullName
	if full == "" {
		full = u.Name
	}
	line("cn", full)
	line("uidNumber", fmt.Sprint(u.UID))
	line("gidNumber", fmt.Sprint(gid))
	line("homeDirectory", "/home/"+u.Name)
	if u.Mail != "" {
		line("mail", u.Mail)
	}
	w.WriteByte('\n')
}

var escapedDN = strings.NewReplacer(`,`, `\,`, `+`, `\+`)

// lineOfLDIF writes an attribute and its value.
func lineOfLDIF(w *bytes.Buffer) func(name, value string) {
	return func(name, value string) {
		if safeLDIF(value) {
			fmt.Fprintf(w, "%s: %s\n", name, value)
		} else {
			fmt.Fprintf(w, "%s:: %s\n", name, base64.StdEncoding.EncodeToString([]byte(value)))
		}
	}
}

// writeLDIFGroup writes a group as an entry of class posixGroup (RFC 2307), with all who are in it, directly or through others.
func writeLDIFGroup(w *bytes.Buffer, d *identity.Directory, g *identity.Group) {
	line := lineOfLDIF(w)
	line("dn", "cn="+escapedDN.Replace(g.Name)+",ou=groups")
	line("objectClass", "posixGroup")
	line("cn", g.Name)
	line("gidNumber", fmt.Sprint(g.GID))
	for u := range d.Members(d.GroupIndex(g.ID)).Each() {
		line("memberUid", d.Users()[u].Name)
	}
	w.WriteByte('\n')
}

// safeLDIF says whether a value stands for itself: RFC 2849's SAFE-STRING, without a space at its end.
func safeLDIF(value string) bool {
	if value == "" || strings.ContainsRune(" :<", rune(value[0])) || strings.HasSuffix(value, " ") {
		return value == ""
	}
	for i := range len(value) {
		if c := value[i]; c == 0 || c == '\n' || c == '\r' || c > 126 {
			return false
		}
	}
	return true
}
