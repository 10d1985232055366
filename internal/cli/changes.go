package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
)

// undoCommand takes back what was changed.
func (a *app) undoCommand() *cli.Command {
	c := a.leaf("undo", "take back what rows of the journal changed, as one change; without a row, your last change", "[ROW...]", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
		body := struct {
			Rows []int64 `json:"rows,omitempty"`
		}{}
		for _, text := range args {
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil || n < 1 {
				return usage("%q is no number of a row", text)
			}
			body.Rows = append(body.Rows, n)
		}
		var done api.Undone
		if err := a.client.call(ctx, http.MethodPost, "journal/undo", nil, body, &done); err != nil {
			return err
		}
		return show(a, cmd, done, func(w io.Writer, done api.Undone) {
			for _, r := range done.Rows {
				text := fmt.Sprintf("taken back: row %d, %s", r.Row, r.Action)
				if r.Subject != "" {
					text += " on " + r.Subject
				}
				hung(w, "", text)
			}
		})
	})
	c.Description = "What others have changed since stays. Where their rows are in the way, they are named, and can be taken back as well. What was removed comes back as it was, " +
		"with its number, and a user with their password for ninety days. An undo is a change like any other, and can be taken back."
	return c
}

// togetherCommand makes several changes as one.
func (a *app) togetherCommand() *cli.Command {
	c := a.leaf("together", "make the changes of several commands as one, or none of them", "[COMMAND...]", []cli.Flag{
		&cli.StringFlag{Name: "file", Usage: "take commands from this file as well, one a line; - for the input"},
		&cli.Int64Flag{Name: "as-of", Usage: "only if nothing has been changed after this row of the journal"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		lines := args
		if name := cmd.String("file"); name != "" {
			more, err := a.linesOf(name)
			if err != nil {
				return err
			}
			lines = append(lines, more...)
		}
		body := api.ChangesBody{AsOf: cmd.Int64("as-of")}
		for _, line := range lines {
			changes, err := a.recorded(ctx, cmd, "", line)
			if err != nil {
				return err
			}
			body.Changes = append(body.Changes, changes...)
		}
		if len(body.Changes) == 0 {
			return usage("name the commands whose changes are to be made, such as 'entry add plates allow orla read'")
		}
		var made api.ChangesMade
		if err := a.client.call(ctx, http.MethodPost, "changes", nil, body, &made); err != nil {
			return err
		}
		return show(a, cmd, made, func(w io.Writer, made api.ChangesMade) {
			fmt.Fprintf(w, "made as one: %d change%s, row %d of the journal\n", made.Made, plural(made.Made), made.Row)
		})
	})
	c.Description = "Each command is a word of its own, in quotes. They are made in their order, each as of after those before."
	return c
}

func plural(n int) string {
	if n == 1 {
		return ""
	}
	return "s"
}

// linesOf reads commands from a file; empty lines and those that begin with # are passed over.
func (a *app) linesOf(name string) (out []string, err error) {
	from := io.Reader(a.in)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, usage("%s cannot be read", name)
		}
		defer f.Close()
		from = f
	}
	scan := bufio.NewScanner(io.LimitReader(from, 4<<20))
	scan.Buffer(nil, 64<<10)
	for scan.Scan() {
		if line := strings.TrimSpace(scan.Text()); line != "" && !strings.HasPrefix(line, "#") {
			out = append(out, line)
		}
	}
	if scan.Err() != nil {
		return nil, usage("%s has a line that is longer than a command can be", name)
	}
	return out, nil
}
