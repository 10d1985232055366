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

// RaiseLimit is the change that makes room under a limit that is in the way.
func RaiseLimit(p *site.Policy, s *limit.Standing, now time.Time) Mend {
	m := Mend{Kind: MendLimit, Limit: NameLimit(p, s.Limit)}
	for d := range limit.Dimensions {
		left, ok := s.Left(d, now)
		if ends, running := s.Ends(d); running && now.Before(ends) && (!ok || left > 0) { // it will be in the way
			to := limit.Raised(s.Use.Of(d))
			soft, hard := &m.Bounds.SoftBytes, &m.Bounds.HardBytes
			if d == limit.Files {
				soft, hard = &m.Bounds.SoftFiles, &m.Bounds.HardFiles
			}
			*soft = &to
			if most, bounded := s.Limit.Hard(d); bounded && most < to {
				*hard = &to
			}
			continue
		}
		if !ok || left > 0 {
			continue
		}
		to := limit.Raised(s.Use.Of(d))
		_, soft := s.Limit.Soft(d)
		hard, isHard := s.Limit.Hard(d)
		ends, running := s.Ends(d)
		raiseSoft := soft && running && !now.Before(ends) || soft && s.Limit.GraceSeconds == 0
		if d == limit.Bytes {
			if raiseSoft {
				m.Bounds.SoftBytes = &to
			}
			if isHard && (hard < to || !raiseSoft) {
				m.Bounds.HardBytes = &to
			}
			continue
		}
		if raiseSoft {
			m.Bounds.SoftFiles = &to
		}
		if isHard && (hard < to || !raiseSoft) {
			m.Bounds.HardFiles = &to
		}
	}
	return m
}
