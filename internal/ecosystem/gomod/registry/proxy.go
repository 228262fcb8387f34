package registry

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
	"strings"
	"time"

	"golang.org/x/mod/module"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// nothing is kept for what a proxy does not have.
var nothing = []byte("-")

// ask gets a document from the first proxy that has it. The error is a
// *missing if none does.
func (r *Registry) ask(ctx context.Context, d protocol.Document) ([]byte, error) {
	what := d.What()
	if r.Settings.Private(d.Module) {
		return r.fromOrigin(ctx, d)
	}
	var last error
	for _, p := range r.Settings.Proxies {
		switch p.URL {
		case "off":
			return nil, protocol.NoSuch(what, "is not to be had: GOPROXY says off", fetch.ErrNotAsked)
		case "direct":
			data, err := r.fromOrigin(ctx, d)
			if last != nil && err != nil && ctx.Err() == nil {
				err = fmt.Errorf("%w; and %s", last, err)
			}
			return data, err
		}
		data, err := r.askProxy(ctx, p.URL, d)
		if err == nil {
			return data, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		last = err
		if !protocol.IsMissing(err) && !p.Always {
			return nil, fmt.Errorf("asking for %s: %w", what, err)
		}
	}
	if protocol.IsMissing(last) {
		return nil, last
	}
	return nil, fmt.Errorf("asking for %s: %w", what, last)
}

// askProxy gets a document from one proxy. The error is a *missing if it has none.
func (r *Registry) askProxy(ctx context.Context, address string, d protocol.Document) ([]byte, error) {
	escaped, err := module.EscapePath(d.Module)
	if err != nil {
		return nil, protocol.NoSuch(d.Module, "has no valid module path: "+err.Error(), nil)
	}
	data, err := r.askOne(ctx, address+"/"+escaped+"/"+d.File, d)
	if err == nil && len(data) == len(nothing) && string(data) == string(nothing) {
		err = protocol.NoSuch(d.What(), "is not known to the module proxy", &fetch.Status{Path: d.Module, Code: http.StatusNotFound})
	}
	return data, err
}

func (r *Registry) askOne(ctx context.Context, address string, d protocol.Document) ([]byte, error) {
	distil := func(body io.Reader) ([]byte, error) {
		body = &protocol.Bounded{R: body, Left: d.Limit}
		if d.Distil != nil {
			return d.Distil(body)
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
		URL: address, Distil: distil, Form: "golang/" + d.Form, Forever: d.Forever, Absent: nothing,
		Limit: d.Limit + 1, // the bound that is told is the reader's
	}
	if fetch.Private(address) { // as the go command, which sends those of netrc over TLS alone
		req.Authorization = r.Settings.Logins[u.Host]
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

// listed are the versions that a proxy has of a module. Commits that were never
// tagged should not be among them, but some proxies list those that they have.
func (r *Registry) listed(ctx context.Context, path string) (tagged, commits []string, err error) {
	data, err := r.ask(ctx, protocol.Document{Module: path, File: "@v/list", Form: "list/1", Limit: protocol.MaxList})
	if errors.Is(err, fetch.ErrNotAsked) || errors.Is(err, fetch.ErrNotCached) {
		// Then what the go command has seen of it is all that there is.
		folder := filepath.Dir(r.cached(module.Version{Path: path, Version: "v0.0.0"}, ""))
		if kept, kerr := within.Plain(filepath.Join(folder, "list"), protocol.MaxList); kerr == nil {
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

// Latest is the version that a proxy takes for the newest: of use only where
// no versions are listed.
func (r *Registry) Latest(ctx context.Context, path string) (protocol.Info, error) {
	return r.info(ctx, protocol.Document{Module: path, File: "@latest", Form: "latest/1", Limit: protocol.MaxModFile})
}

// Branch is the pseudo-version of a branch's last commit, as the proxies give it.
func (r *Registry) Branch(ctx context.Context, s model.Subject, name string) (string, error) {
	escaped, err := module.EscapeVersion(name)
	if err != nil {
		return "", fmt.Errorf("%q is no name of a branch that a module proxy can be asked for", name)
	}
	i, err := r.info(ctx, protocol.Document{Module: s.Name, File: "@v/" + escaped + ".info", Form: "branch/1", Limit: protocol.MaxModFile})
	return i.Version, err
}

// OfBranch tells whether a version is a pseudo-version.
func (r *Registry) OfBranch(version string) bool { return module.IsPseudoVersion(version) }

// Published is when a version came out.
func (r *Registry) Published(ctx context.Context, m module.Version) (time.Time, error) {
	escaped, err := module.EscapeVersion(m.Version)
	if err != nil {
		return time.Time{}, err
	}
	if data, err := within.Plain(r.cached(m, ".info"), protocol.MaxModFile); err == nil {
		i := protocol.Info{}
		if json.Unmarshal(data, &i) == nil {
			return i.Time, nil
		}
	}
	i, err := r.info(ctx, protocol.Document{
		Module: m.Path, File: "@v/" + escaped + ".info", Form: "info/1", Limit: protocol.MaxModFile, Forever: true,
	})
	return i.Time, err
}

func (r *Registry) info(ctx context.Context, d protocol.Document) (protocol.Info, error) {
	i := protocol.Info{}
	d.Distil = func(body io.Reader) ([]byte, error) {
		if err := json.NewDecoder(body).Decode(&i); err != nil {
			return nil, fmt.Errorf("the answer makes no sense: %w", err)
		}
		if module.Check(d.Module, i.Version) != nil {
			return nil, fmt.Errorf("the answer names the version %q, which %s cannot have", i.Version, d.Module)
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
func (r *Registry) cached(m module.Version, ending string) string {
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
