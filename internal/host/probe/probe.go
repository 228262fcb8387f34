// Package probe asks a started program whether it works: over HTTP, over TCP, and
// by a command.
package probe

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/host/run"
)

// maxBody is how much of an answer is read, in bytes.
const maxBody = 4 << 20

// Check asks once. The error says what is not as it should be; told is what the
// probe takes from the answer, "" if it takes nothing.
func Check(ctx context.Context, p model.Probe, dir string, env []string) (told string, err error) {
	switch {
	case p.URL != "":
		return checkHTTP(ctx, p)
	case p.TCP != "":
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", p.TCP)
		if err != nil {
			return "", short(err)
		}
		return "", conn.Close()
	}
	var out strings.Builder
	result, err := run.Run(ctx, run.Command{Dir: dir, Args: p.Command, Env: env, Log: &out})
	if err != nil {
		return "", err
	}
	if result.Exit != 0 {
		return "", fmt.Errorf("%s ends with exit status %d", strings.Join(p.Command, " "), result.Exit)
	}
	return strings.TrimSpace(out.String()), nil
}

func checkHTTP(ctx context.Context, p model.Probe) (told string, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, p.URL, nil)
	if err != nil {
		return "", err
	}
	client := &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport:     &http.Transport{DisableKeepAlives: true},
	}
	answer, err := client.Do(request)
	if err != nil {
		return "", short(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, maxBody))
	if err != nil {
		return "", fmt.Errorf("%s: %w", p.URL, err)
	}
	want := p.Status
	if want == 0 {
		want = http.StatusOK
	}
	if answer.StatusCode != want {
		return "", fmt.Errorf("%s answers with status %d, not %d", p.URL, answer.StatusCode, want)
	}
	for name, text := range p.Header {
		if got := answer.Header.Get(name); !strings.Contains(got, text) {
			return "", fmt.Errorf("%s answers with %s %q, which has no %q in it", p.URL, name, got, text)
		}
	}
	if !strings.Contains(string(body), p.Body) {
		return "", fmt.Errorf("%s answers with a body that has no %q in it", p.URL, p.Body)
	}
	if p.JSON == "" {
		return "", nil
	}
	told, err = at(body, p.JSON)
	if err != nil {
		return "", fmt.Errorf("%s: %w", p.URL, err)
	}
	if p.Is != "" && told != p.Is {
		return "", fmt.Errorf("%s: %s is %q, not %q", p.URL, p.JSON, told, p.Is)
	}
	return told, nil
}

// at is the value at a path of names and numbers, with dots between, in a JSON text.
func at(text []byte, path string) (string, error) {
	var v any
	if err := json.Unmarshal(text, &v); err != nil {
		return "", fmt.Errorf("the answer is no JSON: %w", err)
	}
	for step := range strings.SplitSeq(path, ".") {
		switch o := v.(type) {
		case map[string]any:
			found, ok := o[step]
			if !ok {
				return "", fmt.Errorf("the answer has no %s (of %s)", step, path)
			}
			v = found
		case []any:
			i, err := strconv.Atoi(step)
			if err != nil || i < 0 || i >= len(o) {
				return "", fmt.Errorf("the answer has no %s (of %s)", step, path)
			}
			v = o[i]
		default:
			return "", fmt.Errorf("the answer has no %s (of %s)", step, path)
		}
	}
	if s, ok := v.(string); ok {
		return s, nil
	}
	out, err := json.Marshal(v)
	return string(out), err
}

// short is an error of the network without what says the address again.
func short(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Addr != nil {
		return fmt.Errorf("%s does not answer: %w", op.Addr, op.Err)
	}
	return err
}

// Address is where a probe asks, as host and port; "" for one that asks no port.
func Address(p model.Probe) string {
	if p.TCP != "" {
		return p.TCP
	}
	u, err := url.Parse(p.URL)
	if err != nil || u.Host == "" {
		return ""
	}
	if u.Port() != "" {
		return u.Host
	}
	return net.JoinHostPort(u.Hostname(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
}

// dialTime is how long a port may take to answer when nothing should be there.
const dialTime = 300 * time.Millisecond

// Taken tells whether something answers at an address.
func Taken(ctx context.Context, address string) bool {
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return false
	}
	_ = conn.Close()
	return true
}

// HoldPort takes a free port of the loopback, so that nobody else does, until it is
// released for who is to have it.
func HoldPort() (port int, release func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	return l.Addr().(*net.TCPAddr).Port, func() { _ = l.Close() }, nil
}
