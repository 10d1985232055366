package acl

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
)

// ErrText is wrapped by the errors of the readers of ACL texts.
var ErrText = errors.New("not an ACL text")

// Speller knows principals by the names that a text has for them.
type Speller interface {
	// Spell gives the name of a principal.
	Spell(who identity.Principal) (string, error)
	// Read finds a principal by its name; group says that the text calls it a group.
	Read(name string, group bool) (identity.Principal, error)
}

// nfs4Letters are the letters of the permissions, in the order in which they are written.
var nfs4Letters = []struct {
	letter byte
	bit    Mask
}{
	{'r', ReadData}, {'w', WriteData}, {'a', AppendData}, {'x', Execute}, {'d', Delete}, {'D', DeleteChild}, {'t', ReadAttributes}, {'T', WriteAttributes},
	{'n', ReadNamedAttrs}, {'N', WriteNamedAttrs}, {'c', ReadACL}, {'C', WriteACL}, {'o', WriteOwner}, {'y', Synchronize},
}

// NFS4Text writes entries as the text that the common NFSv4 client tools read and print, a line
// each: TYPE:FLAGS:PRINCIPAL:PERMISSIONS, the flags and bits being those of RFC 8881 sections
// 6.2.1.4 and 6.2.1.3.1. A level is written as its bits on a directory. End dates and notes have
// no place in it.
func NFS4Text(entries []Entry, names Speller) (string, error) {
	var b strings.Builder
	for _, e := range entries {
		kind, flags := "A", ""
		if e.Deny {
			kind = "D"
		}
		for _, f := range []struct {
			is     bool
			letter string
		}{{e.Applies&Files != 0, "f"}, {e.Applies&Subfolders != 0, "d"}, {e.Applies&DirectOnly != 0, "n"}, {e.Applies&Here == 0, "i"},
			{e.Who.Kind == identity.KindGroup || e.Who.Kind == identity.KindOwningGroup, "g"}} {
			if f.is {
				flags += f.letter
			}
		}
		name, err := names.Spell(e.Who)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "%s:%s:%s:", kind, flags, name)
		for _, l := range nfs4Letters {
			if e.Bits(true)&l.bit != 0 {
				b.WriteByte(l.letter)
			}
		}
		b.WriteByte('\n')
	}
	return b.String(), nil
}

// ParseNFS4Text reads what NFS4Text writes; blank lines and comments are passed over. Bits that
// are just those of a level become that level.
func ParseNFS4Text(text string, names Speller) ([]Entry, error) {
	var out []Entry
	n := 0
	for line := range strings.Lines(text) {
		n++
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		fail := func(format string, args ...any) error {
			return fmt.Errorf("%w: line %d: %s", ErrText, n, fmt.Sprintf(format, args...))
		}
		parts := strings.Split(line, ":")
		if len(parts) < 4 {
			return nil, fail("%q has not four fields with colons between", line)
		}
		// A principal may hold a colon itself.
		kind, flags, who, perms := parts[0], parts[1], strings.Join(parts[2:len(parts)-1], ":"), parts[len(parts)-1]
		e := Entry{Deny: kind == "D", Applies: Here}
		if kind != "A" && kind != "D" {
			return nil, fail("type %q is not A or D", kind)
		}
		group := false
		for _, f := range flags {
			switch f {
			case 'f':
				e.Applies |= Files
			case 'd':
				e.Applies |= Subfolders
			case 'n':
				e.Applies |= DirectOnly
			case 'i':
				e.Applies &^= Here
			case 'g':
				group = true
			default:
				return nil, fail("flag %q is not one of f, d, n, i, g", f)
			}
		}
		if e.Applies&Everywhere == 0 {
			return nil, fail("it is only inherited, and by nothing")
		}
		var mask Mask
		for _, p := range perms {
			bit := Mask(0)
			for _, l := range nfs4Letters {
				if rune(l.letter) == p {
					bit = l.bit
				}
			}
			if bit == 0 {
				return nil, fail("permission %q is not one that there is", p)
			}
			mask |= bit
		}
		if mask == 0 {
			continue // it says nothing
		}
		var err error
		if e.Who, err = names.Read(who, group); err != nil {
			return nil, fail("%v", err)
		}
		e.Level, e.Mask = GrantOf(mask, e.Deny, true)
		out = append(out, e)
	}
	return out, nil
}

// GrantOf gives the level of which a mask is the bits on a directory, or on a file, or the mask itself.
func GrantOf(mask Mask, deny, dir bool) (Level, Mask) {
	kind := File
	if dir {
		kind = Directory
	}
	for _, l := range LevelsOf(kind) {
		if !deny && l.Mask(dir) == mask || deny && l.DenyMask(dir) == mask {
			return l, 0
		}
	}
	return NoLevel, mask
}

// The flags of an ACE in SDDL, MS-DTYP section 2.5.1.1.
var sddlFlags = []struct {
	text string
	set  Applies
}{{"OI", Files}, {"CI", Subfolders}, {"NP", DirectOnly}}

