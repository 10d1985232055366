package accesslog

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/store"
)

// tellAgain is after how long it is told again that somebody comes by NFS from the same address.
const tellAgain = 12 * time.Hour

// last is when somebody last came in by each way, as far as that is not written down.
type last struct {
	mu   sync.Mutex
	by   map[arrival]seenAt
	told map[arrivalFrom]time.Time // when it was last told of, forgotten where there are many
}

type arrivalFrom struct {
	arrival
	from string
}

const mostTold = 10_000

type arrival struct {
	user identity.ID
	via  string
}

type seenAt struct {
	at   time.Time
	from string
}

func newLast() *last {
	return &last{by: make(map[arrival]seenAt), told: make(map[arrivalFrom]time.Time)}
}

// arrived notes that somebody came in, and says whether that is to be told of.
func (l *last) arrived(user identity.ID, via, from string) (tell bool) {
	now := time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	key := arrivalFrom{arrival{user, via}, from}
	l.by[key.arrival] = seenAt{now, from}
	if tell = now.Sub(l.told[key]) > tellAgain; !tell {
		return false
	}
	if len(l.told) >= mostTold {
		clear(l.told)
	}
	l.told[key] = now
	return true
}

func (l *last) write(ctx context.Context, e *store.Events) error {
	l.mu.Lock()
	due := maps.Clone(l.by)
	l.mu.Unlock()
	if len(due) == 0 {
		return nil
	}
	err := e.Write(ctx, func(tx *store.Tx) error {
		for key, s := range due {
			if err := tx.Run(ctx, `INSERT OR REPLACE INTO last_seen (user, via, at, origin) VALUES (?, ?, ?, ?)`, key.user, key.via, s.at.UnixMilli(), s.from); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	maps.DeleteFunc(l.by, func(key arrival, s seenAt) bool { return due[key] == s })
	return nil
}

// LastSeen is when a user last came in by a way, and from which address.
type LastSeen struct {
	Via  string
	At   time.Time
	From string
}

// LastSeen lists when a user last came in by each way; for user 0, nobody.
func (l *Log) LastSeen(ctx context.Context, user identity.ID) (out []LastSeen, err error) {
	by := make(map[string]LastSeen)
	l.last.mu.Lock() // before what is written down: that may come to be in between
	for key, s := range l.last.by {
		if key.user == user {
			by[key.via] = LastSeen{key.via, s.at, s.from}
		}
	}
	l.last.mu.Unlock()
	rows, err := l.events.DB().QueryContext(ctx, `SELECT via, at, origin FROM last_seen WHERE user = ?`, user)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var s LastSeen
		var at int64
		if err := rows.Scan(&s.Via, &at, &s.From); err != nil {
			return nil, err
		}
		if s.At = time.UnixMilli(at); s.At.After(by[s.Via].At) {
			by[s.Via] = s
		}
	}
	out = slices.Collect(maps.Values(by))
	slices.SortFunc(out, func(a, b LastSeen) int { return strings.Compare(a.Via, b.Via) })
	return out, rows.Err()
}
