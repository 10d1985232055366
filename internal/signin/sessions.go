package signin

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"errors"
	"maps"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/store"
)

// Session is a sign-in that goes on. Token is shown once; only its hash is kept.
type Session struct {
	ID      int64 // 0 where it could not be written down
	Token   string
	Actor   refusal.Actor
	Begun   time.Time
	Used    time.Time // to about a minute
	Expires time.Time // whatever it is used for
	Address string    // from where it was begun
	Client  string    // as it called itself
}

const (
	mostLooseSessions = 1000 // that are kept without being written down
	mostSessions      = 200  // of one user: the one that was used longest ago ends for another
	longestClient     = 120  // characters that are kept of what a client calls itself
)

func newToken() (text string, hash [sha256.Size]byte) {
	raw := make([]byte, 32)
	rand.Read(raw)
	text = base64.RawURLEncoding.EncodeToString(raw)
	return text, sha256.Sum256([]byte(text))
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

func (d *Desk) newSession(ctx context.Context, user *identity.User, try Try) (Session, error) {
	now := d.now()
	out := Session{Actor: refusal.Actor{ID: user.ID, Name: user.Name, Role: user.Role}, Begun: now, Used: now,
		Expires: now.Add(d.gateway.Policy().SigningIn.Longest()).Truncate(time.Second), Address: try.Address, Client: short(try.Client)}
	token, hash := newToken()
	out.Token = token
	err := d.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.Run(ctx, `DELETE FROM sessions WHERE expires <= ?`, stamp(now)); err != nil {
			return err
		}
		if err := tx.Run(ctx, `DELETE FROM sessions WHERE user_id = ? AND id NOT IN (SELECT id FROM sessions WHERE user_id = ? ORDER BY used DESC, id DESC LIMIT ?)`, user.ID, user.ID, mostSessions-1); err != nil {
			return err
		}
		return tx.QueryRowContext(ctx, `INSERT INTO sessions (token_hash, user_id, created, expires, used, address, client) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id`,
			hash[:], user.ID, stamp(now), stamp(out.Expires), stamp(now), out.Address, out.Client).Scan(&out.ID)
	})
	if (errors.Is(err, store.ErrUnwritable) || errors.Is(err, store.ErrBusy)) && d.keepLoose(hash, out) {
		return out, nil // whoever is to fix it gets in
	}
	return out, d.gateway.Unwritable(err)
}

func short(text string) string {
	if r := []rune(text); len(r) > longestClient {
		return string(r[:longestClient])
	}
	return text
}

var errSignedOut = &refusal.Error{Kind: refusal.Unauthenticated, Message: "not signed in, or the sign-in has ended", Next: "amber sign-in USER"}

// Authenticate finds whom a token belongs to: that of a sign-in, or one that was made for a program, used from an address. The account is looked at anew each
// time: who is disabled or loses the role is out at once.
func (d *Desk) Authenticate(ctx context.Context, token, address string) (refusal.Actor, error) {
	if id, secret, ok := splitToken(token); ok {
		return d.authenticateToken(ctx, id, secret, address)
	}
	p := d.gateway.Policy()
	now := d.now()
	hash := sha256.Sum256([]byte(token))
	session, found := d.looseOf(hash)
	if !found {
		var used string
		err := d.store.DB().QueryRowContext(ctx, `SELECT id, user_id, used FROM sessions WHERE token_hash = ? AND expires > ?`, hash[:], stamp(now)).Scan(&session.ID, &session.Actor.ID, &used)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return refusal.Actor{}, err
		}
		found = err == nil
		session.Used, _ = time.Parse(time.RFC3339, used)
		session.Used = d.lastUse(session.ID, session.Used)
	}
	user := p.Directory.User(session.Actor.ID)
	if !found || now.Sub(session.Used) > p.SigningIn.Idle() || user == nil || !user.InForce(now) || !user.MayUseConsole() ||
		p.SigningIn.NeedsCodes(user) && user.Codes == 0 {
		return refusal.Actor{}, errSignedOut
	}
	d.mu.Lock()
	if session.ID == 0 {
		if is, ok := d.loose[hash]; ok {
			is.Used = now
			d.loose[hash] = is
		}
	} else {
		d.used[session.ID] = now
	}
	d.mu.Unlock()
	return refusal.Actor{ID: user.ID, Name: user.Name, Role: user.Role, Session: session.ID}, nil
}

