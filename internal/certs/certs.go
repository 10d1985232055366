// Package certs keeps the certificate of the console: one that was given by file and is read again when its file changes, or one that the
// service signs itself, of which clients know the fingerprint.
package certs

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/whole"
)

// Names of the files in the state directory, of the certificate that the service signs itself.
const (
	OwnFile    = "console.crt"
	OwnKeyFile = "console.key"
)

const (
	ownLasts = 5 * 365 * 24 * time.Hour
	// ownAgain is how long before its end the service signs itself another.
	ownAgain = 30 * 24 * time.Hour
	// mostPEM is how long a file of certificates or keys may be, in bytes.
	mostPEM = 1 << 20
	// lookAgain is how long files are not looked at again after they were.
	lookAgain = 2 * time.Second
)

// Files says where the certificate, its key, and who signs those of clients are. Without a certificate the service signs one itself.
type Files struct {
	Certificate, Key string
	Authorities      string // of clients; "" for none
	State            string // where one that is signed here is kept
	Names            []string
}

// Keeper keeps what is in force: the last that was sound.
type Keeper struct {
	log   *slog.Logger
	clock func() time.Time

	mu     sync.Mutex
	files  Files
	seen   [3]stamp // as the files were when they were read
	looked time.Time

	force   atomic.Pointer[inForce]
	trouble atomic.Pointer[string] // why what is in the files now is not in force
}

type inForce struct {
	pair        *tls.Certificate
	authorities *x509.CertPool // nil: certificates of clients are not asked for
	own         bool
}

// stamp tells a file from what was there before.
type stamp struct {
	size  int64
	mtime time.Time
	inode uint64
}

// Standing is how the certificate stands.
type Standing struct {
	Own         bool // the service signed it itself
	Subject     string
	Names       []string
	From, Until time.Time
	Fingerprint string // SHA-256 of the certificate, in hexadecimal by pairs
	Trouble     string // why what is in the files is not what is in force
	Clients     bool   // clients' certificates are asked for
}

// Open reads the certificate, or makes one. What is wrong with it is an error that names the file.
func Open(files Files, log *slog.Logger) (*Keeper, error) {
	k := &Keeper{files: files, log: log, clock: time.Now}
	if err := k.read(); err != nil {
		return nil, err
	}
	return k, nil
}

// Fault is what is wrong with one of the files.
type Fault struct {
	File string
	Says string
}

func (f *Fault) Error() string { return f.File + ": " + f.Says }

func fault(file, says string, args ...any) error { return &Fault{file, fmt.Sprintf(says, args...)} }

// Use takes up other files; those before stay in force where they are not sound.
func (k *Keeper) Use(files Files) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	was := k.files
	k.files = files
	if err := k.readLocked(); err != nil {
		k.files = was
		k.note(err)
		return err
	}
	return nil
}

// Again reads the files again.
func (k *Keeper) Again() error {
	err := k.read()
	k.note(err)
	return err
}

func (k *Keeper) read() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.readLocked()
}

func (k *Keeper) note(err error) {
	if err == nil {
		return
	}
	says := err.Error()
	if was := k.trouble.Swap(&says); was == nil || *was != says {
		k.log.Warn("the certificate stays as it was", "why", says)
	}
}

func (k *Keeper) readLocked() error {
	f := k.files
	k.looked = k.clock()
	k.seen = f.stamps()
	next := &inForce{own: f.Certificate == ""}
	var err error
	if next.own {
		next.pair, err = k.ownPair()
	} else {
		next.pair, err = k.givenPair()
	}
	if err != nil {
		return err
	}
	if f.Authorities != "" {
		if next.authorities, err = authorities(f.Authorities); err != nil {
			return err
		}
	}
	was := k.force.Swap(next)
	k.trouble.Store(nil)
	if was != nil && !bytes.Equal(was.pair.Certificate[0], next.pair.Certificate[0]) {
		k.log.Info("another certificate is in force", "fingerprint", Fingerprint(next.pair.Certificate[0]), "until", next.pair.Leaf.NotAfter)
	}
	return nil
}

func (f Files) stamps() (out [3]stamp) {
	for i, name := range []string{f.Certificate, f.Key, f.Authorities} {
		if st, err := os.Stat(name); name != "" && err == nil {
			out[i] = stamp{st.Size(), st.ModTime(), inode(st)}
		}
	}
	return out
}

