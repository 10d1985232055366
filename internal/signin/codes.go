package signin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/store"
)

// One-time codes of RFC 6238, with the values that every program for them knows: SHA-1, six digits, a step of thirty seconds. A code of the step before or
// after is taken as well, as clocks differ, and none twice.
const (
	codeStep      = 30 * time.Second
	recoveryCodes = 10
	enrolWithin   = 15 * time.Minute
)

var codeOptions = totp.ValidateOpts{Period: uint(codeStep / time.Second), Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// enrolling is somebody who sets up codes, until they have shown that it works.
type enrolling struct {
	secret string
	since  time.Time
}

type codeUse struct {
	secret int64
	what   string
}

// Enrolment is what a program for one-time codes is set up with.
type Enrolment struct {
	User   string
	Secret string // base32
	URI    string // otpauth://, which its QR code holds
}

// BeginCodes begins to set up one-time codes for whoever knows the password, and a code where the account has them already.
func (d *Desk) BeginCodes(ctx context.Context, try Try) (Enrolment, error) {
	user, err := d.prove(ctx, try)
	if err != nil {
		return Enrolment{}, err
	}
	if !user.MayUseConsole() {
		return Enrolment{}, &refusal.Error{Kind: refusal.Forbidden, Message: user.Name + " may not use the console, and has no use for one-time codes"}
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Amber Gatekeeper", AccountName: user.Name, SecretSize: 20, Period: codeOptions.Period, Digits: codeOptions.Digits, Algorithm: codeOptions.Algorithm})
	if err != nil {
		return Enrolment{}, err
	}
	now := d.now()
	d.mu.Lock()
	defer d.mu.Unlock()
	for id, e := range d.enrolling {
		if now.Sub(e.since) > enrolWithin {
			delete(d.enrolling, id)
		}
	}
	d.enrolling[user.ID] = enrolling{key.Secret(), now}
	return Enrolment{user.Name, key.Secret(), key.URL()}, nil
}

// ConfirmCodes ends setting them up: whoever began shows a code of them. It gives the recovery codes, each of which stands for one code, once.
func (d *Desk) ConfirmCodes(ctx context.Context, try Try, fresh string) ([]string, error) {
	user := d.gateway.Policy().Directory.UserNamed(try.Name)
	var begun enrolling
	if user != nil {
		d.mu.Lock()
		begun = d.enrolling[user.ID]
		d.mu.Unlock()
	}
	if begun.secret == "" || d.now().Sub(begun.since) > enrolWithin {
		return nil, refusal.Clash("", "amber codes set-up "+try.Name, "nobody has begun to set up codes, or it was longer than %s ago: begin anew", enrolWithin)
	}
	if err := d.proveFresh(ctx, try, user, begun.secret, fresh); err != nil {
		return nil, err
	}
	codes := make([]string, recoveryCodes)
	hashes := make([]string, recoveryCodes)
	for i := range codes {
		codes[i] = secret.ShortCode()
		hashes[i] = hashOf(codes[i])
	}
	raw, err := json.Marshal(hashes)
	if err != nil {
		return nil, err
	}
	if err := d.gateway.SetCodes(ctx, user.ID, &site.Secret{Hash: string(raw), Sealed: d.keys.Seal(user.ID, []byte(begun.secret))}); err != nil {
		return nil, err
	}
	d.mu.Lock()
	delete(d.enrolling, user.ID)
	d.mu.Unlock()
	return codes, nil
}

// proveFresh says why somebody is not who sets codes up: a wrong password, or a code that was not made with what was set up. Both are slowed down, as whoever
// guessed such a code would have codes of their own in the place of those that there are. A code of those was asked for when it was begun.
func (d *Desk) proveFresh(ctx context.Context, try Try, user *identity.User, key, fresh string) error {
	kept, err := d.store.Secret(ctx, user.Password)
	if err != nil {
		return err
	}
	known := false
	ok, wait := d.throttle.Compare(ctx, try.Name, try.Address, 0, func() bool {
		if known = secret.Check(kept.Hash, try.Password); !known {
			return false
		}
		_, right := stepOf(key, fresh, d.now())
		return right
	})
	switch {
	case wait > 0:
		return tooMany("passwords", wait)
	case !known || !user.InForce(d.now()):
		d.saw(user, ViaConsole, try.Address, errSignIn.Message)
		return errSignIn
	case !ok:
		return &refusal.Error{Kind: refusal.Invalid, Field: "fresh", Message: "that is not the code that it shows now: is its clock right?"}
	}
	return nil
}

// RemoveOwnCodes takes one's own codes away, for whoever knows the password and has a code.
func (d *Desk) RemoveOwnCodes(ctx context.Context, try Try) error {
	user, err := d.prove(ctx, try)
	if err != nil {
		return err
	}
	if user.Codes == 0 {
		return refusal.Clash("", "", "%s has no one-time codes", user.Name)
	}
	if d.gateway.Policy().SigningIn.NeedsCodes(user) {
		return refusal.Clash("", "amber codes set-up "+user.Name, "%s does not get in without one-time codes: set up others in their place", user.Name)
	}
	return d.gateway.SetCodes(ctx, user.ID, nil)
}

// stepOf finds the step of which a code is: the one at a moment, or one of its neighbours.
func stepOf(key, code string, now time.Time) (step int64, ok bool) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	for _, skew := range []time.Duration{0, -codeStep, codeStep} {
		at := now.Add(skew)
		if right, err := totp.ValidateCustom(code, key, at, codeOptions); err == nil && right {
			return at.Unix() / int64(codeStep/time.Second), true
		}
	}
	return 0, false
}

func hashOf(code string) string {
	sum := sha256.Sum256([]byte(strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))))
	return hex.EncodeToString(sum[:])
}

