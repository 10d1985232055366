package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
)

func leadFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "lead", Usage: `where a share that is called SHARE there is now, as SHARE=TO: a share here, or \\SERVER\SHARE; SHARE= takes that back; again for more`}
}

// leads reads what is said by them.
func leads(cmd *cli.Command) (out []api.Lead, err error) {
	for _, said := range cmd.StringSlice("lead") {
		share, to, ok := strings.Cut(said, "=")
		if !ok || share == "" {
			return nil, usage(`--lead is SHARE=TO, as in --lead data=plates`)
		}
		out = append(out, api.Lead{Share: share, To: to})
	}
	return out, nil
}

func (a *app) serverNameCommands() []*cli.Command {
	return []*cli.Command{group("server-name", "other names by which clients reach the server over SMB",
		a.leaf("add", "have the server be reached by another name", "NAME", []cli.Flag{
			&cli.StringFlag{Name: "description", Usage: "whose name it was"}, leadFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			to, err := leads(cmd)
			if err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPost, "server-names", nil, api.NewServerName{Name: args[0], Description: cmd.String("description"), Leads: to}, printServerName)
		}),
		serverNames.list(a, "list the other names of the server"), serverNames.show(a, "show where another name leads"), serverNames.remove(a),
		serverNames.set(a, "change another name of the server", "--lead, --name or --description", []cli.Flag{
			nameFlag(), &cli.StringFlag{Name: "description", Usage: "whose name it was"}, leadFlag(),
		}, func(cmd *cli.Command, b body) error {
			given(cmd, b.put, "name", "description")
			to, err := leads(cmd)
			if len(to) > 0 {
				b["leads"] = to
			}
			return err
		}),
	)}
}

var serverNames = resource[api.ServerName]{
	one: "server name", many: "server names", route: "server-names/", arg: "NAME",
	head: []string{"name", "leads", "description"}, empty: "the server has no other names: amber server-name add NAME",
	row: func(n api.ServerName) []string {
		var to []string
		for _, l := range n.Leads {
			to = append(to, l.Share+" to "+l.To)
		}
		return []string{n.Name, strings.Join(to, ", "), n.Description}
	},
	print: printServerName, removes: "Clients that use the name %s are no longer led anywhere by it.",
}

func printServerName(w io.Writer, n api.ServerName) {
	fields(w, "server name", n.Name, "description", n.Description)
	if len(n.Leads) == 0 {
		fmt.Fprintln(w, "Each share is the one of the same name here.")
		return
	}
	fmt.Fprintln(w)
	t := newTable("share there", "is now")
	for _, l := range n.Leads {
		to := "share " + l.To
		if l.Elsewhere {
			to = l.To
		}
		t.row(l.Share, to)
	}
	t.print(w)
	fmt.Fprintln(w, "Every other share is the one of the same name here.")
}
