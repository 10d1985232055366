package api

import (
	"cmp"
	"context"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/service"
)

// When is the parameter of what can be asked of the past.
type When struct {
	At time.Time `query:"at" doc:"As of this moment; now if left out."`
}

// as is the service that a question is about: as it is, as it was, or as it would be.
func (s *Server) as(ctx context.Context, w When) (*service.Service, error) {
	if w.At.IsZero() {
		return s.on(ctx), nil
	}
	return s.on(ctx).AsOf(ctx, w.At)
}

// at has a request be about the records as they were at a moment; as they are, where none is given.
func (s *Server) at(ctx context.Context, w When) (context.Context, error) {
	if w.At.IsZero() {
		return ctx, nil
	}
	past, err := s.as(ctx, w)
	return context.WithValue(ctx, draftKey{}, past), err
}

// Holder is somebody who may do something to a path.
type Holder struct {
	User    string   `json:"user"`
	Name    string   `json:"name,omitempty" doc:"The full name."`
	Level   Levels   `json:"level"`
	Entry   int64    `json:"entry,omitempty" doc:"The entry that gives the widest level."`
	On      string   `json:"on,omitempty" doc:"The path it is written on."`
	Chain   []string `json:"chain,omitempty" doc:"The groups through which the user is meant, the innermost first."`
	Through string   `json:"through" doc:"The same in words."`
}

// Who is everybody who may do something to a path.
type Who struct {
	Path    string   `json:"path"`
	Exists  bool     `json:"exists"`
	File    bool     `json:"file"`
	Total   int      `json:"total" doc:"How many there are, filtered; a page may hold fewer."`
	Holders []Holder `json:"holders"`
}

// Spot is a path on which somebody's level is another than on the path above.
type Spot struct {
	Path  string `json:"path"`
	Level Levels `json:"level"`
}

// Reach is where a user gets.
type Reach struct {
	User  string `json:"user"`
	Spots []Spot `json:"spots"`
}

// Matrix is the level of users or groups at the root of folders.
type Matrix struct {
	Folders []Column `json:"folders"`
	// FolderTotal counts those that are not in this answer as well.
	FolderTotal int         `json:"folderTotal" doc:"How many folders there are, filtered."`
	Total       int         `json:"total" doc:"How many rows there are, filtered; a page may hold fewer."`
	Rows        []MatrixRow `json:"rows"`
}

// Column is one folder of a matrix.
type Column struct {
	Name string `json:"name"`
	SMB  bool   `json:"smb" doc:"It is published over SMB."`
	NFS  bool   `json:"nfs" doc:"It is published over NFS."`
}

// MatrixRow is one user, or group, with a level for each folder.
type MatrixRow struct {
	Who    string   `json:"who"`
	Kind   string   `json:"kind" enum:"user,group"`
	Levels []Levels `json:"levels"`
}

// Page is the parameters of a list that may be long.
type Page struct {
	Limit  int `query:"limit" minimum:"1" maximum:"100000" default:"1000"`
	Offset int `query:"offset" minimum:"0"`
}

func pageOf[T any](p Page, all []T) []T {
	from := min(p.Offset, len(all))
	return all[from:min(from+cmp.Or(p.Limit, 1000), len(all))]
}

// SurveyOf says of whom a survey is to be.
type SurveyOf struct {
	User string `json:"user,omitempty" maxLength:"64" doc:"Where the level of this user changes, instead of everybody's counts."`
}

