package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/plain"
)

// resource is a kind of thing that commands list, show, change and remove, described once. T is how the API answers one.
type resource[T any] struct {
	one, many string // "host set" and "host sets"
	route     string // below /api/v1, with a slash at its end
	arg       string // what stands for one in the help
	escape    func(name string) string

	head     []string // of its table
	row      func(v T) []string
	wrapLast bool
	empty    string                      // said in the place of a table without rows
	below    func(w io.Writer, all []T)  // what comes under the table; may be nil
	print    func(w io.Writer, v T)      // one of them
	labels   func(v T) map[string]string // what it is marked with; nil for what has no labels
	removes  string                      // what removing one does, with %s for its name
	now      bool                        // there is nothing to be told of them as they were
}

func (r resource[T]) at(name string) string {
	if r.escape != nil {
		return r.route + r.escape(name)
	}
	return r.route + escape(name)
}

func (r resource[T]) collection() string { return strings.TrimSuffix(r.route, "/") }

func (r resource[T]) table(w io.Writer, all []T) {
	head := r.head
	if r.labels != nil {
		head = append(slices.Clip(head), "labels")
	}
	t := newTable(head...)
	t.empty, t.wrapLast = r.empty, r.wrapLast
	for _, v := range all {
		row := r.row(v)
		if r.labels != nil {
			row = append(row, labelText(r.labels(v)))
		}
		t.row(row...)
	}
	t.print(w)
	if r.below != nil {
		r.below(w, all)
	}
}

// listFlags are those of every list of records.
func listFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "match", Usage: "only those in whose name or description this stands"},
		&cli.StringFlag{Name: "sort", Usage: "by name, or by another column of the table", DefaultText: "as they were made"},
		&cli.BoolFlag{Name: "reverse", Usage: "the other way round"},
		&cli.IntFlag{Name: "top", Usage: "only so many"},
	}
}

// listQuery is what those say.
func listQuery(cmd *cli.Command) (url.Values, error) {
	q := url.Values{}
	given(cmd, q.Set, "match", "sort")
	if labels := cmd.StringSlice("label"); len(labels) > 0 {
		q["label"] = labels
	}
	if cmd.Bool("reverse") {
		by := q.Get("sort")
		if by == "" {
			by = "name"
		}
		q.Set("sort", "-"+by)
	}
	if n := cmd.Int("top"); cmd.IsSet("top") {
		if n < 1 {
			return nil, usage("--top %d is not a number of rows", n)
		}
		q.Set("limit", strconv.Itoa(n))
	}
	return q, nil
}

// markFlag gives a record labels.
func markFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "mark", Usage: "give it the label KEY=VALUE, or take one away with KEY=; again for more"}
}

// fillLabels puts what it says into what the API takes.
func fillLabels(cmd *cli.Command, b body) error {
	labels := make(map[string]string)
	for _, text := range cmd.StringSlice("mark") {
		key, value, ok := strings.Cut(text, "=")
		if !ok || key == "" {
			return usage("--mark takes KEY=VALUE, or KEY= to take one away, not %q", text)
		}
		labels[key] = value
	}
	if len(labels) > 0 {
		b["labels"] = labels
	}
	return nil
}

func labelText(labels map[string]string) string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(labels)) {
		out = append(out, key+"="+labels[key])
	}
	return strings.Join(out, ", ")
}

// labelledBy has a command be about what is marked so.
func labelledBy() cli.Flag {
	return &cli.StringSliceFlag{Name: "label", Usage: "only those marked with KEY=VALUE, or with KEY; again for more"}
}

// several is what a command takes that is for one, for several, or for those with a label.
func (r resource[T]) several() string {
	if r.labels == nil {
		return r.arg + "..."
	}
	return "[" + r.arg + "...]"
}

// chosen are those that a command names, or that have the labels it says: then it is asked before anything is done to them.
func (r resource[T]) chosen(ctx context.Context, a *app, cmd *cli.Command, args []string) ([]string, error) {
	switch {
	case r.labels == nil || len(args) > 0 && !cmd.IsSet("label"):
		return args, nil
	case len(args) > 0:
		return nil, usage("name the %s, or say by which label they are found; not both", r.many)
	case !cmd.IsSet("label"):
		return nil, usage("say which %s: by name, or by --label KEY=VALUE", r.one)
	}
	var all []T
	if err := a.client.call(ctx, http.MethodGet, r.collection(), url.Values{"label": cmd.StringSlice("label"), "sort": {"name"}}, nil, &all); err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, &failure{code: exitFailed, msg: fmt.Sprintf("no %s is marked so", r.one)}
	}
	names := make([]string, len(all))
	for i, v := range all {
		names[i] = r.row(v)[0]
	}
	return names, nil
}

const mostNamed = 3 // in a question about several

// count says how many there are of what a command is about, and begins to name them.
func (r resource[T]) count(names []string) string {
	if len(names) == 1 {
		return "1 " + r.one + ", " + names[0]
	}
	return fmt.Sprintf("%d %s, %s", len(names), r.many, fewOf(names))
}

// fewOf names some, or all where there are few.
func fewOf(names []string) string {
	if len(names) > mostNamed+1 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:mostNamed], ", "), len(names)-mostNamed)
	}
	return strings.Join(names, ", ")
}

