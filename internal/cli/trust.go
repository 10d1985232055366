package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/whole"
)

// A certificate that no authority which this machine knows has signed is taken where its fingerprint is known: from before, from --fingerprint, or
// from somebody who is asked and compares it with what the service printed.

// strange is a certificate that nobody vouches for.
type strange struct {
	fingerprint string
	known       string // that of the one that was known before; "" for none
}

func (s *strange) Error() string { return "the certificate is not known" }

// transport is how the client connects.
func (c *client) transport(certificate, key, fingerprint string) (*http.Transport, error) {
	with := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: c.base.Hostname()}
	if certificate != "" || key != "" {
		pair, err := tls.LoadX509KeyPair(certificate, key)
		if err != nil {
			return nil, usage("the certificate in %q and the key in %q cannot be used: both are PEM files, and the key is that of the certificate", certificate, key)
		}
		with.Certificates = []tls.Certificate{pair}
	}
	if fingerprint != "" {
		if c.pin = certs.ReadFingerprint(fingerprint); c.pin == "" {
			return nil, usage("%q is no fingerprint: it is the SHA-256 of a certificate, 64 hexadecimal digits", fingerprint)
		}
	} else {
		c.pin = storedPins()[c.base.String()]
	}
	with.InsecureSkipVerify = true // it is verified here, so that a fingerprint can stand in for an authority
	with.VerifyConnection = func(is tls.ConnectionState) error { return c.verify(is) }
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = with
	return t, nil
}

// verify takes a certificate whose fingerprint is known, and where none is known one that an authority has signed for the name.
func (c *client) verify(is tls.ConnectionState) error {
	leaf := is.PeerCertificates[0]
	fingerprint := certs.Fingerprint(leaf.Raw)
	if c.pin != "" {
		if fingerprint != c.pin {
			return &strange{fingerprint, c.pin}
		}
		return nil
	}
	opts := x509.VerifyOptions{DNSName: c.base.Hostname(), Intermediates: x509.NewCertPool()}
	for _, between := range is.PeerCertificates[1:] {
		opts.Intermediates.AddCert(between)
	}
	if _, err := leaf.Verify(opts); err != nil {
		return &strange{fingerprint, ""}
	}
	return nil
}

// unknown turns a certificate that is not known into what to do about it. On a terminal somebody is asked, once.
func (a *app) unknown(s *strange) error {
	base := a.client.base.String()
	if s.known != "" {
		return &failure{code: exitUnreachable, msg: fmt.Sprintf("%s shows another certificate than the one that was known. Somebody may stand between. It shows %s; known is %s. "+
			"Where the service was given another on purpose, compare the fingerprint with what it prints, and take it", base, s.fingerprint, s.known), next: "amber --url " + base + " certificate trust " + s.fingerprint}
	}
	f := &failure{code: exitUnreachable, msg: fmt.Sprintf("%s shows a certificate that nobody whom this machine knows has signed, of the fingerprint %s. Compare it with what the service printed when it started", base, s.fingerprint),
		next: "amber --url " + base + " certificate trust " + s.fingerprint}
	if !a.terminal {
		return f
	}
	first, second := halves(s.fingerprint)
	fmt.Fprintf(a.err, "%s shows a certificate that nobody whom this machine knows has signed. Its fingerprint is\n\n  %s\n  %s\n\nIs it what the service printed when it started? [y/N] ", base, first, second)
	if !a.yes() {
		return f
	}
	if err := storePin(base, s.fingerprint); err != nil {
		return err
	}
	a.client.pin = s.fingerprint
	return nil
}

// trust takes the certificate that the service shows now, where it is the one that is meant.
func (a *app) trust(ctx context.Context, args []string) error {
	if a.client.base.Scheme != "https" {
		return usage("%s is not asked by TLS, and shows no certificate: --url https://…", a.client.base)
	}
	want := ""
	if len(args) > 0 {
		if want = certs.ReadFingerprint(args[0]); want == "" {
			return usage("%q is no fingerprint: it is the SHA-256 of a certificate, 64 hexadecimal digits", args[0])
		}
	}
	host := a.client.base.Host
	if a.client.base.Port() == "" {
		host = net.JoinHostPort(host, "443")
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	dialer := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}} // only what it shows is looked at
	conn, err := dialer.DialContext(ctx, "tcp", host)
	if err != nil {
		return &failure{code: exitUnreachable, msg: fmt.Sprintf("no service answers at %s by TLS%s", a.client.base, whyNot(err))}
	}
	defer conn.Close()
	shown := certs.Fingerprint(conn.(*tls.Conn).ConnectionState().PeerCertificates[0].Raw)
	switch {
	case want == "":
		a.client.pin = ""
		return a.unknown(&strange{fingerprint: shown})
	case want != shown:
		return &failure{code: exitFailed, msg: fmt.Sprintf("%s shows another certificate: %s", a.client.base, shown)}
	}
	if err := storePin(a.client.base.String(), shown); err != nil {
		return err
	}
	fmt.Fprintln(a.out, "the certificate of", a.client.base, "is known from now on")
	return nil
}

func pinFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "amber-gatekeeper", "certificates.json"), err
}

// storedPins are the fingerprints of certificates that were taken, by address.
func storedPins() map[string]string { return storedTexts(pinFile) }

// storePin keeps one for an address; "" forgets it.
func storePin(base, fingerprint string) error { return storeText(pinFile, base, fingerprint) }

// storedTexts reads a file of texts by address; nothing where there is nothing.
func storedTexts(file func() (string, error)) map[string]string {
	out := make(map[string]string)
	if name, err := file(); err == nil {
		if raw, err := os.ReadFile(name); err == nil {
			_ = json.Unmarshal(raw, &out)
		}
	}
	return out
}

// storeText keeps a text for an address in a file that its owner alone may read; "" forgets it.
func storeText(file func() (string, error), base, text string) error {
	name, err := file()
	if err != nil {
		return err
	}
	all := storedTexts(file)
	if all[base] = text; text == "" {
		delete(all, base)
	}
	raw, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	return whole.Write(name, raw)
}
