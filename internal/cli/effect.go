package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/plain"
)

// effectFlags makes them anew: a flag keeps what it was given.
func effectFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask before a change"},
		&cli.BoolFlag{Name: "preview", Usage: "show what a change would do to whom, and do not make it"},
		&cli.BoolFlag{Name: "names", Usage: "name everybody whom a change concerns"},
	}
}

// withFlag is for questions that can be asked as if changes had been made.
func withFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "with", Usage: `as if this had been done: "entry add plates allow orla read"; again for more`}
}

// touchesAccess says whether a route can change who may do what.
func touchesAccess(path string) bool {
	first, rest, _ := strings.Cut(path, "/")
	switch first {
	case "reviews":
		return strings.HasSuffix(rest, "/apply")
	case "users", "groups", "profiles":
		return !strings.HasSuffix(rest, "/password") && !strings.HasSuffix(rest, "/read")
	case "changes", "tokens", "journal", "limits", "entries", "rules", "inheritance", "folders", "shares", "exports", "host-sets", "server-names", "services", "mode", "owner", "arrangement", "acls":
		return true
	}
	return false
}

// isSession says whether a route is about who asks, and not about the records.
func isSession(path string) bool {
	return path == "settings/reread" || path == "log-level" || path == "backups" || path == "sign-in" || path == "sign-out" || path == "first-administrator" || path == "own-password"
}

var errRecorded = errors.New("recorded")

// change stands before every request that changes something: it shows what that would do and asks.
func (a *app) change(ctx context.Context, cmd *cli.Command, method, path string, query url.Values, in any) error {
	says := a.says
	a.says = ""
	// What asks looks first: nobody is asked about what would be turned down.
	if a.record != nil || touchesAccess(path) || (cmd.Bool("preview") || says != "") && !isSession(path) {
		changes, err := asChanges(method, path, query, in)
		if err != nil {
			return err
		}
		if a.record != nil {
			*a.record = append(*a.record, changes...)
			return errRecorded
		}
		var e api.Effect
		if err := a.client.send(ctx, http.MethodPost, "preview", nil, api.ChangesBody{Changes: changes}, &e); err != nil {
			return alone(err)
		}
		if cmd.Bool("preview") {
			if err := show(a, cmd, e, func(w io.Writer, e api.Effect) { printEffect(w, e, cmd.Bool("names")) }); err != nil {
				return err
			}
			return errRecorded
		}
		if len(e.Changes)+len(e.Powers)+len(e.Warnings)+len(e.Fixed) > 0 || e.Added+e.Removed > 1 {
			printEffect(a.err, spelled(e), cmd.Bool("names"))
			if says == "" && (slices.ContainsFunc(e.Changes, func(c api.EffectOnPath) bool { return !attributesOnly(c) }) || len(e.Powers) > 0 || grave(e.Warnings) || e.Removed > 1) {
				says = "That is what it does."
			}
		}
	}
	return a.goOn(cmd, says)
}

// goOn asks whether what is said is to be done.
func (a *app) goOn(cmd *cli.Command, says string) error {
	if says == "" || cmd.Bool("yes") {
		return nil
	}
	if !a.terminal {
		return &failure{code: exitUsage, msg: says + " Nothing was done: say --yes, since there is no terminal to ask at."}
	}
	fmt.Fprint(a.err, plain.Text(says), " Go on? [y/N] ")
	if !a.yes() {
		return &failure{code: exitFailed, msg: "nothing was done"}
	}
	return nil
}

// yes reads an answer, and says whether it is one.
func (a *app) yes() bool {
	line, err := bufio.NewReader(a.in).ReadString('\n')
	return (err == nil || line != "") && strings.EqualFold(strings.TrimSpace(line), "y")
}

// grave says whether a warning wants an answer.
func grave(warnings []api.Finding) bool {
	return slices.ContainsFunc(warnings, func(f api.Finding) bool { return f.Severity != "low" })
}

// asChanges is a request as what can be tried out.
func asChanges(method, path string, query url.Values, in any) ([]api.Change, error) {
	if set, ok := in.(api.ChangesBody); ok {
		return set.Changes, nil
	}
	c, ok, err := api.AsChange(method, path, query, in)
	if err != nil {
		return nil, usage("%v", err)
	}
	if !ok {
		return nil, usage("that cannot be tried out beforehand")
	}
	return []api.Change{c}, nil
}

