package api

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/command"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/counting"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/service"
)

// LimitOf says whose a limit is, and where it reaches.
type LimitOf struct {
	Kind   string `json:"kind" query:"kind" enum:"user,group,folder,default" doc:"A default binds users who have no limit of their own."`
	Name   string `json:"name,omitempty" query:"name" maxLength:"4200" doc:"The user, the group, or FOLDER or FOLDER/PATH; of a default, the group whose members it binds, everybody if left out."`
	Volume string `json:"volume,omitempty" query:"volume" maxLength:"80" doc:"Where it reaches: this volume; everywhere if neither is given."`
	Folder string `json:"folder,omitempty" query:"folder" maxLength:"80" doc:"Where it reaches: this folder."`
}

func (l LimitOf) input() service.LimitInput {
	return service.LimitInput{Kind: limit.Kind(l.Kind), Name: l.Name, Volume: l.Volume, Folder: l.Folder}
}

// LimitBody sets a limit. What is left out stays as it is.
type LimitBody struct {
	LimitOf
	SoftBytes string `json:"softBytes,omitempty" maxLength:"60" doc:"A size such as 20G, 1.5TB or 512MiB, a number of bytes, or none."`
	HardBytes string `json:"hardBytes,omitempty" maxLength:"60" doc:"Likewise. 0 means that nothing may be stored."`
	SoftFiles string `json:"softFiles,omitempty" maxLength:"60" doc:"A number such as 5000 or 20k, or none. Directories and links count."`
	HardFiles string `json:"hardFiles,omitempty" maxLength:"60" doc:"Likewise."`
	Grace     string `json:"grace,omitempty" maxLength:"60" doc:"For how long growing goes on above what is soft: 7d, 36h, 0."`
}

// Limit is a limit's record.
type Limit struct {
	ID int64 `json:"id"`
	LimitOf
	Subject      string `json:"subject" doc:"Whose it is and where it reaches, in words."`
	SoftBytes    *int64 `json:"softBytes,omitempty"`
	HardBytes    *int64 `json:"hardBytes,omitempty"`
	SoftFiles    *int64 `json:"softFiles,omitempty"`
	HardFiles    *int64 `json:"hardFiles,omitempty"`
	GraceSeconds int64  `json:"graceSeconds"`
	Says         string `json:"says" doc:"What it says, in words."`
	Waits        string `json:"waits,omitempty" doc:"Why it does not bind yet, or not everywhere."`
}

func limitOf(p *site.Policy, l *limit.Limit) Limit {
	n := access.NameLimit(p, l)
	return Limit{ID: l.ID, LimitOf: LimitOf{Kind: string(n.Kind), Name: n.Name, Volume: n.Volume, Folder: n.Folder}, Subject: n.String(),
		SoftBytes: l.SoftBytes, HardBytes: l.HardBytes, SoftFiles: l.SoftFiles, HardFiles: l.HardFiles, GraceSeconds: l.GraceSeconds, Says: service.Words(l.Bounds)}
}

// limitBodyOf is a fix as what sets a limit.
func limitBodyOf(m access.Fix) LimitBody {
	text := func(n *int64, bytes bool) string {
		if n == nil {
			return ""
		}
		return command.Bound(*n, bytes)
	}
	return LimitBody{LimitOf: LimitOf{Kind: string(m.Limit.Kind), Name: m.Limit.Name, Volume: m.Limit.Volume, Folder: m.Limit.Folder},
		SoftBytes: text(m.Bounds.SoftBytes, true), HardBytes: text(m.Bounds.HardBytes, true), SoftFiles: text(m.Bounds.SoftFiles, false), HardFiles: text(m.Bounds.HardFiles, false)}
}

