package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/meter"
)

// KeptTold is what has been told of how something counted stands with a limit.
type KeptTold struct {
	Counter limit.Counter
	Limit   int64
	Told    limit.Told
}

// NoticeRow is something that was told. Notice is JSON, without its number.
type NoticeRow struct {
	ID     int64
	At     time.Time
	Notice json.RawMessage
}

// Outgoing is a message that waits to be brought to a target. Message is JSON.
type Outgoing struct {
	ID      int64
	Made    time.Time
	Target  string
	Message json.RawMessage
	Tries   int
	Due     time.Time // zero where it is not tried again
	Problem string    // what was wrong the last time
}

// Told gives all that has been told.
func (u *Uses) Told(ctx context.Context) (out []KeptTold, err error) {
	err = each(ctx, u.db, `SELECT counter, limit_id, told FROM told`, func(rows *sql.Rows) error {
		var counter, told string
		var k KeptTold
		if err := rows.Scan(&counter, &k.Limit, &told); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(counter), &k.Counter); err != nil {
			return err
		}
		out = append(out, k)
		return json.Unmarshal([]byte(told), &out[len(out)-1].Told)
	})
	return out, err
}

// Telling is one step of telling, that is written down as a whole or not at all.
type Telling struct{ tx *Tx }

// Tell makes such a step.
func (u *Uses) Tell(ctx context.Context, fn func(Telling) error) error {
	return u.write(ctx, func(tx *Tx) error { return fn(Telling{tx}) })
}

// Remember writes down what has been told; with nothing told, that there is nothing.
func (t Telling) Remember(ctx context.Context, k KeptTold) error {
	counter, err := json.Marshal(k.Counter)
	if err != nil {
		return err
	}
	if k.Told.Nothing() {
		return t.tx.Run(ctx, `DELETE FROM told WHERE counter = ? AND limit_id = ?`, string(counter), k.Limit)
	}
	told, err := json.Marshal(k.Told)
	if err != nil {
		return err
	}
	return t.tx.Run(ctx, `INSERT OR REPLACE INTO told VALUES (?, ?, ?)`, string(counter), k.Limit, string(told))
}

// Notice writes down something that is told, and gives its number.
func (t Telling) Notice(ctx context.Context, at time.Time, notice json.RawMessage) (int64, error) {
	return t.tx.Insert(ctx, `INSERT INTO notices (at, notice) VALUES (?, ?)`, at.UnixMilli(), string(notice))
}

// Forget removes notices from before a moment, and all but the last so many.
func (t Telling) Forget(ctx context.Context, before time.Time, most int) error {
	if err := t.tx.Run(ctx, `DELETE FROM notices WHERE at < ?`, before.UnixMilli()); err != nil {
		return err
	}
	return t.tx.Run(ctx, `DELETE FROM notices WHERE id <= (SELECT max(id) FROM notices) - ?`, most)
}

// Waiting is how many messages wait to be brought somewhere.
func (t Telling) Waiting(ctx context.Context) (n int, err error) {
	err = t.tx.QueryRowContext(ctx, `SELECT count(*) FROM outbox`).Scan(&n)
	return n, err
}

// Post has a message wait.
func (t Telling) Post(ctx context.Context, at time.Time, target string, message any) error {
	raw, err := json.Marshal(message)
	if err != nil {
		return err
	}
	return t.tx.Run(ctx, `INSERT INTO outbox (made, target, message, due) VALUES (?, ?, ?, ?)`, at.UnixMilli(), target, string(raw), at.UnixMilli())
}

// Text keeps a short text under a name.
func (t Telling) Text(ctx context.Context, name, value string) error {
	return t.tx.Run(ctx, `INSERT OR REPLACE INTO state VALUES (?, ?)`, name, value)
}

const laterNotices = `SELECT id, at, notice FROM notices WHERE id > ? ORDER BY id LIMIT ?`

// NoticesAfter gives what was told after a number, oldest first.
func (t Telling) NoticesAfter(ctx context.Context, after int64, most int) ([]NoticeRow, error) {
	return noticeRows(ctx, t.tx, laterNotices, after, most)
}

