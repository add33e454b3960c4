// Package bridge connects any system that speaks the bridge protocol, which
// docs/bridge.openapi.yaml states; Mooring, the stand-in cloud, is one.
//
// [Client] carries requests: it waits out 429 and 5xx answers, time-outs and cut
// connections with growing pauses and a limit, verifies TLS, and never shows its
// token. [Reader] and [Changer] stand on it, each with a token of its own.
package bridge

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"clipfence/internal/source"
)

// Options say how to reach a bridge.
type Options struct {
	Name  string // of the source, for messages
	URL   string // without /bridge/v2
	Token string // bearer token (RFC 6750); empty: none is sent
	CA    []byte // PEM certificates to trust besides the system's; may be empty
	Log   *slog.Logger
	// Pause is the first pause before a request is tried again; it doubles.
	// Zero means 200 ms.
	Pause time.Duration
}

const (
	attempts       = 7
	longestPause   = 10 * time.Second
	requestTimeout = 60 * time.Second
	maxAnswer      = 256 << 20 // bytes; a log page is far smaller
)

// Client speaks the bridge protocol.
type Client struct {
	o    Options
	http *http.Client
}

// NewClient checks the address: a token goes over TLS, or to this machine.
func NewClient(o Options) (*Client, error) {
	u, err := url.Parse(o.URL)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("source %s: its url is not an http or https address", o.Name)
	}
	if ip := net.ParseIP(u.Hostname()); u.Scheme == "http" && u.Hostname() != "localhost" &&
		(ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("source %s: url %q would send the token in clear text over a network; use https",
			o.Name, u.Redacted())
	}
	tlsConfig := &tls.Config{MinVersion: tls.VersionTLS12}
	if len(o.CA) > 0 {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM(o.CA) {
			return nil, fmt.Errorf("source %s: the ca file holds no PEM certificate", o.Name)
		}
		tlsConfig.RootCAs = pool
	}
	if o.Pause == 0 {
		o.Pause = 200 * time.Millisecond
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	return &Client{o, &http.Client{
		Timeout: requestTimeout,
		Transport: &http.Transport{TLSClientConfig: tlsConfig, MaxIdleConnsPerHost: 4,
			Proxy: http.ProxyFromEnvironment},
		CheckRedirect: func(req *http.Request, _ []*http.Request) error {
			return fmt.Errorf("the bridge sends us elsewhere (%s); a token is not carried along", req.URL.Host)
		},
	}}, nil
}

type answer struct {
	status int
	header http.Header
	body   []byte
}

// do sends a request until it is answered, the context ends or the attempts are
// used up. Every request of the protocol may be sent twice: reads change
// nothing, and changes carry a precondition.
func (c *Client) do(ctx context.Context, method, path string, query url.Values, header http.Header,
	body []byte) (*answer, error) {
	a, err := c.patiently(ctx, method, path, query, header, body)
	if err != nil && c.o.Token != "" && strings.Contains(err.Error(), c.o.Token) {
		err = hidden{err, c.o.Token} // a bridge that says our token back
	}
	return a, err
}

// hidden is an error whose text holds the token.
type hidden struct {
	error
	token string
}

func (h hidden) Error() string { return strings.ReplaceAll(h.error.Error(), h.token, "[token]") }
func (h hidden) Unwrap() error { return h.error }

