package counting

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"time"

	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/usage"
)

// Names of texts that are kept beside the uses.
const (
	textSeen   = "seen"   // when the service was last seen running
	textCounts = "counts" // how counts ended, JSON
	textPaused = "paused" // which are paused, JSON
	textRates  = "rates"  // how fast they go, JSON
)

// Open takes up what was counted when the service last ran, in a state directory.
func Open(ctx context.Context, g Gateway, st *store.Store, state string) (*Counting, error) {
	uses, aside, err := store.OpenUses(ctx, state)
	if err != nil {
		return nil, err
	}
	c := newCounting()
	c.gateway, c.store, c.uses, c.aside = g, st, uses, aside
	if err := c.open(ctx, state); err != nil {
		return nil, errors.Join(err, uses.Close())
	}
	return c, nil
}

func (c *Counting) open(ctx context.Context, state string) error {
	uses, aside := c.uses, c.aside
	if aside != "" {
		slog.Error("what was counted could not be read: it is put aside, and counted again", "aside", aside)
	}
	seen, err := uses.Text(ctx, textSeen)
	if err != nil {
		return err
	}
	last, _ := time.Parse(time.RFC3339, seen)
	c.ledger = usage.New(steady(last))
	kept, err := uses.Load(ctx)
	if kept.Clean, err = settleClean(state, kept.Clean, err); err != nil {
		return err
	}
	for _, g := range kept.Graces {
		c.ledger.RestoreGrace(g)
	}
	for _, f := range kept.Folders {
		c.ledger.Restore(f, kept.Uses[f.ID])
	}
	c.due = kept.Counts
	if !kept.Clean {
		for _, f := range kept.Folders {
			c.add(usage.Need{Folder: f.ID})
		}
	}
	for name, to := range map[string]any{textCounts: &c.last, textPaused: &c.paused, textRates: &c.rates} {
		raw, err := uses.Text(ctx, name)
		if err == nil && raw != "" {
			err = json.Unmarshal([]byte(raw), to)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// uncleanFile says that what was counted is not right though the database says so: that it would not be could not be written there.
const uncleanFile = "use.unclean"

// settleClean says whether what was counted can be trusted, and sees to it that it is not the next time, unless the service
// is stopped in order. Err is of writing that down.
func settleClean(state string, clean bool, err error) (bool, error) {
	mark := filepath.Join(state, uncleanFile)
	_, missing := os.Stat(mark)
	switch {
	case errors.Is(err, store.ErrUnwritable): // an empty file takes no room
		f, err := os.OpenFile(mark, os.O_CREATE|os.O_WRONLY, 0o600)
		if err != nil {
			return false, err
		}
		return clean && missing != nil, f.Close()
	case err == nil && missing == nil:
		return false, os.Remove(mark)
	}
	return clean, err
}

// Keep writes down what has changed.
func (c *Counting) Keep(ctx context.Context) error { return c.keep(ctx, false) }

// keep writes down what has changed; at the end, all there is.
func (c *Counting) keep(ctx context.Context, last bool) error {
	rows := c.ledger.Keep(last)
	c.mu.Lock()
	if len(rows) == 0 && !last && time.Since(c.kept) < keepIdle {
		c.mu.Unlock()
		return nil
	}
	c.kept = time.Now()
	due := slices.Clone(c.due)
	if n := c.now; n != nil {
		due = append(due, *n)
	}
	texts := make(map[string]string)
	for name, of := range map[string]any{textCounts: c.last, textPaused: c.paused, textRates: c.rates} {
		raw, err := json.Marshal(of)
		if err != nil {
			c.mu.Unlock()
			return err
		}
		texts[name] = string(raw)
	}
	c.mu.Unlock()
	texts[textSeen] = c.ledger.Now().UTC().Format(time.RFC3339)
	err := c.uses.Keep(ctx, rows, last, c.ledger.Kept(), c.ledger.Graces(), due, last, texts)
	if err != nil {
		c.ledger.Unkept(rows)
	}
	return err
}

// Close writes down all that is counted, now that nothing changes any more.
func (c *Counting) Close() error {
	var err error
	if c.by != nil {
		err = c.keep(context.Background(), true)
	}
	return errors.Join(err, c.uses.Close())
}
