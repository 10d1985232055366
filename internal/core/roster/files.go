package roster

import (
	"encoding/base64"
	"errors"
	"fmt"
	"iter"
	"strings"
)

// Accounts of the system itself, by common custom: what is not for people in a list of passwd(5).
const (
	firstPerson = 1000
	lastPerson  = 65533
)

// lines gives the fields, with colons between, of each line of a file such as passwd(5), with its number. Comments and what another source of accounts adds
// are passed over.
func lines(text string) iter.Seq2[int, []string] {
	return func(yield func(int, []string) bool) {
		n := 0
		for line := range strings.Lines(text) {
			n++
			line = strings.TrimRight(line, "\r\n")
			if line != "" && !strings.ContainsRune("#+-", rune(line[0])) && !yield(n, strings.Split(line, ":")) {
				return
			}
		}
	}
}

// readPasswd reads lines of passwd(5); those of the system's own accounts are passed over.
func readPasswd(text string) (out []Person, err error) {
	for n, cells := range lines(text) {
		if len(out) >= MostLines {
			return nil, errTooMany
		}
		p := Person{Line: n, Name: cells[0]}
		if len(cells) != 7 {
			p.wrong("it has %d fields, and a line of passwd has 7", len(cells))
			out = append(out, p)
			continue
		}
		p.UID, p.PrimaryGID = p.number("uid", cells[2]), p.number("gid", cells[3])
		if p.UID != nil && (*p.UID < firstPerson || *p.UID > lastPerson) {
			continue
		}
		name, _, _ := strings.Cut(cells[4], ",")
		p.FullName = &name
		out = append(out, p)
	}
	return out, nil
}

// readLDIF reads the entries of class posixAccount, or that have a uid and a number.
func readLDIF(text string) (out []Person, err error) {
	for _, entry := range ldifEntries(text) {
		values, wrong := entry.values()
		p := Person{Line: entry.line, Wrong: wrong}
		if len(values["uid"]) == 0 && (p.Wrong == "" || len(values["cn"]) > 0 && len(values["gidnumber"]) > 0) {
			continue // of something else than a person
		}
		if len(out) >= MostLines {
			return nil, errTooMany
		}
		if p.Wrong == "" {
			p.Name = values["uid"][0]
			for _, part := range []struct {
				from string
				to   **string
			}{{"cn", &p.FullName}, {"mail", &p.Mail}} {
				if v := values[part.from]; len(v) > 0 && !(part.from == "cn" && v[0] == p.Name) { // which there has to be
					*part.to = &v[0]
				}
			}
			if v := values["uidnumber"]; len(v) > 0 {
				p.UID = p.number("uidNumber", v[0])
			}
			if v := values["gidnumber"]; len(v) > 0 {
				p.PrimaryGID = p.number("gidNumber", v[0])
			}
		}
		out = append(out, p)
	}
	return out, nil
}

type ldifEntry struct {
	line  int
	lines []string
}

// values are what an entry says, by the names of attributes in lower case; wrong is why it cannot be taken for a record, "" where it can.
func (e ldifEntry) values() (values map[string][]string, wrong string) {
	values = make(map[string][]string)
	for _, line := range e.lines {
		name, value, err := ldifLine(line)
		if err != nil {
			return values, err.Error()
		}
		values[name] = append(values[name], value)
	}
	if change := values["changetype"]; len(change) > 0 && !strings.EqualFold(change[0], "add") {
		return values, fmt.Sprintf("it is a change of type %s, and not a record", change[0])
	}
	return values, ""
}

// ldifEntries parts a text into entries, of which lines that go on in the next are put together (RFC 2849, note 2).
func ldifEntries(text string) (out []ldifEntry) {
	var at ldifEntry
	end := func() {
		if len(at.lines) > 0 {
			out = append(out, at)
		}
		at = ldifEntry{}
	}
	n, comment := 0, false
	for line := range strings.Lines(text) {
		n++
		line = strings.TrimRight(line, "\r\n")
		switch {
		case line == "":
			end()
		case line[0] == ' ' && comment:
		case line[0] == ' ' && len(at.lines) > 0:
			at.lines[len(at.lines)-1] += line[1:]
		case line[0] == '#':
		case strings.HasPrefix(line, "version:") && len(at.lines) == 0:
		default:
			if at.line == 0 {
				at.line = n
			}
			at.lines = append(at.lines, line)
		}
		if line != "" && line[0] != ' ' {
			comment = line[0] == '#'
		}
	}
	end()
	return out
}

func ldifLine(line string) (name, value string, err error) {
	name, value, ok := strings.Cut(line, ":")
	if !ok {
		return "", "", fmt.Errorf("%q is no line of LDIF", line)
	}
	name, _, _ = strings.Cut(strings.ToLower(name), ";") // of a language, for example
	switch {
	case strings.HasPrefix(value, ":"):
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(value[1:]))
		if err != nil {
			return "", "", fmt.Errorf("the base64 of %s is cut off, or none", name)
		}
		return name, string(raw), nil
	case strings.HasPrefix(value, "<"):
		return "", "", errors.New("a value that lies elsewhere is not fetched")
	}
	return name, strings.TrimSpace(value), nil
}
