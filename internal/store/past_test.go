package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/site"
)

// What a query finds is what somebody who reads every row would pick, in both directions and by pages.
func TestRowsThatMatch(t *testing.T) {
	st, ctx := openStore(t, t.TempDir()), context.Background()
	defer st.Close()
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	actors, subjects := []string{"keeper", "Auditor", "service"}, []string{"nightlog", "nightlog/2026", "nightlog-old", "nightlog2", "plates", "nightlog/2026 to nightlog/2027", "a%b", "a_b/c"}
	actions := []string{"add entry", TellAction, "change user"}
	require.NoError(t, st.Write(ctx, func(tx *Tx) error {
		for i := range 300 {
			row := &JournalRow{At: noon.Add(time.Duration(i) * 333 * time.Millisecond), Actor: actors[i%3], Action: actions[i/3%3], Subject: subjects[i/9%len(subjects)]}
			if i%50 == 7 {
				row.Changes = []Change{{Kind: DeedKind, After: json.RawMessage(`{}`)}}
			}
			if err := tx.Append(ctx, row); err != nil {
				return err
			}
		}
		return nil
	}))
	all, err := st.Journal(ctx, Match{})
	require.NoError(t, err)
	require.Len(t, all, 300)
	rapid.Check(t, func(t *rapid.T) {
		m := Match{By: rapid.SampledFrom([]string{"", "KEEPER", "auditor", "nobody"}).Draw(t, "by"), On: rapid.SampledFrom([]string{"", "nightlog", "nightlog/2026", "a%b", "a_b", "plates"}).Draw(t, "on"),
			Only: rapid.SampledFrom([]string{"", "changes", TellAction}).Draw(t, "only"), After: int64(rapid.IntRange(0, 310).Draw(t, "after")), Before: int64(rapid.IntRange(0, 310).Draw(t, "before")),
			Back: rapid.Bool().Draw(t, "back"), Most: rapid.IntRange(0, 20).Draw(t, "most")}
		if rapid.Bool().Draw(t, "since") {
			m.Since = noon.Add(time.Duration(rapid.IntRange(-1000, 110_000).Draw(t, "from")) * time.Millisecond)
		}
		if rapid.Bool().Draw(t, "until") {
			m.Until = noon.Add(time.Duration(rapid.IntRange(-1000, 110_000).Draw(t, "to")) * time.Millisecond)
		}
		var want []int64
		for i := range all {
			r := all[i]
			if m.Back {
				r = all[len(all)-1-i]
			}
			aside := r.Action == TellAction || len(r.Changes) == 1
			on := m.On == "" || r.Subject == m.On || len(r.Subject) > len(m.On) && r.Subject[:len(m.On)] == m.On && (r.Subject[len(m.On)] == '/' || r.Subject[len(m.On)] == ' ')
			by := m.By == "" || m.By == "KEEPER" && r.Actor == "keeper" || m.By == "auditor" && r.Actor == "Auditor"
			only := m.Only == "" || m.Only == "changes" && !aside || m.Only == r.Action
			if on && by && only && r.Seq > m.After && (m.Before == 0 || r.Seq < m.Before) && !r.At.Before(m.Since) && (m.Until.IsZero() || !r.At.After(m.Until)) && (m.Most == 0 || len(want) < m.Most) {
				want = append(want, r.Seq)
			}
		}
		rows, err := st.Journal(ctx, m)
		require.NoError(t, err)
		var got []int64
		for _, r := range rows {
			got = append(got, r.Seq)
		}
		require.Equal(t, want, got, "%+v", m)
	})
}