// takeCode says whether a one-time code, or a recovery code, is right and has not been used, and uses it.
func (d *Desk) takeCode(ctx context.Context, user *identity.User, kept site.Secret, code string) bool {
	if key, err := d.keys.Open(user.ID, kept.Sealed); err == nil {
		if step, ok := stepOf(string(key), code, d.now()); ok {
			return d.use(ctx, codeUse{user.Codes, strconv.FormatInt(step, 10)})
		}
	}
	var hashes []string
	hash := hashOf(code)
	return json.Unmarshal([]byte(kept.Hash), &hashes) == nil && slices.Contains(hashes, hash) && d.use(ctx, codeUse{user.Codes, hash})
}

// use records that a code has been used; false where it had been, and where that cannot be recorded.
func (d *Desk) use(ctx context.Context, use codeUse) (fresh bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.taken[use] {
		return false
	}
	err := d.store.Write(ctx, func(tx *store.Tx) error {
		result, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO code_uses (secret, what) VALUES (?, ?)`, use.secret, use.what)
		if err != nil {
			return err
		}
		n, err := result.RowsAffected()
		fresh = n == 1
		if err != nil || len(use.what) == 2*sha256.Size {
			return err
		}
		// Steps that no clock would lead to any more are forgotten; recovery codes never.
		return tx.Run(ctx, `DELETE FROM code_uses WHERE secret = ? AND length(what) < 64 AND CAST(what AS INTEGER) < CAST(? AS INTEGER) - 10`, use.secret, use.what)
	})
	if err != nil { // it may have been used before, and could be again after a restart
		d.taken[use] = true
		return false
	}
	return fresh
}

// RecoveryLeft is how many recovery codes a user has not used.
func (d *Desk) RecoveryLeft(ctx context.Context, user *identity.User) int {
	kept, err := d.store.Secret(ctx, user.Codes)
	var hashes []string
	if err != nil || json.Unmarshal([]byte(kept.Hash), &hashes) != nil {
		return 0
	}
	used := 0
	_ = d.store.DB().QueryRowContext(ctx, `SELECT count(*) FROM code_uses WHERE secret = ? AND length(what) = 64`, user.Codes).Scan(&used)
	return max(len(hashes)-used, 0)
}