// Current reads the files again where they have changed, and gives what is in force.
func (k *Keeper) current() *inForce {
	if k.mu.TryLock() {
		if now := k.clock(); now.Sub(k.looked) >= lookAgain || now.Before(k.looked) {
			k.looked = now
			ends := k.force.Load().own && k.force.Load().pair.Leaf.NotAfter.Sub(now) < ownAgain
			if k.files.stamps() != k.seen || ends {
				k.note(k.readLocked())
			}
		}
		k.mu.Unlock()
	}
	return k.force.Load()
}

// Standing is how the certificate stands now.
func (k *Keeper) Standing() Standing {
	is := k.current()
	leaf := is.pair.Leaf
	out := Standing{Own: is.own, Subject: plain.Text(leaf.Subject.CommonName), From: leaf.NotBefore, Until: leaf.NotAfter, Fingerprint: Fingerprint(leaf.Raw), Clients: is.authorities != nil}
	for _, n := range leaf.DNSNames {
		out.Names = append(out.Names, plain.Text(n))
	}
	for _, ip := range leaf.IPAddresses {
		out.Names = append(out.Names, ip.String())
	}
	if t := k.trouble.Load(); t != nil {
		out.Trouble = *t
	}
	return out
}

// Firm says whether browsers may be told to come by TLS alone from now on: who asks for this name gets a certificate that
// an authority signed for it.
func (k *Keeper) Firm(name string) bool {
	is := k.force.Load()
	if _, err := netip.ParseAddr(name); err == nil || is.own || !strings.Contains(name, ".") || strings.HasSuffix(name, ".localhost") {
		return false
	}
	leaf := is.pair.Leaf
	return !bytes.Equal(leaf.RawIssuer, leaf.RawSubject) && leaf.VerifyHostname(name) == nil
}

// AsksClients says whether clients are asked for certificates.
func (k *Keeper) AsksClients() bool { return k.force.Load().authorities != nil }

// TLS is what a server speaks with: TLS 1.2 and up, each connection with what is in force when it begins.
func (k *Keeper) TLS() *tls.Config {
	base := &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}
	base.GetCertificate = func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return k.current().pair, nil }
	base.GetConfigForClient = func(*tls.ClientHelloInfo) (*tls.Config, error) {
		is := k.current()
		if is.authorities == nil {
			return nil, nil
		}
		with := base.Clone()
		with.GetConfigForClient = nil
		with.ClientAuth, with.ClientCAs = tls.VerifyClientCertIfGiven, is.authorities
		// A session that was begun under other authorities is not taken up again.
		with.SessionTicketsDisabled = true
		return with, nil
	}
	return base
}

func readFile(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fault(name, "it cannot be read: %s", plain.Reason(err))
	}
	defer f.Close()
	if st, err := f.Stat(); err == nil && !st.Mode().IsRegular() {
		return nil, fault(name, "it is no file")
	}
	raw, err := io.ReadAll(io.LimitReader(f, mostPEM+1))
	if err != nil {
		return nil, fault(name, "it cannot be read: %s", plain.Reason(err))
	}
	if len(raw) > mostPEM {
		return nil, fault(name, "it is longer than 1 MiB")
	}
	return raw, nil
}

// givenPair reads the pair that was given by file.
func (k *Keeper) givenPair() (*tls.Certificate, error) {
	certificate, err := readFile(k.files.Certificate)
	if err != nil {
		return nil, err
	}
	key, err := readFile(k.files.Key)
	if err != nil {
		return nil, err
	}
	return pairOf(certificate, key, k.files, k.clock())
}

