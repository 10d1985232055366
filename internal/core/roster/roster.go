// Package roster reads lists of people, as they come from other systems: CSV (RFC 4180) whatever its delimiter, encoding and order of columns, files of
// passwd(5), and LDIF (RFC 2849) with the attributes of RFC 2307; and puts what they say into the records.
//
// It is pure: no clock, no storage, no network.
package roster

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// Person is what a list says of one person; nil is what it does not say.
type Person struct {
	Line       int // of the list, from 1
	Name       string
	FullName   *string
	UID        *uint32
	Primary    *string // a group's name; "" for none
	PrimaryGID *uint32 // or its number
	Groups     *[]string
	Mail       *string
	Starts     *time.Time // the first moment at which the account works; zero for at once
	Profile    *string    // a profile's name; "" for none
	Ends       *time.Time // the first moment at which the account no longer works; zero for never
	Labels     map[string]string
	Wrong      string // why nothing can be made of the line; "" where something can
}

// Format is what a list is written in.
type Format string

// The formats.
const (
	CSV    Format = "csv"
	Passwd Format = "passwd"
	LDIF   Format = "ldif"
	// Groups are lines of group(5), which ReadGroups reads.
	Groups Format = "group"
)

// Options say how a list is to be read.
type Options struct {
	Format   Format            // "" for what it looks like
	Columns  map[string]string // what headers stand for, where they are not our words: "Login" for "name"
	Location *time.Location    // in which days begin
}

// MostLines is how many a list has.
const MostLines = 100_000

// The words that a CSV's header is in. Case, spaces, dashes and underscores do not matter.
var columns = []string{"name", "full name", "uid", "group", "groups", "mail", "starts", "ends", "label", "profile"}

// Errors of lists that cannot be read at all. What is wrong with a line is said there.
var (
	ErrEmpty   = errors.New("there is nobody in it")
	errTooMany = fmt.Errorf("it has more than %d lines", MostLines)
)

func errFormat(format Format) error {
	return fmt.Errorf("%q is not one of csv, passwd, group, ldif", format)
}

// Read reads a list.
func Read(raw []byte, o Options) ([]Person, error) {
	text, err := decoded(raw)
	if err != nil {
		return nil, err
	}
	if strings.ContainsRune(text, 0) {
		return nil, errors.New("it is no text")
	}
	if o.Location == nil {
		o.Location = time.UTC
	}
	format := o.Format
	if format == "" {
		format = looksLike(text)
	}
	var out []Person
	switch format {
	case CSV:
		out, err = readCSV(text, o)
	case Passwd:
		out, err = readPasswd(text)
	case LDIF:
		out, err = readLDIF(text)
	default:
		return nil, errFormat(format)
	}
	if err == nil && len(out) == 0 {
		err = ErrEmpty
	}
	if err != nil {
		return nil, err
	}
	twice(out)
	return out, nil
}

// decoded makes text of what is UTF-8 or UTF-16, as its mark says, and else of Windows-1252, which any bytes are.
func decoded(raw []byte) (string, error) {
	switch {
	case bytes.HasPrefix(raw, []byte{0xff, 0xfe}), bytes.HasPrefix(raw, []byte{0xfe, 0xff}):
		text, err := unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes(raw)
		if err != nil || len(raw)%2 != 0 {
			return "", errors.New("it begins as UTF-16 does, and is not")
		}
		return string(text), nil
	case utf8.Valid(raw):
		return strings.TrimPrefix(string(raw), "\ufeff"), nil
	}
	text, err := charmap.Windows1252.NewDecoder().Bytes(raw)
	return string(text), err
}

// LooksLikeLDIF says whether a file is LDIF, by its first line that is no comment.
func LooksLikeLDIF(raw []byte) bool {
	text, err := decoded(raw)
	return err == nil && looksLike(text) == LDIF
}

func looksLike(text string) Format {
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
			continue
		case strings.HasPrefix(strings.ToLower(line), "version:") || strings.HasPrefix(strings.ToLower(line), "dn:"):
			return LDIF
		case strings.Count(line, ":") == 6 && !strings.ContainsAny(line, "\t;"):
			return Passwd
		}
		break
	}
	return CSV
}

// LooksLikeGroups says whether a file is lines of group(5), by its first that is no comment.
func LooksLikeGroups(raw []byte) bool {
	text, err := decoded(raw)
	if err != nil {
		return false
	}
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return strings.Count(line, ":") == 3 && !strings.ContainsAny(line, "\t;")
		}
	}
	return false
}

// twice marks those whose name, or number, another in the list has before them.
func twice(people []Person) {
	names, numbers := make(map[string]int), make(map[uint32]int)
	for i := range people {
		p := &people[i]
		if p.Wrong != "" || p.Name == "" {
			continue
		}
		if line, ok := names[identity.Fold(p.Name)]; ok {
			p.Wrong = fmt.Sprintf("line %d is of %s as well", line, p.Name)
			continue
		}
		names[identity.Fold(p.Name)] = p.Line
		if p.UID == nil {
			continue
		}
		if line, ok := numbers[*p.UID]; ok {
			p.Wrong = fmt.Sprintf("uid %d is that of line %d", *p.UID, line)
			continue
		}
		numbers[*p.UID] = p.Line
	}
}

func delimiterOf(header string) rune {
	best, most := ',', 0
	for _, d := range []rune{',', ';', '\t', '|'} {
		if n := strings.Count(header, string(d)); n > most {
			best, most = d, n
		}
	}
	return best
}

