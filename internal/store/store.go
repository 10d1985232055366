// Package store keeps the records in SQLite: schema, migrations, transactions,
// the journal. It knows what is stored and nothing of why; the service package is
// its only caller that writes.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver, under the name "sqlite"

	"amber.example/gatekeeper/internal/meter"
)

//go:embed migrations/*.sql
var migrations embed.FS

// FileName is the database's name in the state directory.
const FileName = "records.sqlite"

// ErrNewer says that a newer version of the program has written the records.
var ErrNewer = errors.New("a newer version of amber has written them")

// Store is the open database. One writer at a time; readers do not wait for it.
type Store struct {
	db   *sql.DB
	path string
	trouble
	took meter.Tally // of transactions that write
}

// Took is how long transactions that write took, waiting for each other and the disk included.
func (s *Store) Took() meter.Times { return s.took.Count().Times }

// Tx is one transaction.
type Tx struct{ *sql.Tx }

// Open opens the database in dir, makes it if there is none, and brings its
// schema up to date.
func Open(ctx context.Context, dir string) (*Store, error) {
	// SQLite gives what it makes beside the database the database's own mode.
	f, err := os.OpenFile(filepath.Join(dir, FileName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open records: %w", err)
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	q := url.Values{"_pragma": {"journal_mode(WAL)", "synchronous(FULL)", "foreign_keys(1)", "busy_timeout(5000)"}, "_txlock": {"immediate"}}
	dsn := url.URL{Scheme: "file", Path: filepath.Join(dir, FileName), RawQuery: q.Encode()}
	db, err := sql.Open("sqlite", dsn.String())
	if err != nil {
		return nil, fmt.Errorf("open records: %w", err)
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, sub, goose.WithLogger(goose.NopLogger()), goose.WithGoMigrations(oneTable))
	if err == nil {
		var has int64
		if has, err = provider.GetDBVersion(ctx); err == nil && has > Schema() {
			err = fmt.Errorf("%w: they have schema %d, and this one knows %d", ErrNewer, has, Schema())
		}
	}
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("migrate records: %w", err)
	}
	return &Store{db: db, path: filepath.Join(dir, FileName)}, nil
}

// Schema is the number of the newest change of the schema that is known here.
func Schema() int64 {
	newest := oneTable.Version
	names, _ := fs.Glob(migrations, "migrations/*.sql") // the pattern is well formed
	for _, name := range names {
		if n, err := goose.NumericComponent(filepath.Base(name)); err == nil {
			newest = max(newest, n)
		}
	}
	return newest
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// DB is for reading outside a transaction.
func (s *Store) DB() *sql.DB { return s.db }

// Write runs fn in one transaction, and leaves nothing of it behind if fn fails.
func (s *Store) Write(ctx context.Context, fn func(*Tx) error) error {
	defer func(began time.Time) { s.took.Took(time.Since(began)) }(time.Now())
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return s.judge(fmt.Errorf("begin: %w", err))
	}
	defer func() { _ = tx.Rollback() }() // after a commit it does nothing
	if err := fn(&Tx{tx}); err != nil {
		if why, busy := wrong(err); why == "" && !busy {
			return err
		}
		return s.judge(err)
	}
	if err := tx.Commit(); err != nil {
		return s.judge(fmt.Errorf("commit: %w", err))
	}
	return nil
}

// Insert runs an INSERT and gives the new row's number.
func (tx *Tx) Insert(ctx context.Context, query string, args ...any) (int64, error) {
	res, err := tx.ExecContext(ctx, query, args...)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// Run runs a statement that gives no rows.
func (tx *Tx) Run(ctx context.Context, query string, args ...any) error {
	_, err := tx.ExecContext(ctx, query, args...)
	return err
}
