package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// NumberCheck is a client's mismatch with the records, with what fixes it on either side:
// one of the two is enough.
type NumberCheck struct {
	identity.Mismatch
	FixHere  []string // commands of this service
	FixThere []string // shell commands for the client, as root
}

// CheckNumbers compares a client's accounts, as lines of passwd(5) and group(5), either of
// which may be empty, with the records. It gives the mismatches and how many lines were
// compared. Blank lines, comments, and the +/- lines of old name services are passed over.
//
// With a host, what it has is remembered under that name, so that the audit looks at it again
// whenever it is asked.
func (s *Service) CheckNumbers(ctx context.Context, by Actor, host, passwd, group string) ([]NumberCheck, int, error) {
	users, err := parseNumbers("passwd", passwd, 7, false)
	if err != nil {
		return nil, 0, err
	}
	groups, err := parseNumbers("group", group, 4, true)
	if err != nil {
		return nil, 0, err
	}
	there := append(users, groups...)
	if len(there) == 0 {
		return nil, 0, invalid("passwd", "there is nothing to compare: give the client's passwd or group file, or both")
	}
	if host != "" {
		if err := s.rememberNumbers(ctx, by, host, there); err != nil {
			return nil, 0, err
		}
	}
	return s.mismatches(host, there), len(there), nil
}

// mismatches is what is otherwise at a host, whose name may be "", and what fixes it.
func (s *Service) mismatches(host string, there []identity.Numbered) (out []NumberCheck) {
	taken := make(map[string]bool)
	for _, n := range there {
		taken[fmt.Sprint(n.Group, n.Number)] = true
	}
	for _, m := range s.Policy().CompareNumbers(host, there) {
		out = append(out, fixNumbers(m, func(n uint32) bool { return taken[fmt.Sprint(m.Group, n)] }))
	}
	return out
}

func (s *Service) rememberNumbers(ctx context.Context, by Actor, host string, there []identity.Numbered) error {
	if err := checkPlaceName("host", host); err != nil {
		return err
	}
	if list, err := json.Marshal(there); err != nil || len(list) > 4<<20 {
		return invalid("passwd", "more than 4 MiB of accounts cannot be remembered")
	}
	return s.change(ctx, by, "remember numbers", host, func(d *site.Draft) error {
		l := site.IDList{Host: host}
		for _, old := range d.Records().IDLists {
			if identity.Fold(old.Host) == identity.Fold(host) {
				l = old
			}
		}
		l.Numbers = there
		site.Put(d, l)
		return nil
	})
}

// ForgetNumbers forgets what a host has, so that the audit looks at it no more.
func (s *Service) ForgetNumbers(ctx context.Context, by Actor, host string) error {
	return s.change(ctx, by, "forget numbers", host, func(d *site.Draft) error {
		for _, l := range d.Records().IDLists {
			if identity.Fold(l.Host) == identity.Fold(host) {
				site.Delete[site.IDList](d, l.ID)
				return nil
			}
		}
		return notFound("host", "amber finding list", "no numbers of %q are remembered", host)
	})
}

func fixNumbers(m identity.Mismatch, takenThere func(uint32) bool) NumberCheck {
	c := NumberCheck{Mismatch: m}
	set := func(name string, number uint32) {
		if m.Group {
			c.FixHere = append(c.FixHere, fmt.Sprintf("amber group set %s --gid %d", quote(name), number))
		} else {
			c.FixHere = append(c.FixHere, fmt.Sprintf("amber user set %s --uid %d", quote(name), number))
		}
	}
	if m.Taken != "" {
		set(m.Taken, m.Free)
	}
	if m.Known {
		set(m.Name, m.There)
	}
	to := m.Free
	if m.Known && !takenThere(m.Here) {
		to = m.Here
	}
	name := quote(m.Name)
	if m.Group {
		c.FixThere = []string{fmt.Sprintf("groupmod -g %d %s", to, name), fmt.Sprintf("find / -xdev -gid %d -exec chgrp -h %s {} +", m.There, name)}
	} else {
		c.FixThere = []string{fmt.Sprintf("usermod -u %d %s", to, name), fmt.Sprintf("find / -xdev -uid %d -exec chown -h %s {} +", m.There, name)}
	}
	return c
}

func parseNumbers(field, text string, columns int, group bool) ([]identity.Numbered, error) {
	var out []identity.Numbered
	line := 0
	for row := range strings.Lines(text) {
		line++
		row = strings.TrimRight(row, "\r\n")
		if row == "" || row[0] == '#' || row[0] == '+' || row[0] == '-' {
			continue
		}
		cells := strings.Split(row, ":")
		if len(cells) != columns || cells[0] == "" {
			return nil, invalid(field, "line %d is no line of a %s file: it has %d fields of %d", line, field, len(cells), columns)
		}
		number, err := strconv.ParseUint(cells[2], 10, 32)
		if err != nil {
			return nil, invalid(field, "line %d: %q is no number", line, cells[2])
		}
		out = append(out, identity.Numbered{Group: group, Name: cells[0], Number: uint32(number)})
	}
	return out, nil
}
