package notice

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
)

// Security says how a mail server is spoken to.
type Security string

// The ways there are. A name and a password are only said over TLS.
const (
	StartTLS Security = "starttls" // RFC 3207; without it nothing is sent
	TLS      Security = "tls"      // from the first byte on, RFC 8314
	NoTLS    Security = "none"
)

// Server is where mail is handed in.
type Server struct {
	Address  string // HOST:PORT
	Security Security
	Trust    *x509.CertPool // who may vouch for it; nil for those the host trusts
	User     string         // "" for nobody: no password is asked for
	Password string
	From     string
}

// Letter is one mail to one address.
type Letter struct {
	ID            string // the same whenever it is tried again
	To            string
	Subject, Text string
}

// Failure is why something was not brought to somebody, in words.
type Failure struct {
	Words string
	// Final says that trying again is of no use; All that nothing else can be brought there now either.
	Final, All bool
}

func (f *Failure) Error() string { return f.Words }

// ParseTrust reads certificates in PEM.
func ParseTrust(pem string) (*x509.CertPool, error) {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(pem)) {
		return nil, errors.New("there is no certificate in it; it takes PEM")
	}
	return pool, nil
}

const (
	mailPatience = 15 * time.Second // for each answer of the server
	mostReplies  = 1 << 20          // bytes that a server may say in one connection
)

// Send hands letters in, over one connection. It gives a *Failure for each that was not taken, nil for others.
func Send(ctx context.Context, s Server, letters []Letter) []error {
	errs := make([]error, len(letters))
	all := func(from int, err error) []error {
		for i := from; i < len(errs); i++ {
			errs[i] = err
		}
		return errs
	}
	client, err := s.client(ctx)
	if err != nil {
		return all(0, &Failure{Words: err.Error(), Final: true, All: true})
	}
	if err := client.DialWithContext(ctx); err != nil {
		return all(0, s.failed(ctx, err))
	}
	defer client.Close()
	for i, l := range letters {
		msg, err := s.compose(l)
		if err != nil {
			errs[i] = &Failure{Words: err.Error(), Final: true}
			continue
		}
		err = client.Send(msg)
		if err == nil || msg.IsDelivered() { // it may have failed at what comes after
			continue
		}
		refused := msg.SendError()
		var sent *mail.SendError
		if errors.As(refused, &sent) && sent.ErrorCode() != 0 {
			errs[i] = &Failure{Words: fmt.Sprintf("the mail server refused it for %s: %s", l.To, reply(refused)), Final: !sent.IsTemp()}
			continue
		}
		return all(i, s.failed(ctx, err))
	}
	return errs
}

func (s Server) client(ctx context.Context) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, fmt.Errorf("%q is not HOST:PORT", s.Address)
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("%q is no port", port)
	}
	options := []mail.Option{
		mail.WithPort(n), mail.WithTimeout(mailPatience), mail.WithoutNoop(),
		mail.WithTLSConfig(&tls.Config{ServerName: host, RootCAs: s.Trust, MinVersion: tls.VersionTLS12}),
		mail.WithDialContextFunc(func(dial context.Context, network, address string) (net.Conn, error) {
			var d net.Dialer
			conn, err := d.DialContext(dial, network, address)
			if err != nil {
				return nil, err
			}
			stop := context.AfterFunc(ctx, func() { conn.Close() })
			bounded := &talk{Conn: conn, left: mostReplies, stop: stop}
			if s.Security != TLS {
				return bounded, nil
			}
			secure := tls.Client(bounded, &tls.Config{ServerName: host, RootCAs: s.Trust, MinVersion: tls.VersionTLS12})
			if err := secure.HandshakeContext(dial); err != nil {
				conn.Close()
				return nil, err
			}
			return secure, nil
		}),
	}
	switch s.Security {
	case StartTLS:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case NoTLS:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	case TLS:
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic)) // it is below already, which is looked for then
	default:
		return nil, fmt.Errorf("%q is not one of starttls, tls, none", s.Security)
	}
	if s.User != "" {
		if s.Security == NoTLS {
			return nil, errors.New("a password is not sent without TLS")
		}
		options = append(options, mail.WithUsername(s.User), mail.WithPassword(s.Password), mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover))
	}
	return mail.NewClient(host, options...)
}

