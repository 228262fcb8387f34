package gomod

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/module"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// Bounds of what a proxy may send, in bytes; those of the Go Modules Reference
// where it states one.
const (
	maxModFile = 16 << 20
	maxZip     = 500 << 20
	maxList    = 16 << 20
)

// missing is the error of what no proxy has.
type missing struct {
	what string
	why  string
	err  error // what the last proxy said; nil if none was asked
}

func (m *missing) Error() string { return m.what + " " + m.why }
func (m *missing) Unwrap() error { return m.err }

// unavailable says which version an error is about.
type unavailable struct {
	m   version
	err error
}

func (u *unavailable) Error() string { return u.err.Error() }
func (u *unavailable) Unwrap() error { return u.err }

// isMissing tells of an error that means that there is no such thing, in
// difference to one that means that nobody knows.
func isMissing(err error) bool {
	var m *missing
	return errors.As(err, &m)
}

// isRefused tells of an error by which a proxy, asked for one version or path
// among others, says that it does not give it: it has none, or must not.
func isRefused(err error) bool {
	var status *fetch.Status
	return isMissing(err) || errors.As(err, &status) && slices.Contains(refusals, status.Code)
}

// refusals are the answers that are about what is asked for, and not about the server or
// the time of asking.
var refusals = []int{
	http.StatusBadRequest, http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusGone,
	http.StatusUnavailableForLegalReasons,
}

// document is one file of the proxy protocol.
type document struct {
	module  string
	file    string // what follows the module's path: "@v/list"
	form    string
	limit   int64
	forever bool
	distil  func(io.Reader) ([]byte, error) // nil to take it as it is
}

// what names the module, with its version if the document is about one.
func (d document) what() string {
	if name, ok := strings.CutPrefix(d.file, "@v/"); ok && name != "list" {
		return d.module + " " + strings.TrimSuffix(name, filepath.Ext(name))
	}
	return d.module
}

// nothing is kept for what a proxy does not have.
var nothing = []byte("-")

// ask gets a document from the first proxy that has it. The error is a
// *missing if none does.
func (r *registry) ask(ctx context.Context, d document) ([]byte, error) {
	what := d.what()
	if r.settings.private(d.module) {
		return r.fromOrigin(ctx, d)
	}
	var last error
	for _, p := range r.settings.proxies {
		switch p.url {
		case "off":
			return nil, &missing{what, "is not to be had: GOPROXY says off", fetch.ErrNotAsked}
		case "direct":
			data, err := r.fromOrigin(ctx, d)
			if last != nil && err != nil && ctx.Err() == nil {
				err = fmt.Errorf("%w; and %s", last, err)
			}
			return data, err
		}
		data, err := r.askProxy(ctx, p.url, d)
		if err == nil {
			return data, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		last = err
		if !isMissing(err) && !p.always {
			return nil, fmt.Errorf("asking for %s: %w", what, err)
		}
	}
	if isMissing(last) {
		return nil, last
	}
	return nil, fmt.Errorf("asking for %s: %w", what, last)
}

// askProxy gets a document from one proxy. The error is a *missing if it has none.
func (r *registry) askProxy(ctx context.Context, address string, d document) ([]byte, error) {
	escaped, err := module.EscapePath(d.module)
	if err != nil {
		return nil, &missing{d.module, "has no valid module path: " + err.Error(), nil}
	}
	data, err := r.askOne(ctx, address+"/"+escaped+"/"+d.file, d)
	if err == nil && len(data) == len(nothing) && string(data) == string(nothing) {
		err = &missing{d.what(), "is not known to the module proxy", &fetch.Status{Path: d.module, Code: http.StatusNotFound}}
	}
	return data, err
}

func (r *registry) askOne(ctx context.Context, address string, d document) ([]byte, error) {
	distil := func(body io.Reader) ([]byte, error) {
		body = &bounded{r: body, left: d.limit}
		if d.distil != nil {
			return d.distil(body)
		}
		data, err := io.ReadAll(body)
		if len(data) == len(nothing) && string(data) == string(nothing) {
			return nil, errors.New("the answer makes no sense")
		}
		return data, err
	}
	u, err := url.Parse(address)
	if err != nil {
		return nil, fmt.Errorf("%s is no address", harmless.Address(address))
	}
	if u.Scheme == "file" {
		f, err := within.OpenPlain(filepath.FromSlash(u.Path))
		if errors.Is(err, fs.ErrNotExist) {
			return nothing, nil
		}
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return distil(f)
	}
	req := fetch.Request{
		URL: address, Distil: distil, Form: "golang/" + d.form, Forever: d.forever, Absent: nothing,
		Limit: d.limit + 1, // the bound that is told is the reader's
	}
	if fetch.Private(address) { // as the go command, which sends those of netrc over TLS alone
		req.Authorization = r.settings.logins[u.Host]
	}
	if u.User != nil {
		password, _ := u.User.Password()
		plain := &http.Request{Header: http.Header{}}
		plain.SetBasicAuth(u.User.Username(), password)
		req.Authorization = plain.Header.Get("Authorization")
		u.User = nil
		req.URL = u.String()
	}
	return r.around.Client.Document(ctx, req)
}

// bounded fails where an answer is longer than it may be.
type bounded struct {
	r    io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, errors.New("the answer is too large")
	}
	return n, err
}

