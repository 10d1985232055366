package cli

import (
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/core/plain"
)

// What the argument parser says, and what is said instead.
var (
	badValue   = regexp.MustCompile(`^invalid value "(.*)" for flag -([\w-]+): (.*)$`)
	notAFlag   = regexp.MustCompile(`^flag provided but not defined: -+(.+)$`)
	noValue    = regexp.MustCompile(`^flag needs an argument: -+(.+)$`)
	notGiven   = regexp.MustCompile(`^Required flags? "(.*)" not set$`)
	notANumber = regexp.MustCompile(`parsing ".*": (invalid syntax|value out of range)$`)
)

// plainly says what is wrong with a command line in our words.
func plainly(cmd *cli.Command, said string) string {
	if m := badValue.FindStringSubmatch(said); m != nil {
		value, flag, why := m[1], "--"+m[2], m[3]
		switch {
		case strings.Contains(why, "ParseBool"):
			return flag + " takes nothing, or =true or =false, not \"" + value + "\""
		case strings.Contains(why, "duration"):
			return flag + " takes a time such as 90s, 5m or 24h, not \"" + value + "\""
		case strings.HasSuffix(why, "value out of range"):
			return flag + " " + value + " is too large"
		case notANumber.MatchString(why):
			return flag + " takes a whole number, not \"" + value + "\""
		}
		return flag + " cannot be \"" + value + "\""
	}
	if m := notAFlag.FindStringSubmatch(said); m != nil {
		text := "there is no option --" + m[1]
		if near := plain.Nearest(m[1], options(cmd)); near != "" {
			text += "; did you mean --" + near + "?"
		}
		return text
	}
	if m := noValue.FindStringSubmatch(said); m != nil {
		return "--" + m[1] + " needs something after it"
	}
	if m := notGiven.FindStringSubmatch(said); m != nil {
		names := strings.FieldsFunc(m[1], func(r rune) bool { return strings.ContainsRune("\", ", r) })
		if len(names) == 1 {
			return "--" + names[0] + " is missing"
		}
		return "--" + strings.Join(names, " and --") + " are missing"
	}
	return said
}

// options are the names of those that a command takes.
func options(cmd *cli.Command) (out []string) {
	for _, c := range cmd.Lineage() {
		for _, f := range c.Flags {
			out = append(out, f.Names()...)
		}
	}
	return out
}

// quoted spells arguments so that they can be pasted into a shell.
func quoted(args []string) (out []string) {
	for _, a := range args {
		out = append(out, plain.Word(a))
	}
	return out
}