// lastUse is when a sign-in was last used, of which it is written down that it was at a moment.
func (d *Desk) lastUse(id int64, written time.Time) time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	if at, ok := d.used[id]; ok && at.After(written) {
		return at
	}
	return written
}

// WriteUse writes down when sign-ins and tokens were last used. What cannot be written is tried again the next time.
func (d *Desk) WriteUse(ctx context.Context) error {
	d.mu.Lock()
	used, tokens := maps.Clone(d.used), maps.Clone(d.tokens)
	d.mu.Unlock()
	if len(used) == 0 && len(tokens) == 0 {
		return nil
	}
	err := d.store.Write(ctx, func(tx *store.Tx) error {
		for id, at := range used {
			if err := tx.Run(ctx, `UPDATE sessions SET used = ? WHERE id = ?`, stamp(at), id); err != nil {
				return err
			}
		}
		for id, use := range tokens {
			if err := tx.Run(ctx, `INSERT OR REPLACE INTO token_uses (token, at, address) VALUES (?, ?, ?)`, id, stamp(use.at), use.address); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	maps.DeleteFunc(d.used, func(id int64, at time.Time) bool { return used[id].Equal(at) })
	maps.DeleteFunc(d.tokens, func(id int64, use tokenUse) bool { return tokens[id] == use })
	return nil
}

// Sessions lists the sign-ins that go on: of one user, or of everybody where that is 0.
func (d *Desk) Sessions(ctx context.Context, of identity.ID) (out []Session, err error) {
	p, now := d.gateway.Policy(), d.now()
	rows, err := d.store.DB().QueryContext(ctx, `SELECT id, user_id, created, expires, used, address, client FROM sessions WHERE expires > ? AND (? = 0 OR user_id = ?) ORDER BY id`, stamp(now), of, of)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var s Session
		var begun, expires, used string
		if err := rows.Scan(&s.ID, &s.Actor.ID, &begun, &expires, &used, &s.Address, &s.Client); err != nil {
			return nil, err
		}
		s.Begun, _ = time.Parse(time.RFC3339, begun)
		s.Expires, _ = time.Parse(time.RFC3339, expires)
		s.Used, _ = time.Parse(time.RFC3339, used)
		s.Used = d.lastUse(s.ID, s.Used)
		user := p.Directory.User(s.Actor.ID)
		if user == nil || !user.InForce(now) || !user.MayUseConsole() || now.Sub(s.Used) > p.SigningIn.Idle() {
			continue // it has ended
		}
		s.Actor.Name, s.Actor.Role = user.Name, user.Role
		out = append(out, s)
	}
	return out, rows.Err()
}

// EndSession ends a sign-in by its number.
func (d *Desk) EndSession(ctx context.Context, id int64) error {
	return d.gateway.Unwritable(d.store.Write(ctx, func(tx *store.Tx) error { return tx.Run(ctx, `DELETE FROM sessions WHERE id = ?`, id) }))
}

// EndSessionsOf ends all of a user's.
func (d *Desk) EndSessionsOf(ctx context.Context, user identity.ID) error {
	d.EndLoose(user)
	return d.gateway.Unwritable(d.store.Write(ctx, func(tx *store.Tx) error { return tx.Run(ctx, `DELETE FROM sessions WHERE user_id = ?`, user) }))
}

// SignOut ends a session. An unknown token is not an error.
func (d *Desk) SignOut(ctx context.Context, token string) error {
	hash := sha256.Sum256([]byte(token))
	d.mu.Lock()
	delete(d.loose, hash)
	d.mu.Unlock()
	return d.gateway.Unwritable(d.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Run(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hash[:])
	}))
}

// keepLoose keeps a sign-in that cannot be written down until the process ends.
func (d *Desk) keepLoose(hash [sha256.Size]byte, session Session) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := d.now()
	maps.DeleteFunc(d.loose, func(_ [sha256.Size]byte, old Session) bool { return !now.Before(old.Expires) })
	if len(d.loose) >= mostLooseSessions {
		return false
	}
	d.loose[hash] = session
	return true
}

// EndLoose ends the sign-ins of a user that could not be written down.
func (d *Desk) EndLoose(id identity.ID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	maps.DeleteFunc(d.loose, func(_ [sha256.Size]byte, session Session) bool { return session.Actor.ID == id })
}

// looseOf finds a sign-in that could not be written down.
func (d *Desk) looseOf(hash [sha256.Size]byte) (Session, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	session, ok := d.loose[hash]
	return session, ok && d.now().Before(session.Expires)
}