// sddlRights are the two-letter rights of MS-DTYP section 2.5.1.1 as they are for files. Generic
// rights are mapped as file systems do.
var sddlRights = map[string]Mask{
	"FA": All, "FR": GenericRead, "FW": GenericWrite, "FX": GenericExecute, "GA": All, "GR": GenericRead, "GW": GenericWrite, "GX": GenericExecute,
	"RC": ReadACL, "SD": Delete, "WD": WriteACL, "WO": WriteOwner, "CC": ReadData, "DC": WriteData, "LC": AppendData,
	"SW": ReadNamedAttrs, "RP": WriteNamedAttrs, "WP": Execute, "DT": DeleteChild, "LO": ReadAttributes, "CR": WriteAttributes,
}

// SDDL writes a rule's entries as the DACL of a security descriptor string, MS-DTYP section 2.5.1;
// P stands for a cut. Names are SIDs.
func SDDL(cut bool, entries []Entry, names Speller) (string, error) {
	var b strings.Builder
	b.WriteString("D:")
	if cut {
		b.WriteString("P")
	}
	for _, e := range entries {
		kind, flags := "A", ""
		if e.Deny {
			kind = "D"
		}
		for _, f := range sddlFlags {
			if e.Applies&f.set != 0 {
				flags += f.text
			}
		}
		if e.Applies&Here == 0 {
			flags += "IO"
		}
		sid, err := names.Spell(e.Who)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "(%s;%s;0x%x;;;%s)", kind, flags, uint32(e.Bits(true)), sid)
	}
	return b.String(), nil
}

// ParseSDDL reads the DACL of a security descriptor string. Owner, group and SACL are passed over;
// inherited ACEs too, since they are written above.
func ParseSDDL(text string, names Speller) (cut bool, entries []Entry, err error) {
	text = strings.TrimSpace(text)
	_, dacl, ok := strings.Cut(text, "D:")
	if !ok {
		return false, nil, fmt.Errorf("%w: there is no D: in it", ErrText)
	}
	flags, rest, _ := strings.Cut(dacl, "(")
	if i := strings.Index(flags, "S:"); i >= 0 {
		flags, rest = flags[:i], ""
	}
	for left := flags; left != ""; {
		switch {
		case strings.HasPrefix(left, "P"):
			cut, left = true, left[1:]
		case strings.HasPrefix(left, "AI"), strings.HasPrefix(left, "AR"):
			left = left[2:]
		default:
			return false, nil, fmt.Errorf("%w: flags %q", ErrText, flags)
		}
	}
	for rest != "" {
		ace, after, closed := strings.Cut(rest, ")")
		if !closed {
			return false, nil, fmt.Errorf("%w: a bracket is not closed", ErrText)
		}
		e, inherited, err := parseSDDLAce(ace, names)
		if err != nil {
			return false, nil, fmt.Errorf("%w: (%s): %w", ErrText, ace, err)
		}
		if !inherited && (e.Level != NoLevel || e.Mask != 0) {
			entries = append(entries, e)
		}
		if after == "" || strings.HasPrefix(after, "S:") {
			break
		}
		if after[0] != '(' {
			return false, nil, fmt.Errorf("%w: %q after a bracket", ErrText, after)
		}
		rest = after[1:]
	}
	return cut, entries, nil
}

func parseSDDLAce(ace string, names Speller) (e Entry, inherited bool, err error) {
	parts := strings.Split(ace, ";")
	if len(parts) != 6 {
		return e, false, errors.New("an ACE has six fields with semicolons between")
	}
	switch parts[0] {
	case "A":
	case "D":
		e.Deny = true
	default:
		return e, false, fmt.Errorf("type %q is not A or D", parts[0])
	}
	e.Applies = Here
	for flags := parts[1]; flags != ""; flags = flags[2:] {
		if len(flags) < 2 {
			return e, false, fmt.Errorf("flags %q", parts[1])
		}
		switch flags[:2] {
		case "OI":
			e.Applies |= Files
		case "CI":
			e.Applies |= Subfolders
		case "NP":
			e.Applies |= DirectOnly
		case "IO":
			e.Applies &^= Here
		case "ID":
			inherited = true
		default:
			return e, false, fmt.Errorf("flag %q", flags[:2])
		}
	}
	if e.Applies&Everywhere == 0 {
		return e, false, errors.New("it is only inherited, and by nothing")
	}
	var mask Mask
	if hex, ok := strings.CutPrefix(strings.ToLower(parts[2]), "0x"); ok {
		n, err := strconv.ParseUint(hex, 16, 32)
		if err != nil {
			return e, false, fmt.Errorf("rights %q", parts[2])
		}
		mask, _ = Rights(uint32(n))
	} else {
		for rights := parts[2]; rights != ""; rights = rights[2:] {
			if len(rights) < 2 || sddlRights[rights[:2]] == 0 {
				return e, false, fmt.Errorf("rights %q", parts[2])
			}
			mask |= sddlRights[rights[:2]]
		}
	}
	if e.Who, err = names.Read(parts[5], false); err != nil {
		return e, false, err
	}
	e.Level, e.Mask = GrantOf(mask, e.Deny, true)
	return e, inherited, nil
}
