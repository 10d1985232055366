package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"github.com/pressly/goose/v3"

	"amber.example/gatekeeper/internal/core/site"
)

// oneTable is the migration that puts the records of all kinds into one table, and their secrets into another.
var oneTable = goose.NewGoMigration(9, &goose.GoFunc{RunTx: intoOneTable}, nil)

// LastMigration is the version of the records that this program writes.
const LastMigration = 11

const oneTableSchema = `
-- What is in force: each record as the journal has it.
CREATE TABLE records (kind TEXT NOT NULL, id INTEGER NOT NULL, body TEXT NOT NULL, PRIMARY KEY (kind, id)) STRICT, WITHOUT ROWID;
-- The last number that was given of each kind: none is given twice.
CREATE TABLE numbers (kind TEXT PRIMARY KEY, last INTEGER NOT NULL) STRICT, WITHOUT ROWID;
-- What records refer to by number and the journal never holds. Those that nothing refers to are kept for a while, so that what is gone can come back.
CREATE TABLE secrets (
    id      INTEGER PRIMARY KEY,
    hash    TEXT NOT NULL DEFAULT '',            -- argon2id, for the console and the API
    sealed  BLOB,                                -- sealed with the key file
    dropped TEXT                                 -- RFC 3339, UTC: since when nothing refers to it
) STRICT;
-- What has to happen on disk for a change that is written down: gone once it is done.
CREATE TABLE effects (id INTEGER PRIMARY KEY AUTOINCREMENT, effect TEXT NOT NULL, row INTEGER NOT NULL DEFAULT 0) STRICT; -- JSON; the row of the journal
ALTER TABLE sessions RENAME TO sessions_old;
CREATE TABLE sessions (
    token_hash BLOB PRIMARY KEY,                 -- SHA-256 of the token
    user_id    INTEGER NOT NULL,
    created    TEXT NOT NULL,
    expires    TEXT NOT NULL
) STRICT;
ALTER TABLE moves RENAME TO moves_old;
CREATE TABLE moves (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    folder_id INTEGER NOT NULL,
    from_path TEXT NOT NULL,
    to_path   TEXT NOT NULL
) STRICT;
INSERT INTO moves SELECT * FROM moves_old;
DROP TABLE moves_old;
ALTER TABLE work RENAME TO jobs;
`

// oldTables are those that the records lay in, those that refer to others first.
var oldTables = []string{"entries", "client_rules", "limits", "members", "shares", "exports", "places", "host_sets", "folders", "volumes", "users", "groups",
	"services", "acceptances", "id_lists", "reviews", "notices", "hooks"}

// numberOf are the kinds that were numbered by a table each.
var numberOf = map[string]string{"entries": site.EntryNumbers, "client_rules": site.ClientRuleNumbers, "limits": "limit", "shares": "share", "exports": "export", "places": "rule",
	"host_sets": "host set", "folders": "folder", "volumes": "volume", "users": "user", "groups": "group", "acceptances": "acceptance", "id_lists": "id list", "reviews": "review", "hooks": "hook"}

func intoOneTable(ctx context.Context, db *sql.Tx) error {
	tx := &Tx{db}
	r, err := tables{db}.Records(ctx)
	if err != nil {
		return err
	}
	last := make(site.Numbers)
	err = each(ctx, tx, `SELECT name, coalesce(seq, 0) FROM sqlite_sequence`, func(rows *sql.Rows) error {
		var table string
		var n int64
		err := rows.Scan(&table, &n)
		if kind := numberOf[table]; kind != "" {
			last[kind] = n
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := tx.Run(ctx, oneTableSchema); err != nil {
		return err
	}
	for kind, n := range last {
		if err := tx.Run(ctx, `INSERT INTO numbers (kind, last) VALUES (?, ?)`, kind, n); err != nil {
			return err
		}
	}
	changes, err := Compare(site.Records{}, r)
	if err != nil {
		return err
	}
	if _, err := tx.Save(ctx, site.NewDraft(site.Records{}, last), changes); err != nil {
		return err
	}
	if err := numberSecrets(ctx, tx, r, last); err != nil {
		return fmt.Errorf("secrets: %w", err)
	}
	// After that: no password has changed, and whoever is signed in stays so.
	if err := tx.Run(ctx, `INSERT INTO sessions SELECT * FROM sessions_old`); err != nil {
		return err
	}
	for _, t := range append([]string{"sessions_old"}, oldTables...) {
		if err := tx.Run(ctx, `DROP TABLE `+t); err != nil {
			return err
		}
	}
	return nil
}

// numberSecrets puts secrets apart, and has the records refer to them; that is a row of the journal, where there is one.
func numberSecrets(ctx context.Context, tx *Tx, r site.Records, last site.Numbers) error {
	d := site.NewDraft(r, last)
	users, hooks := make(map[int64]site.Secret), make(map[int64]site.Secret)
	var mail []byte
	for query, scan := range map[string]func(*sql.Rows) error{
		`SELECT id, coalesce(password_hash, ''), nt_sealed FROM users WHERE password_hash IS NOT NULL`: func(rows *sql.Rows) error {
			var id int64
			var s site.Secret
			err := rows.Scan(&id, &s.Hash, &s.Sealed)
			users[id] = s
			return err
		},
		`SELECT id, sealed FROM hooks`: func(rows *sql.Rows) error {
			var id int64
			var s site.Secret
			err := rows.Scan(&id, &s.Sealed)
			hooks[id] = s
			return err
		},
		`SELECT mail_password FROM notices`: func(rows *sql.Rows) error { return rows.Scan(&mail) },
	} {
		if err := each(ctx, tx, query, scan); err != nil {
			return err
		}
	}
	for _, u := range r.Users {
		if s, ok := users[int64(u.ID)]; ok {
			u.Password = d.Keep(s)
			site.Put(d, u)
		}
	}
	for _, h := range r.Hooks {
		h.Secret = d.Keep(hooks[h.ID])
		site.Put(d, h)
	}
	if mail != nil {
		n := r.Notices
		n.Mail.Password = d.Keep(site.Secret{Sealed: mail})
		site.Put(d, n)
	}
	changes, err := d.Changes()
	if err != nil || len(changes) == 0 {
		return err
	}
	if _, err := tx.Save(ctx, d, changes); err != nil {
		return err
	}
	return tx.Append(ctx, &JournalRow{At: time.Now(), Actor: "service", Action: "number secrets", Changes: changes})
}