// alone says what is wrong with the only change of a set as its own route would.
func alone(err error) error {
	if f := (*failure)(nil); errors.As(err, &f) {
		f.msg = inSet.ReplaceAllString(f.msg, "")
	}
	return err
}

var inSet = regexp.MustCompile(`changes\[\d+\]\.(with|of)\.?`)

// confirm says what is about to happen; the question comes with what it does to whom.
func (a *app) confirm(_ *cli.Command, effect string) error {
	a.says = effect
	return nil
}

func people(n int) string { return plain.Counted(n, "person", "people") }

// printEffect says first how many gain and lose, then where, then who.
func printEffect(w io.Writer, e api.Effect, names bool) {
	if e.Added+e.Removed > 1 {
		fmt.Fprintf(w, "%d entries written, %d gone.\n", e.Added, e.Removed)
	}
	switch {
	case len(e.Changes)+len(e.Powers) == 0 && len(e.Whence) > 0:
		fmt.Fprintln(w, "What people may do where they are let in stays as it is.")
	case len(e.Changes)+len(e.Powers) == 0:
		fmt.Fprintln(w, "Nobody gains or loses anything.")
	case e.Gain+e.Lose == 0:
		fmt.Fprintln(w, "Nobody gains or loses rights on any path.")
	case e.Lose == 0:
		fmt.Fprintf(w, "%s gain%s.\n", people(e.Gain), verbEnd(e.Gain))
	case e.Gain == 0:
		fmt.Fprintf(w, "%s lose%s.\n", people(e.Lose), verbEnd(e.Lose))
	default:
		fmt.Fprintf(w, "%s gain%s, %s lose%s.\n", people(e.Gain), verbEnd(e.Gain), people(e.Lose), verbEnd(e.Lose))
	}
	var attributes []api.EffectOnPath // where nothing but seeing that something is there becomes other
	e.Changes = slices.DeleteFunc(slices.Clone(e.Changes), func(c api.EffectOnPath) bool {
		if attributesOnly(c) {
			attributes = append(attributes, c)
			return !names
		}
		return false
	})
	if len(e.Changes) > 0 {
		t := newTable("", "path", "was", "becomes", "for")
		t.wrapAll = true
		for i, c := range e.Changes {
			if i == mostShown && !names {
				t.row("", fmt.Sprintf("and %d more; --names lists them all", len(e.Changes)-i), "", "", "")
				break
			}
			mark := "loses"
			switch {
			case c.Gains && c.Loses:
				mark = "both"
			case c.Gains:
				mark = "gains"
			}
			at := c.Path
			if c.Objects != "" {
				at += ": " + c.Objects
			}
			t.row(mark, at, c.Was.Text, c.Is.Text, nameSome(c.People, c.Count, names))
		}
		t.print(w)
	}
	if len(attributes) > 0 && !names {
		var at []string
		for _, c := range attributes {
			if !slices.Contains(at, c.Path) {
				at = append(at, c.Path)
			}
		}
		hung(w, "", fmt.Sprintf("Attributes alone become visible or hidden on %s (--names shows to whom).", nameSome(at, len(at), false)))
	}
	for i, p := range e.Powers {
		if i == mostShown && !names {
			fmt.Fprintf(w, "And %d more; --names lists them all.\n", len(e.Powers)-i)
			break
		}
		fmt.Fprintln(w, p.Says+".")
	}
	for _, says := range e.Whence {
		for i, line := range wrap(strings.ToUpper(says[:1])+says[1:]+".", tableWidth-2) {
			fmt.Fprintln(w, strings.Repeat("  ", min(i, 1))+line)
		}
	}
	someOf(w, e.Warnings, names, func(f api.Finding) {
		for i, line := range wrap(fmt.Sprintf("Mind: %s: %s: %s.", f.Kind, f.Subject, f.Says), tableWidth-2) {
			fmt.Fprintln(w, strings.Repeat("  ", min(i, 1))+line)
		}
		for _, m := range f.Fix {
			if !strings.Contains(m, " remove ") { // what is not there yet need not be removed
				fmt.Fprintln(w, "   ", m)
			}
		}
	})
	someOf(w, e.Fixed, names, func(f api.Finding) { fmt.Fprintf(w, "Fixes: %s: %s.\n", f.Kind, f.Subject) })
}

