package cli

import (
	_ "embed"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// examplesText has examples for each command, one a line. A test runs them on the demo.
//
//go:embed examples.txt
var examplesText string

// examplesOf are those of one command.
func examplesOf(name string, below []*cli.Command) (out []string) {
	for line := range strings.Lines(examplesText) {
		if line = strings.TrimSpace(line); line != name && !strings.HasPrefix(line, name+" ") {
			continue
		}
		ofBelow := slices.ContainsFunc(below, func(c *cli.Command) bool { return strings.HasPrefix(line+" ", name+" "+c.Name+" ") })
		if !ofBelow && (len(below) == 0 || line == name || strings.HasPrefix(line, name+" --")) {
			out = append(out, line)
		}
	}
	return out
}

const levelsText = `Levels are sets of access bits, each with a name: pass (go through a directory to what is below), read (pass, list and read), ` +
	`add (pass, and make what is new; what is there is not altered), change (read, add, write, rename and delete) and control (change, and decide who ` +
	`else may). A deny of a level withholds it and those that contain it. Names of RFC 8881 bits, with commas between, stand for exactly those.`

// levelled says whether a command takes a level.
func levelled(cmd *cli.Command) bool {
	if strings.Contains(cmd.ArgsUsage, "LEVEL") {
		return true
	}
	for _, f := range cmd.Flags {
		if name := f.Names()[0]; name == "level" || name == "want" {
			return true
		}
	}
	return false
}

// printHelp is the help of one command, within the width that everything here has.
func printHelp(w io.Writer, _ string, data any) {
	cmd, ok := data.(*cli.Command)
	if !ok {
		return
	}
	hung(w, cmd.FullName()+"  ", cmd.Usage)
	var below []*cli.Command
	for _, c := range cmd.VisibleCommands() {
		if c.Name != "help" {
			below = append(below, c)
		}
	}
	usage := cmd.FullName()
	switch {
	case len(below) > 0 && len(examplesOf(cmd.FullName(), below)) > 0:
		usage += " [COMMAND]"
	case len(below) > 0:
		usage += " COMMAND"
	case cmd.ArgsUsage != "":
		usage += " " + cmd.ArgsUsage
	}
	if len(cmd.VisibleFlags()) > 1 {
		usage += " [OPTIONS]"
	}
	fmt.Fprintf(w, "\nusage: %s\n", usage)
	for block := range strings.SplitSeq(strings.TrimSpace(cmd.Description), "\n\n") {
		if block == "" {
			continue
		}
		paragraph(w, block)
	}
	if levelled(cmd) {
		paragraph(w, levelsText)
	}
	if examples := examplesOf(cmd.FullName(), below); len(examples) > 0 {
		fmt.Fprintln(w, "\nexamples:")
		for _, e := range examples {
			fmt.Fprintln(w, "  "+e)
		}
	}
	if len(below) > 0 {
		t := newTable("commands", "")
		t.wrapLast = true
		for _, c := range below {
			t.row("  "+c.Name, c.Usage)
		}
		fmt.Fprintln(w)
		t.print(w)
	}
	printOptions(w, "options", cmd.VisibleFlags(), "version")
	if cmd.Root() != cmd {
		printOptions(w, "options of all commands", cmd.Root().VisibleFlags(), "help", "version")
	}
}

func paragraph(w io.Writer, text string) {
	fmt.Fprintln(w)
	for _, line := range wrap(text, tableWidth) {
		fmt.Fprintln(w, line)
	}
}

func printOptions(w io.Writer, title string, flags []cli.Flag, but ...string) {
	t := newTable(title, "")
	t.wrapLast = true
	for _, f := range flags {
		if slices.Contains(but, f.Names()[0]) {
			continue
		}
		var names []string
		for _, n := range f.Names() {
			if len(n) == 1 {
				names = append(names, "-"+n)
			} else {
				names = append(names, "--"+n)
			}
		}
		text := ""
		if d, ok := f.(cli.DocGenerationFlag); ok {
			text = d.GetUsage()
			if d.TakesValue() {
				names[0] += " " + strings.ToUpper(valueName(f))
			}
			if v := d.GetDefaultText(); v != "" && v != "false" && v != `""` && v != "0" && d.TakesValue() {
				text += " (by itself " + strings.Trim(v, `"`) + ")"
			}
			if env := d.GetEnvVars(); len(env) > 0 {
				text += " [" + strings.Join(env, ", ") + "]"
			}
		}
		t.row("  "+strings.Join(names, ", "), text)
	}
	if len(t.rows) > 0 {
		fmt.Fprintln(w)
		t.print(w)
	}
}

// valueName says what comes after an option.
func valueName(f cli.Flag) string {
	switch f.(type) {
	case *cli.IntFlag, *cli.UintFlag, *cli.Uint32Flag, *cli.Int64Flag:
		return "number"
	case *cli.DurationFlag:
		return "time"
	}
	return "value"
}