func squeezed(word string) string {
	return strings.NewReplacer(" ", "", "-", "", "_", "").Replace(strings.ToLower(strings.TrimSpace(word)))
}

// header says in which column which of our words is.
func header(head []string, others map[string]string) (map[string]int, error) {
	at := make(map[string]int)
	stands := make(map[string]string)
	for theirs, ours := range others {
		if !slices.Contains(columns, ours) {
			return nil, fmt.Errorf("%q is none of %s", ours, strings.Join(columns, ", "))
		}
		stands[squeezed(theirs)] = ours
	}
	for i, cell := range head {
		word := ""
		for _, ours := range columns {
			if squeezed(ours) == squeezed(cell) || squeezed(cell) == squeezed(ours)+"s" && ours == "label" {
				word = ours
			}
		}
		if ours, ok := stands[squeezed(cell)]; ok {
			word = ours
			delete(stands, squeezed(cell))
		}
		if word == "" {
			return nil, fmt.Errorf("its column %q is none of %s", cell, strings.Join(columns, ", "))
		}
		if _, ok := at[word]; ok {
			return nil, fmt.Errorf("two of its columns are the %s", word)
		}
		at[word] = i
	}
	for _, left := range slices.Sorted(maps.Keys(stands)) {
		return nil, fmt.Errorf("it has no column %q", left)
	}
	if _, ok := at["name"]; !ok {
		return nil, errors.New("none of its columns is the name")
	}
	return at, nil
}

func readCSV(text string, o Options) (out []Person, err error) {
	first, _, _ := strings.Cut(text, "\n")
	in := csv.NewReader(strings.NewReader(text))
	in.Comma = delimiterOf(first)
	in.FieldsPerRecord = -1
	in.ReuseRecord = true
	head, err := in.Read()
	if errors.Is(err, io.EOF) {
		return nil, ErrEmpty
	}
	if err != nil {
		return nil, noCSV(err)
	}
	width := len(head)
	at, err := header(head, o.Columns)
	if err != nil {
		return nil, err
	}
	for {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, noCSV(err)
		}
		if len(out) >= MostLines {
			return nil, errTooMany
		}
		line, _ := in.FieldPos(0)
		p := Person{Line: line}
		if len(row) != width {
			p.Wrong = fmt.Sprintf("it has %d columns, and the header %d", len(row), width)
		} else {
			p.fill(row, at, o.Location)
		}
		out = append(out, p)
	}
}

func noCSV(err error) error {
	if at := (*csv.ParseError)(nil); errors.As(err, &at) {
		return fmt.Errorf("it is no CSV: a quotation mark of line %d stands where none may, or is never closed", at.StartLine)
	}
	return errors.New("it is no CSV")
}

// fill takes what a row says.
func (p *Person) fill(row []string, at map[string]int, in *time.Location) {
	cell := func(word string) (string, bool) {
		i, ok := at[word]
		if !ok {
			return "", false
		}
		return plain.Uncell(strings.TrimSpace(row[i])), true
	}
	p.Name, _ = cell("name")
	for word, to := range map[string]**string{"full name": &p.FullName, "group": &p.Primary, "mail": &p.Mail, "profile": &p.Profile} {
		if text, ok := cell(word); ok {
			*to = &text
		}
	}
	if text, ok := cell("uid"); ok && text != "" {
		p.UID = p.number("uid", text)
	}
	if text, ok := cell("groups"); ok {
		groups := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(",;| ", r) })
		p.Groups = &groups
	}
	if text, ok := cell("starts"); ok {
		p.Starts = p.start(text, in)
	}
	if text, ok := cell("ends"); ok {
		p.Ends = p.end(text, in)
	}
	if text, ok := cell("label"); ok {
		for one := range strings.FieldsFuncSeq(text, func(r rune) bool { return r == ',' || r == ';' || r == '|' }) {
			key, value, ok := strings.Cut(strings.TrimSpace(one), "=")
			if !ok {
				p.wrong("label %q is not KEY=VALUE", one)
				continue
			}
			if p.Labels == nil {
				p.Labels = make(map[string]string)
			}
			p.Labels[key] = value
		}
	}
}

func (p *Person) wrong(format string, args ...any) {
	if p.Wrong == "" {
		p.Wrong = fmt.Sprintf(format, args...)
	}
}

func (p *Person) number(what, text string) *uint32 {
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil {
		p.wrong("%s %q is no number", what, text)
		return nil
	}
	out := uint32(n)
	return &out
}

// start reads the first day on which an account works, or a moment; "" and now are for at once.
func (p *Person) start(text string, in *time.Location) *time.Time {
	if text == "" || text == "now" {
		return new(time.Time)
	}
	t, _, ok := site.ParseDay(text, in)
	if !ok {
		p.wrong("starts %q is no day such as 2026-12-31", text)
		return nil
	}
	return &t
}

// end reads the last day on which an account works, or a moment; "" and never are for ever.
func (p *Person) end(text string, in *time.Location) *time.Time {
	if text == "" || text == "never" {
		return new(time.Time)
	}
	t, day, ok := site.ParseDay(text, in)
	switch {
	case !ok:
		p.wrong("%q is no day such as 2026-12-31", text)
		return nil
	case day:
		t = t.AddDate(0, 0, 1)
	}
	return &t
}
