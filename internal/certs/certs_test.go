package certs

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// pair writes a certificate for a name that is valid from a moment on, with its key.
func pair(t *testing.T, dir string, now time.Time, name string) Files {
	t.Helper()
	certificate, key, err := SignItself(now, []string{name})
	require.NoError(t, err)
	f := Files{Certificate: filepath.Join(dir, "c.pem"), Key: filepath.Join(dir, "k.pem"), State: dir}
	require.NoError(t, os.WriteFile(f.Certificate, certificate, 0o600))
	require.NoError(t, os.WriteFile(f.Key, key, 0o600))
	return f
}

// shown is the fingerprint of what a client of this keeper is shown now.
func shown(t *testing.T, k *Keeper, with *tls.Config) (string, error) {
	t.Helper()
	a, b := net.Pipe()
	server := tls.Server(b, k.TLS())
	done := make(chan error, 1)
	go func() { done <- server.Handshake(); server.Close() }()
	with.InsecureSkipVerify = true
	client := tls.Client(a, with)
	defer client.Close()
	if err := client.Handshake(); err != nil {
		return "", err
	}
	fingerprint := Fingerprint(client.ConnectionState().PeerCertificates[0].Raw)
	one := make([]byte, 1)
	_, _ = client.Read(one) // what the server makes of the client's certificate is only known then (TLS 1.3)
	return fingerprint, <-done
}

func TestWhatIsWrongWithACertificate(t *testing.T) {
	now := time.Now()
	sound := pair(t, t.TempDir(), now, "gateway.larkfell.example")
	other := pair(t, t.TempDir(), now, "other.larkfell.example")
	soon := pair(t, t.TempDir(), now.Add(48*time.Hour), "gateway.larkfell.example")
	past := pair(t, t.TempDir(), now.Add(-6*365*24*time.Hour), "gateway.larkfell.example")
	half := pair(t, t.TempDir(), now, "gateway.larkfell.example")
	raw, err := os.ReadFile(half.Certificate)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(half.Certificate, raw[:len(raw)/2], 0o600))
	swapped := Files{Certificate: sound.Key, Key: sound.Certificate}
	for _, c := range []struct {
		files Files
		file  string
		says  string
	}{
		{Files{Certificate: sound.Certificate, Key: other.Key}, other.Key, "not the key of the certificate"},
		{soon, soon.Certificate, "valid only from"}, {past, past.Certificate, "has ended on"}, {half, half.Certificate, "no whole certificate"},
		{swapped, swapped.Certificate, "no whole certificate"},
		{Files{Certificate: sound.Certificate, Key: "/nowhere"}, "/nowhere", "there is none"}, {Files{Certificate: t.TempDir(), Key: sound.Key}, "", "it is no file"},
		{Files{Certificate: "/dev/zero", Key: sound.Key}, "/dev/zero", "it is no file"},
		{Files{Certificate: sound.Certificate, Key: sound.Key, Authorities: sound.Key}, sound.Key, "no certificate in it"},
	} {
		_, err := Open(c.files, slog.New(slog.DiscardHandler))
		var wrong *Fault
		require.ErrorAs(t, err, &wrong, c.says)
		require.Contains(t, wrong.Says, c.says)
		if c.file != "" {
			require.Equal(t, c.file, wrong.File)
		}
	}
}

// What comes into the files is in force soon after, without anybody being asked; half a file is not, and then the one before stays.
func TestAFileIsReadAgain(t *testing.T) {
	dir, now := t.TempDir(), time.Now()
	files := pair(t, dir, now, "one.larkfell.example")
	k, err := Open(files, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	k.clock = func() time.Time { return now }
	first, err := shown(t, k, &tls.Config{})
	require.NoError(t, err)
	require.Equal(t, k.Standing().Fingerprint, first)

	whole, err := os.ReadFile(files.Certificate)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(files.Certificate, whole[:100], 0o600))
	now = now.Add(lookAgain)
	is, err := shown(t, k, &tls.Config{})
	require.NoError(t, err)
	require.Equal(t, first, is, "the one before stays")
	require.Contains(t, k.Standing().Trouble, "no whole certificate")

	pair(t, dir, now, "two.larkfell.example")
	now = now.Add(lookAgain)
	is, err = shown(t, k, &tls.Config{})
	require.NoError(t, err)
	require.NotEqual(t, first, is)
	require.Contains(t, k.Standing().Names, "two.larkfell.example")
	require.Empty(t, k.Standing().Trouble)
	require.Error(t, k.Use(Files{Certificate: "/nowhere", Key: "/nowhere"}), "other files that are not there are not taken up")
	again, err := shown(t, k, &tls.Config{})
	require.NoError(t, err)
	require.Equal(t, is, again)
}

