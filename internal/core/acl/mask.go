// Package acl evaluates access control lists: masks and levels, entries, the
// sparse tree from which every path inherits, and the one evaluator, with the
// semantics of RFC 8881 section 6.2.1.
//
// It is pure: no clock, no storage, no network.
package acl

import (
	"fmt"
	"math/bits"
	"strings"
)

// Mask is a set of access bits, RFC 8881 section 6.2.1.3.1. The same numbers
// are the access rights of MS-DTYP section 2.4.3, so there is no second set.
type Mask uint32

// The bits. Where two names stand on a line, the second is what the bit means
// on a directory.
const (
	ReadData        Mask = 0x00000001 // ACE4_READ_DATA, ACE4_LIST_DIRECTORY
	WriteData       Mask = 0x00000002 // ACE4_WRITE_DATA, ACE4_ADD_FILE
	AppendData      Mask = 0x00000004 // ACE4_APPEND_DATA, ACE4_ADD_SUBDIRECTORY
	ReadNamedAttrs  Mask = 0x00000008
	WriteNamedAttrs Mask = 0x00000010
	Execute         Mask = 0x00000020 // on a directory: pass through
	DeleteChild     Mask = 0x00000040
	ReadAttributes  Mask = 0x00000080
	WriteAttributes Mask = 0x00000100
	Delete          Mask = 0x00010000
	ReadACL         Mask = 0x00020000
	WriteACL        Mask = 0x00040000
	WriteOwner      Mask = 0x00080000
	Synchronize     Mask = 0x00100000

	ListDirectory   = ReadData
	AddFile         = WriteData
	AddSubdirectory = AppendData

	// All is every bit that is ever granted.
	All = ReadData | WriteData | AppendData | ReadNamedAttrs | WriteNamedAttrs | Execute | DeleteChild |
		ReadAttributes | WriteAttributes | Delete | ReadACL | WriteACL | WriteOwner | Synchronize

	// ReadOnly is every bit that alters nothing.
	ReadOnly = ReadData | ReadNamedAttrs | Execute | ReadAttributes | ReadACL | Synchronize
)

// The generic rights of MS-DTYP section 2.4.3, as file systems map them.
const (
	GenericRead    = ReadData | ReadNamedAttrs | ReadAttributes | ReadACL | Synchronize
	GenericWrite   = WriteData | AppendData | WriteNamedAttrs | WriteAttributes | ReadACL | Synchronize
	GenericExecute = Execute | ReadAttributes | ReadACL | Synchronize
)

var generics = []struct{ bit, is Mask }{{0x80000000, GenericRead}, {0x40000000, GenericWrite}, {0x20000000, GenericExecute}, {0x10000000, All}}

// Rights gives the bits that access rights are, generic ones among them, and those of the rights that are none of files.
func Rights(rights uint32) (is Mask, others uint32) {
	left := Mask(rights)
	for _, g := range generics {
		if left&g.bit != 0 {
			is |= g.is
			left &^= g.bit
		}
	}
	return is | left&All, uint32(left &^ All)
}

var maskNames = []struct {
	bit       Mask
	file, dir string
}{
	{ReadData, "read_data", "list_directory"}, {WriteData, "write_data", "add_file"},
	{AppendData, "append_data", "add_subdirectory"}, {ReadNamedAttrs, "read_named_attrs", ""},
	{WriteNamedAttrs, "write_named_attrs", ""}, {Execute, "execute", ""}, {DeleteChild, "delete_child", ""},
	{ReadAttributes, "read_attributes", ""}, {WriteAttributes, "write_attributes", ""}, {Delete, "delete", ""},
	{ReadACL, "read_acl", ""}, {WriteACL, "write_acl", ""}, {WriteOwner, "write_owner", ""}, {Synchronize, "synchronize", ""},
}

// Count is how many bits are set.
func (m Mask) Count() int { return bits.OnesCount32(uint32(m)) }

// Names lists the RFC 8881 names of the bits, in the RFC's order.
func (m Mask) Names(dir bool) []string {
	var out []string
	for _, n := range maskNames {
		if m&n.bit == 0 {
			continue
		}
		if dir && n.dir != "" {
			out = append(out, n.dir)
		} else {
			out = append(out, n.file)
		}
	}
	return out
}

// Level is a named mask: what an entry says and what a verdict amounts to.
type Level uint8

// The levels. Pass goes through a directory and no more. Read and Add each
// contain Pass and not one another: a place to drop things in is Add alone.
// Change contains both, Control contains everything.
const (
	NoLevel Level = iota
	Pass
	Read
	Add
	Change
	Control
)

// Levels lists them all, the narrowest first.
var Levels = []Level{Pass, Read, Add, Change, Control}

var levelNames = [...]string{"nothing", "pass", "read", "add", "change", "control"}

func (l Level) String() string {
	if int(l) < len(levelNames) {
		return levelNames[l]
	}
	return fmt.Sprintf("level %d", uint8(l))
}

// ParseLevel reads a level's name; the error lists those there are.
func ParseLevel(s string) (Level, error) {
	for _, l := range Levels {
		if strings.EqualFold(s, l.String()) {
			return l, nil
		}
	}
	return NoLevel, fmt.Errorf("level %q is not one of %s", s, strings.Join(levelNames[1:], ", "))
}

