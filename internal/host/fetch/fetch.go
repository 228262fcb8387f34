// Package fetch gets documents over HTTP and keeps a compact form of them on
// disk: retries, conditional requests, age limits, and credentials that go to
// their own host alone.
package fetch

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"bellwether/internal/core/harmless"
)

// Config says how a Client behaves. The zero Config is ready to use but
// caches nothing.
type Config struct {
	CacheDir string        // where compact documents are kept; empty for nowhere
	MaxAge   time.Duration // younger documents are not asked for again
	Offline  bool          // use only what is kept
	Refresh  bool          // ask again whatever the age
	Stall    time.Duration // a server silent for this long is given up; zero for DefaultStall
	Slow     time.Duration // how long an answer may come slower than minRate; zero for DefaultSlow
	Retries  int           // how often a failed request is tried again
	Most     int64         // bytes that any answer may have at most, whatever its request allows; zero for no further bound
	Asked    *Count        // what hosts were asked for, by all clients that share it; nil for not counting
}

// Client gets documents. It may be used by many goroutines at once.
type Client struct {
	cfg     Config
	http    *retryablehttp.Client
	trust   func() error // sets up what Trust asked for; nil for nothing
	broken  error        // of trust
	started sync.Once
}

// New gives a client.
func New(cfg Config) *Client {
	if cfg.Stall == 0 {
		cfg.Stall = DefaultStall
	}
	if cfg.Slow == 0 {
		cfg.Slow = DefaultSlow
	}
	c := retryablehttp.NewClient()
	c.Logger = nil
	c.RetryMax = cfg.Retries
	c.RetryWaitMin, c.RetryWaitMax = 200*time.Millisecond, maxWait
	c.Backoff = wait
	c.ErrorHandler = retryablehttp.PassthroughErrorHandler
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.MaxIdleConnsPerHost = 32
	transport.ResponseHeaderTimeout = cfg.Stall
	transport.MaxResponseHeaderBytes = 1 << 20
	c.HTTPClient = &http.Client{Transport: transport, CheckRedirect: redirect}
	return &Client{cfg: cfg, http: c}
}

// Trust makes the client accept certificates that the PEM text vouches for,
// besides those of the system. With insecure, any certificate will do. The
// certificates are read with the first request, since many calls need none; what
// is wrong with them is that request's error.
func (c *Client) Trust(certificates func() ([]byte, error), insecure bool) {
	c.trust = func() error {
		pem, err := certificates()
		if err == nil && len(pem) > 0 && !bytes.Contains(pem, []byte("-----BEGIN CERTIFICATE-----")) {
			err = errors.New("no PEM certificate in it")
		}
		if err != nil {
			return fmt.Errorf("reading the certificates to trust: %w", err)
		}
		if len(pem) == 0 && !insecure {
			return nil
		}
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		pool.AppendCertsFromPEM(pem)
		transport := c.http.HTTPClient.Transport.(*http.Transport)
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, InsecureSkipVerify: insecure}
		transport.ForceAttemptHTTP2 = true
		return nil
	}
}

// Proxy sends requests through a proxy, but for hosts whose names end in one of
// direct. Without it, the environment (HTTPS_PROXY, NO_PROXY) decides.
func (c *Client) Proxy(address string, direct []string) error {
	through, err := url.Parse(address)
	if err != nil || through.Host == "" {
		return fmt.Errorf("%q is not the address of a proxy", harmless.Address(address))
	}
	c.http.HTTPClient.Transport.(*http.Transport).Proxy = func(r *http.Request) (*url.URL, error) {
		for _, end := range direct {
			if end != "" && strings.HasSuffix(r.URL.Hostname(), strings.TrimPrefix(end, "*")) {
				return nil, nil
			}
		}
		return through, nil
	}
	return nil
}

// Patience sets how long a silent server is waited for, and how often a failed
// request is tried again. It is to be called before the first request.
func (c *Client) Patience(stall time.Duration, retries int) {
	c.cfg.Stall, c.cfg.Retries = stall, retries
	c.http.RetryMax = retries
	c.http.HTTPClient.Transport.(*http.Transport).ResponseHeaderTimeout = stall
}