// list is the command that lists them.
func (r resource[T]) list(a *app, text string) *cli.Command {
	flags := listFlags()
	if r.labels != nil {
		flags = append(flags, labelledBy())
	}
	if !r.now {
		flags = append(flags, atFlag())
	}
	return a.leaf("list", text, "", flags, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		q, err := listQuery(cmd)
		if err != nil {
			return err
		}
		if err := setAt(cmd, q); err != nil {
			return err
		}
		var all []T
		if err := a.client.call(ctx, http.MethodGet, r.collection(), q, nil, &all); err != nil {
			return err
		}
		return show(a, cmd, all, func(w io.Writer, all []T) {
			if len(all) == 0 && (cmd.IsSet("match") || cmd.IsSet("label")) {
				fmt.Fprintf(w, "no %s of which that is so\n", r.many)
				return
			}
			r.table(w, all)
		})
	})
}

// show is the command that shows one, or several.
func (r resource[T]) show(a *app, text string) *cli.Command {
	return a.leaf("show", text, r.arg+"...", []cli.Flag{atFlag()}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		return r.shown(ctx, a, cmd, args)
	})
}

func (r resource[T]) shown(ctx context.Context, a *app, cmd *cli.Command, names []string) error {
	all := make([]T, len(names))
	q := url.Values{}
	if cmd.Name == "show" {
		if err := setAt(cmd, q); err != nil {
			return err
		}
	}
	for i, name := range names {
		if err := a.client.call(ctx, http.MethodGet, r.at(name), q, nil, &all[i]); err != nil {
			return err
		}
	}
	if len(all) == 1 {
		return show(a, cmd, all[0], r.print)
	}
	return show(a, cmd, all, func(w io.Writer, all []T) {
		for i, v := range all {
			if i > 0 {
				fmt.Fprintln(w)
			}
			r.print(w, v)
		}
	})
}

// listed shows some of them as the list does.
func (r resource[T]) listed(ctx context.Context, a *app, cmd *cli.Command, names []string) error {
	var all []T
	if err := a.client.call(ctx, http.MethodGet, r.collection(), url.Values{"sort": {"name"}}, nil, &all); err != nil {
		return err
	}
	which := make(map[string]bool, len(names))
	for _, name := range names {
		which[name] = true
	}
	return show(a, cmd, slices.DeleteFunc(all, func(v T) bool { return !which[r.row(v)[0]] }), r.table)
}

// set is the command that changes one, or several as one change. fill says what is to change; hint is an example of what can.
func (r resource[T]) set(a *app, text, hint string, flags []cli.Flag, fill func(cmd *cli.Command, b body) error) *cli.Command {
	if r.labels != nil {
		flags = append(flags, markFlag(), labelledBy())
	}
	return a.leaf("set", text+", or several as one change", r.several(), flags, func(ctx context.Context, cmd *cli.Command, args []string) error {
		b := body{}
		if err := fill(cmd, b); err != nil {
			return err
		}
		if r.labels != nil {
			if err := fillLabels(cmd, b); err != nil {
				return err
			}
		}
		if len(b) == 0 {
			return usage("nothing to change: say %s", hint)
		}
		byLabel := len(args) == 0
		args, err := r.chosen(ctx, a, cmd, args)
		if err != nil {
			return err
		}
		if byLabel {
			if cmd.Bool("preview") {
				fmt.Fprintf(a.err, "This would change %s.\n", r.count(args))
			}
			if err := a.confirm(cmd, "This changes "+r.count(args)+"."); err != nil {
				return err
			}
		}
		if len(args) == 1 {
			return ask(ctx, a, cmd, http.MethodPatch, r.at(args[0]), nil, b, r.print)
		}
		for _, own := range []string{"name", "at", "path", "uid", "gid"} {
			if cmd.IsSet(own) {
				return usage("--%s is for one %s at a time", own, r.one)
			}
		}
		var set api.ChangesBody
		for _, name := range args {
			changes, err := asChanges(http.MethodPatch, r.at(name), nil, b)
			if err != nil {
				return err
			}
			set.Changes = append(set.Changes, changes...)
		}
		if err := a.client.call(ctx, http.MethodPost, "changes", nil, set, nil); err != nil {
			return err
		}
		if byLabel {
			return r.listed(ctx, a, cmd, args)
		}
		return r.shown(ctx, a, cmd, args)
	})
}

// remove is the command that removes one, or several as one change.
func (r resource[T]) remove(a *app) *cli.Command {
	var flags []cli.Flag
	if r.labels != nil {
		flags = append(flags, labelledBy())
	}
	return a.leaf("remove", "remove "+plain.WithArticle(r.one)+", or several as one change", r.several(), flags, func(ctx context.Context, cmd *cli.Command, args []string) error {
		args, err := r.chosen(ctx, a, cmd, args)
		if err != nil {
			return err
		}
		if err := a.confirm(cmd, fmt.Sprintf(r.removes, fewOf(args))); err != nil {
			return err
		}
		if err := a.callAll(ctx, http.MethodDelete, args, nil, r.at); err != nil {
			return err
		}
		return a.done(cmd, "removed %s %s", r.one, fewOf(args))
	})
}

// callAll calls a route for each of some names, as one change where there are several.
func (a *app) callAll(ctx context.Context, method string, names []string, query url.Values, route func(name string) string) error {
	if len(names) == 1 {
		return a.client.call(ctx, method, route(names[0]), query, nil, nil)
	}
	var set api.ChangesBody
	for _, name := range names {
		changes, err := asChanges(method, route(name), query, nil)
		if err != nil {
			return err
		}
		set.Changes = append(set.Changes, changes...)
	}
	return a.client.call(ctx, http.MethodPost, "changes", nil, set, nil)
}