// Notices gives what was told after a number, oldest first; with back, the last before it, newest first, all for 0.
func (u *Uses) Notices(ctx context.Context, from int64, back bool, most int) ([]NoticeRow, error) {
	query := laterNotices
	if back {
		query = `SELECT id, at, notice FROM notices WHERE ?1 = 0 OR id < ?1 ORDER BY id DESC LIMIT ?2`
	}
	return noticeRows(ctx, u.db, query, from, most)
}

func noticeRows(ctx context.Context, q querier, query string, args ...any) (out []NoticeRow, err error) {
	err = each(ctx, q, query, func(rows *sql.Rows) error {
		var r NoticeRow
		var at int64
		var notice string
		err := rows.Scan(&r.ID, &at, &notice)
		r.At, r.Notice = time.UnixMilli(at), json.RawMessage(notice)
		out = append(out, r)
		return err
	}, args...)
	return out, err
}

// Targets gives those for whom a message is due.
func (u *Uses) Targets(ctx context.Context, now time.Time) (out []string, err error) {
	err = each(ctx, u.db, `SELECT DISTINCT target FROM outbox WHERE due <= ?`, func(rows *sql.Rows) error {
		var target string
		err := rows.Scan(&target)
		out = append(out, target)
		return err
	}, now.UnixMilli())
	return out, err
}

const outgoing = `SELECT id, made, target, message, tries, due, problem FROM outbox `

func (u *Uses) outgoing(ctx context.Context, query string, args ...any) (out []Outgoing, err error) {
	err = each(ctx, u.db, outgoing+query, func(rows *sql.Rows) error {
		var o Outgoing
		var made int64
		var due sql.NullInt64
		var message string
		err := rows.Scan(&o.ID, &made, &o.Target, &message, &o.Tries, &due, &o.Problem)
		o.Made, o.Message = time.UnixMilli(made), json.RawMessage(message)
		if due.Valid {
			o.Due = time.UnixMilli(due.Int64)
		}
		out = append(out, o)
		return err
	}, args...)
	return out, err
}

// Due gives messages for a target that are due, oldest first.
func (u *Uses) Due(ctx context.Context, target string, now time.Time, most int) ([]Outgoing, error) {
	return u.outgoing(ctx, `WHERE target = ? AND due <= ? ORDER BY id LIMIT ?`, target, now.UnixMilli(), most)
}

// Troubled gives messages that could not be brought to where they belong, oldest first.
func (u *Uses) Troubled(ctx context.Context, most int) ([]Outgoing, error) {
	return u.outgoing(ctx, `WHERE problem <> '' ORDER BY id LIMIT ?`, most)
}

// Brought says that messages are where they belong, or nowhere to be brought any more.
func (u *Uses) Brought(ctx context.Context, ids ...int64) error {
	return u.write(ctx, func(tx *Tx) error {
		for _, id := range ids {
			if err := tx.Run(ctx, `DELETE FROM outbox WHERE id = ?`, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Unbrought says why a message could not be brought, and when it is tried again; never for the zero time.
func (u *Uses) Unbrought(ctx context.Context, id int64, problem string, due time.Time) error {
	var when any
	if !due.IsZero() {
		when = due.UnixMilli()
	}
	return u.write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `UPDATE outbox SET tries = tries + 1, problem = ?, due = ? WHERE id = ?`, problem, when, id)
	})
}

// ForgetOutgoing removes messages that were made before a moment.
func (u *Uses) ForgetOutgoing(ctx context.Context, before time.Time) error {
	return u.write(ctx, func(tx *Tx) error { return tx.Run(ctx, `DELETE FROM outbox WHERE made < ?`, before.UnixMilli()) })
}

// Waiting is how many messages are still to be brought.
func (u *Uses) Waiting(ctx context.Context) (n int, err error) {
	err = u.db.QueryRowContext(ctx, `SELECT count(*) FROM outbox WHERE due IS NOT NULL`).Scan(&n)
	return n, err
}

// Took is how long transactions that write took.
func (u *Uses) Took() meter.Times { return u.store.Took() }
