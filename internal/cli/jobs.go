package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/service"
)

// jobCommand is about what goes on by itself.
func (a *app) jobCommand() *cli.Command {
	one := func(run func(ctx context.Context, cmd *cli.Command, id int64) error) func(context.Context, *cli.Command, []string) error {
		return func(ctx context.Context, cmd *cli.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return usage("%q is no number of a job", args[0])
			}
			return run(ctx, cmd, id)
		}
	}
	return group("job", "what takes long and so goes on by itself",
		jobs.list(a, "list jobs that go on, and those that have ended lately"),
		a.leaf("show", "show how far a job is", "NUMBER", nil, one(func(ctx context.Context, cmd *cli.Command, id int64) error {
			return ask(ctx, a, cmd, http.MethodGet, jobPath(id), nil, nil, printJob)
		})),
		a.leaf("wait", "wait until a job has ended; Ctrl-C ends the waiting, and not the job", "NUMBER", nil, one(func(ctx context.Context, cmd *cli.Command, id int64) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
			defer stop()
			var j api.Job
			if err := a.watch(ctx, id, &j); err != nil {
				return err
			}
			if ctx.Err() != nil {
				return &failure{code: exitFailed, msg: fmt.Sprintf("job %d goes on", id), next: fmt.Sprintf("amber job show %d", id)}
			}
			return show(a, cmd, j, printJob)
		})),
		a.leaf("cancel", "cancel a job where it is; what it has done stays done", "NUMBER", nil, one(func(ctx context.Context, cmd *cli.Command, id int64) error {
			if cmd.Bool("preview") { // nobody gains or loses by it
				return ask(ctx, a, cmd, http.MethodGet, jobPath(id), nil, nil, printJob)
			}
			if err := a.client.send(ctx, http.MethodDelete, jobPath(id), nil, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "job %d has ended", id)
		})),
	)
}

var jobs = resource[api.Job]{
	one: "job", many: "jobs", now: true, route: "jobs/", wrapLast: true,
	head: []string{"number", "begun", "who", "is", "done", "job"}, empty: "no job goes on, and none has ended lately",
	row: func(j api.Job) []string {
		return []string{fmt.Sprint(j.ID), j.Begun.Local().Format("2006-01-02 15:04:05"), j.Actor, jobState(j), howFar(j), j.Text}
	},
}

func jobPath(id int64) string { return fmt.Sprintf("jobs/%d", id) }

func jobState(j api.Job) string {
	switch {
	case !j.Over:
		return "going on"
	case j.Error != "":
		return "ended early"
	}
	return "done"
}

// howFar spells how far a job is: "120 of 4000, 350/s, 11s left".
func howFar(j api.Job) string {
	text := fmt.Sprint(j.Done)
	if j.Total > 0 && !j.Over {
		text += fmt.Sprintf(" of %d", j.Total)
	}
	if j.Rate > 0 {
		text += fmt.Sprintf(", %.0f/s", j.Rate)
	}
	if j.Left != nil {
		text += fmt.Sprintf(", %s left", time.Duration(*j.Left*float64(time.Second)).Round(time.Second))
	}
	return text
}

func printJob(w io.Writer, j api.Job) {
	fields(w, "job", fmt.Sprint(j.ID), "is", jobState(j), "begun", j.Begun.Local().Format("2006-01-02 15:04:05"), "who", j.Actor, "done", howFar(j), "why", j.Error)
	hung(w, "does ", j.Text)
	switch {
	case j.Survey != nil:
		fmt.Fprintln(w)
		printSurvey(w, *j.Survey)
	case j.Largest != nil:
		fmt.Fprintln(w)
		printLargest(w, *j.Largest)
	case j.Strays != nil:
		fmt.Fprintln(w)
		printStrays(w, j.Strays)
	case j.OwnMade != nil:
		fmt.Fprintf(w, "\n%d directories made\n", j.OwnMade.Made)
	case j.HandedOver != nil:
		fmt.Fprintf(w, "\n%d files and directories passed on\n", j.HandedOver.Files)
		for _, r := range j.HandedOver.Refused {
			fmt.Fprintln(w, "not all of", r)
		}
	case j.Held != nil:
		did := "are kept now"
		if j.Kind != "hold" {
			did = "are removed"
		}
		fmt.Fprintf(w, "\n%d files %s\n", j.Held.Files, did)
		if j.Held.Stayed > 0 {
			fmt.Fprintf(w, "%d stayed where they are:\n", j.Held.Stayed)
		}
		for _, r := range j.Held.Refused {
			fmt.Fprintln(w, " ", r)
		}
	case j.Converted != nil:
		fmt.Fprintln(w)
		printConverted(w, *j.Converted)
	}
}

func printConverted(w io.Writer, c service.Converted) {
	fmt.Fprintf(w, "%d files and directories looked at, entries written on %d paths of %s\n", c.Objects, c.Rules, c.Folder)
}

// watch waits until a job has ended, showing how far it is at a terminal, or until the context has.
func (a *app) watch(ctx context.Context, id int64, j *api.Job) error {
	for {
		if err := a.client.send(ctx, http.MethodGet, jobPath(id), nil, nil, j); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		if a.terminal {
			fmt.Fprintf(a.err, "\r%-60s", howFar(*j))
		}
		if j.Over {
			break
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(200 * time.Millisecond):
		}
	}
	if a.terminal {
		fmt.Fprintln(a.err)
	}
	return nil
}

// follow waits for a job that a command has begun. It is cancelled with the command.
func (a *app) follow(ctx context.Context, j *api.Job) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	if j.Over {
		return nil
	}
	if err := a.watch(ctx, j.ID, j); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return errors.Join(a.client.send(context.WithoutCancel(ctx), http.MethodDelete, jobPath(j.ID), nil, nil, nil),
			&failure{code: exitFailed, msg: fmt.Sprintf("cancelled after %d files and directories; what was done to them stays done", j.Done)})
	}
	if j.Error != "" {
		return &failure{code: exitFailed, msg: j.Error}
	}
	return nil
}

// begin begins a job, waits for it and shows it.
func (a *app) begin(ctx context.Context, cmd *cli.Command, path string, in any) error {
	return a.beginBy(ctx, cmd, http.MethodPost, path, in)
}

func (a *app) beginBy(ctx context.Context, cmd *cli.Command, method, path string, in any) error {
	var j api.Job
	if err := a.client.send(ctx, method, path, nil, in, &j); err != nil {
		return err
	}
	if err := a.follow(ctx, &j); err != nil {
		return err
	}
	return show(a, cmd, j, printJob)
}

// followed waits for a job and prints what came of it.
func (a *app) followed(ctx context.Context, cmd *cli.Command, j *api.Job) error {
	if err := a.follow(ctx, j); err != nil {
		return err
	}
	switch {
	case j.Survey != nil:
		return show(a, cmd, *j.Survey, printSurvey)
	case j.Largest != nil:
		return show(a, cmd, *j.Largest, printLargest)
	case j.Converted != nil:
		return show(a, cmd, *j.Converted, printConverted)
	}
	return &failure{code: exitFailed, msg: "it ended with nothing found"}
}
