package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/service"
)

func (a *app) leaveCommand() *cli.Command {
	return a.leaf("leave", "have somebody leave: the account ends, and what names them goes or passes to another; shown first, and asked", "NAME", []cli.Flag{
		&cli.StringFlag{Name: "on", Usage: "on this day, which is the last, or at a time; until then all stays as it is", DefaultText: "now"},
		&cli.StringFlag{Name: "to", Usage: "who succeeds them: entries, ownership and reviews pass to this user", DefaultText: "nobody"},
		&cli.BoolFlag{Name: "files", Usage: "what they own on disk passes to the successor as well, by a job"},
		&cli.StringFlag{Name: "hold", Usage: "or is kept in this folder, in a directory of their name, by a job"},
		&cli.StringFlag{Name: "until", Usage: "the last day on which it is kept; then a finding says so", DefaultText: "for good"},
		&cli.BoolFlag{Name: "stay", Usage: "take back that they are to leave"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		at := "users/" + escape(args[0]) + "/leaving"
		if cmd.Bool("stay") {
			if err := a.client.call(ctx, http.MethodDelete, at, nil, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "%s stays", args[0])
		}
		b := body{}
		given(cmd, b.put, "to", "hold")
		if cmd.Bool("files") {
			b["files"] = true
		}
		for _, flag := range []string{"on", "until"} {
			if !cmd.IsSet(flag) {
				continue
			}
			t, err := endDate(cmd.String(flag))
			if err != nil || t.IsZero() {
				return usage("--%s takes a day such as 2026-12-31, or a time such as 2026-12-31T18:00:00Z, not %q", flag, cmd.String(flag))
			}
			b[flag] = t
		}
		var plan service.Departure
		if err := a.client.send(ctx, http.MethodPost, at+"/read", nil, b, &plan); err != nil {
			return err
		}
		if !cmd.Bool("json") {
			printDeparture(a.err, plan)
			fmt.Fprintln(a.err)
		}
		if err := a.confirm(cmd, "This is what leaving does."); err != nil {
			return err
		}
		return ask(ctx, a, cmd, http.MethodPost, at, nil, b, func(w io.Writer, d service.Departure) {
			switch {
			case d.Planned:
				fmt.Fprintf(w, "%s leaves at %s. It is taken back with amber user leave %s --stay\n", d.User, d.On.Local().Format("2 Jan 2006 15:04"), d.User)
			case d.Job != 0:
				fmt.Fprintf(w, "%s has left. Job %d sees to what they own on disk: amber job wait %d\n", d.User, d.Job, d.Job)
			default:
				fmt.Fprintf(w, "%s has left.\n", d.User)
			}
		})
	})
}

func (a *app) holdingCommand() *cli.Command {
	return group("holding", "what is kept of people who left",
		a.leaf("list", "list what is kept, and until when", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "holdings", nil, nil, func(w io.Writer, all []api.Holding) {
				t := newTable("of", "uid", "where", "since", "until")
				t.empty = "nothing is kept of anybody: amber user leave NAME --hold FOLDER --until DAY"
				for _, h := range all {
					until := "for good"
					if h.Until != nil {
						until = lastDay(*h.Until)
					}
					t.row(h.Of, fmt.Sprint(h.UID), h.Where, shortMoment(h.Since), until)
				}
				t.print(w)
			})
		}),
		a.leaf("set", "keep it until another day", "NAME", []cli.Flag{
			&cli.StringFlag{Name: "until", Usage: "the last day on which it is kept, or never for good"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			t, err := endDate(cmd.String("until"))
			if err != nil || !cmd.IsSet("until") {
				return usage("--until takes a day such as 2026-12-31, or never")
			}
			b := body{}
			if !t.IsZero() {
				b["until"] = t
			}
			if err := a.client.call(ctx, http.MethodPatch, "holdings/"+escape(args[0]), nil, b, nil); err != nil {
				return err
			}
			return a.done(cmd, "what %s left is kept until then", args[0])
		}),
		a.leaf("remove", "remove it, from disk as well, by a job; that is not taken back", "NAME", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.onDisk(cmd, "This removes what "+args[0]+" left from disk, for good."); err != nil {
				return err
			}
			return a.beginBy(ctx, cmd, http.MethodDelete, "holdings/"+escape(args[0]), nil)
		}),
	)
}

// onDisk asks about what a job does on disk, which is not tried out.
func (a *app) onDisk(cmd *cli.Command, says string) error {
	if cmd.Bool("preview") {
		return usage("%s That is not tried out beforehand: leave --preview out", says)
	}
	return a.goOn(cmd, says)
}

func printDeparture(w io.Writer, d service.Departure) {
	t := newTable("what", "where", "becomes")
	t.wrapLast = true
	for _, p := range d.Partings {
		t.row(p.What, p.Where, p.Becomes)
	}
	t.print(w)
}

func (a *app) straysCommand() *cli.Command {
	return a.leaf("strays", "look in all folders for files of numbers that nobody has, or had who left", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		return a.begin(ctx, cmd, "ids/strays", nil)
	})
}

func (a *app) handOverCommand() *cli.Command {
	return a.leaf("hand-over", "give a user all that belongs to a number, in all folders; that is a job", "UID USER", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
		var uid uint32
		if _, err := fmt.Sscan(args[0], &uid); err != nil {
			return usage("%q is no uid", args[0])
		}
		if err := a.onDisk(cmd, fmt.Sprintf("This gives %s all that belongs to uid %d, in all folders.", args[1], uid)); err != nil {
			return err
		}
		return a.begin(ctx, cmd, "ids/hand-over", body{"uid": uid, "to": args[1]})
	})
}

func printStrays(w io.Writer, s *service.Strays) {
	t := newTable("number", "was", "files", "takes", "folders", "such as")
	t.empty = "every file and directory belongs to somebody who is there"
	t.wrapLast = true
	for _, x := range s.Strays {
		kind := "uid"
		if x.Group {
			kind = "gid"
		}
		t.row(fmt.Sprintf("%s %d", kind, x.Number), x.Name, fmt.Sprint(x.Files), limit.FormatSize(x.Bytes), fewOf(x.Folders), x.Example)
	}
	t.print(w)
	for _, r := range s.Refused {
		fmt.Fprintln(w, "not looked at in full:", r)
	}
	if len(s.Strays) > 0 {
		fmt.Fprintln(w, "\nGive what belongs to one to somebody: amber ids hand-over UID USER")
	}
}

func (a *app) makeOwnCommand() *cli.Command {
	return a.leaf("make-own", "make the directories of all who have one of their own in a personal folder and have not come yet", "FOLDER", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
		return a.begin(ctx, cmd, "folders/"+escape(args[0])+"/personal", nil)
	})
}