// States that are kept change nothing of what the past was, are used, are thinned out, and one that the journal does not bear out is not believed.
func TestStatesThatAreKept(t *testing.T) {
	st, ctx := openStore(t, t.TempDir()), context.Background()
	defer st.Close()
	rows := 12*stateEvery + 17
	var was site.Records
	require.NoError(t, st.Write(ctx, func(tx *Tx) (err error) { // what a new database holds
		if was, _, err = tx.Records(ctx); err != nil {
			return err
		}
		changes, err := Compare(site.Records{}, was)
		if err != nil {
			return err
		}
		return tx.Append(ctx, &JournalRow{At: time.Now(), Actor: "service", Action: "begin", Changes: changes})
	}))
	last := site.Numbers{}
	for done := 0; done < rows; {
		require.NoError(t, st.Write(ctx, func(tx *Tx) error {
			for range 500 {
				if done++; done > rows {
					return nil
				}
				d := site.NewDraft(was, last)
				site.Put(d, site.HostSet{Name: fmt.Sprint("set", done)})
				if done%3 == 0 {
					site.Delete[site.HostSet](d, was.HostSets[0].ID)
				}
				if done > 40 && done%97 != 0 { // as small as can be
					for len(d.Records().HostSets) > 6 {
						site.Delete[site.HostSet](d, d.Records().HostSets[0].ID)
					}
				}
				changes, err := d.Changes()
				if err != nil {
					return err
				}
				was, last = d.Records(), d.Numbers()
				if _, err := tx.Save(ctx, d, changes); err != nil {
					return err
				}
				if err := tx.Append(ctx, &JournalRow{At: time.Now(), Actor: "keeper", Action: "change", Changes: changes}); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	count := func() (n int) {
		require.NoError(t, st.DB().QueryRow(`SELECT count(*) FROM states`).Scan(&n))
		return n
	}
	require.Equal(t, statesLate, count(), "the last few")
	all, err := st.Journal(ctx, Match{})
	require.NoError(t, err)
	for _, seq := range []int64{1, 40, 4*stateEvery - 1, 6 * stateEvery, 6*stateEvery + 1, 10 * stateEvery, int64(len(all))} {
		want, err := Rebuild(all[:seq])
		require.NoError(t, err)
		got, err := st.RecordsAt(ctx, seq)
		require.NoError(t, err)
		require.Equal(t, want, got, seq)
	}
	want, err := st.RecordsAt(ctx, int64(len(all)))
	require.NoError(t, err)
	_, err = st.DB().Exec(`UPDATE states SET records = '[]'`)
	require.NoError(t, err)
	got, err := st.RecordsAt(ctx, int64(len(all)))
	require.NoError(t, err)
	require.NotEqual(t, want, got, "they are used")
	_, err = st.DB().Exec(`UPDATE states SET hash = x'00'`)
	require.NoError(t, err)
	got, err = st.RecordsAt(ctx, int64(len(all)))
	require.NoError(t, err)
	require.Equal(t, want, got, "and only where they are of this journal")
}

// Events have a chain: what is altered, taken out of the middle or off the end is found; what is forgotten for its age is not missed.
func TestTheChainOfEvents(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	open := func() *Events {
		e, _, err := OpenEvents(ctx, dir)
		require.NoError(t, err)
		return e
	}
	fill := func(e *Events, n int, at time.Time) {
		var list []Event
		for i := range n {
			list = append(list, Event{At: at.Add(time.Duration(i) * time.Second), Since: at, Kind: "removed", Who: "piran", Path: fmt.Sprint("nightlog/", i), Via: "SMB", From: "192.0.2.7", Count: 1})
		}
		require.NoError(t, e.Add(ctx, list))
	}
	for name, harm := range map[string]string{
		"altered": `UPDATE events SET who = 'wren' WHERE id = 7`, "counted otherwise": `UPDATE events SET count = 2 WHERE id = 1`, "taken out": `DELETE FROM events WHERE id = 5`,
		"cut off": `DELETE FROM events WHERE id > 15`, "another order": `UPDATE events SET id = id + 100 WHERE id = 20`,
	} {
		e := open()
		fill(e, 20, time.Now())
		n, err := e.Verify(ctx)
		require.NoError(t, err)
		require.Positive(t, n)
		_, err = e.db.Exec(harm)
		require.NoError(t, err)
		_, err = e.Verify(ctx)
		require.ErrorIs(t, err, ErrBroken, name)
		require.NoError(t, e.Close())
		dir = t.TempDir()
	}
	e := open()
	e.Keep = time.Hour
	fill(e, 30, time.Now().Add(-2*time.Hour))
	fill(e, 10, time.Now())
	n, err := e.Verify(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 10, n, "what is too old is forgotten, and not missed")
	require.NoError(t, e.Close())
	e = open()
	fill(e, 5, time.Now())
	n, err = e.Verify(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 15, n)
	list, err := e.Listed(ctx, Match{By: "PIRAN", On: "nightlog/3", Back: true})
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Greater(t, list[0].ID, list[1].ID)
	require.NoError(t, e.Close())
}

// A database of events from before there was a chain is taken up, and the chain begins with what comes.
func TestEventsFromBeforeTheChain(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	db, _, _, err := openAside(ctx, dir, EventsFileName, `
CREATE TABLE events (
    id INTEGER PRIMARY KEY AUTOINCREMENT, at INTEGER NOT NULL, since INTEGER NOT NULL, kind TEXT NOT NULL, who TEXT NOT NULL, path TEXT NOT NULL,
    via TEXT NOT NULL, origin TEXT NOT NULL, gate TEXT NOT NULL, count INTEGER NOT NULL) STRICT;`)
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO events (at, since, kind, who, path, via, origin, gate, count) VALUES (?1, ?1, 'refused', 'orla', 'plates', 'NFS', '', 'entry', 3)`, time.Now().UnixMilli())
	require.NoError(t, err)
	require.NoError(t, db.Close())
	e, aside, err := OpenEvents(ctx, dir)
	require.NoError(t, err)
	require.Empty(t, aside)
	defer e.Close()
	require.NoError(t, e.Add(ctx, []Event{{At: time.Now(), Since: time.Now(), Kind: "renamed", Who: "piran", Path: "a", Target: "b", Count: 1}}))
	n, err := e.Verify(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	list, err := e.Listed(ctx, Match{})
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, "b", list[1].Target)
}

// However many events come and however old they are, no more are kept than are meant to be, and those that are kept are still a chain.
func TestEventsAreBounded(t *testing.T) {
	ctx := t.Context()
	e, _, err := OpenEvents(ctx, t.TempDir())
	require.NoError(t, err)
	defer e.Close()
	old := Event{At: time.Now().Add(-KeepEvents - time.Hour), Since: time.Now(), Kind: "refused", Who: "uid 1", Count: 1}
	fresh := old
	fresh.At = time.Now()
	require.NoError(t, e.Add(ctx, append(slices.Repeat([]Event{old}, 10), slices.Repeat([]Event{fresh}, MostEvents+5)...)))
	list, err := e.Listed(ctx, Match{})
	require.NoError(t, err)
	require.Len(t, list, MostEvents)
	require.EqualValues(t, 16, list[0].ID)
	require.NoError(t, e.Add(ctx, []Event{fresh}))
	n, err := e.Verify(ctx)
	require.NoError(t, err)
	require.EqualValues(t, MostEvents, n)
	list, err = e.Listed(ctx, Match{Only: "wrote", Back: true, Most: 10})
	require.NoError(t, err)
	require.Empty(t, list)
}