func (s *Server) registerAudit() {
	handle(s, operation("who", http.MethodGet, "/who", "List who may do what to a path, and through what", "audit"), func(ctx context.Context, in *struct {
		AtPath
		When
		Page
		Level string `query:"level" enum:"pass,read,add,change,control" doc:"Only those who have at least this."`
		Name  string `query:"name" maxLength:"64" doc:"Only users whose name holds this."`
	}) (Who, error) {
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return Who{}, err
		}
		f, at, err := svc.Locate(in.Path)
		if err != nil {
			return Who{}, err
		}
		level, _ := acl.ParseLevel(in.Level) // none asked for is had by all who are listed
		out := Who{Path: f.Display(at.Path), Exists: at.Exists, File: at.File}
		var all []audit.Holder
		for _, h := range svc.Audit().Who(f, at.Path, at.File) {
			if h.Either().Levels.Has(level) && strings.Contains(identity.Fold(h.User.Name), identity.Fold(in.Name)) {
				all = append(all, h)
			}
		}
		out.Total, out.Holders = len(all), []Holder{}
		for _, h := range pageOf(in.Page, all) {
			row := Holder{User: h.User.Name, Name: h.User.FullName, Level: levelsOf(h.Pair), On: h.From, Chain: h.Chain, Through: asking.Through(&h)}
			if h.Entry != nil {
				row.Entry = h.Entry.ID
			}
			out.Holders = append(out.Holders, row)
		}
		return out, nil
	})
	handle(s, operation("reach", http.MethodGet, "/reach", "List where a user gets, with the paths on which the level changes", "audit"), func(ctx context.Context, in *struct {
		When
		User string `query:"user" required:"true" maxLength:"64"`
	}) (Reach, error) {
		if err := s.ownOr(ctx, in.User, ""); err != nil {
			return Reach{}, err
		}
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return Reach{}, err
		}
		return reachOf(svc, in.User)
	})
	handle(s, operation("matrix", http.MethodGet, "/matrix", "Show the level of each user, or group, on each folder", "audit"), func(ctx context.Context, in *struct {
		When
		Page
		OfFolders
		Groups bool   `query:"groups" doc:"Of groups instead of users: what somebody may do who is in that one alone."`
		Name   string `query:"name" maxLength:"64" doc:"Only rows whose name holds this."`
	}) (Matrix, error) {
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return Matrix{}, err
		}
		return matrixOf(svc, in.Groups, in.Name, in.Page, in.OfFolders), nil
	})
	handle(s, operation(beginSurvey, http.MethodPost, "/surveys/{name}", "Look at every file of a folder where modes decide, and say what everybody may do to them; that is a job", "audit"), func(ctx context.Context, in *struct {
		Named
		Body SurveyOf
	}) (Job, error) {
		j, err := s.svc.BeginSurvey(ctx, caller(ctx), in.Name, in.Body.User)
		return shownBy(j, err, jobOf)
	})
	handle(s, operation("survey", http.MethodGet, "/surveys/{name}", "Say the same at once, of a folder that is not large, or as if changes had been made", "audit"), func(ctx context.Context, in *struct {
		Named
		User string `query:"user" maxLength:"64" doc:"Where the level of this user changes, instead of everybody's counts."`
	}) (service.Survey, error) {
		if !onDraft(ctx) { // who asks about a draft has their turn already
			var done func()
			var err error
			if ctx, done, err = s.previews.take(ctx, caller(ctx)); err != nil {
				return service.Survey{}, err
			}
			defer done()
		}
		out, err := s.on(ctx).Survey(ctx, in.Name, in.User)
		if err != nil && ctx.Err() != nil {
			err = &service.Error{Kind: service.Unavailable, Next: "amber survey " + plain.Word(in.Name), Message: "to look at every file of " + in.Name + " takes too long for one answer: have a job do it"}
		}
		return out, err
	})
	handle(s, operation("compare", http.MethodGet, "/compare", "Say in what two moments, two users or two trees differ", "audit"), func(ctx context.Context, in *struct {
		From  time.Time `query:"from" doc:"The earlier of two moments."`
		To    time.Time `query:"to" doc:"The later; now if left out."`
		Users []string  `query:"user" maxItems:"2" doc:"Two users."`
		Paths []string  `query:"path" maxItems:"2" doc:"Two paths."`
	}) (Comparison, error) {
		return s.compare(ctx, in.From, in.To, in.Users, in.Paths)
	})
}

func reachOf(svc *service.Service, name string) (Reach, error) {
	u, err := svc.User(name)
	if err != nil {
		return Reach{}, err
	}
	out := Reach{User: u.Name, Spots: []Spot{}}
	for _, spot := range svc.Audit().Reach(svc.Policy().Directory.UserIndex(u.ID)) {
		out.Spots = append(out.Spots, Spot{spot.Folder.Display(spot.Path), levelsOf(spot.Pair)})
	}
	return out, nil
}

