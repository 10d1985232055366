package signin

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

// tokenMark begins the text of tokens that are made for programs, so that they are told from those of sign-ins.
const tokenMark = "amber-"

type tokenUse struct {
	at      time.Time
	address string
}

// NewToken makes the secret of a token: its text, for the token with a number, and what is kept of it.
func NewToken() (text func(id int64) string, kept site.Secret) {
	secret, hash := newToken()
	return func(id int64) string { return tokenMark + strconv.FormatInt(id, 10) + "." + secret }, site.Secret{Hash: hex.EncodeToString(hash[:])}
}

func splitToken(text string) (id int64, secret string, ok bool) {
	rest, ok := strings.CutPrefix(text, tokenMark)
	if !ok {
		return 0, "", false
	}
	number, secret, ok := strings.Cut(rest, ".")
	id, err := strconv.ParseInt(number, 10, 64)
	return id, secret, ok && err == nil
}

// authenticateToken finds on whose behalf a token is used.
func (d *Desk) authenticateToken(ctx context.Context, id int64, secret, address string) (refusal.Actor, error) {
	p, now := d.gateway.Policy(), d.now()
	token, there := p.Token(id)
	if !there {
		return refusal.Actor{}, errSignedOut
	}
	kept, err := d.store.Secret(ctx, token.Secret)
	if err != nil {
		return refusal.Actor{}, err
	}
	hash := sha256.Sum256([]byte(secret))
	user := p.Directory.User(token.User)
	if subtle.ConstantTimeCompare([]byte(hex.EncodeToString(hash[:])), []byte(kept.Hash)) != 1 || user == nil {
		return refusal.Actor{}, errSignedOut
	}
	why := ""
	addr, err := netip.ParseAddr(address)
	switch {
	case token.Ended(now):
		why = "the token " + token.Name + " has ended"
	case !user.InForce(now) || !user.MayUseConsole():
		why = "the account of the token " + token.Name + " does not work"
	case err != nil || !token.UsedFrom(addr):
		why = "the token " + token.Name + " may not be used from " + address
	}
	if why != "" {
		d.saw(user, ViaToken, address, why)
		return refusal.Actor{}, &refusal.Error{Kind: refusal.Unauthenticated, Message: why, Next: "amber token list"}
	}
	d.mu.Lock()
	last := d.tokens[id].at
	d.tokens[id] = tokenUse{now, address}
	d.mu.Unlock()
	if now.Sub(last) > time.Minute {
		d.saw(user, ViaToken, address, "")
	}
	return refusal.Actor{ID: user.ID, Name: user.Name, Role: token.Role.Narrower(user.Role), Token: token.Name}, nil
}

// TokenUse is when a token was last used, and from where; the zero moment where it never was.
func (d *Desk) TokenUse(ctx context.Context, id int64) (at time.Time, address string) {
	d.mu.Lock()
	use, ok := d.tokens[id]
	d.mu.Unlock()
	if ok {
		return use.at, use.address
	}
	var text string
	if err := d.store.DB().QueryRowContext(ctx, `SELECT at, address FROM token_uses WHERE token = ?`, id).Scan(&text, &address); err != nil {
		return time.Time{}, ""
	}
	at, _ = time.Parse(time.RFC3339, text)
	return at, address
}