func (s Server) compose(l Letter) (*mail.Msg, error) {
	msg := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := msg.From(s.From); err != nil {
		return nil, fmt.Errorf("%q is no mail address", s.From)
	}
	if err := msg.To(l.To); err != nil {
		return nil, fmt.Errorf("%q is no mail address", l.To)
	}
	_, domain, _ := strings.Cut(s.From, "@")
	msg.SetMessageIDWithValue(l.ID + "@" + domain)
	msg.SetDate()
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's absence answers it
	msg.Subject(l.Subject)
	msg.SetBodyString(mail.TypeTextPlain, l.Text)
	return msg, nil
}

// talk is a connection to a server that may not say more than so much, and ends with the context that it was made under.
type talk struct {
	net.Conn
	left int64
	stop func() bool
}

var errTalksOn = errors.New("the server says more than it should")

func (t *talk) Read(b []byte) (int, error) {
	if t.left <= 0 {
		return 0, errTalksOn
	}
	n, err := t.Conn.Read(b[:min(int64(len(b)), t.left)])
	t.left -= int64(n)
	return n, err
}

func (t *talk) Close() error {
	t.stop()
	return t.Conn.Close()
}

// failed says in words why the server cannot be used now.
func (s Server) failed(ctx context.Context, err error) error {
	if ctx.Err() != nil { // the connection was ended for it
		err = ctx.Err()
	}
	f := &Failure{All: true}
	var unknown x509.UnknownAuthorityError
	var wrong x509.HostnameError
	var invalid x509.CertificateInvalidError
	var dns *net.DNSError
	var proto *textproto.Error
	switch {
	case errors.Is(err, context.Canceled):
		f.Words = "it was broken off"
	case errors.As(err, &dns):
		f.Words = "the name of the mail server " + s.Address + " is not known"
	case errors.As(err, &unknown):
		f.Words = "nobody who is trusted vouches for the certificate of the mail server " + s.Address + "; amber notice set --mail-trust FILE"
	case errors.As(err, &wrong):
		f.Words = "the certificate of the mail server " + s.Address + " is for another name"
	case errors.As(err, &invalid):
		f.Words = "the certificate of the mail server " + s.Address + " is not valid, or not any more"
	case errors.Is(err, errTalksOn):
		f.Words = "what answers at " + s.Address + " is no mail server"
	case strings.Contains(err.Error(), "does not support STARTTLS"):
		f.Words = "the mail server " + s.Address + " does not offer STARTTLS; amber notice set --mail-security tls or none"
	case errors.Is(err, mail.ErrNoSupportedAuthDiscovered), strings.Contains(err.Error(), "does not support SMTP AUTH"):
		f.Words = "the mail server " + s.Address + " takes no password in a way that is known here"
	case errors.As(err, &proto) && proto.Code/100 == 5 && strings.Contains(err.Error(), "AUTH"):
		f.Words = "the mail server " + s.Address + " refused the user name or the password"
	case errors.As(err, &proto):
		f.Words = "the mail server " + s.Address + " answered: " + reply(err)
	default:
		f.Words = why(err, "the mail server "+s.Address)
	}
	return f
}

// why says in words what became of a connection.
func why(err error, who string) string {
	var timeout net.Error
	switch {
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return who + " did not answer in time"
	case refused(err):
		return "nothing answers where " + who + " should be"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed):
		return who + " ended the connection"
	}
	return who + " cannot be reached, or does not speak as it should"
}

// reply is what a server said, without what is wrapped around it.
func reply(err error) string {
	text := err.Error()
	var proto *textproto.Error
	if errors.As(err, &proto) {
		text = proto.Error()
	} else if _, after, ok := strings.Cut(text, ": "); ok {
		text, _, _ = strings.Cut(after, ", affected ")
	}
	return clip(strings.ReplaceAll(text, `"`, ""))
}

// clip makes foreign text fit into a line.
func clip(text string) string {
	text = strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "�"))), " ")
	if r := []rune(text); len(r) > 300 {
		text = string(r[:300]) + "…"
	}
	return text
}
