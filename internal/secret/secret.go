// Package secret keeps what must not be read: it seals what has to be had again, and hashes what is only compared.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"unicode/utf16"

	"golang.org/x/crypto/argon2"
	//lint:ignore SA1019 MS-NLMP section 3.3.1 builds NTLMv2 on it
	"golang.org/x/crypto/md4"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/store"
)

// Sealer encrypts the secrets that must be recoverable, with the key file beside
// the database.
type Sealer struct {
	aead cipher.AEAD
	key  []byte
}

// keyLength is that of AES-256.
const keyLength = 32

// KeyFileName is the key's file in the state directory.
const KeyFileName = "secret.key"

// ErrNoKey says that the key is missing beside records that were sealed with it.
var ErrNoKey = errors.New("the key is missing")

// Open reads the key, or makes one: where there are no records yet, or with anew.
func Open(state string, anew bool) (Sealer, error) {
	path := filepath.Join(state, KeyFileName)
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if _, missing := os.Stat(filepath.Join(state, store.FileName)); missing == nil && !anew {
			return Sealer{}, fmt.Errorf("%w: %s is not there, and %s beside it was sealed with it. Put the key back from a copy. Without it nobody signs in over SMB until their password is set anew, "+
				"NFS clients have to mount again, webhooks and the mail server's password have to be given again, and what reviews were signed with is lost. To go on so, start once with --new-key", ErrNoKey, path, store.FileName)
		}
		key = make([]byte, keyLength)
		rand.Read(key)
		err = writeKey(path, key)
	}
	if err != nil {
		return Sealer{}, fmt.Errorf("key file: %w", err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm()&0o077 != 0 {
		return Sealer{}, fmt.Errorf("key file %s is open to others: chmod 600 it", path)
	}
	if len(key) != keyLength { // the cipher would take half of one for a key of its own
		return Sealer{}, fmt.Errorf("key file %s has %d bytes and not %d: put it back from a copy", path, len(key), keyLength)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return Sealer{}, fmt.Errorf("key file %s: %w", path, err)
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	return Sealer{aead, key}, err
}

// writeKey writes the key, whole or not at all: a half-written one would lock out every account.
func writeKey(path string, key []byte) error {
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(key)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// Derive makes a key, or a number that is always the same, for one use.
func (s Sealer) Derive(use string) []byte {
	m := hmac.New(sha256.New, s.key)
	m.Write([]byte(use))
	return m.Sum(nil)
}

// Seal encrypts a secret of a user.
func (s Sealer) Seal(user identity.ID, secret []byte) []byte {
	return s.aead.Seal(nil, nil, secret, binary.BigEndian.AppendUint64(nil, uint64(user)))
}

// Open gives what Seal was given.
func (s Sealer) Open(user identity.ID, sealed []byte) ([]byte, error) {
	return s.aead.Open(nil, nil, sealed, binary.BigEndian.AppendUint64(nil, uint64(user)))
}

// SealFor does the same for a secret that belongs to something else than a user, said by name.
func (s Sealer) SealFor(what, secret string) []byte {
	return s.aead.Seal(nil, nil, []byte(secret), []byte("for "+what))
}

// OpenFor gives what SealFor was given.
func (s Sealer) OpenFor(what string, sealed []byte) (string, error) {
	secret, err := s.aead.Open(nil, nil, sealed, []byte("for "+what))
	return string(secret), err
}

// NTHash is NTOWFv1 of MS-NLMP section 3.3.1: what NTLMv2 proves knowledge of.
func NTHash(password string) []byte {
	h := md4.New()
	for _, unit := range utf16.Encode([]rune(password)) {
		h.Write([]byte{byte(unit), byte(unit >> 8)})
	}
	return h.Sum(nil)
}

const (
	argonTime    = 2
	argonMemory  = 19 * 1024 // KiB
	argonThreads = 1
)

// cost is what a new hash takes: passes, and KiB of memory.
var cost = struct{ time, memory uint32 }{argonTime, argonMemory}

// Cheap has hashes cost next to nothing from now on, for tests that make many accounts and ask nothing about what guessing costs. It must not be called
// anywhere else, and panics where no test is running; the first time, nothing may be hashed yet.
func Cheap() {
	if !testing.Testing() {
		panic("secret: cheap hashes are for tests")
	}
	cheap.Do(func() { cost.time, cost.memory = 1, 64 })
}

var cheap sync.Once

// hashing bounds how many passwords are hashed at once: each takes argonMemory.
var hashing = make(chan struct{}, 4)

func argon(password string, salt []byte, time, memory uint32, threads uint8, size uint32) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, time, memory, threads, size)
}

// Hash gives an argon2id hash (RFC 9106) in the PHC string form.
func Hash(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	b64 := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, cost.memory, cost.time, argonThreads,
		b64(salt), b64(argon(password, salt, cost.time, cost.memory, argonThreads, 32)))
}

// Check compares in constant time. An empty or foreign hash takes as long as
// a real one, so that timing does not tell which accounts exist.
func Check(hash, password string) bool {
	if parts := strings.Split(hash, "$"); len(parts) == 6 && parts[1] == "argon2id" {
		salt, _ := base64.RawStdEncoding.DecodeString(parts[4])
		want, _ := base64.RawStdEncoding.DecodeString(parts[5])
		var memory, time, threads uint32
		_, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &time, &threads)
		// A damaged record must neither bring the service down nor take more of the machine than ours do.
		within := func(n, least, most uint32) bool { return least <= n && n <= most }
		if err == nil && within(memory, 8, 4*argonMemory) && within(time, 1, 4*argonTime) && within(threads, 1, 4) && within(uint32(len(want)), 16, 64) {
			got := argon(password, salt, time, memory, uint8(threads), uint32(len(want)))
			return subtle.ConstantTimeCompare(got, want) == 1
		}
	}
	argon(password, make([]byte, 16), cost.time, cost.memory, argonThreads, 32)
	return false
}

// ShortCode is for a person to read off a terminal and type once.
func ShortCode() string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789" // none that look alike
	raw := make([]byte, 12)
	rand.Read(raw)
	var b strings.Builder
	for i, c := range raw {
		if i > 0 && i%4 == 0 {
			b.WriteByte('-')
		}
		b.WriteByte(letters[int(c)%len(letters)])
	}
	return b.String()
}
