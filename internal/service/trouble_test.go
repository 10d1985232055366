package service

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
)

// fill bounds a database at the size that it has, as a full disk does, and gives what takes the bound away.
func fill(t *testing.T, db *sql.DB) func() {
	t.Helper()
	db.SetMaxOpenConns(1) // the bound is the connection's
	var pages int64
	require.NoError(t, db.QueryRow(`PRAGMA page_count`).Scan(&pages))
	_, err := db.Exec(fmt.Sprintf(`PRAGMA max_page_count = %d`, pages))
	require.NoError(t, err)
	return func() {
		_, err := db.Exec(`PRAGMA max_page_count = 1000000`)
		require.NoError(t, err)
	}
}

// untilFull makes changes until one is refused, and gives how.
func untilFull(t *testing.T, s *Service) *Error {
	t.Helper()
	for i := range 2000 {
		_, err := s.CreateGroup(t.Context(), keeper, GroupInput{Name: fmt.Sprintf("team%d", i)})
		var refused *Error
		if errors.As(err, &refused) {
			return refused
		}
		require.NoError(t, err)
	}
	t.Fatal("it is never full")
	return nil
}

// On a full disk serving goes on: what was decided is in force, who is to fix it can sign in, changes are refused with a reason, it is found,
// and what could not be written down is, once it can be.
func TestAFullStateDisk(t *testing.T) {
	s := observatory(t)
	ctx := t.Context()
	more, moreEvents := fill(t, s.store.DB()), fill(t, s.Log.Store().DB())
	refused := untilFull(t, s)
	require.Equal(t, Unavailable, refused.Kind)
	require.Contains(t, refused.Message, "nothing was changed")
	require.Contains(t, refused.Message, "its disk is full")
	groups := len(s.Policy().Directory.Groups())
	rows, err := s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.Equal(t, fmt.Sprintf("team%d", groups-3), rows[len(rows)-1].Subject, "the records and the journal are of one mind")
	require.Contains(t, s.TroubleSays(), "its disk is full")
	i := slices.IndexFunc(s.Audit().Findings(), func(f audit.Finding) bool { return f.Kind == audit.Unwritten })
	require.Zero(t, i, "it comes before all others")

	session, err := s.SignIn(ctx, signin.Try{Name: "keeper", Password: "keeper-at-larkfell", Address: "192.0.2.1"})
	require.NoError(t, err)
	who, err := s.Authenticate(ctx, session.Token, "192.0.2.1")
	require.NoError(t, err)
	require.Equal(t, "keeper", who.Name)
	_, err = s.Authenticate(ctx, session.Token+"x", "192.0.2.1")
	require.Error(t, err)

	const clients = 500
	for i := range clients {
		require.NoError(t, s.Remember(ctx, "v4", fmt.Append(make([]byte, 900), i)), "it is served")
	}
	seen := 0
	for range 100_000 {
		s.Saw(files.AccessEvent{Kind: files.Refused, UID: 2999, From: fmt.Sprint("192.0.2.", seen%256), Via: site.NFS, Path: fmt.Sprint("plates/", seen), Gate: access.Entry})
		seen++
		if seen%200 == 0 && s.WriteDown(ctx) != nil {
			break
		}
	}
	require.ErrorIs(t, s.WriteDown(ctx), store.ErrUnwritable)
	require.Equal(t, s.Policy(), s.ServedPolicy())
	s.probe(ctx)
	require.NotEmpty(t, s.TroubleSays(), "it is so still")

	more()
	moreEvents()
	s.probe(ctx)
	require.Empty(t, s.TroubleSays())
	require.NoError(t, s.WriteDown(ctx))
	list, err := s.Events(ctx, store.Match{Only: "refused"})
	require.NoError(t, err)
	total := int64(0)
	for _, e := range list {
		total += e.Count
	}
	require.EqualValues(t, seen, total, "nothing was dropped")
	rows, err = s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.Equal(t, "write again", rows[len(rows)-1].Action)
	require.Contains(t, rows[len(rows)-1].Subject, "its disk is full): 1 changes were refused")
	remembered, err := s.Remembered(ctx, "v4")
	require.NoError(t, err)
	require.Len(t, remembered, clients)
	_, err = s.Authenticate(ctx, session.Token, "192.0.2.1")
	require.NoError(t, err)
	require.NoError(t, s.SetPassword(ctx, keeper, "keeper", "another-at-larkfell", false))
	_, err = s.Authenticate(ctx, session.Token, "192.0.2.1")
	require.Error(t, err, "a new password ends it")
}

// Who must have everything recorded is served by nobody meanwhile.
func TestRefusingWhatCannotBeRecorded(t *testing.T) {
	s := observatory(t)
	RefusingUnrecorded(true)(s)
	ctx := t.Context()
	require.True(t, s.ServedPolicy().Services.SMB)
	more := fill(t, s.store.DB())
	untilFull(t, s)
	shut := s.ServedPolicy()
	require.Equal(t, site.Services{}, shut.Services)
	require.Same(t, shut, s.ServedPolicy(), "open handles compare it")
	require.True(t, s.Policy().Services.SMB)
	for i := 0; ; i++ {
		require.Less(t, i, 10_000)
		if s.Remember(ctx, "v4", fmt.Append(make([]byte, 900), i)) != nil {
			break
		}
	}
	more()
	s.probe(ctx)
	require.Same(t, s.Policy(), s.ServedPolicy())
}

// A database that something else holds for long is waited for, and ends nothing.
func TestABusyDatabase(t *testing.T) {
	s := observatory(t)
	ctx := t.Context()
	other, err := sql.Open("sqlite", "file:"+filepath.Join(s.state, store.FileName)+"?_txlock=immediate")
	require.NoError(t, err)
	defer other.Close()
	tx, err := other.BeginTx(ctx, nil)
	require.NoError(t, err)
	_, err = s.CreateGroup(ctx, keeper, GroupInput{Name: "night"})
	var refused *Error
	require.ErrorAs(t, err, &refused)
	require.Equal(t, Unavailable, refused.Kind)
	require.Contains(t, refused.Message, "something else holds the records")
	require.Empty(t, s.TroubleSays())
	require.NoError(t, tx.Rollback())
	_, err = s.CreateGroup(ctx, keeper, GroupInput{Name: "night"})
	require.NoError(t, err)
}

// A start finds the room that it needs, and does without what it can do without.
func TestAStartWithoutRoom(t *testing.T) {
	ctx, state := context.Background(), t.TempDir()
	s, err := Open(ctx, state)
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(state, reserveFile))
	require.NoError(t, err)
	require.EqualValues(t, reserveSize, info.Size())
	require.NoError(t, s.Close())
	for _, name := range []string{store.UsesFileName, store.EventsFileName} { // they cannot be opened, and are not damaged
		for _, end := range []string{"", "-wal", "-shm"} {
			if err := os.Remove(filepath.Join(state, name+end)); err != nil {
				require.ErrorIs(t, err, os.ErrNotExist)
			}
		}
		require.NoError(t, os.Mkdir(filepath.Join(state, name), 0o700))
	}
	s, err = Open(ctx, state)
	require.NoError(t, err)
	defer s.Close()
	s.Saw(files.AccessEvent{Kind: files.Refused, From: "192.0.2.7", Path: "/plates"})
	require.NoError(t, s.WriteDown(ctx))
	list, err := s.Events(ctx, store.Match{Most: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.True(t, slices.ContainsFunc(s.Audit().Findings(), func(f audit.Finding) bool { return f.Kind == audit.InMemory }))
}