var levelMasks = func() (m [len(levelNames)][2]Mask) {
	const file, dir = 0, 1
	m[Pass][file] = ReadAttributes | Synchronize
	m[Pass][dir] = ReadAttributes | Synchronize | Execute
	read := ReadAttributes | Synchronize | Execute | ReadData | ReadNamedAttrs | ReadACL
	m[Read][file], m[Read][dir] = read, read
	m[Add][file] = m[Pass][file]
	m[Add][dir] = m[Pass][dir] | AddFile | AddSubdirectory
	change := read | WriteData | AppendData | WriteNamedAttrs | WriteAttributes | Delete
	m[Change][file], m[Change][dir] = change, change|DeleteChild
	m[Control][file], m[Control][dir] = All, All
	return m
}()

// Mask is what an allow entry of this level grants on a file, or on a directory.
func (l Level) Mask(dir bool) Mask { return levelMasks[l][index(dir)] }

// Kind is a kind of object, as far as levels mean something else of it.
type Kind uint8

// The kinds. Root is the directory that a folder is. AlsoNamed is a file by another of its names, of which
// deleting is no part: that is about the name.
const (
	File Kind = iota
	AlsoNamed
	Directory
	Root
)

// File says whether it is no directory.
func (k Kind) File() bool { return k <= AlsoNamed }

// KindOf is the kind of what is at a path of a folder.
func KindOf(path string, file bool) Kind {
	switch {
	case file:
		return File
	case path == "":
		return Root
	}
	return Directory
}

// Wants is what somebody must have of an object for it to be said that they have the level. Of a
// file it leaves out what an entry of the level gives besides: to run it, which modes keep apart
// from reading, and to delete what is in it, which is nothing. The root of a folder is nobody's to
// delete.
func (l Level) Wants(of Kind) Mask {
	switch of {
	case Directory:
		return l.Mask(true)
	case Root:
		return l.Mask(true) &^ Delete
	case AlsoNamed:
		return l.Wants(File) &^ Delete
	}
	return l.Mask(false) &^ (Execute | DeleteChild)
}

// LevelsOf lists the levels that there are of directories, or of files: to a file nothing is added.
func LevelsOf(k Kind) []Level {
	if k.File() {
		return fileLevels
	}
	return Levels
}

var fileLevels = []Level{Pass, Read, Change, Control}

func index(dir bool) int {
	if dir {
		return 1
	}
	return 0
}

// Contains says whether who has l has other as well.
func (l Level) Contains(other Level) bool {
	return levelMasks[other][1]&^levelMasks[l][1] == 0
}

// DenyMask is what a deny entry of this level withholds: the level and every
// level that contains it, and nothing that a level without it needs. To deny
// `change` so leaves reading alone.
func (l Level) DenyMask(dir bool) Mask {
	if l == NoLevel {
		return 0
	}
	var withheld, kept Mask
	for _, other := range Levels {
		if other.Contains(l) {
			withheld |= other.Mask(dir)
		} else {
			kept |= other.Mask(dir)
		}
	}
	return withheld &^ kept
}

// LevelsIn gives the widest levels that a mask amounts to: none, one, or Read
// and Add together.
func LevelsIn(m Mask, of Kind) []Level {
	var out []Level
	for _, l := range LevelsOf(of) {
		if l.Wants(of)&^m != 0 {
			continue
		}
		kept := out[:0]
		for _, have := range out {
			if !l.Contains(have) {
				kept = append(kept, have)
			}
		}
		out = append(kept, l)
	}
	return out
}

// LevelSet is the levels that somebody has, one bit for each: those in a mask, and so
// every level that another contains.
type LevelSet uint8

// LevelSetOf gives the levels that a mask amounts to.
func LevelSetOf(m Mask, of Kind) LevelSet {
	var set LevelSet
	for _, l := range LevelsOf(of) {
		if l.Wants(of)&^m == 0 {
			set |= 1 << l
		}
	}
	return set
}

// Has says whether a level is among them. Nobody lacks NoLevel.
func (s LevelSet) Has(l Level) bool { return l == NoLevel || s&(1<<l) != 0 }

// Widest lists those that no other contains.
func (s LevelSet) Widest() []Level {
	var out []Level
	for _, l := range Levels {
		if !s.Has(l) {
			continue
		}
		contained := false
		for _, other := range Levels {
			contained = contained || other != l && s.Has(other) && other.Contains(l)
		}
		if !contained {
			out = append(out, l)
		}
	}
	return out
}

// String spells them: "nothing", "read", "read and add".
func (s LevelSet) String() string {
	var names []string
	for _, l := range s.Widest() {
		names = append(names, l.String())
	}
	if len(names) == 0 {
		return NoLevel.String()
	}
	return strings.Join(names, " and ")
}

// Describe spells what a mask amounts to: "nothing", "read", "read and add".
// Bits beyond those levels are left out.
func Describe(m Mask, of Kind) string {
	var names []string
	for _, l := range LevelsIn(m, of) {
		names = append(names, l.String())
	}
	if len(names) == 0 {
		return NoLevel.String()
	}
	return strings.Join(names, " and ")
}
