package notice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// secretMark stands before a webhook's secret, so that it is known for one where it turns up.
const secretMark = "whsec_"

// NewSecret makes the secret that a webhook's messages are signed with.
func NewSecret() string {
	raw := make([]byte, 32)
	rand.Read(raw)
	return secretMark + base64.StdEncoding.EncodeToString(raw)
}

// Sign gives the signature of a message in the form of the Standard Webhooks specification: HMAC-SHA256 (RFC 2104) over its
// id, the moment in Unix seconds and the body, with dots between.
func Sign(secret, id string, at time.Time, body []byte) (string, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, secretMark))
	if err != nil {
		return "", errors.New("it has no secret")
	}
	m := hmac.New(sha256.New, key)
	fmt.Fprintf(m, "%s.%d.", id, at.Unix())
	m.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(m.Sum(nil)), nil
}

// ParseURL reads where a webhook is to be called.
func ParseURL(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	switch {
	case len(text) > 2000:
		return nil, errors.New("the address is longer than 2000 bytes")
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return nil, errors.New("it takes a whole address, such as https://host.example/notices")
	case u.User != nil: // they would be sent without anybody having asked
		return nil, errors.New("a name and a password do not belong into the address")
	case u.Fragment != "":
		return nil, errors.New("what comes after # is not sent to anybody")
	}
	return u, nil
}

const hookPatience = 10 * time.Second

// hooks never follows a redirect: what is signed for one is not told to another.
var hooks = &http.Client{
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Transport: &http.Transport{
		DialContext: (&net.Dialer{Timeout: hookPatience}).DialContext, TLSHandshakeTimeout: hookPatience, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
		MaxIdleConnsPerHost: 1, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: 64 << 10, ForceAttemptHTTP2: true,
	},
}

// Post calls a webhook with a JSON body. It gives a *Failure unless it was taken, with a status of 2xx.
func Post(ctx context.Context, to, secret, id string, body []byte) error {
	ctx, cancel := context.WithTimeout(ctx, hookPatience)
	defer cancel()
	now := time.Now()
	signature, err := Sign(secret, id, now, body)
	if err != nil {
		return &Failure{Words: err.Error(), Final: true, All: true}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return &Failure{Words: "it has no address that can be called", Final: true, All: true}
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "amber-gatekeeper")
	req.Header.Set("webhook-id", id)
	req.Header.Set("webhook-timestamp", strconv.FormatInt(now.Unix(), 10))
	req.Header.Set("webhook-signature", signature)
	answer, err := hooks.Do(req)
	if err != nil {
		var cert *tls.CertificateVerificationError
		if errors.As(err, &cert) {
			return &Failure{Words: "the certificate of " + req.URL.Host + " is not one that is trusted", All: true}
		}
		return &Failure{Words: why(err, req.URL.Host), All: true}
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10)) // so that the connection can be used again
	switch {
	case answer.StatusCode/100 == 2:
		return nil
	case answer.StatusCode/100 == 3:
		return &Failure{Words: fmt.Sprintf("%s answered %s: redirects are not followed", req.URL.Host, clip(answer.Status)), All: true}
	}
	return &Failure{Words: req.URL.Host + " answered " + clip(answer.Status), All: answer.StatusCode >= 500 || answer.StatusCode == http.StatusTooManyRequests, Final: answer.StatusCode == http.StatusGone}
}

// refused says whether nobody listens there.
func refused(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }
