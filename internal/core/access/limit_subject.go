package access

import (
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

// LimitName is whose a limit is, in the words by which it is set: the kind with a name, and where it reaches.
type LimitName struct {
	Kind                 limit.Kind
	Name, Volume, Folder string
}

// NameLimit spells whose a limit is.
func NameLimit(p *site.Policy, l *limit.Limit) LimitName {
	n := LimitName{Kind: l.Kind}
	switch l.Kind {
	case limit.OfUser:
		n.Name = p.Directory.Name(identity.UserPrincipal(l.User))
	case limit.OfGroup:
		n.Name = p.Directory.Name(identity.GroupPrincipal(l.Group))
	case limit.Default:
		if l.Group != 0 {
			n.Name = p.Directory.Name(identity.GroupPrincipal(l.Group))
		}
	case limit.OfFolder:
		if f := p.Folder(l.Folder); f != nil {
			n.Name = f.Display(l.Path)
		}
		return n
	}
	if f := p.Folder(l.Folder); f != nil {
		n.Folder = f.Name
	} else if v, ok := p.Volume(l.Volume); ok {
		n.Volume = v.Name
	}
	return n
}

// LimitSubject spells the same for people: "user piran on main", "folder nightlog/2026", "default of visitors in nightlog".
func LimitSubject(p *site.Policy, l *limit.Limit) string { return NameLimit(p, l).String() }

func (n LimitName) String() string {
	s := string(n.Kind)
	switch {
	case n.Kind == limit.Default && n.Name != "":
		s += " of " + n.Name
	case n.Name != "":
		s += " " + n.Name
	}
	if n.Folder != "" {
		s += " in " + n.Folder
	}
	if n.Volume != "" {
		s += " on " + n.Volume
	}
	return s
}

// RaiseLimit is the change that makes room under a limit that is in the way, or will be when a grace is over.
func RaiseLimit(p *site.Policy, s *limit.Standing, now time.Time) Fix {
	m := Fix{Kind: FixLimit, Limit: NameLimit(p, s.Limit)}
	for d, bounds := range [limit.Dimensions]struct{ soft, hard **int64 }{{&m.Bounds.SoftBytes, &m.Bounds.HardBytes}, {&m.Bounds.SoftFiles, &m.Bounds.HardFiles}} {
		d := limit.Dimension(d)
		left, bounded := s.Left(d, now)
		ends, running := s.Ends(d)
		inTheWay := bounded && left == 0
		if !inTheWay && !(running && now.Before(ends)) {
			continue
		}
		to := limit.Raised(s.Use.Of(d))
		_, isSoft := s.Limit.Soft(d)
		hard, isHard := s.Limit.Hard(d)
		// What is soft is in the way once its grace is over, and will be where one is running beside room that is left.
		raiseSoft := isSoft && (s.Limit.GraceSeconds == 0 || running && !now.Before(ends) || !inTheWay)
		if raiseSoft {
			*bounds.soft = &to
		}
		if isHard && (hard < to || !raiseSoft) {
			*bounds.hard = &to
		}
	}
	return m
}
