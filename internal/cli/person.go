package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
)

// showPersonCommand shows all that is known of users.
func (a *app) showPersonCommand() *cli.Command {
	return a.leaf("show", "show all that is known of a user: groups, where they get, use, numbers, sign-ins, what they own and where they are named", "NAME...", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
		all := make([]api.Person, len(args))
		for i, name := range args {
			if err := a.client.call(ctx, http.MethodGet, "people/"+escape(name), nil, nil, &all[i]); err != nil {
				return err
			}
		}
		if len(all) == 1 {
			return show(a, cmd, all[0], printPerson)
		}
		return show(a, cmd, all, func(w io.Writer, all []api.Person) {
			for i, p := range all {
				if i > 0 {
					fmt.Fprintln(w)
				}
				printPerson(w, p)
			}
		})
	})
}

func printPerson(w io.Writer, p api.Person) {
	printUser(w, p.User)
	for _, g := range p.Through {
		hung(w, "in "+g.Group+" ", "through "+strings.Join(g.Chain[:len(g.Chain)-1], ", in "))
	}
	section := func(title string, lines []string) {
		if len(lines) == 0 {
			return
		}
		fmt.Fprintf(w, "\n%s\n", title)
		for _, line := range lines {
			hung(w, "  ", line)
		}
	}
	if l := p.Leaving; l != nil {
		text := "on " + l.On.Local().Format("2 Jan 2006 15:04")
		if l.To != "" {
			text += ", succeeded by " + l.To
		}
		section("leaves", []string{text})
	}
	var lines []string
	for _, s := range p.Reach {
		lines = append(lines, s.Path+": "+s.Level.Text)
	}
	section("gets to", lines)
	lines = nil
	if p.Use != nil {
		for _, s := range p.Use.Standings {
			lines = append(lines, standingText(s))
		}
		if len(lines) == 0 {
			lines = []string{useText(*p.Use) + ", and no limit bears on them"}
		}
	}
	section("has in use", lines)
	lines = nil
	for _, h := range p.Hosts {
		same := "as here"
		switch {
		case h.Map != "":
			same = fmt.Sprintf("by number map %s; %d here", h.Map, p.UID)
		case !h.Same:
			same = fmt.Sprintf("and %d here", p.UID)
		}
		lines = append(lines, fmt.Sprintf("%s: %d, %s", h.Host, h.UID, same))
	}
	section("numbers elsewhere", lines)
	lines = nil
	for _, s := range p.Seen {
		lines = append(lines, "over "+s.Via+": "+shortMoment(s.At)+" from "+s.From)
	}
	section("last came in", lines)
	lines = nil
	for _, s := range p.SignIns {
		lines = append(lines, fmt.Sprintf("no. %d from %s since %s", s.ID, s.Address, shortMoment(s.Begun)))
	}
	section("is signed in", lines)
	section("owns", p.Owns)
	lines = nil
	for _, n := range p.Named {
		lines = append(lines, n.Where)
	}
	section("is named by", lines)
	section("is asked to review", p.Reviews)
	lines = nil
	for _, t := range p.Tokens {
		lines = append(lines, t.Name+" ("+t.Role+"), last day "+tokenEnds(t))
	}
	section("tokens", lines)
	if len(p.Events) > 0 {
		fmt.Fprintln(w, "\nlately")
		printEvents(w, p.Events)
	}
}

func useText(u api.Use) string {
	return fmt.Sprintf("%s in %d files and directories", limit.FormatSize(u.UsedBytes), u.UsedFiles)
}

func standingText(s api.Standing) string {
	text := fmt.Sprintf("%.0f%% of the limit of %s", s.Percent, s.Subject)
	if state := stateCell(s); state != "" {
		text += ": " + state
	}
	return text
}