// OfFolders says which columns of a matrix are wanted.
type OfFolders struct {
	Folder       string `query:"folder" maxLength:"64" doc:"Only folders whose name holds this."`
	FolderOffset int    `query:"folderOffset" minimum:"0" doc:"How many of them to pass over."`
	FolderLimit  int    `query:"folderLimit" minimum:"1" maximum:"10000" doc:"How many at most; all of them if left out."`
}

// pick gives the folders that are wanted, and how many there are in all.
func (o *OfFolders) pick(all []*site.PublishedFolder) (some []*site.PublishedFolder, total int) {
	for _, f := range all {
		if strings.Contains(identity.Fold(f.Name), identity.Fold(o.Folder)) {
			some = append(some, f)
		}
	}
	total = len(some)
	some = some[min(o.FolderOffset, total):]
	if o.FolderLimit > 0 {
		some = some[:min(o.FolderLimit, len(some))]
	}
	return some, total
}

func matrixOf(svc *service.Service, groups bool, name string, page Page, of OfFolders) Matrix {
	p, a := svc.Policy(), svc.Audit()
	out := Matrix{Folders: []Column{}, Rows: []MatrixRow{}}
	folders, total := of.pick(p.Folders)
	out.FolderTotal = total
	for _, f := range folders {
		out.Folders = append(out.Folders, Column{f.Name, len(f.Shares) > 0, len(f.Exports) > 0})
	}
	holds := func(s string) bool { return strings.Contains(identity.Fold(s), identity.Fold(name)) }
	row := func(who, kind string, of func(*site.PublishedFolder) audit.Pair) {
		r := MatrixRow{Who: who, Kind: kind, Levels: []Levels{}}
		for _, f := range folders {
			r.Levels = append(r.Levels, levelsOf(of(f)))
		}
		out.Rows = append(out.Rows, r)
	}
	var rows []int32
	if groups {
		for i, g := range p.Directory.Groups() {
			if holds(g.Name) {
				rows = append(rows, int32(i))
			}
		}
		out.Total = len(rows)
		for _, i := range pageOf(page, rows) {
			row(p.Directory.Groups()[i].Name, "group", func(f *site.PublishedFolder) audit.Pair { return a.OfGroup(f, i) })
		}
		return out
	}
	for i, u := range p.Directory.Users() {
		if holds(u.Name) {
			rows = append(rows, int32(i))
		}
	}
	slices.SortStableFunc(rows, func(x, y int32) int {
		return cmp.Compare(p.Directory.Users()[x].UID, p.Directory.Users()[y].UID)
	})
	out.Total = len(rows)
	standing := make(map[*site.PublishedFolder]*audit.Standing, len(folders))
	for _, f := range folders {
		standing[f] = a.At(f, "", false)
	}
	for _, i := range pageOf(page, rows) {
		row(p.Directory.Users()[i].Name, "user", func(f *site.PublishedFolder) audit.Pair { return standing[f].Of(i) })
	}
	return out
}

// Comparison is in what two moments, users or trees differ.
type Comparison struct {
	One    string  `json:"one"`
	Other  string  `json:"other"`
	Effect *Effect `json:"effect,omitempty" doc:"Between two moments: what became other for whom."`
	Apart  []Apart `json:"apart" doc:"Between two users, or two trees: where, or for whom, they differ."`
}

// Apart is one difference between two users, on a path, or two trees, for a user.
type Apart struct {
	Of    string `json:"of" doc:"The path, or the user."`
	One   Levels `json:"one"`
	Other Levels `json:"other"`
}

