package store

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"slices"
	"time"
)

// apart are tables whose rows nothing that is tried out needs: they grow for years, or are nobody's business.
var apart = []string{"journal", "sessions", "nfs_clients", "probe", "goose_db_version"}

// Try gives fn a store with a copy of the records, in which writes see each other, and which is gone when fn is done. Nobody waits for
// it: the records are only read, for as long as the copy takes. Settled says after that whether the copy is of one state; it is made again where it is
// not, a few times.
func (s *Store) Try(ctx context.Context, settled func() bool, fn func(*Store) error) error {
	db, err := s.copied(ctx, settled)
	if err != nil {
		return fmt.Errorf("copy the records: %w", err)
	}
	defer db.Close()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	return fn(&Store{db: s.db, path: s.path, trial: tx})
}

// copied makes a copy of the records in memory.
func (s *Store) copied(ctx context.Context, settled func() bool) (*sql.DB, error) {
	for range 100 {
		db, err := s.copyOnce(ctx)
		if err != nil || settled() {
			return db, err
		}
		db.Close()
		time.Sleep(5 * time.Millisecond)
	}
	return nil, ErrBusy
}

func (s *Store) copyOnce(ctx context.Context) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file::memory:")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // each connection would have one of its own
	if err := s.copyInto(ctx, db); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

func (s *Store) copyInto(ctx context.Context, db *sql.DB) error {
	from := url.URL{Scheme: "file", Path: s.path, RawQuery: "mode=ro"}
	if _, err := db.ExecContext(ctx, `ATTACH DATABASE ? AS kept`, from.String()); err != nil {
		return err
	}
	type made struct{ kind, name, sql string }
	var all []made
	err := each(ctx, db, `SELECT type, name, sql FROM kept.sqlite_master WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%' ORDER BY type DESC`, func(rows *sql.Rows) error {
		var m made
		err := rows.Scan(&m.kind, &m.name, &m.sql)
		all = append(all, m)
		return err
	})
	if err != nil {
		return err
	}
	tx, err := db.BeginTx(ctx, nil) // one state of all tables
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	run := func(statement string) {
		if err == nil {
			_, err = tx.ExecContext(ctx, statement)
		}
	}
	for _, m := range all { // tables come before what is on them
		run(m.sql)
		if m.kind == "table" && !slices.Contains(apart, m.name) {
			run(`INSERT INTO main."` + m.name + `" SELECT * FROM kept."` + m.name + `"`)
		}
	}
	run(`DELETE FROM main.sqlite_sequence`)
	run(`INSERT INTO main.sqlite_sequence SELECT * FROM kept.sqlite_sequence`)
	if err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	if _, err := db.ExecContext(ctx, `DETACH DATABASE kept`); err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `PRAGMA foreign_keys = 1`)
	return err
}