// pairOf checks that a certificate can be read, is valid by now, and fits its key.
func pairOf(certificate, key []byte, f Files, now time.Time) (*tls.Certificate, error) {
	var leaf *x509.Certificate
	rest := certificate
	for leaf == nil {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return nil, fault(f.Certificate, "there is no whole certificate in it (PEM)")
		}
		if block.Type != "CERTIFICATE" {
			continue
		}
		var err error
		if leaf, err = x509.ParseCertificate(block.Bytes); err != nil {
			return nil, fault(f.Certificate, "its first certificate cannot be read")
		}
	}
	if block, _ := pem.Decode(key); block == nil {
		return nil, fault(f.Key, "there is no whole key in it (PEM)")
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		return nil, fault(f.Key, "it is not the key of the certificate in %s", f.Certificate)
	}
	if now.Before(leaf.NotBefore) {
		return nil, fault(f.Certificate, "it is valid only from %s on", leaf.NotBefore.UTC().Format("2 Jan 2006 15:04 UTC"))
	}
	if now.After(leaf.NotAfter) {
		return nil, fault(f.Certificate, "it has ended on %s", leaf.NotAfter.UTC().Format("2 Jan 2006 15:04 UTC"))
	}
	pair.Leaf = leaf
	return &pair, nil
}

// ownPair reads the pair that the service signed itself, and makes one where there is none that is good for a while.
func (k *Keeper) ownPair() (*tls.Certificate, error) {
	f := Files{Certificate: filepath.Join(k.files.State, OwnFile), Key: filepath.Join(k.files.State, OwnKeyFile)}
	certificate, err := os.ReadFile(f.Certificate)
	key, keyErr := os.ReadFile(f.Key)
	if err == nil && keyErr == nil {
		pair, err := pairOf(certificate, key, f, k.clock())
		if err == nil && pair.Leaf.NotAfter.Sub(k.clock()) >= ownAgain {
			return pair, nil
		}
		k.log.Warn("the service signs itself another certificate: those who know it by its fingerprint are to be told", "was", f.Certificate)
	} else if both := errors.Join(err, keyErr); !errors.Is(err, os.ErrNotExist) && !errors.Is(keyErr, os.ErrNotExist) {
		return nil, fault(f.Certificate, "it cannot be read: %s", plain.Reason(both))
	}
	certificate, key, err = SignItself(k.clock(), k.files.Names)
	if err != nil {
		return nil, err
	}
	// The key first: a certificate without its key is made anew.
	if err := whole.Write(f.Key, key); err != nil {
		return nil, fault(f.Key, "it cannot be written: %s", plain.Reason(err))
	}
	if err := whole.Write(f.Certificate, certificate); err != nil {
		return nil, fault(f.Certificate, "it cannot be written: %s", plain.Reason(err))
	}
	return pairOf(certificate, key, f, k.clock())
}

// SignItself makes a key (ECDSA P-256) and a certificate for it that is signed by itself, for the names given, this host's and loopback.
func SignItself(now time.Time, names []string) (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, nil, err
	}
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "localhost"
	}
	form := x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: host, Organization: []string{"Amber Gatekeeper"}},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(ownLasts),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, IsCA: true}
	for _, n := range append([]string{host, "localhost", "127.0.0.1", "::1"}, names...) {
		if ip := net.ParseIP(n); ip != nil {
			form.IPAddresses = append(form.IPAddresses, ip)
		} else {
			form.DNSNames = append(form.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, &form, &form, &private.PublicKey, private)
	if err != nil {
		return nil, nil, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), nil
}

// Fingerprint is the SHA-256 of a certificate (DER), in hexadecimal by pairs.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return pairs(sum[:])
}

// pairs spells bytes in hexadecimal, with colons between.
func pairs(raw []byte) string {
	var b strings.Builder
	for i, c := range raw {
		if i > 0 {
			b.WriteByte(':')
		}
		fmt.Fprintf(&b, "%02X", c)
	}
	return b.String()
}

// ReadFingerprint reads one however it is typed: with colons, spaces or neither, in any case, "sha256:" before it or not; "" for what is none.
func ReadFingerprint(s string) string {
	s = strings.ToUpper(strings.TrimSpace(s))
	s = strings.TrimPrefix(strings.TrimPrefix(s, "SHA256:"), "SHA-256:")
	raw, err := hex.DecodeString(strings.NewReplacer(":", "", " ", "").Replace(s))
	if err != nil || len(raw) != sha256.Size {
		return ""
	}
	return pairs(raw)
}

// CheckAuthorities says what is wrong with a file of certificates of who signs those of clients.
func CheckAuthorities(name string) error {
	_, err := authorities(name)
	return err
}

func authorities(name string) (*x509.CertPool, error) {
	raw, err := readFile(name)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(raw) {
		return nil, fault(name, "there is no certificate in it (PEM)")
	}
	return pool, nil
}
