package audit

import (
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Survey is what lies in a folder where modes decide: every object looked at once, those alike in one
// directory counted together. It costs with the directories and with how many kinds of owner, mode
// and ACL there are, not with files or people.
type Survey struct {
	kinds []posix.Attributes
	plain map[plainKind]int32
	other map[string]int32 // with an ACL
	dirs  []surveyed
	at    map[string]int32 // directories by path
	last  int32            // the directory that the last file was in
	where string           // and its path

	Files, Directories int
}

type plainKind struct {
	uid, gid, mode uint32
	dir            bool
}

// surveyed is one directory, with how many files of each kind are directly in it.
type surveyed struct {
	path   string
	parent int32
	kind   int32
	files  []counted
}

type counted struct {
	kind  int32
	count int
}

// NewSurvey begins one.
func NewSurvey() *Survey {
	return &Survey{plain: make(map[plainKind]int32), other: make(map[string]int32), at: make(map[string]int32), last: identity.None}
}

// Kinds is how many different owners, modes and ACLs there are.
func (s *Survey) Kinds() int { return len(s.kinds) }

// Add counts an object in. Directories come before what is in them, the folder itself, "", first.
func (s *Survey) Add(path string, a *posix.Attributes) {
	kind := s.kind(a)
	if path == "" {
		s.dirs = append(s.dirs, surveyed{parent: identity.None, kind: kind})
		s.at[""] = 0
		s.Directories++
		return
	}
	dir := path[:max(0, strings.LastIndexByte(path, '/'))]
	if s.last == identity.None || s.where != dir {
		s.last, s.where = s.at[dir], dir
	}
	if a.Dir {
		s.at[path] = int32(len(s.dirs))
		s.dirs = append(s.dirs, surveyed{path: path, parent: s.last, kind: kind})
		s.Directories++
		return
	}
	s.Files++
	in := &s.dirs[s.last]
	for i := range in.files {
		if in.files[i].kind == kind {
			in.files[i].count++
			return
		}
	}
	in.files = append(in.files, counted{kind, 1})
}

func (s *Survey) kind(a *posix.Attributes) int32 {
	if a.ACL == nil {
		key := plainKind{a.UID, a.GID, a.Mode, a.Dir}
		k, ok := s.plain[key]
		if !ok {
			k = int32(len(s.kinds))
			s.plain[key], s.kinds = k, append(s.kinds, *a)
		}
		return k
	}
	key := string(a.ACL.Bytes()) + string(posix.ACL{{Tag: posix.Mask, Perm: a.Mode, ID: a.UID}, {Tag: posix.User, ID: a.GID}}.Bytes())
	if a.Dir {
		key += "d"
	}
	k, ok := s.other[key]
	if !ok {
		k = int32(len(s.kinds))
		s.other[key], s.kinds = k, append(s.kinds, *a)
	}
	return k
}

// Surveyed answers about a survey: what everybody may do to what lies there.
type Surveyed struct {
	*Survey
	f         *folder
	passing   []int32 // by directory: which set of people gets into it
	sets      []passage
	setAt     map[[2]int32]int32
	standings map[standingKey]*Standing
}

// passage is who gets so far: those of a passage above who pass a directory of some kind.
type passage struct {
	up, kind int32
	byAnon   map[uint32]identity.People
}

type standingKey struct {
	passage, kind, parent int32
	below                 string // the exports that hold it differ with the path; "" where none is of a part
}

// Survey takes up a survey of a folder.
func (a *Audit) Survey(pf *site.PublishedFolder, s *Survey) *Surveyed {
	out := &Surveyed{Survey: s, f: a.folder(pf), setAt: make(map[[2]int32]int32), standings: make(map[standingKey]*Standing),
		sets: []passage{{up: identity.None, kind: identity.None}}}
	out.passing = make([]int32, len(s.dirs))
	for i := range s.dirs {
		if d := &s.dirs[i]; d.parent != identity.None {
			out.passing[i] = out.passage(out.passing[d.parent], s.dirs[d.parent].kind)
		}
	}
	return out
}

func (s *Surveyed) passage(up, kind int32) int32 {
	key := [2]int32{up, kind}
	p, ok := s.setAt[key]
	if !ok {
		p = int32(len(s.sets))
		s.setAt[key], s.sets = p, append(s.sets, passage{up: up, kind: kind})
	}
	return p
}

// passed is who gets through all directories of a passage.
func (s *Surveyed) passed(p int32, anon uint32) identity.People {
	if have := s.sets[p].byAnon[anon]; have != nil {
		return have
	}
	var people identity.People
	if s.sets[p].up == identity.None {
		people = s.f.audit.Policy.Directory.Everybody()
	} else {
		people = s.passed(s.sets[p].up, anon).Clone()
		people.And(s.f.audit.Permits(&s.kinds[s.sets[p].kind], posix.Exec, anon))
	}
	if s.sets[p].byAnon == nil {
		s.sets[p].byAnon = make(map[uint32]identity.People)
	}
	s.sets[p].byAnon[anon] = people
	return people
}

func (s *Surveyed) standing(path string, passage, kind, parent int32) *Standing {
	key := standingKey{passage, kind, parent, ""}
	for _, e := range s.f.of {
		if e.Below != "" && inExport(e, path) {
			key.below += e.Path + "\x00"
		}
	}
	if have := s.standings[key]; have != nil {
		return have
	}
	var up *posix.Attributes
	if parent != identity.None {
		up = &s.kinds[parent]
	}
	st := s.f.unixStanding(path, &s.kinds[kind], up, func(anon uint32) identity.People { return s.passed(passage, anon) })
	s.standings[key] = st
	return st
}

// each calls visit for every directory and every kind of file in one, with how many there are.
func (s *Surveyed) each(visit func(dir int32, file bool, n int, st *Standing)) {
	for i := range s.dirs {
		d := &s.dirs[i]
		parent := identity.None
		if d.parent != identity.None {
			parent = s.dirs[d.parent].kind
		}
		visit(int32(i), false, 1, s.standing(d.path, s.passing[i], d.kind, parent))
		if len(d.files) == 0 {
			continue
		}
		in := s.passage(s.passing[i], d.kind)
		for _, f := range d.files {
			visit(int32(i), true, f.count, s.standing(below(d.path, "\x00"), in, f.kind, d.kind))
		}
	}
}

// Tally is how many files and directories a user may do something to, at least at each level.
type Tally struct{ Files, Directories [acl.Control + 1]int }

// Totals gives the tally of each user, by dense index, over whichever protocol leaves more.
func (s *Surveyed) Totals() []Tally {
	type sum struct{ files, dirs int }
	sums := make(map[*Standing]*sum)
	s.each(func(_ int32, file bool, n int, st *Standing) {
		c := sums[st]
		if c == nil {
			c = &sum{}
			sums[st] = c
		}
		if file {
			c.files += n
		} else {
			c.dirs += n
		}
	})
	d := s.f.audit.Policy.Directory
	out := make([]Tally, len(d.Users()))
	for st, c := range sums {
		for _, l := range acl.Levels {
			who := st.SMB.Level(l).Clone()
			who.Or(st.NFS.Level(l))
			for u := range who.Each() {
				out[u].Files[l] += c.files
				out[u].Directories[l] += c.dirs
			}
		}
	}
	return out
}

// SurveySpot is a directory where somebody's level is another than in the one above, or where files
// are that they may do something else to than to most.
type SurveySpot struct {
	Path  string
	Files int // 0 for the directory itself, else how many files in it
	Pair
}

// Reach lists where the level of one user, by dense index, changes. Files are told of where they are
// not like the last that were told of on the way down.
func (s *Surveyed) Reach(user int32) []SurveySpot {
	var out []SurveySpot
	dirs, files := make([]Pair, len(s.dirs)), make([]Pair, len(s.dirs))
	known := make([]bool, len(s.dirs)) // whether files says anything
	s.each(func(dir int32, file bool, n int, st *Standing) {
		p := st.Of(user)
		up := s.dirs[dir].parent
		if !file {
			dirs[dir] = p
			if up != identity.None {
				files[dir], known[dir] = files[up], known[up]
			}
			if up == identity.None || !dirs[up].Same(p) {
				out = append(out, SurveySpot{s.dirs[dir].path, 0, p})
			}
			return
		}
		if !known[dir] || !files[dir].Same(p) {
			out = append(out, SurveySpot{s.dirs[dir].path, n, p})
			files[dir], known[dir] = p, true
		}
	})
	return out
}
