package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
)

func (a *app) statusCommand() *cli.Command {
	return a.leaf("status", "say how the service stands; ends with 0 where all is well, 4 where something is to be minded, 5 where something is wrong", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		var st api.Status
		if err := a.client.call(ctx, http.MethodGet, "status", nil, nil, &st); err != nil {
			return err
		}
		if err := show(a, cmd, st, printStatus); err != nil {
			return err
		}
		return endAs(st.State)
	})
}

// endAs ends a command by how something stands.
func endAs(state string) error {
	switch state {
	case "to mind":
		return &failure{code: exitMind, msg: "something is to be minded"}
	case "wrong":
		return &failure{code: exitWrong, msg: "something is wrong"}
	}
	return nil
}

func printStatus(w io.Writer, st api.Status) {
	fmt.Fprintf(w, "amber %s, since %s: %s\n\n", st.Version, shortMoment(st.Since), st.State)
	printLines(w, st.Lines)
}

// printLines prints how things stand, one by one.
func printLines(w io.Writer, lines []api.StatusLine) {
	t := newTable("what", "is", "", "next")
	for _, l := range lines {
		next := ""
		if l.State != "well" {
			next = l.Next
		}
		t.row(l.What, l.State, l.Says, next)
	}
	t.print(w)
}
