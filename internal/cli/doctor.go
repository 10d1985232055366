package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/config"
	"amber.example/gatekeeper/internal/doctor"
)

func (a *app) doctorCommand() *cli.Command {
	return a.leaf("doctor", "look for what is wrong with the machine around the service, or with the way in for a client; ends with 0 where all is well, 4 where something is to be minded, 5 where something is wrong", "", []cli.Flag{
		&cli.StringFlag{Name: "client", Usage: "go the way into a folder as this client, by address or name, and say where it ends"},
		&cli.StringFlag{Name: "folder", Usage: "that folder"},
		&cli.StringFlag{Name: "config", Usage: "file of settings, for a service that does not run", Sources: cli.EnvVars("AMBER_CONFIG"), DefaultText: defaultConfig + " where it is there"},
	}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		query := url.Values{}
		for _, name := range []string{"client", "folder"} {
			if v := cmd.String(name); v != "" {
				query.Set(name, v)
			}
		}
		var out api.Examined
		err := a.client.call(ctx, http.MethodGet, "doctor", query, nil, &out)
		var f *failure
		if errors.As(err, &f) && f.code == exitUnreachable && len(query) == 0 {
			out, err = examineHere(ctx, cmd)
			if err == nil && !cmd.Bool("json") {
				fmt.Fprintf(a.out, "no service answers at %s: this is what is seen of the machine without one\n\n", a.client.base)
			}
		}
		if err != nil {
			return err
		}
		print := printExamined
		if len(query) > 0 {
			print = printWay
		}
		if err := show(a, cmd, out, print); err != nil {
			return err
		}
		return endAs(out.State)
	})
}

// examineHere looks at the machine by what the settings say, for a service that does not run.
func examineHere(ctx context.Context, cmd *cli.Command) (api.Examined, error) {
	from := sources(cmd)
	cfg, err := config.Load(from)
	if err != nil {
		return api.Examined{}, &failure{code: exitUsage, msg: err.Error()}
	}
	subject := doctor.Subject{State: cfg.State, Ports: []doctor.Port{{Name: "console", Address: cfg.Console}, {Name: "SMB", Address: cfg.SMB}, {Name: "NFS", Address: cfg.NFS}}}
	return api.ExaminedOf(doctor.This().Examine(ctx, subject)), nil
}

// printExamined prints each finding, what is wrong first, with what to type below it.
func printExamined(w io.Writer, e api.Examined) {
	order := []string{doctor.Wrong, doctor.Mind, doctor.Well}
	slices.SortStableFunc(e.Findings, func(a, b api.StatusLine) int {
		return slices.Index(order, a.State) - slices.Index(order, b.State)
	})
	printWay(w, e)
}

// printWay prints the steps of a way in, in their order.
func printWay(w io.Writer, e api.Examined) {
	for _, f := range e.Findings {
		hung(w, fmt.Sprintf("%-8s ", f.State), f.What+": "+f.Says)
		if f.Next != "" {
			fmt.Fprintf(w, "             %s\n", f.Next)
		}
	}
}
