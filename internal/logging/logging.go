// Package logging is how the service logs: as text or JSON to stderr, or to journald with its fields, from a level on that can be changed meanwhile.
package logging

import (
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"

	slogjournal "github.com/systemd/slog-journal"

	"amber.example/gatekeeper/internal/core/plain"
)

// Log is a log and the level from which on it takes what is said.
type Log struct {
	*slog.Logger
	level *slog.LevelVar
}

// JournalSocket is where journald takes what is logged.
const JournalSocket = "/run/systemd/journal/socket"

// Open opens a log: to is "stderr" or "journald", format "text" or "json", of which journald needs neither; level is debug, info, warn or error.
func Open(stderr io.Writer, to, format, level string) (*Log, error) {
	l := &Log{level: new(slog.LevelVar)}
	if err := l.SetLevel(level); err != nil {
		return nil, err
	}
	opts := &slog.HandlerOptions{Level: l.level}
	switch {
	case to == "journald":
		if _, err := os.Stat(JournalSocket); err != nil {
			return nil, fmt.Errorf("journald does not listen at %s: %s", JournalSocket, plain.Reason(err))
		}
		h, err := slogjournal.NewHandler(&slogjournal.Options{Level: l.level, ReplaceGroup: field, ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
			a.Key = field(a.Key)
			return a
		}})
		if err != nil {
			return nil, fmt.Errorf("journald does not take what is logged: %s", plain.Reason(err))
		}
		l.Logger = slog.New(h)
	case format == "json":
		l.Logger = slog.New(slog.NewJSONHandler(stderr, opts))
	default:
		l.Logger = slog.New(slog.NewTextHandler(stderr, opts))
	}
	return l, nil
}

// field spells a key as journald's fields are: A to Z, digits and underscores, no underscore first.
func field(key string) string {
	s := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		}
		return '_'
	}, key)
	return "AMBER_" + strings.TrimLeft(s, "_")
}

// SetLevel changes from what on is logged.
func (l *Log) SetLevel(level string) error {
	var is slog.Level
	if err := is.UnmarshalText([]byte(level)); err != nil {
		return fmt.Errorf("%q is no level: debug, info, warn or error", level)
	}
	l.level.Set(is)
	return nil
}

// Level is from what on is logged.
func (l *Log) Level() string { return strings.ToLower(l.level.Level().String()) }