// A certificate of its own stays over restarts, is for its owner alone, and is signed anew before it ends, and where half of it is lost.
func TestOneOfItsOwn(t *testing.T) {
	dir := t.TempDir()
	files := Files{State: dir, Names: []string{"gateway.larkfell.example", "192.0.2.9"}}
	k, err := Open(files, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	is := k.Standing()
	require.True(t, is.Own)
	require.Subset(t, is.Names, []string{"localhost", "127.0.0.1", "::1", "gateway.larkfell.example", "192.0.2.9"})
	for _, name := range []string{OwnFile, OwnKeyFile} {
		st, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		require.Zero(t, st.Mode().Perm()&0o077)
	}
	again, err := Open(files, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.Equal(t, is.Fingerprint, again.Standing().Fingerprint)
	require.NoError(t, os.Remove(filepath.Join(dir, OwnKeyFile)))
	anew, err := Open(files, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NotEqual(t, is.Fingerprint, anew.Standing().Fingerprint)

	late := anew.Standing().Until.Add(-ownAgain + time.Hour)
	anew.clock = func() time.Time { return late }
	require.NotEqual(t, anew.force.Load().pair.Leaf.NotAfter, anew.Standing().Until, "signed anew before it ends")
}

// A client's certificate is taken where its authority is known and turned down where it is not; and who has none connects without.
func TestCertificatesOfClients(t *testing.T) {
	dir := t.TempDir()
	files := pair(t, dir, time.Now(), "gateway.larkfell.example")
	known := pair(t, t.TempDir(), time.Now(), "desk.larkfell.example")
	files.Authorities = known.Certificate
	k, err := Open(files, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.True(t, k.AsksClients())
	_, err = shown(t, k, &tls.Config{})
	require.NoError(t, err)
	stranger, err := tls.LoadX509KeyPair(files.Certificate, files.Key)
	require.NoError(t, err)
	_, err = shown(t, k, &tls.Config{GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return &stranger, nil }})
	require.Error(t, err)
}

func TestOnlyTLSOneTwoAndUp(t *testing.T) {
	k, err := Open(Files{State: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	_, err = shown(t, k, &tls.Config{MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11})
	require.Error(t, err)
}

// Names are kept to TLS only where an authority has signed for them.
func TestFirmNames(t *testing.T) {
	k, err := Open(Files{State: t.TempDir(), Names: []string{"gateway.larkfell.example"}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.False(t, k.Firm("gateway.larkfell.example"), "signed by itself")
	signed := signedBy(t, "gateway.larkfell.example")
	k, err = Open(signed, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.True(t, k.Firm("gateway.larkfell.example"))
	for _, name := range []string{"other.larkfell.example", "gateway", "localhost", "127.0.0.1", "x.localhost", ""} {
		require.False(t, k.Firm(name), name)
	}
}

// signedBy writes a certificate that an authority has signed for a name.
func signedBy(t *testing.T, name string) Files {
	t.Helper()
	ca, caKey, err := SignItself(time.Now(), nil)
	require.NoError(t, err)
	authority, err := tls.X509KeyPair(ca, caKey)
	require.NoError(t, err)
	certificate, key, err := SignItself(time.Now(), []string{name})
	require.NoError(t, err)
	leaf, err := tls.X509KeyPair(certificate, key)
	require.NoError(t, err)
	form := *leaf.Leaf
	form.RawSubject, form.Subject.CommonName, form.IsCA, form.KeyUsage = nil, name, false, x509.KeyUsageDigitalSignature
	der, err := x509.CreateCertificate(rand.Reader, &form, authority.Leaf, leaf.Leaf.PublicKey, authority.PrivateKey)
	require.NoError(t, err)
	f := Files{Certificate: filepath.Join(t.TempDir(), "c.pem"), Key: filepath.Join(t.TempDir(), "k.pem")}
	require.NoError(t, os.WriteFile(f.Certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(f.Key, key, 0o600))
	return f
}

func TestFingerprintsHoweverTheyAreTyped(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		is := Fingerprint(rapid.SliceOf(rapid.Byte()).Draw(r, "certificate"))
		for _, typed := range []string{is, strings.ToLower(is), strings.ReplaceAll(is, ":", ""), "sha256:" + is, " " + strings.ReplaceAll(is, ":", " ") + "\n"} {
			require.Equal(r, is, ReadFingerprint(typed), typed)
		}
		require.Empty(r, ReadFingerprint(is[1:]))
		require.Empty(r, ReadFingerprint(is+":00"))
	})
	require.Empty(t, ReadFingerprint(strings.Repeat("zz", 32)))
}

// Whatever stands in the files, it is a pair or a fault.
func FuzzPair(f *testing.F) {
	certificate, key, err := SignItself(time.Now(), nil)
	require.NoError(f, err)
	f.Add(certificate, key)
	f.Add(bytes.Replace(certificate, []byte("CERT"), []byte("cert"), 1), key)
	f.Add(key, certificate)
	f.Fuzz(func(t *testing.T, certificate, key []byte) {
		if pair, err := pairOf(certificate, key, Files{Certificate: "c", Key: "k"}, time.Now()); err == nil {
			require.NotNil(t, pair.Leaf)
		}
	})
}