// Defaults for what Patience sets.
const (
	DefaultStall   = 30 * time.Second
	DefaultRetries = 2
)

// redirect drops the credential where a redirect leads to another host, and refuses one
// that leaves TLS.
func redirect(next *http.Request, via []*http.Request) error {
	if len(via) >= 10 {
		return errors.New("more than 10 redirects")
	}
	if next.URL.Scheme != "https" && via[len(via)-1].URL.Scheme == "https" {
		return fmt.Errorf("it redirects from TLS to %s", harmless.Address(next.URL.String()))
	}
	if next.URL.Host != via[0].URL.Host || next.URL.Scheme != via[0].URL.Scheme {
		next.Header.Del("Authorization")
	}
	return nil
}

// Request is what to get.
type Request struct {
	URL           string
	Accept        string
	Authorization string // value of the header; it goes to the URL's host only
	// Distil reads the answer and gives the compact form that is kept and
	// returned. Its error means that the answer is no such document.
	Distil func(body io.Reader) ([]byte, error)
	// Form names the compact form and its version; a kept document of
	// another form is not used.
	Form string
	// Forever says that the document never changes once it is there.
	Forever bool
	// Page says that the document is a web page, which otherwise is the answer of
	// something that stands between.
	Page bool
	// Limit is how many bytes an answer may have, unpacked; zero for DefaultLimit.
	Limit int64
	// Grows says that the document is one to whose end lines are added, so that only those are
	// asked for. It is kept as it comes, and has no Distil.
	Grows bool
	// Part is the range of bytes that is wanted, as the header has it: "bytes=-65536"; empty for all. A
	// server may send all of it nevertheless. No digest of the whole can be checked then.
	Part string
	// Fresh, if not nil, tells whether what is kept is still right, whatever its age.
	Fresh func(kept []byte) bool
	// Anew asks for the document though what is kept is young, and for all of it.
	Anew bool
	// Absent, if not nil, is given and kept for a while where the server says
	// that there is no such document (404, 410), which is then no error.
	Absent []byte
}

// Status is the error of an answer that is not the document.
type Status struct {
	Host string
	Path string
	Code int
}

// Error says what the host answered; it holds no credential.
func (s *Status) Error() string {
	switch s.Code {
	case http.StatusUnauthorized, http.StatusForbidden:
		return fmt.Sprintf(
			"%s refuses %s (status %d)\n  next: give a credential for the host %s where its package client reads it",
			s.Host,
			s.Path,
			s.Code,
			s.Host,
		)
	case http.StatusNotFound, http.StatusGone:
		return fmt.Sprintf("%s does not know %s (status %d)", s.Host, s.Path, s.Code)
	}
	return fmt.Sprintf("%s answers with status %d to %s", s.Host, s.Code, s.Path)
}

// Unreachable is the error of a server that gave no usable answer.
type Unreachable struct {
	Host string
	Err  error
}

// Error names the host and what went wrong.
func (u *Unreachable) Error() string {
	return fmt.Sprintf(
		"%s gives no usable answer: %v\n  next: check the connection, or use --offline to work with what is cached", u.Host, u.Err,
	)
}

// Unwrap gives the cause.
func (u *Unreachable) Unwrap() error { return u.Err }

// Offline tells whether nothing may be asked of the network.
func (c *Client) Offline() bool { return c.cfg.Offline }

// ErrNotCached is the error of a document that --offline cannot give.
var ErrNotCached = errors.New("not in the cache, and --offline forbids asking for it")

// ErrNotAsked is the error of a document for which no server is to be asked.
var ErrNotAsked = errors.New("no server is to be asked for it")