// attributesOnly says whether a change is about seeing that something is there and no more.
func attributesOnly(c api.EffectOnPath) bool {
	return c.Was.Text == "nothing" && strings.HasPrefix(c.Is.Text, "nothing (")
}

// someOf prints the first few findings of each kind, and how many more there are; or all.
func someOf(w io.Writer, findings []api.Finding, all bool, print func(api.Finding)) {
	shown := make(map[string]int)
	for _, f := range findings {
		if shown[f.Kind]++; all || shown[f.Kind] <= mostAlike {
			print(f)
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(shown)) {
		if more := shown[kind] - mostAlike; more > 0 && !all {
			fmt.Fprintf(w, "And %d more of the kind: %s. --names lists them all.\n", more, kind)
		}
	}
}

// mostAlike is how many findings of a kind are shown where not all are asked for.
const mostAlike = 3

const mostShown = 20

func verbEnd(n int) string {
	if n == 1 {
		return "s"
	}
	return ""
}

func nameSome(names []string, count int, all bool) string {
	const most = 4
	if all || count <= most {
		s := strings.Join(names, ", ")
		if count > len(names) {
			s += fmt.Sprintf(" and %d more", count-len(names))
		}
		return s
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most-1], ", "), count-most+1)
}

// question asks a route of the audit, as if the changes of --with had been made.
func question[T any](ctx context.Context, a *app, cmd *cli.Command, path string, query url.Values, text func(w io.Writer, v T)) error {
	var changes []api.Change
	for _, line := range cmd.StringSlice("with") {
		req, err := a.recorded(ctx, cmd, "--with ", line)
		if err != nil {
			return err
		}
		changes = append(changes, req...)
	}
	if len(changes) == 0 {
		return ask(ctx, a, cmd, http.MethodGet, path, query, nil, text)
	}
	return ask(ctx, a, cmd, http.MethodPost, "as-if", nil, map[string]any{"changes": changes, "ask": path + "?" + query.Encode()}, text)
}

// recorded runs a command as far as the request that would change something.
func (a *app) recorded(ctx context.Context, cmd *cli.Command, by, line string) ([]api.Change, error) {
	words, err := words(line)
	if err != nil {
		return nil, err
	}
	if len(words) > 0 && words[0] == "amber" {
		words = words[1:]
	}
	var got []api.Change
	inner := &app{in: a.in, out: io.Discard, err: io.Discard, record: &got}
	err = inner.root().Run(aside{ctx}, append([]string{"amber", "--url", cmd.String("url")}, words...))
	if len(got) > 0 {
		return got, nil
	}
	var f *failure
	if errors.As(err, &f) {
		return nil, &failure{code: exitUsage, msg: fmt.Sprintf("%s%q: %s", by, line, f.msg), next: f.next}
	}
	return nil, usage("%s%q changes nothing", by, line)
}

// aside is a context without what the outer command keeps in it.
type aside struct{ context.Context }

func (aside) Value(any) any { return nil }

// words parts a line as a shell does, as far as quotes and backslashes go.
func words(line string) ([]string, error) {
	var out []string
	var at strings.Builder
	open, any := rune(0), false
	escaped := false
	for _, r := range line {
		switch {
		case escaped:
			at.WriteRune(r)
			escaped = false
		case r == '\\' && open != '\'':
			escaped, any = true, true
		case open != 0 && r == open:
			open = 0
		case open == 0 && (r == '\'' || r == '"'):
			open, any = r, true
		case open == 0 && (r == ' ' || r == '\t'):
			if any {
				out = append(out, at.String())
			}
			at.Reset()
			any = false
		default:
			at.WriteRune(r)
			any = true
		}
	}
	if open != 0 || escaped {
		return nil, usage("%q has a quote that is not closed", line)
	}
	if any {
		out = append(out, at.String())
	}
	return out, nil
}
