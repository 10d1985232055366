package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
)

func (a *app) whyCommand() *cli.Command {
	return a.leaf("why", "explain what a user may do to a path, gate by gate; over NFS, USER may be a bare uid", "USER PATH", []cli.Flag{
		&cli.StringFlag{Name: "via", Usage: "smb or nfs", Value: "smb"},
		&cli.StringFlag{Name: "want", Usage: "a level (pass, read, add, change, control) or access rights with commas between: delete,write_acl", Value: "read"},
		&cli.StringFlag{Name: "share", Usage: "which of the folder's shares, or exports, if not the one that leaves most"},
		&cli.StringFlag{Name: "from", Usage: "from which address, or host; over SMB it matters for shares that are kept to hosts"},
		&cli.IntFlag{Name: "port", Usage: "over NFS: from which source port", DefaultText: "a privileged one"},
		atFlag(), withFlag(),
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		q := url.Values{"user": {args[0]}, "path": {args[1]}, "via": {cmd.String("via")}, "want": {cmd.String("want")}}
		given(cmd, q.Set, "share", "from")
		if cmd.IsSet("port") {
			q.Set("port", strconv.Itoa(cmd.Int("port")))
		}
		if err := setAt(cmd, q); err != nil {
			return err
		}
		return question(ctx, a, cmd, "why", q, printWhy)
	})
}

func printWhy(w io.Writer, y api.Why) {
	via := strings.ToUpper(y.Via)
	switch {
	case y.Share != "" && y.Via == "nfs":
		via += ", export " + y.Share
	case y.Share != "":
		via += ", share " + y.Share
	}
	if y.From != "" {
		via += ", from " + y.From
	}
	kind := "directory"
	if y.File {
		kind = "file"
	}
	if !y.Exists {
		kind = "not on disk; as a directory there"
	}
	fmt.Fprintf(w, "%s, %s on %s (%s), over %s\n\n", y.User, y.Want, y.Path, kind, via)
	if y.Allowed {
		fmt.Fprintf(w, "ALLOWED. All gates together leave %s.\n\n", y.Granted)
	} else {
		fmt.Fprintf(w, "REFUSED at the %s gate. All gates together leave %s.\n\n", y.Gate, y.Granted)
	}
	if y.Away != "" {
		hung(w, "", "The volume is away ("+y.Away+"): until it is back, everybody is answered with an error.")
		fmt.Fprintln(w)
	}
	t := newTable("", "gate", "leaves", "decided by", "why")
	t.wrapLast = true
	for _, g := range y.Gates {
		mark := "ok"
		if !g.Passed {
			mark = "NO"
		}
		t.row(mark, g.Gate, g.Leaves, g.Record, g.Reason)
	}
	t.print(w)
	var fix, touches []string
	for _, g := range y.Gates {
		fix, touches = append(fix, g.Fix...), append(touches, g.Touches...)
	}
	if len(fix) > 0 && !y.Allowed {
		fmt.Fprintf(w, "\nTo allow it:\n")
		for _, m := range fix {
			fmt.Fprintf(w, "  %s\n", m)
		}
		for _, t := range touches {
			hung(w, "Mind: ", t)
		}
	}
	if len(y.Take) > 0 {
		fmt.Fprintf(w, "\nTo take it away:\n")
		for _, m := range y.Take {
			fmt.Fprintf(w, "  %s\n", m)
		}
	}
}
