package audit

import (
	"fmt"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/limit"
)

// Stored is what the audit is told of what is stored, and how it stands with the limits.
type Stored struct {
	Held      []Held
	Unheld    []*limit.Limit // defaults that bind nobody
	Off       []string       // volumes on which nothing is counted, and limits bear
	Promised  []Promised
	Differed  []Differed
	Unsent    []Unsent
	Unheard   bool     // mail is sent, and no administrator has an address
	Dropped   int64    // messages for which there was no room to wait
	Unwritten string   // why nothing can be written down; "" where it can
	InMemory  []string // what cannot be opened, and ends with the process
	Away      []AwayVolume
	Hashes    string // why the hashes of the journal are not where they are to be kept; "" where they are
	Left      []LeftBehind
	Overdue   []Overdue
	Strangers []Stranger
	Aside     string // where what could not be read of what was counted was put; "" for nowhere
}

// Held is how somebody, or something, stands with a limit.
type Held struct {
	Who string
	limit.Standing
}

// LeftBehind is somebody who left, and how much still belongs to them.
type LeftBehind struct {
	User  string
	UID   uint32
	Files int64
}

// Overdue is what somebody left, and is kept longer than it was to be.
type Overdue struct {
	Name  string // whose it was
	Where string // as FOLDER/PATH
	Path  string // below the folder
	Until time.Time
}

// Stranger are directories in a folder that is personal, and nobody's who has one there.
type Stranger struct {
	Folder, Group string
	Names         []string
}

// AwayVolume is a volume that is not where it should be, with the folders on it.
type AwayVolume struct {
	Volume, Path, Why string
	Folders           []string
}

// Promised is a volume with what the limits that reach it add up to.
type Promised struct {
	Volume        string
	To            string // to whom: users, folders
	Size, Granted int64  // bytes
}

// Differed is a folder in which there was something else than was held to be there when it was last counted.
type Differed struct{ Folder, Volume, Says string }

// Unsent is where notices could not be brought.
type Unsent struct {
	To      string
	Count   int
	Problem string // of the last
}

// The kinds of findings about limits.
const (
	LimitBelow  = "limit below the use"
	LimitFull   = "limit reached"
	InGrace     = "in grace"
	GraceOver   = "grace over"
	IdleDefault = "default nobody has"
	NotCounted  = "limits where nothing is counted"
	OverPromise = "more promised than there is"
	CountDiffer = "count differed"
	CountLost   = "counters damaged"
	Unwritten   = "nothing can be written down"
	VolumeAway  = "volume away"
	HashesLost  = "journal not vouched for"
	InMemory    = "kept in memory only"
	NotTold     = "notices not delivered"
	StillTheirs = "left behind"
	HeldTooLong = "held too long"
	NobodysOwn  = "own directory of nobody"
	NoReader    = "administrators without an address"
)

// folders names what is on a volume.
func folders(names []string) string {
	switch len(names) {
	case 0:
		return "No folder is on it. What is made there is"
	case 1:
		return "Folder " + names[0] + " is"
	case 2, 3, 4:
		return "Folders " + strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1] + " are"
	}
	return fmt.Sprintf("%d folders are", len(names))
}

func (x *finder) limits() {
	if x.Stored == nil {
		return
	}
	st := x.Stored()
	p := x.Policy
	for i := range st.Held {
		h := &st.Held[i]
		subject := access.LimitSubject(p, h.Limit)
		key := fmt.Sprintf("limit %d of %s", h.Limit.ID, h.Who)
		raise := access.RaiseLimit(p, &h.Standing, x.Now)
		for d := range limit.Dimensions {
			use, at := h.Use.Of(d), key+" in "+d.String()
			hard, isHard := h.Limit.Hard(d)
			soft, _ := h.Limit.Soft(d)
			ends, running := h.Ends(d)
			switch {
			case isHard && use > hard:
				x.add(LimitBelow, Medium, at, "limit of "+subject, fmt.Sprintf("%s has %s, more than the hard limit of %s: nothing can grow until there is less, or the limit is raised", h.Who, d.Spell(use), d.Spell(hard)), raise)
			case isHard && use == hard && hard > 0:
				x.add(LimitFull, Low, at, "limit of "+subject, fmt.Sprintf("%s is at the hard limit of %s: nothing can grow", h.Who, d.Spell(hard)), raise)
			case running && !x.Now.Before(ends):
				x.add(GraceOver, Medium, at, "limit of "+subject, fmt.Sprintf("%s has %s, more than the soft limit of %s, and the grace was over on %s: nothing can grow", h.Who, d.Spell(use), d.Spell(soft), ends.UTC().Format("2006-01-02 15:04 MST")), raise)
			case running:
				x.add(InGrace, Low, at, "limit of "+subject, fmt.Sprintf("%s has %s, more than the soft limit of %s: nothing can grow from %s on", h.Who, d.Spell(use), d.Spell(soft), ends.UTC().Format("2006-01-02 15:04 MST")), raise)
			}
		}
	}
	for i := range p.Limits.Limits {
		l := &p.Limits.Limits[i]
		f := p.Folder(l.Folder)
		if l.Path == "" || f == nil || x.facts == nil {
			continue
		}
		if disk, ok := x.facts(f).(onDisk); ok {
			if exists, _ := disk.Kind(l.Path); !exists && !away(disk) {
				x.add(PathGone, Low, fmt.Sprintf("limit %d", l.ID), "limit of "+access.LimitSubject(p, l), "it is not on disk, and the limit binds nothing until it is again",
					access.Fix{Kind: access.FixLimitRemove, Limit: access.NameLimit(p, l)})
			}
		}
	}
	for _, l := range st.Unheld {
		x.add(IdleDefault, Low, fmt.Sprintf("limit %d", l.ID), "limit of "+access.LimitSubject(p, l), "nobody is bound by it: all whom it is for have limits of their own, or there are none",
			access.Fix{Kind: access.FixLimitRemove, Limit: access.NameLimit(p, l)})
	}
	for _, v := range st.Off {
		x.add(NotCounted, Medium, v, "volume "+v, "there are limits on what is stored there, and nothing is counted: they bind nobody", access.Fix{Kind: access.FixCounting, Volume: v})
	}
	for _, pr := range st.Promised {
		x.add(OverPromise, Low, pr.Volume+" to "+pr.To, "volume "+pr.Volume, fmt.Sprintf("limits let %s store %s there in all, and it holds %s: it may be full before anybody is at a limit", pr.To, limit.FormatSize(pr.Granted), limit.FormatSize(pr.Size)))
	}
	for _, d := range st.Differed {
		x.add(CountDiffer, Low, d.Folder, "folder "+d.Folder, "when it was last counted there was "+d.Says+": something was changed behind the service's back, or the service was ended before it had written down what it counted")
	}
	for _, l := range st.Left {
		x.add(StillTheirs, Low, l.User, "user "+l.User, fmt.Sprintf("%d files and directories still belong to uid %d, who has left", l.Files, l.UID), access.Fix{Kind: access.FixHandOver, UID: l.UID})
	}
	for _, h := range st.Overdue {
		x.add(HeldTooLong, Low, h.Where, h.Where, fmt.Sprintf("what %s left was to be kept until %s", h.Name, h.Until.Add(-time.Second).Local().Format("2 Jan 2006")), access.Fix{Kind: access.FixHolding, Path: h.Path})
	}
	for _, n := range st.Strangers {
		some := strings.Join(n.Names[:min(len(n.Names), 5)], ", ")
		if more := len(n.Names) - 5; more > 0 {
			some += fmt.Sprintf(" and %d more", more)
		}
		x.add(NobodysOwn, Low, n.Folder, "folder "+n.Folder, fmt.Sprintf("it is personal, and nobody of %s is called as these directories are, so that nobody gets into them by that: %s", n.Group, some))
	}
	for _, v := range st.Away {
		x.add(VolumeAway, High, v.Volume, "volume "+v.Volume, fmt.Sprintf("%s: %s. %s answered with an error, and nothing is written there, until it is back: it is taken up again by itself", v.Path, v.Why, folders(v.Folders)))
	}
	if st.Hashes != "" {
		x.add(HashesLost, High, "journal", "the hashes of the journal", st.Hashes)
	}
	if st.Unwritten != "" {
		x.add(Unwritten, High, "state", "the state directory", st.Unwritten)
	}
	for _, name := range st.InMemory {
		x.add(InMemory, Medium, name, name, "it could not be opened when the service started; what belongs there is kept until it ends")
	}
	for _, u := range st.Unsent {
		x.add(NotTold, Medium, u.To, u.To, fmt.Sprintf("%d notices could not be brought there: %s; see amber notice unsent", u.Count, u.Problem))
	}
	if st.Dropped > 0 {
		x.add(NotTold, Medium, "dropped", "notices", fmt.Sprintf("%d notices were not sent, as too many were waiting already", st.Dropped))
	}
	if st.Unheard {
		x.add(NoReader, Low, "notices", "notices", "mail is sent of limits that are close, and no administrator has an address that it could be sent to")
	}
	if st.Aside != "" {
		x.add(CountLost, High, st.Aside, "what is counted", "what was counted could not be read when the service started; it was put aside as "+st.Aside+", and everything is counted again")
	}
}