// Standing is how a use stands with one limit.
type Standing struct {
	LimitID          int64      `json:"limitId"`
	Subject          string     `json:"subject" doc:"Whose the limit is, and where it reaches."`
	Limit            LimitOf    `json:"limit"`
	UsedBytes        int64      `json:"usedBytes" doc:"Where it reaches."`
	UsedFiles        int64      `json:"usedFiles"`
	SoftBytes        *int64     `json:"softBytes,omitempty"`
	HardBytes        *int64     `json:"hardBytes,omitempty"`
	SoftFiles        *int64     `json:"softFiles,omitempty"`
	HardFiles        *int64     `json:"hardFiles,omitempty"`
	Percent          float64    `json:"percent" doc:"Of the bound that comes last, in bytes or files, whichever is fuller."`
	State            string     `json:"state" enum:"within,in grace,grace over,full,counting"`
	GraceLeftSeconds *int64     `json:"graceLeftSeconds,omitempty" doc:"Until nothing may grow; where a grace is running."`
	GraceEnds        *time.Time `json:"graceEnds,omitempty"`
}

// Use is what is stored by somebody, or in something.
type Use struct {
	By        string     `json:"by" enum:"user,group,folder,tree,volume"`
	Name      string     `json:"name"`
	FullName  string     `json:"fullName,omitempty"`
	Known     bool       `json:"known" doc:"It is the name of a record."`
	UsedBytes int64      `json:"usedBytes"`
	UsedFiles int64      `json:"usedFiles" doc:"Directories and links among them."`
	WeekBytes *int64     `json:"weekBytes,omitempty" doc:"By how much more than a week ago."`
	WeekFiles *int64     `json:"weekFiles,omitempty"`
	Counting  bool       `json:"counting,omitempty" doc:"What there is is still being counted."`
	Percent   float64    `json:"percent" doc:"By the limit that leaves least; 0 without one."`
	Standings []Standing `json:"standings" doc:"How it stands with each limit, the one that leaves least first."`
}

// Uses is a list of uses, the fullest first.
type Uses struct {
	Total int   `json:"total" doc:"How many there are, filtered; a page may hold fewer."`
	Uses  []Use `json:"uses"`
}

// UseSample is a use at a moment.
type UseSample struct {
	At        time.Time `json:"at"`
	UsedBytes int64     `json:"usedBytes"`
	UsedFiles int64     `json:"usedFiles"`
}

// UseHistory is how a use went.
type UseHistory struct {
	Use
	Samples []UseSample `json:"samples" doc:"Oldest first, the last is now; where nothing changed there is none."`
	FullAt  *time.Time  `json:"fullAt,omitempty" doc:"When it will be at its limit if it goes on as in the last week."`
}

// Count is how far the counting of a folder is.
type Count struct {
	Folder      string     `json:"folder"`
	Volume      string     `json:"volume"`
	Counting    string     `json:"counting" enum:"off,size,allocated" doc:"What is counted: bytes as people see them, or as they take space."`
	State       string     `json:"state" enum:"counted,waiting,counting,paused,failed,off"`
	Below       string     `json:"below,omitempty" doc:"Where in the folder, where it is not all of it."`
	DoneFiles   int64      `json:"doneFiles,omitempty" doc:"Counted so far."`
	UsedFiles   int64      `json:"usedFiles" doc:"Held to be there."`
	RateFiles   int64      `json:"rateFiles,omitempty" doc:"Counted in a second, at most."`
	Ended       *time.Time `json:"ended,omitempty" doc:"When it was last counted."`
	TookSeconds float64    `json:"tookSeconds,omitempty"`
	Differed    string     `json:"differed,omitempty" doc:"By how much there was something else then than was held to be there."`
	Problem     string     `json:"problem,omitempty"`
}

// Largest is what takes most room below a directory, the largest first.
type Largest struct {
	UsedBytes   int64   `json:"usedBytes" doc:"Of all that was looked at."`
	UsedFiles   int64   `json:"usedFiles"`
	Files       []Sized `json:"files"`
	Directories []Sized `json:"directories" doc:"Each with all below it."`
	Unread      int64   `json:"unread,omitempty" doc:"Directories that could not be read."`
}