// listed are the versions that a proxy has of a module. Commits that were never
// tagged should not be among them, but some proxies list those that they have.
func (r *registry) listed(ctx context.Context, path string) (tagged, commits []string, err error) {
	data, err := r.ask(ctx, document{module: path, file: "@v/list", form: "list/1", limit: maxList})
	if errors.Is(err, fetch.ErrNotAsked) || errors.Is(err, fetch.ErrNotCached) {
		// Then what the go command has seen of it is all that there is.
		folder := filepath.Dir(r.cached(version{Path: path, Version: "v0.0.0"}, ""))
		if kept, kerr := within.Plain(filepath.Join(folder, "list"), maxList); kerr == nil {
			data, err = kept, nil
		}
	}
	if err != nil {
		return nil, nil, err
	}
	for field := range strings.FieldsSeq(string(data)) {
		if err := ecosystem.CheckReleases(len(tagged) + len(commits)); err != nil {
			return nil, nil, fmt.Errorf("the list of %s: %w", path, err)
		}
		switch {
		case !ecosystem.ListedVersion(field):
		case module.Check(path, field) != nil:
		case module.IsPseudoVersion(field):
			commits = append(commits, field)
		default:
			tagged = append(tagged, field)
		}
	}
	return tagged, commits, nil
}

// info is what a proxy tells of a version.
type info struct {
	Version string
	Time    time.Time
}

// latest is the version that a proxy takes for the newest: of use only where
// no versions are listed.
func (r *registry) latest(ctx context.Context, path string) (info, error) {
	return r.info(ctx, document{module: path, file: "@latest", form: "latest/1", limit: maxModFile})
}

// Branch is the pseudo-version of a branch's last commit, as the proxies give it.
func (r *registry) Branch(ctx context.Context, s model.Subject, name string) (string, error) {
	escaped, err := module.EscapeVersion(name)
	if err != nil {
		return "", fmt.Errorf("%q is no name of a branch that a module proxy can be asked for", name)
	}
	i, err := r.info(ctx, document{module: s.Name, file: "@v/" + escaped + ".info", form: "branch/1", limit: maxModFile})
	return i.Version, err
}

// OfBranch tells whether a version is a pseudo-version.
func (r *registry) OfBranch(version string) bool { return module.IsPseudoVersion(version) }

// published is when a version came out.
func (r *registry) published(ctx context.Context, m version) (time.Time, error) {
	escaped, err := module.EscapeVersion(m.Version)
	if err != nil {
		return time.Time{}, err
	}
	if data, err := within.Plain(r.cached(m, ".info"), maxModFile); err == nil {
		i := info{}
		if json.Unmarshal(data, &i) == nil {
			return i.Time, nil
		}
	}
	i, err := r.info(ctx, document{module: m.Path, file: "@v/" + escaped + ".info", form: "info/1", limit: maxModFile, forever: true})
	return i.Time, err
}

func (r *registry) info(ctx context.Context, d document) (info, error) {
	i := info{}
	d.distil = func(body io.Reader) ([]byte, error) {
		if err := json.NewDecoder(body).Decode(&i); err != nil {
			return nil, fmt.Errorf("the answer makes no sense: %w", err)
		}
		if module.Check(d.module, i.Version) != nil {
			return nil, fmt.Errorf("the answer names the version %q, which %s cannot have", i.Version, d.module)
		}
		return json.Marshal(i)
	}
	data, err := r.ask(ctx, d)
	if err != nil {
		return i, err
	}
	return i, json.Unmarshal(data, &i)
}

// cached is a file of the go command's module cache.
func (r *registry) cached(m version, ending string) string {
	path, err := module.EscapePath(m.Path)
	if err != nil {
		return ""
	}
	v, err := module.EscapeVersion(m.Version)
	if err != nil {
		return ""
	}
	return filepath.Join(r.disk, "cache", "download", filepath.FromSlash(path), "@v", v+ending)
}
