package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
)

func (a *app) tryCommand() *cli.Command {
	return a.leaf("try", "go in as a user by the wire itself, and hold what comes back against the audit", "USER PATH", []cli.Flag{
		&cli.StringFlag{Name: "via", Usage: "smb or nfs", DefaultText: "each by which the folder is published"},
		&cli.StringFlag{Name: "from", Usage: "as if from this host: an address or a name", DefaultText: "over NFS one that a client rule names"},
		&cli.BoolFlag{Name: "look", Usage: "make nothing: only look"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		b := body{"user": args[0], "path": args[1]}
		given(cmd, b.put, "via", "from")
		if cmd.Bool("look") {
			b["look"] = true
		}
		var t api.TriedOut
		if err := a.client.call(ctx, http.MethodPost, "try", nil, b, &t); err != nil {
			return err
		}
		if err := show(a, cmd, t, printTriedOut); err != nil {
			return err
		}
		if !t.Agrees {
			return &failure{code: exitFailed, msg: "the wire and the audit differ"}
		}
		return nil
	})
}

func printTriedOut(w io.Writer, t api.TriedOut) {
	for i, way := range t.Ways {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s on %s, over %s by %s, as if from %s\n\n", t.User, t.Path, strings.ToUpper(way.Via), way.Through, way.From)
		table := newTable("", "what", "came of it", "the audit says")
		table.wrapLast = true
		for _, s := range way.Steps {
			mark, came, says := "ok", "done", "it may"
			if !s.Done {
				mark, came = "NO", s.Says
			}
			if !s.Expected {
				says = "refused"
				if s.Gate != "" {
					says += " at the " + s.Gate + " gate"
				}
				if s.Reason != "" {
					says += ": " + s.Reason
				}
			}
			if s.Done != s.Expected {
				mark = "??"
			}
			table.row(mark, s.Does, came, says)
		}
		table.print(w)
		if way.Left != "" {
			hung(w, "Mind: ", way.Left+".")
		}
	}
	if t.Agrees {
		fmt.Fprintln(w, "\nAll of it went as the audit says.")
	}
}

func (a *app) linkCommand() *cli.Command {
	return a.leaf("link", "print where in the console a path is shown", "PATH", []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "why this user may, or may not, instead"},
		&cli.StringFlag{Name: "via", Usage: "with --user: smb or nfs", Value: "smb"},
		&cli.StringFlag{Name: "want", Usage: "with --user: pass, read, add, change or control", Value: "read"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		var at api.Place // the path as it stands on disk
		if err := a.client.call(ctx, http.MethodGet, "entries", url.Values{"path": {args[0]}}, nil, &at); err != nil {
			return err
		}
		folder, below, _ := strings.Cut(at.Path, "/")
		to := *a.client.base
		to.Path = "/folders/" + folder
		q := url.Values{}
		switch {
		case cmd.IsSet("user"):
			to.Path = "/why"
			q = url.Values{"user": {cmd.String("user")}, "path": {at.Path}, "via": {cmd.String("via")}, "want": {cmd.String("want")}}
		case below != "":
			q = url.Values{"tab": {"browse"}, "in": {below}}
		}
		to.RawQuery = q.Encode()
		return show(a, cmd, linkTo{to.String()}, func(w io.Writer, l linkTo) { fmt.Fprintln(w, l.Link) })
	})
}

type linkTo struct {
	Link string `json:"link"`
}
