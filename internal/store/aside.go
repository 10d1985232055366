package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"
)

// openAside opens a database that the records can do without, making it if there is none. One that is damaged is put aside, under the name that
// is given back, and an empty one takes its place; where none can be opened there, lost says why, and it is one in memory.
func openAside(ctx context.Context, dir, name, schema string) (db *sql.DB, aside string, lost, err error) {
	path := filepath.Join(dir, name)
	db, err = openOne(ctx, path, schema)
	if err == nil {
		return db, "", nil, nil
	}
	if why, _ := wrong(err); why != damaged && !errors.Is(err, errDamaged) { // it may be right again later, and is not touched
		lost = err
		db, err = settled(ctx, "file::memory:?_txlock=immediate", schema, 1) // each connection would have one of its own
		return db, "", lost, err
	}
	aside = fmt.Sprintf("%s.damaged-%d", name, time.Now().Unix())
	for _, end := range []string{"-wal", "-shm"} {
		if gone := os.Remove(path + end); gone != nil && !errors.Is(gone, os.ErrNotExist) {
			return nil, "", nil, errors.Join(err, gone)
		}
	}
	if moved := os.Rename(path, filepath.Join(dir, aside)); moved != nil {
		return nil, "", nil, errors.Join(err, moved)
	}
	db, err = openOne(ctx, path, schema)
	return db, aside, nil, err
}

var errDamaged = errors.New("the database is damaged")

func openOne(ctx context.Context, path, schema string) (*sql.DB, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	q := url.Values{"_pragma": {"journal_mode(WAL)", "synchronous(NORMAL)", "busy_timeout(5000)"}, "_txlock": {"immediate"}}
	dsn := url.URL{Scheme: "file", Path: path, RawQuery: q.Encode()}
	return settled(ctx, dsn.String(), schema, 8)
}

func settled(ctx context.Context, dsn, schema string, connections int) (*sql.DB, error) {
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(connections)
	var is string
	err = db.QueryRowContext(ctx, `PRAGMA quick_check(1)`).Scan(&is)
	if err == nil && is != "ok" {
		err = fmt.Errorf("%w: %s", errDamaged, is)
	}
	if err == nil {
		_, err = db.ExecContext(ctx, schema)
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}
