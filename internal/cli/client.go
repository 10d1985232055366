package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"amber.example/gatekeeper/internal/api"
)

// client speaks the HTTP API.
type client struct {
	base  *url.URL
	token string
	http  http.Client
	pin   string // the fingerprint of the certificate that is known for the service's; "" for none
	// strange is asked about a certificate that is not known; nil where it was taken, and what was asked is asked again.
	strange func(*strange) error
	// before is asked about every request that changes something; nil for none.
	before func(method, path string, query url.Values, in any) error
}

const (
	longestAnswer = 256 << 20
)

func newClient(base string) (*client, error) {
	u, err := url.Parse(strings.TrimSuffix(base, "/"))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, usage("%q is no address of a service: it looks like http://127.0.0.1:8460", base)
	}
	c := &client{base: u, token: os.Getenv("AMBER_TOKEN"), http: http.Client{Timeout: 60 * time.Second}}
	if c.token == "" {
		c.token = storedTokens()[u.String()]
	}
	return c, nil
}

// call asks one route; in and out may be nil. What changes something is shown beforehand.
func (c *client) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	if method != http.MethodGet && c.before != nil && path != "as-if" {
		if err := c.before(method, path, query, in); err != nil {
			return err
		}
	}
	return c.send(ctx, method, path, query, in, out)
}

// send asks one route.
func (c *client) send(ctx context.Context, method, path string, query url.Values, in, out any) error {
	raw, err := c.raw(ctx, method, path, query, in)
	if err != nil || out == nil || len(raw) == 0 {
		return err
	}
	if err := json.Unmarshal(raw, out); err != nil {
		return &failure{code: exitFailed, msg: fmt.Sprintf("%s did not answer like the gateway: %v", c.base, err)}
	}
	return nil
}

// fetch asks one route for what is no JSON of the API's.
func (c *client) fetch(ctx context.Context, path string, query url.Values) ([]byte, error) {
	return c.raw(ctx, http.MethodGet, path, query, nil)
}

// download has a route make something, and copies it as it comes. What ends before it should is an error.
func (c *client) download(ctx context.Context, method, path string, in any, to io.Writer) (int64, error) {
	resp, err := c.ask(ctx, c.lasting(), method, path, nil, in)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 400 {
		raw, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20)) // what there is of it
		return 0, asFailure(resp, raw)
	}
	n, err := io.Copy(to, resp.Body)
	if err != nil {
		return n, &failure{code: exitFailed, msg: "what came is not all: the service ended it"}
	}
	return n, nil
}

// stream copies what a route answers, as it comes. What ends before it should is an error.
func (c *client) stream(ctx context.Context, path string, query url.Values, to io.Writer) error {
	resp, err := c.ask(ctx, c.lasting(), http.MethodGet, path, query, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 400 { // asked once more, for what is wrong
		_, err := c.fetch(ctx, path, query)
		return err
	}
	if _, err := io.Copy(to, resp.Body); err != nil {
		return &failure{code: exitFailed, msg: "what was written out is not all: the service ended it"}
	}
	return nil
}

// lasting is for answers that may take their time.
func (c *client) lasting() *http.Client { return &http.Client{Transport: c.http.Transport} }

// ask sends one request. Where a certificate is not known and then is, it is sent again.
func (c *client) ask(ctx context.Context, over *http.Client, method, path string, query url.Values, in any) (*http.Response, error) {
	u := c.base.JoinPath("api/v1", path)
	u.RawQuery = query.Encode()
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return nil, usage("%v", err)
	}
	req.Header.Set("User-Agent", "amber, the command")
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := over.Do(req)
	if s, ok := errors.AsType[*strange](err); ok && c.strange != nil {
		if err := c.strange(s); err != nil {
			return nil, err
		}
		return c.ask(ctx, over, method, path, query, in)
	}
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return nil, &failure{code: exitUnreachable, msg: fmt.Sprintf("no service answers at %s%s", c.base, whyNot(err)), next: "amber serve"}
	}
	return resp, nil
}

func (c *client) raw(ctx context.Context, method, path string, query url.Values, in any) ([]byte, error) {
	resp, err := c.ask(ctx, &c.http, method, path, query, in)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(resp.Body, longestAnswer))
	if err != nil {
		return nil, &failure{code: exitUnreachable, msg: fmt.Sprintf("the answer from %s broke off: %v", c.base, err)}
	}
	if resp.StatusCode >= 400 {
		err := asFailure(resp, raw)
		if resp.StatusCode == http.StatusUnauthorized && path != "health" && path != "first-administrator" && path != "own-password" && c.needsFirst(ctx) {
			return nil, &failure{code: exitFailed, msg: "there is no administrator yet: the service printed a code when it started", next: "amber first-administrator NAME --code CODE"}
		}
		return nil, err
	}
	return raw, nil
}

// needsFirst says whether the service has no administrator yet.
func (c *client) needsFirst(ctx context.Context) bool {
	var h api.Health
	raw, err := c.raw(ctx, http.MethodGet, "health", nil, nil)
	return err == nil && json.Unmarshal(raw, &h) == nil && h.NeedsFirst
}

// asFailure reads a problem document.
func asFailure(resp *http.Response, raw []byte) error {
	f := &failure{code: exitFailed, msg: resp.Status, gone: resp.StatusCode == http.StatusNotFound}
	var p api.Problem
	if json.Unmarshal(raw, &p) != nil || p.Status == 0 {
		return f
	}
	f.msg, f.next, f.confirm, f.need = p.Detail, p.Next, p.Confirm, p.Need
	if resp.StatusCode == http.StatusUnprocessableEntity { // what was typed makes no sense
		f.code = exitUsage
	}
	for _, e := range p.Errors {
		if !strings.HasSuffix(p.Detail, e.Message) {
			f.msg += fmt.Sprintf("; %s: %s", strings.TrimPrefix(e.Location, "body."), e.Message)
		}
	}
	if resp.StatusCode == http.StatusUnauthorized && f.next == "" {
		f.next = "amber sign-in USER"
	}
	return f
}

func escape(name string) string { return url.PathEscape(name) }

func tokenFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "amber-gatekeeper", "tokens.json"), err
}

// storedTokens reads what sign-in kept, by address; nothing where there is nothing.
func storedTokens() map[string]string { return storedTexts(tokenFile) }

// storeToken keeps a token for an address; "" forgets it.
func storeToken(base, token string) error { return storeText(tokenFile, base, token) }

// whyNot says why nothing answered, where it is worth saying.
func whyNot(err error) string {
	var name *net.DNSError
	var op *net.OpError
	switch {
	case errors.As(err, &name):
		return ": there is no host " + name.Name
	case errors.As(err, &op) && op.Op == "remote error": // an alert of TLS (RFC 8446 section 6)
		return ": it ended the connection, and may not take the certificate that --certificate names"
	case errors.Is(err, context.DeadlineExceeded), os.IsTimeout(err):
		return " in time"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return ": there is no way to it"
	}
	return ""
}
