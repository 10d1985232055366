package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
)

// mostLines is into how many lines a time is parted to be read.
const mostLines = 24

func (a *app) throughputCommand() *cli.Command {
	return a.leaf("throughput", "show what was asked at the wire over time, in all or in a folder: how much, and how fast it was answered", "[FOLDER]", []cli.Flag{
		&cli.StringFlag{Name: "since", Usage: "from then on: 2026-03-01, 2026-03-01T18:30, or 90m, 36h, 7d ago", Value: "2h"},
		&cli.StringFlag{Name: "until", Usage: "and until then", DefaultText: "now"},
		&cli.BoolFlag{Name: "csv", Usage: "write it out as CSV, every span of it"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		q := url.Values{}
		if len(args) > 0 {
			q.Set("of", args[0])
		}
		for _, name := range []string{"since", "until"} {
			if text := cmd.String(name); text != "" {
				at, err := ago(text, name == "until")
				if err != nil {
					return err
				}
				q.Set(name, at.UTC().Format(time.RFC3339))
			}
		}
		if cmd.Bool("csv") {
			return a.client.stream(ctx, "throughput/export", q, a.out)
		}
		return ask(ctx, a, cmd, http.MethodGet, "throughput", q, nil, printThroughput)
	})
}

// printThroughput puts spans together so that there are few enough to be read.
func printThroughput(w io.Writer, t api.Throughput) {
	if len(t.Spans) == 0 {
		fmt.Fprintln(w, "nothing was asked at the wire")
		return
	}
	each := max(time.Duration(t.Step)*time.Second, (t.Until.Sub(t.From) / mostLines).Truncate(time.Duration(t.Step)*time.Second))
	type line struct {
		at  time.Time
		all api.Span
	}
	var lines []line
	most := uint64(0)
	for _, s := range t.Spans {
		at := t.From.Add(s.At.Sub(t.From).Truncate(each))
		if s.At.Before(t.From) {
			at = t.From
		}
		if len(lines) == 0 || !lines[len(lines)-1].at.Equal(at) {
			lines = append(lines, line{at: at})
		}
		l := &lines[len(lines)-1]
		l.all.Operations += s.Operations
		l.all.Read += s.Read
		l.all.Written += s.Written
		l.all.Median, l.all.Slow = max(l.all.Median, s.Median), max(l.all.Slow, s.Slow)
		most = max(most, l.all.Read+l.all.Written)
	}
	form := "15:04:05"
	if each >= time.Hour || t.Until.Sub(t.From) > 24*time.Hour {
		form = "2 Jan 15:04"
	}
	table := newTable("from", "requests", "read", "written", "median", "99 of 100", "")
	perSecond := func(n uint64) string { return limit.FormatSize(int64(float64(n)/each.Seconds())) + "/s" }
	for _, l := range lines {
		bar := ""
		if most > 0 {
			bar = strings.Repeat("▇", int((l.all.Read+l.all.Written)*16/most))
		}
		table.row(l.at.Local().Format(form), fmt.Sprintf("%.1f/s", float64(l.all.Operations)/each.Seconds()), perSecond(l.all.Read), perSecond(l.all.Written), milliseconds(l.all.Median), milliseconds(l.all.Slow), bar)
	}
	table.print(w)
	fmt.Fprintf(w, "\nin all: %d requests, %s read, %s written; half within %s, 99 of 100 within %s\n", t.Totals.Operations, limit.FormatSize(int64(t.Totals.Read)), limit.FormatSize(int64(t.Totals.Written)),
		milliseconds(t.Totals.Median), milliseconds(t.Totals.Slow))
}

func milliseconds(ms float64) string {
	switch {
	case ms >= 1000:
		return fmt.Sprintf("%.1f s", ms/1000)
	case ms >= 10:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.2f ms", ms)
}