func (s *Server) compare(ctx context.Context, from, to time.Time, users, paths []string) (Comparison, error) {
	svc := s.on(ctx)
	given := 0
	for _, is := range []bool{!from.IsZero(), len(users) > 0, len(paths) > 0} {
		if is {
			given++
		}
	}
	switch {
	case given != 1 || len(users) == 1 || len(paths) == 1:
		return Comparison{}, &service.Error{Kind: service.Invalid, Field: "from", Message: "compare two moments, two users or two paths"}
	case len(users) == 2:
		return compareUsers(svc, users[0], users[1])
	case len(paths) == 2:
		return comparePaths(svc, paths[0], paths[1])
	}
	before, err := svc.AsOf(ctx, from)
	if err != nil {
		return Comparison{}, err
	}
	after := svc
	out := Comparison{One: from.Format(time.RFC3339), Other: "now", Apart: []Apart{}}
	if !to.IsZero() {
		if after, err = svc.AsOf(ctx, to); err != nil {
			return Comparison{}, err
		}
		out.Other = to.Format(time.RFC3339)
	}
	e := effectOf(before.Became(after))
	out.Effect = &e
	return out, nil
}

func compareUsers(svc *service.Service, one, other string) (Comparison, error) {
	a, err := reachOf(svc, one)
	if err != nil {
		return Comparison{}, err
	}
	b, err := reachOf(svc, other)
	if err != nil {
		return Comparison{}, err
	}
	out := Comparison{One: a.User, Other: b.User, Apart: []Apart{}}
	paths := make(map[string]bool)
	for _, spot := range append(slices.Clone(a.Spots), b.Spots...) {
		paths[spot.Path] = true
	}
	for _, p := range slices.Sorted(maps.Keys(paths)) {
		x, y := spotAt(a.Spots, p), spotAt(b.Spots, p)
		if x != y {
			out.Apart = append(out.Apart, Apart{p, x, y})
		}
	}
	return out, nil
}

// spotAt is the level on a path: that of the nearest spot above.
func spotAt(spots []Spot, path string) Levels {
	for {
		for _, s := range spots {
			if s.Path == path {
				return s.Level
			}
		}
		i := strings.LastIndexByte(path, '/')
		if i < 0 {
			return levelsOf(audit.Pair{})
		}
		path = path[:i]
	}
}

// comparePaths compares two trees: at their tops, and on each path below that has rules in either,
// where somebody's levels differ in another way than on the path above.
func comparePaths(svc *service.Service, one, other string) (Comparison, error) {
	a := svc.Audit()
	type tree struct {
		folder *site.PublishedFolder
		top    files.Place
	}
	var trees [2]tree
	names := [2]string{}
	below := map[string]bool{"": true}
	for i, full := range []string{one, other} {
		f, at, err := svc.Locate(full)
		if err != nil {
			return Comparison{}, err
		}
		trees[i], names[i] = tree{f, at}, f.Display(at.Path)
		if f.Unix() {
			continue
		}
		for _, r := range f.Rules {
			if rest, ok := strings.CutPrefix(r.Path, at.Path); ok && rest != "" && (at.Path == "" || rest[0] == '/') {
				below[strings.TrimPrefix(rest, "/")] = true
			}
		}
	}
	out := Comparison{One: names[0], Other: names[1], Apart: []Apart{}}
	type pair [2]audit.Pair
	said := make(map[string][]pair)
	for _, path := range slices.Sorted(maps.Keys(below)) {
		var standing [2]*audit.Standing
		for i, t := range trees {
			standing[i] = a.At(t.folder, strings.Trim(t.top.Path+"/"+path, "/"), t.top.File)
		}
		up := path[:max(0, strings.LastIndexByte(path, '/'))]
		for said[up] == nil && up != "" { // no rules on the way
			up = up[:max(0, strings.LastIndexByte(up, '/'))]
		}
		said[path] = make([]pair, len(svc.Policy().Directory.Users()))
		for i, u := range svc.Policy().Directory.Users() {
			p := pair{standing[0].Of(int32(i)), standing[1].Of(int32(i))}
			said[path][i] = p
			if p[0].Same(p[1]) || path != "" && said[up][i][0].Same(p[0]) && said[up][i][1].Same(p[1]) {
				continue
			}
			of := u.Name
			if path != "" {
				of += " on " + path
			}
			out.Apart = append(out.Apart, Apart{of, levelsOf(p[0]), levelsOf(p[1])})
		}
	}
	return out, nil
}
