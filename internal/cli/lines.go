package cli

import (
	"io"
	"os"
	"regexp"
	"strings"

	"golang.org/x/term"
)

// lines is what the commands print to: it has lines coloured on a terminal that shows colours, and commands in them say where the service is.
type lines struct {
	to     io.Writer
	colour bool
	url    string // put into the commands that are printed; "" for none
	within bool   // of a line
}

// shows says whether a writer is a terminal that is to be coloured (no-color.org).
func shows(w io.Writer) bool {
	return os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && isTerminal(w)
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (l *lines) Write(p []byte) (int, error) {
	var b strings.Builder
	for line := range strings.Lines(string(p)) {
		text := strings.TrimSuffix(line, "\n")
		whole := !l.within && len(text) < len(line)
		l.within = len(text) == len(line)
		if l.url != "" {
			text = aCommand.ReplaceAllString(text, "${1}amber --url "+l.url+" $2")
		}
		if l.colour && whole {
			text = painted(text)
		}
		b.WriteString(text)
		if !l.within {
			b.WriteByte('\n')
		}
	}
	_, err := io.WriteString(l.to, b.String())
	return len(p), err
}

// aCommand is one of ours in what is printed, to be pasted.
var aCommand = regexp.MustCompile(`(^|[\s("])amber (ids|holding|user|group|profile|volume|folder|arrangement|owner|entry|browse|try|link|share|connect|service|export|hosts|mode|limit|use|largest|count|notice|why|who|reach|matrix|survey|compare|finding|review|report|journal|events|sign-in|sign-ins|signing-in|sign-out|codes|token|password|first-administrator)\b`)

// Colours, ECMA-48 section 8.3.117. They only ever go with a word that says the same.
const (
	red, green, yellow, faint = "1;31", "32", "33", "2"
)

var paints = []struct {
	at     *regexp.Regexp // its first group is painted
	colour string
}{
	{regexp.MustCompile(`^(REFUSED)\b`), red},
	{regexp.MustCompile(`^(ALLOWED)\b`), green},
	{regexp.MustCompile(`^(NO)  +(?:account|service|origin|share|path|entry|hold|limit) `), red},
	{regexp.MustCompile(`^(ok)  +(?:account|service|origin|share|path|entry|hold|limit) `), green},
	{regexp.MustCompile(`^(gains)  `), green},
	{regexp.MustCompile(`^(loses)  `), red},
	{regexp.MustCompile(`^(high)  +[0-9a-f]{8}  `), red},
	{regexp.MustCompile(`^(medium)  +[0-9a-f]{8}  `), yellow},
	{regexp.MustCompile(`^(low)  +[0-9a-f]{8}  `), faint},
	{regexp.MustCompile(`^(Mind:)`), yellow},
	{regexp.MustCompile(`^(amber:)`), red},
	{regexp.MustCompile(`  (away|disabled|full)(?:  |$)`), red},
}

func painted(line string) string {
	for _, p := range paints {
		if at := p.at.FindStringSubmatchIndex(line); at != nil {
			return line[:at[2]] + "\x1b[" + p.colour + "m" + line[at[2]:at[3]] + "\x1b[0m" + line[at[3]:]
		}
	}
	return line
}
