package service

import (
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
)

// relabel gives a record labels, by key; an empty value takes one away, and nil leaves them all.
func relabel(r *identity.Labelled, to map[string]string) error {
	labels, err := r.Labels.With(to)
	if err != nil {
		return invalid("labels", "%v", err)
	}
	r.Labels = labels
	return nil
}

// LabelsOf is what that is marked with of which something is in use; a path in a folder is marked as the folder.
func (s *Service) LabelsOf(u Use) identity.Labels {
	p := s.Policy()
	switch {
	case !u.Known:
	case u.Subject == ByUser:
		if is := p.Directory.UserNamed(u.Name); is != nil {
			return is.Labels
		}
	case u.Subject == ByGroup:
		if is := p.Directory.GroupNamed(u.Name); is != nil {
			return is.Labels
		}
	case u.Subject == ByVolume:
		v, _ := s.volume(u.Name)
		return v.Labels
	default:
		name, _, _ := strings.Cut(u.Name, "/")
		if f := p.FolderNamed(name); f != nil {
			return f.Labels
		}
	}
	return nil
}
