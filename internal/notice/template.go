package notice

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Template is a letter with places to be filled in, each written in braces. Its first line is "Subject: ", then comes an
// empty line, then the text.
type Template string

// The letters there are.
const (
	ToPerson         = "person"
	ToAdministrators = "administrators"
)

// Letters are the names of the templates.
var Letters = []string{ToPerson, ToAdministrators}

// Defaults are the templates where nobody has written others.
var Defaults = map[string]Template{
	ToPerson: `Subject: {summary}

Hello {name},

this is the file server {server}. What you store there is close to a limit:

{notices}

Delete what you no longer need, or ask your administrators for more room.
`,
	ToAdministrators: `Subject: [{server}] {summary}

{notices}

To see how it stands: amber use --over 80%
To make room:         amber limit set, or the page Limits of the console
`,
}

// Places are what can be filled in.
var Places = []string{"name", "account", "server", "summary", "notices"}

// PlacesText lists them for people.
func PlacesText() string { return "{" + strings.Join(Places, "}, {") + "}" }

const longestTemplate = 8 << 10

// Check says what is wrong with a template; nil where nothing is.
func (t Template) Check() error {
	subject, text, ok := t.parts()
	switch {
	case len(t) > longestTemplate:
		return fmt.Errorf("it is longer than %d bytes", longestTemplate)
	case !ok || strings.TrimSpace(subject) == "":
		return fmt.Errorf(`it does not begin with a line "Subject: …" and an empty line`)
	case !strings.Contains(text, "{notices}"):
		return fmt.Errorf("{notices} is not in its text: nobody would learn what it is about")
	}
	for _, part := range []string{subject, text} {
		for rest := part; ; {
			_, after, found := strings.Cut(rest, "{")
			if !found {
				break
			}
			name, more, closed := strings.Cut(after, "}")
			if !closed || !slices.Contains(Places, name) {
				return fmt.Errorf("there is nothing to put in the place of {%s}; there is %s", strings.SplitN(name, "\n", 2)[0], PlacesText())
			}
			rest = more
		}
	}
	return nil
}

func (t Template) parts() (subject, text string, ok bool) {
	first, rest, _ := strings.Cut(strings.ReplaceAll(string(t), "\r\n", "\n"), "\n")
	subject, is := strings.CutPrefix(first, "Subject:")
	blank, text, _ := strings.Cut(rest, "\n")
	return strings.TrimSpace(subject), text, is && strings.TrimSpace(blank) == ""
}

// Fill gives the subject and the text of a letter.
func (t Template) Fill(places map[string]string) (subject, text string) {
	var pairs []string
	for _, name := range Places {
		pairs = append(pairs, "{"+name+"}", places[name])
	}
	subject, text, _ = t.parts()
	fill := strings.NewReplacer(pairs...)
	subject = strings.Join(strings.Fields(fill.Replace(subject)), " ") // one line, whatever is filled in
	return subject, fill.Replace(text)
}

// Summary is a subject line for what notices say.
func Summary(list []Notice) string {
	if len(list) != 1 {
		return strconv.Itoa(len(list)) + " limits are close, or reached"
	}
	n := list[0]
	switch n.Kind {
	case "grace begun":
		return n.Name + ": soft limit passed"
	case "grace ending":
		return n.Name + ": last day above the soft limit"
	}
	return fmt.Sprintf("%s: %s of a limit in use", n.Name, percent(n.Percent))
}

func percent(n int) string { return strconv.Itoa(n) + " %" }

// mostLines is how many notices are spelled out in a letter.
const mostLines = 100

// List spells notices one under the other.
func List(list []Notice) string {
	var b strings.Builder
	for i, n := range list {
		if i == mostLines {
			fmt.Fprintf(&b, "- and %d more: amber notice list\n", len(list)-i)
			break
		}
		fmt.Fprintf(&b, "- %s\n", n.Says)
	}
	return strings.TrimSuffix(b.String(), "\n")
}