// Sized is a file, or a directory with all below it.
type Sized struct {
	Path      string `json:"path" doc:"Below the folder."`
	UsedBytes int64  `json:"usedBytes"`
	UsedFiles int64  `json:"usedFiles"`
}

func largestOf(l *files.Largest) *Largest {
	sized := func(list []files.Sized) []Sized {
		out := []Sized{}
		for _, s := range list {
			out = append(out, Sized{s.Path, s.Amount.Bytes, s.Amount.Files})
		}
		return out
	}
	return &Largest{UsedBytes: l.All.Bytes, UsedFiles: l.All.Files, Files: sized(l.Files), Directories: sized(l.Directories), Unread: l.Unread}
}

func useOf(p *site.Policy, u *service.Use, now time.Time) Use {
	out := Use{By: string(u.Subject), Name: u.Name, Known: u.Known, UsedBytes: u.Amount.Bytes, UsedFiles: u.Amount.Files, Counting: u.Counting,
		Percent: percent(u.Share()), Standings: []Standing{}}
	if person := p.Directory.UserNamed(u.Name); person != nil && u.Subject == service.ByUser && u.Known {
		out.FullName = person.FullName
	}
	if u.Week != nil {
		out.WeekBytes, out.WeekFiles = &u.Week.Bytes, &u.Week.Files
	}
	for i := range u.Standings {
		s := &u.Standings[i]
		n := access.NameLimit(p, s.Limit)
		share, _ := s.Share()
		one := Standing{LimitID: s.Limit.ID, Subject: n.String(), Limit: LimitOf{Kind: string(n.Kind), Name: n.Name, Volume: n.Volume, Folder: n.Folder},
			UsedBytes: s.Use.Bytes, UsedFiles: s.Use.Files, SoftBytes: s.Limit.SoftBytes, HardBytes: s.Limit.HardBytes,
			SoftFiles: s.Limit.SoftFiles, HardFiles: s.Limit.HardFiles, Percent: percent(share), State: string(s.State(now))}
		if s.Counting {
			one.State = "counting"
		}
		for d := range limit.Dimensions {
			if ends, ok := s.Ends(d); ok && (one.GraceEnds == nil || ends.Before(*one.GraceEnds)) {
				left := max(int64(ends.Sub(now)/time.Second), 0)
				ends = ends.UTC()
				one.GraceLeftSeconds, one.GraceEnds = &left, &ends
			}
		}
		out.Standings = append(out.Standings, one)
	}
	return out
}

// percent rounds to a tenth of one, and never up to a whole that is not reached.
func percent(share float64) float64 {
	p := float64(int64(share*1000)) / 10
	return min(p, 1e9)
}

func countOf(c *counting.State) Count {
	out := Count{Folder: c.Folder, Volume: c.Volume, Counting: string(c.How), State: c.State, Below: c.Below, DoneFiles: c.Done, UsedFiles: c.Files, RateFiles: c.Rate, Problem: c.Problem}
	if c.Last != nil {
		ended := c.Last.Ended.UTC()
		out.Ended, out.TookSeconds = &ended, c.Last.Took.Seconds()
		if c.Last.Differs {
			out.Differed = c.Last.String()
		}
	}
	return out
}

// LargestToLookFor says where the largest are looked for, and how many of them.
type LargestToLookFor struct {
	Path string `json:"path" maxLength:"4200" doc:"FOLDER or FOLDER/PATH."`
	Top  int    `json:"top,omitempty" minimum:"1" maximum:"1000" default:"20"`
}

// CountRate bounds how fast files are counted.
type CountRate struct {
	RateFiles *int64 `json:"rateFiles,omitempty" minimum:"1" maximum:"10000000" doc:"How many files are counted in a second, at most."`
}

// Pause says whether something is held up.
type Pause struct {
	Paused bool `json:"paused"`
}