// Document gets the compact form of a document, from the cache if that is
// young enough. The errors are *Status, *Unreachable, ErrNotCached, and those of ctx.
func (c *Client) Document(ctx context.Context, r Request) ([]byte, error) {
	kept, have := c.load(r)
	if have && (c.cfg.Offline || c.current(r, kept)) {
		return kept.payload, nil
	}
	if c.cfg.Offline {
		return nil, ErrNotCached
	}
	if r.Authorization != "" && !Private(r.URL) {
		u, _ := url.Parse(r.URL)
		return nil, &Unreachable{u.Host, errors.New("a login is not sent to it over plain HTTP, where everybody on the way could read it")}
	}
	return c.ask(ctx, r, kept, have)
}

// Private tells whether what is sent to an address stays between here and there: by
// TLS, or on this machine.
func Private(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	ip := net.ParseIP(u.Hostname())
	return u.Scheme == "https" || u.Scheme == "file" || u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// current tells whether what is kept need not be asked for again.
func (c *Client) current(r Request, kept entry) bool {
	switch {
	case r.Forever && !kept.Absent:
		return true
	case r.Anew:
		return false
	case r.Fresh != nil:
		return r.Fresh(kept.payload)
	}
	return c.young(kept)
}

// young tells whether what is kept need not be asked for again. What claims to be from
// the future was written with a wrong clock.
func (c *Client) young(kept entry) bool {
	age := time.Since(kept.Checked)
	return !c.cfg.Refresh && age >= 0 && age < c.cfg.MaxAge
}

// Derive gives what compute gives, and keeps it for good: key names all that it
// is computed from.
func (c *Client) Derive(key, form string, compute func() ([]byte, error)) ([]byte, error) {
	r := Request{URL: key, Form: form}
	if kept, have := c.load(r); have {
		return kept.payload, nil
	}
	payload, err := compute()
	if err == nil {
		c.save(r, entry{URL: key, Form: form, Checked: time.Now(), payload: payload})
	}
	return payload, err
}

// Recent gives what ask gives, and keeps it for as long as a document is young; key
// names all that it depends on. Offline, it gives what is kept, or ErrNotCached.
func (c *Client) Recent(key, form string, ask func() ([]byte, error)) ([]byte, error) {
	r := Request{URL: key, Form: form}
	kept, have := c.load(r)
	if have && (c.cfg.Offline || c.young(kept)) {
		return kept.payload, nil
	}
	if c.cfg.Offline {
		return nil, ErrNotCached
	}
	payload, err := ask()
	if err == nil {
		c.save(r, entry{URL: key, Form: form, Checked: time.Now(), payload: payload})
	}
	return payload, err
}

// distilTries is how often a document is asked for whose answer was cut short.
const distilTries = 2

func (c *Client) ask(ctx context.Context, r Request, kept entry, have bool) ([]byte, error) {
	var last error
	for range distilTries {
		payload, err := c.once(ctx, r, kept, have)
		var broken *brokenAnswer
		if err == nil || !errors.As(err, &broken) || ctx.Err() != nil {
			return payload, err
		}
		last = &Unreachable{broken.host, broken.err}
		if !broken.cutShort {
			break // it would be so again
		}
	}
	return nil, last
}

func (c *Client) once(ctx context.Context, r Request, kept entry, have bool) ([]byte, error) {
	c.started.Do(func() {
		if c.trust != nil {
			c.broken = c.trust()
		}
	})
	if c.broken != nil {
		return nil, c.broken
	}
	asked := ctx
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	// What keeps it from a first byte, in all tries together, has an end, too.
	tries := time.Duration(c.http.RetryMax + 1)
	late := time.AfterFunc(tries*(c.cfg.Stall+maxWait)+c.cfg.Slow, cancel)
	defer late.Stop()
	req, err := retryablehttp.NewRequestWithContext(ctx, http.MethodGet, r.URL, nil)
	if err != nil {
		return nil, fmt.Errorf("%q is no address", harmless.Address(r.URL))
	}
	if err := c.cfg.Asked.one(req.URL.Host); err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "bellwether")
	if r.Accept != "" {
		req.Header.Set("Accept", r.Accept)
	}
	if r.Authorization != "" {
		req.Header.Set("Authorization", r.Authorization)
	}
	if have && kept.ETag != "" {
		req.Header.Set("If-None-Match", kept.ETag)
	}
	if have && kept.Modified != "" {
		req.Header.Set("If-Modified-Since", kept.Modified)
	}
	before := max(len(kept.payload)-overlap, 0)
	if r.Grows && !r.Anew && have && len(kept.payload) > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", before))
	}
	if r.Part != "" {
		req.Header.Set("Range", r.Part)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if asked.Err() != nil {
			return nil, asked.Err()
		}
		return nil, &Unreachable{req.URL.Host, hideCredential(bare(err), r.URL)}
	}
	late.Stop()
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusNotModified && have:
		kept.Checked = time.Now()
		c.save(r, kept)
		return kept.payload, nil
	case r.Absent != nil && (resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone):
		c.save(r, entry{URL: plainAddress(r.URL), Form: r.Form, Checked: time.Now(), Absent: true, payload: r.Absent})
		return r.Absent, nil
	case resp.StatusCode == http.StatusRequestedRangeNotSatisfiable && r.Part == "" && req.Header.Get("Range") != "":
		return c.once(asked, r, entry{}, false) // it shrank
	case resp.StatusCode != http.StatusOK && (resp.StatusCode != http.StatusPartialContent || req.Header.Get("Range") == ""):
		return nil, &Status{req.URL.Host, req.URL.Path, resp.StatusCode}
	case !r.Page && strings.HasPrefix(resp.Header.Get("Content-Type"), "text/html"):
		return nil, &Unreachable{req.URL.Host, errors.New("the answer is a web page, not data")}
	}
	limit := cmp.Or(r.Limit, DefaultLimit)
	if c.cfg.Most > 0 {
		limit = min(limit, c.cfg.Most)
	}
	body := watch(resp.Body, limit, c.cfg, cancel)
	defer body.stop()
	var there []byte
	var digest *claim
	switch {
	case resp.StatusCode == http.StatusPartialContent && r.Part != "":
	case resp.StatusCode == http.StatusPartialContent:
		there = kept.payload[:before]
		fallthrough
	default:
		digest = claimed(resp)
	}
	read := r.Distil
	if r.Grows {
		read = io.ReadAll
	}
	payload, err := read(digest.after(there, body))
	if asked.Err() != nil {
		return nil, asked.Err()
	}
	if err == nil {
		err = digest.broken()
	}
	if there != nil {
		if err != nil || !bytes.HasPrefix(payload, kept.payload[before:]) {
			return c.once(asked, r, entry{}, false) // it was written anew
		}
		payload = append(slices.Clone(there), payload...)
	}
	if cut := body.failure(); cut != nil { // whatever the reader made of it
		err = cut
	}
	if err != nil {
		return nil, &brokenAnswer{req.URL.Host, hideCredential(err, r.URL), body.cutShort() || errors.Is(err, io.ErrUnexpectedEOF)}
	}
	c.save(r, entry{
		URL: plainAddress(r.URL), Form: r.Form, ETag: resp.Header.Get("ETag"), Modified: resp.Header.Get("Last-Modified"),
		Checked: time.Now(), payload: payload,
	})
	return payload, nil
}

// brokenAnswer is the error of an answer that began well and then failed.
type brokenAnswer struct {
	host     string
	err      error
	cutShort bool
}

func (b *brokenAnswer) Error() string { return b.err.Error() }
func (b *brokenAnswer) Unwrap() error { return b.err }

// bare takes the method and address off an HTTP client's error; the host is
// said elsewhere.
func bare(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// hideCredential makes sure that an address with a login in it does not come back in
// an error.
func hideCredential(err error, address string) error {
	if text := err.Error(); harmless.Hide(text, address) != text {
		return errors.New(harmless.Hide(text, address))
	}
	return err
}

// plainAddress is an address as it is kept: without a login.
func plainAddress(address string) string {
	if plain, ok := harmless.WithoutLogin(address); ok {
		return plain
	}
	return harmless.Address(address)
}
