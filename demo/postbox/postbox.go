// Package postbox is a stand-in for a mail server: it takes mail over SMTP with STARTTLS (RFC 5321, RFC 3207) and puts each into a file. It
// sends nothing anywhere.
package postbox

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// What it takes of one mail, and of how many it keeps the last.
const (
	mostBytes = 1 << 20
	mostMails = 1000
)

// Box is one that is open.
type Box struct {
	Address string // HOST:PORT
	Trust   string // its certificate, PEM
	dir     string
	server  *smtp.Server

	mu       sync.Mutex
	number   int
	user     string
	password string
	refuse   func(to string) error
}

// Open opens one that puts mails into a directory, as 0001.eml and so on. Where mail is handed in is an address such as 127.0.0.1:0.
func Open(dir, listen string) (*Box, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	cert, trust, err := certificate(filepath.Join(dir, "postbox.pem"))
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, err
	}
	b := &Box{Address: l.Addr().String(), Trust: trust, dir: dir}
	have, err := filepath.Glob(filepath.Join(dir, "*.eml"))
	if err == nil && len(have) > 0 {
		_, err = fmt.Sscanf(filepath.Base(have[len(have)-1]), "%d.eml", &b.number)
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	b.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }))
	b.server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	b.server.Domain = "localhost"
	b.server.MaxMessageBytes, b.server.MaxRecipients, b.server.MaxLineLength = mostBytes, 10, 2000
	b.server.ReadTimeout, b.server.WriteTimeout = 30*time.Second, 30*time.Second
	b.server.ErrorLog = quiet{}
	go func() { _ = b.server.Serve(l) }()
	return b, nil
}

// quiet says nothing: what goes wrong is seen by whoever hands mail in.
type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

// Close closes it.
func (b *Box) Close() error { return b.server.Close() }

// Ask has it take mail from one user only.
func (b *Box) Ask(user, password string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.user, b.password = user, password
}

// Refuse has it refuse mail to some, as a function says; nil for none.
func (b *Box) Refuse(by func(to string) error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.refuse = by
}

// Mails gives all that it holds, oldest first.
func (b *Box) Mails() ([]string, error) {
	names, err := filepath.Glob(filepath.Join(b.dir, "*.eml"))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		out = append(out, string(raw))
	}
	return out, nil
}

func (b *Box) keep(raw []byte) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.number++
	name := func(n int) string { return filepath.Join(b.dir, fmt.Sprintf("%04d.eml", n)) }
	if err := os.Remove(name(b.number - mostMails)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return os.WriteFile(name(b.number), raw, 0o600)
}

// session is one mail being handed in.
type session struct {
	box    *Box
	signed bool
}

func (s *session) Reset()        {}
func (s *session) Logout() error { return nil }

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		s.box.mu.Lock()
		defer s.box.mu.Unlock()
		if user != s.box.user || password != s.box.password {
			return smtp.ErrAuthFailed
		}
		s.signed = true
		return nil
	}), nil
}

func (s *session) Mail(string, *smtp.MailOptions) error {
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	if s.box.user != "" && !s.signed {
		return smtp.ErrAuthRequired
	}
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	if s.box.refuse != nil {
		return s.box.refuse(to)
	}
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, mostBytes))
	if err != nil {
		return err
	}
	return s.box.keep(raw)
}

// certificate takes up the one that was made for the box, or makes one.
func certificate(path string) (cert tls.Certificate, trust string, err error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		if raw, err = newCertificate(); err == nil {
			err = os.WriteFile(path, raw, 0o600)
		}
	}
	if err != nil {
		return cert, "", err
	}
	if cert, err = tls.X509KeyPair(raw, raw); err != nil {
		return cert, "", err
	}
	return cert, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Certificate[0]})), nil
}

func newCertificate() ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	about := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "postbox, made up"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(10, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...), nil
}