func (c *Client) patiently(ctx context.Context, method, path string, query url.Values, header http.Header,
	body []byte) (*answer, error) {
	pause := c.o.Pause
	for try := 1; ; try++ {
		a, wait, err := c.once(ctx, method, path, query, header, body)
		if err == nil {
			return a, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if wait < 0 {
			return nil, err
		}
		if try == attempts {
			return nil, fmt.Errorf("source %s: %w after %d tries: %w", c.o.Name, source.ErrUnreachable, try, err)
		}
		if wait == 0 {
			wait = pause + rand.N(pause/2)
			pause *= 2
		}
		wait = min(wait, longestPause)
		c.o.Log.Warn("source did not answer; trying again", "source", c.o.Name, "why",
			hidden{err, cmp.Or(c.o.Token, "\x00")}.Error(), "in", wait.Round(time.Millisecond), "try", try+1, "of",
			attempts)
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
	}
}

// once sends a request. wait is -1 when trying again is no use, the time the
// bridge asked for, or 0.
func (c *Client) once(ctx context.Context, method, path string, query url.Values, header http.Header,
	body []byte) (a *answer, wait time.Duration, err error) {
	target := strings.TrimSuffix(c.o.URL, "/") + "/bridge/v2" + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(body))
	if err != nil {
		return nil, -1, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if c.o.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.o.Token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		var verify *tls.CertificateVerificationError
		if errors.As(err, &verify) {
			return nil, -1, fmt.Errorf("source %s: the certificate is not trusted (name the issuer's file as ca): %w",
				c.o.Name, err)
		}
		return nil, 0, err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err != nil {
		return nil, 0, fmt.Errorf("answer broke off: %w", err)
	}
	if len(data) > maxAnswer {
		return nil, -1, fmt.Errorf("source %s: an answer is longer than %d bytes", c.o.Name, maxAnswer)
	}
	switch {
	case res.StatusCode == 429 || res.StatusCode >= 500:
		if s, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && s >= 0 {
			wait = time.Duration(min(s, int(longestPause/time.Second))) * time.Second
		}
		return nil, wait, fmt.Errorf("%s %s: %s", method, path, statusOf(res, data))
	case res.StatusCode < 400:
		return &answer{res.StatusCode, res.Header, data}, 0, nil
	}
	kind := map[int]error{401: source.ErrDenied, 403: source.ErrDenied, 404: source.ErrGone, 409: source.ErrConflict,
		412: source.ErrConflict}[res.StatusCode]
	if kind == nil {
		return nil, -1, fmt.Errorf("source %s: %s %s: %s", c.o.Name, method, path, statusOf(res, data))
	}
	return nil, -1, fmt.Errorf("source %s: %w: %s", c.o.Name, kind, statusOf(res, data))
}

// statusOf reads a problem document (RFC 9457), or falls back on the status.
func statusOf(res *http.Response, data []byte) string {
	var p struct {
		Detail string `json:"detail"`
	}
	if json.Unmarshal(data, &p) == nil && p.Detail != "" {
		return fmt.Sprintf("%d: %.300s", res.StatusCode, p.Detail)
	}
	return res.Status
}

func (c *Client) json(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	a, err := c.do(ctx, method, path, query, nil, body)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(a.body, out); err != nil {
		return fmt.Errorf("source %s: %s answers what is not the bridge protocol: %w", c.o.Name, path, err)
	}
	return nil
}

// About is what a bridge says of itself.
type About struct {
	Protocol string    `json:"protocol"`
	Instance string    `json:"instance"` // tells it from every other, for as long as it lives
	Source   string    `json:"source"`
	Root     string    `json:"root"`
	Revision int64     `json:"revision"`
	You      string    `json:"you"`
	Time     time.Time `json:"time"`
	LastSeen bool      `json:"last_seen"`
	Complete []string  `json:"complete"`

	// Rights says which permission an operation takes, as "grants:create".
	Rights map[string]string `json:"rights"`
}

const protocol = "bridge/2"

// About asks the bridge who it is and who we are to it.
func (c *Client) About(ctx context.Context) (About, error) {
	var a About
	if err := c.json(ctx, "GET", "/about", nil, nil, &a); err != nil {
		return a, err
	}
	if a.Protocol != protocol {
		return a, fmt.Errorf("source %s: speaks %q; this program speaks %s (docs/bridge.openapi.yaml says what "+
			"changed)", c.o.Name, a.Protocol, protocol)
	}
	if a.Source != c.o.Name {
		return a, fmt.Errorf("source %s: its paths begin with /%s; name the source %q in clipfence.yaml", c.o.Name,
			a.Source, a.Source)
	}
	return a, nil
}

// need is a right that the tool asks of a bridge: an operation, whose permission the
// bridge names.
type need struct{ what, operation string }

func (c *Client) check(ctx context.Context, purpose string, needs []need) ([]source.Right, error) {
	about, err := c.About(ctx)
	if err != nil {
		return nil, err
	}
	type item struct {
		Permission string `json:"permission"`
		Path       string `json:"path"`
		Allowed    bool   `json:"allowed,omitempty"`
		Because    string `json:"because,omitempty"`
	}
	var in, out struct {
		Items []item `json:"items"`
	}
	needs = slices.DeleteFunc(slices.Clone(needs), func(n need) bool { return about.Rights[n.operation] == "" })
	for _, n := range needs {
		in.Items = append(in.Items, item{Permission: about.Rights[n.operation], Path: about.Root})
	}
	if len(needs) == 0 {
		return nil, fmt.Errorf("source %s: about names no permission for anything that %s takes (rights)", c.o.Name,
			purpose)
	}
	if err := c.json(ctx, "POST", "/may", nil, in, &out); err != nil {
		return nil, err
	}
	if len(out.Items) != len(needs) {
		return nil, fmt.Errorf("source %s: asked about %d rights, was answered about %d", c.o.Name, len(needs),
			len(out.Items))
	}
	rights := make([]source.Right, len(needs))
	for i, n := range needs {
		it := out.Items[i]
		rights[i] = source.Right{For: purpose, What: n.what, Permission: in.Items[i].Permission, Where: about.Root,
			OK: it.Allowed, Why: it.Because,
			Optional: purpose == "changing" && strings.HasPrefix(n.operation, source.Denials+":")}
		if !it.Allowed {
			rights[i].Mend = fmt.Sprintf("grant %s: do [%s] where [%s/**]", about.You, in.Items[i].Permission,
				about.Root)
		}
	}
	return rights, nil
}
