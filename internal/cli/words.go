package cli

import (
	"regexp"
	"slices"
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
		if near := nearest(m[1], options(cmd)); near != "" {
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

// nearest is the word that somebody who mistyped meant; "" where none is near.
func nearest(typed string, words []string) string {
	best, least := "", 3
	if len(typed) < 4 {
		least = 2
	}
	for _, w := range slices.Sorted(slices.Values(words)) {
		if len(w) < 2 {
			continue
		}
		if d := apart(typed, w); d < least {
			best, least = w, d
		}
	}
	return best
}

// apart is in how many steps one word becomes another: letters put in, left out, put in the place of others, or two of them swapped.
func apart(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}

// quoted spells arguments so that they can be pasted into a shell.
func quoted(args []string) (out []string) {
	for _, a := range args {
		out = append(out, plain.Word(a))
	}
	return out
}