func (s *Server) registerLimits() {
	limits := listing[Limit]{name: func(l *Limit) string { return l.Subject }, sorts: map[string]func(*Limit) string{
		"hard": func(l *Limit) string { return byNumber(orZero(l.HardBytes)) }, "soft": func(l *Limit) string { return byNumber(orZero(l.SoftBytes)) }}}
	listPast(s, operation("list-limits", http.MethodGet, "/limits", "List the limits", "limits"), limits, func(ctx context.Context) ([]Limit, error) {
		p := s.on(ctx).Policy()
		var out []Limit
		for i := range p.Limits.Limits {
			l := &p.Limits.Limits[i]
			one := limitOf(p, l)
			one.Waits = s.on(ctx).LimitWaits(l)
			out = append(out, one)
		}
		slices.SortStableFunc(out, func(a, b Limit) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Subject, b.Subject)) })
		return out, nil
	})
	handle(s, operation("set-limit", http.MethodPut, "/limits", "Set a limit, or change the one that its subject has with that reach; it binds at once", "limits"), func(ctx context.Context, in *struct{ Body LimitBody }) (Limit, error) {
		b := in.Body
		want := b.input()
		want.SoftBytes, want.HardBytes, want.SoftFiles, want.HardFiles, want.Grace = b.SoftBytes, b.HardBytes, b.SoftFiles, b.HardFiles, b.Grace
		l, err := s.on(ctx).SetLimit(ctx, caller(ctx), want)
		if err != nil {
			return Limit{}, err
		}
		out := limitOf(s.on(ctx).Policy(), l)
		out.Waits = s.on(ctx).LimitWaits(l)
		return out, nil
	})
	do(s, operation("remove-limit", http.MethodDelete, "/limits", "Remove a limit", "limits"), func(ctx context.Context, in *struct {
		Kind   string `query:"kind" required:"true" enum:"user,group,folder,default"`
		Name   string `query:"name" maxLength:"4200"`
		Volume string `query:"volume" maxLength:"80"`
		Folder string `query:"folder" maxLength:"80"`
	}) error {
		return s.on(ctx).RemoveLimit(ctx, caller(ctx), LimitOf(*in).input())
	})
	handle(s, operation("list-use", http.MethodGet, "/use", "List who, or what, has how much in use, the fullest first", "limits"), func(ctx context.Context, in *struct {
		Page
		By    string   `query:"by" enum:"user,group,folder,tree,volume" default:"user"`
		Sort  string   `query:"sort" enum:"percent,bytes,files,week,name" default:"percent"`
		Over  float64  `query:"over" minimum:"0" doc:"Only those who are at this many per cent of a limit, or above."`
		Name  string   `query:"name" maxLength:"4200" doc:"Only those whose name holds this."`
		Label []string `query:"label,explode" maxItems:"16" doc:"Only of what has this label: KEY=VALUE, or KEY with any value; again for more."`
	}) (Uses, error) {
		svc := s.on(ctx)
		filter, err := identity.ParseLabelFilter(in.Label)
		if err != nil {
			return Uses{}, &service.Error{Kind: service.Invalid, Field: "label", Message: err.Error()}
		}
		all, err := svc.Uses(ctx, service.Subject(cmp.Or(in.By, "user")))
		if err != nil {
			return Uses{}, err
		}
		all = slices.DeleteFunc(all, func(u service.Use) bool {
			return len(filter) > 0 && !filter.Fits(svc.LabelsOf(u).Map()) || percent(u.Share()) < in.Over || !strings.Contains(identity.Fold(u.Name), identity.Fold(in.Name))
		})
		sortUses(all, in.Sort)
		out := Uses{Total: len(all), Uses: []Use{}}
		for _, u := range pageOf(in.Page, all) {
			out.Uses = append(out.Uses, useOf(svc.Policy(), &u, svc.Ledger().Now()))
		}
		return out, nil
	})
	handle(s, operation("show-use", http.MethodGet, "/use/history", "Show how a use went, and when it will be at its limit", "limits"), func(ctx context.Context, in *struct {
		By   string `query:"by" enum:"user,group,folder,tree,volume" default:"user"`
		Name string `query:"name" required:"true" maxLength:"4200"`
		Days int    `query:"days" minimum:"1" maximum:"90" default:"7"`
	}) (UseHistory, error) {
		svc := s.on(ctx)
		now := svc.Ledger().Now()
		h, err := svc.History(ctx, service.Subject(cmp.Or(in.By, "user")), in.Name, now.Add(-time.Duration(cmp.Or(in.Days, 7))*24*time.Hour))
		if err != nil {
			return UseHistory{}, err
		}
		out := UseHistory{Use: useOf(svc.Policy(), &h.Use, now), Samples: []UseSample{}}
		for _, sample := range h.Samples {
			out.Samples = append(out.Samples, UseSample{sample.At.UTC(), sample.Amount.Bytes, sample.Amount.Files})
		}
		out.FullAt = orNever(h.FullAt.UTC())
		return out, nil
	})
	handle(s, operation(lookLargest, http.MethodPost, "/use/largest", "Look for the files and directories that take most room; that goes on by itself", "limits"), func(ctx context.Context, in *struct{ Body LargestToLookFor }) (Job, error) {
		j, err := s.on(ctx).Largest(ctx, caller(ctx), in.Body.Path, cmp.Or(in.Body.Top, 20))
		return shownBy(j, err, jobOf)
	})
	counts := listing[Count]{name: func(c *Count) string { return c.Folder }, matches: func(c *Count) []string { return []string{c.Volume, c.State} }, sorts: map[string]func(*Count) string{
		"volume": func(c *Count) string { return c.Volume }, "state": func(c *Count) string { return c.State }, "files": func(c *Count) string { return byNumber(c.UsedFiles) }}}
	list(s, operation("list-counts", http.MethodGet, "/counts", "List how far the counting of each folder is", "limits"), counts, func(ctx context.Context) ([]Count, error) {
		var out []Count
		for _, c := range s.on(ctx).Counts() {
			out = append(out, countOf(&c))
		}
		return out, nil
	})
	do(s, operation("count-volume", http.MethodPost, "/counts/{name}", "Count the folders of a volume again, beside everything else", "limits"), func(ctx context.Context, in *struct {
		Named
		Body CountRate
	}) error {
		return s.on(ctx).Recount(ctx, caller(ctx), in.Name, in.Body.RateFiles)
	})
	do(s, operation("pause-count", http.MethodPut, "/counts/{name}/paused", "Hold the counting of a volume up, or have it go on", "limits"), func(ctx context.Context, in *struct {
		Named
		Body Pause
	}) error {
		return s.on(ctx).PauseCounts(ctx, caller(ctx), in.Name, in.Body.Paused)
	})
}

func orZero(n *int64) int64 {
	if n == nil {
		return 0
	}
	return *n
}

func sortUses(all []service.Use, by string) {
	week := func(u *service.Use) int64 {
		if u.Week == nil {
			return 0
		}
		return u.Week.Bytes
	}
	slices.SortStableFunc(all, func(a, b service.Use) int {
		switch by {
		case "bytes":
			return cmp.Compare(b.Amount.Bytes, a.Amount.Bytes)
		case "files":
			return cmp.Compare(b.Amount.Files, a.Amount.Files)
		case "week":
			return cmp.Compare(week(&b), week(&a))
		case "name":
			return cmp.Compare(a.Name, b.Name)
		}
		return 0 // as they come: the fullest first
	})
}

func (s *Server) volumeOf(v site.Volume) Volume {
	how := v.Counting
	if !how.On() {
		how = site.CountNothing
	}
	out := Volume{Name: v.Name, Path: v.Path, Counting: string(how), Labels: v.Labels.Map()}
	if away, ok := s.svc.VolumeAway(v.ID); ok {
		since := away.Since.UTC().Truncate(time.Second)
		out.Away, out.Since = away.Why, &since
	}
	return out
}
