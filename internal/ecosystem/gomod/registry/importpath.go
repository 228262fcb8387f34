package registry

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/ecosystem/gomod/origin"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
)

// maxPage is how much of a page that tells where modules come from is read, in bytes.
const maxPage = 1 << 20

// placeOf finds where a module comes from, after "go help importpath": its path names a
// repository, or a page at that address does.
func (r *Registry) placeOf(ctx context.Context, modulePath string) (protocol.Place, error) {
	if root := qualified(modulePath); root != "" {
		return r.qualifiedPlace(ctx, root)
	}
	p, err := r.announced(ctx, modulePath, modulePath)
	if err != nil || p.Root == modulePath {
		return p, err
	}
	// Whoever has the whole must say so, too.
	if whole, err := r.announced(ctx, p.Root, p.Root); err != nil || whole != p {
		return p, fmt.Errorf(
			"the page of %s says that %s is at %s, which the page of %s does not", modulePath, p.Root, harmless.Address(p.Address), p.Root,
		)
	}
	return p, nil
}

// qualified is the beginning of a path up to an element that names a repository of
// git, "" if none does.
func qualified(modulePath string) string {
	elements := strings.Split(modulePath, "/")
	for i, e := range elements[1:] {
		if strings.HasSuffix(e, ".git") && e != ".git" {
			return strings.Join(elements[:i+2], "/")
		}
	}
	return ""
}

// qualifiedPlace asks for a repository in the ways in which it could be reached.
func (r *Registry) qualifiedPlace(ctx context.Context, root string) (protocol.Place, error) {
	schemes := []string{"https://", "ssh://"}
	if r.Settings.Insecure(root) {
		schemes = append(schemes, "http://", "git://")
	}
	var first error // the others were just tried
	for _, scheme := range schemes {
		for _, rest := range []string{root, strings.TrimSuffix(root, ".git")} {
			p := protocol.Place{Root: root, Kind: "git", Address: scheme + rest}
			o, err := r.origin(ctx, p)
			if err == nil {
				_, err = o.Refs(ctx)
			}
			if err == nil {
				return p, nil
			}
			if ctx.Err() != nil {
				return protocol.Place{}, ctx.Err()
			}
			if first == nil {
				first = err
			}
		}
	}
	return protocol.Place{}, first
}

// announced is what the page at a path says about a module.
func (r *Registry) announced(ctx context.Context, at, modulePath string) (protocol.Place, error) {
	schemes := []string{"https"}
	if r.Settings.Insecure(at) {
		schemes = append(schemes, "http")
	}
	var last error
	for _, scheme := range schemes {
		u := url.URL{Scheme: scheme, Path: at, RawQuery: "go-get=1"}
		u.Host, u.Path, _ = strings.Cut(at, "/")
		data, err := r.around.Client.Document(ctx, fetch.Request{
			URL: u.String(), Form: "golang/places/1", Page: true, Authorization: r.Settings.Logins[u.Host],
			Distil: func(body io.Reader) ([]byte, error) {
				return json.Marshal(readPlaces(&protocol.Bounded{R: body, Left: maxPage}))
			},
		})
		if err != nil {
			last = err
			continue
		}
		var places []protocol.Place
		if err := json.Unmarshal(data, &places); err != nil {
			return protocol.Place{}, err
		}
		for _, p := range places {
			if p.Root == modulePath || strings.HasPrefix(modulePath, p.Root+"/") {
				return p, r.Settings.Reachable(p)
			}
		}
		return protocol.Place{}, protocol.NoSuch(modulePath, fmt.Sprintf("has a page at %s that names no repository for it", u.Host), nil)
	}
	return protocol.Place{}, last
}

// readPlaces reads the <meta name="go-import"> of a page, up to what is no XML: it is
// HTML, and they stand near its beginning.
func readPlaces(page io.Reader) []protocol.Place {
	places := []protocol.Place{}
	d := xml.NewDecoder(page)
	d.Strict, d.AutoClose, d.Entity = false, xml.HTMLAutoClose, xml.HTMLEntity
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	for {
		token, err := d.RawToken()
		if err != nil {
			return places
		}
		if end, ok := token.(xml.EndElement); ok && strings.EqualFold(end.Name.Local, "head") {
			return places
		}
		start, ok := token.(xml.StartElement)
		if !ok || !strings.EqualFold(start.Name.Local, "meta") {
			continue
		}
		attribute := func(name string) string {
			i := slices.IndexFunc(start.Attr, func(a xml.Attr) bool { return strings.EqualFold(a.Name.Local, name) })
			if i < 0 {
				return ""
			}
			return start.Attr[i].Value
		}
		if f := strings.Fields(attribute("content")); attribute("name") == "go-import" && len(f) == 3 {
			places = append(places, protocol.Place{Root: f[0], Kind: f[1], Address: f[2]})
		}
	}
}

// origin is the repository at a place.
func (r *Registry) origin(ctx context.Context, p protocol.Place) (*origin.Origin, error) {
	return r.origins.Get(p, func() (*origin.Origin, error) {
		if p.Kind != "git" {
			return nil, protocol.NoSuch(p.Root, fmt.Sprintf("is kept in %s, which Bellwether does not read", p.Kind), fetch.ErrNotAsked)
		}
		if !r.Settings.AllowsGit(p.Root) {
			return nil, protocol.NoSuch(p.Root, "is not to be got with git (GOVCS)", fetch.ErrNotAsked)
		}
		dir := r.around.Client.Folder("git", p.Address)
		if dir == "" {
			return nil, protocol.NoSuch(p.Root, "is to be got from its repository, which needs a cache to keep it in", fetch.ErrNotAsked)
		}
		remote, err := git.OpenRemote(ctx, dir, strings.TrimPrefix(p.Address, "git+"))
		return &origin.Origin{Root: p.Root, Remote: remote, Client: r.around.Client}, err
	})
}

// fromOrigin gives what a proxy would, from where the module itself is kept.
func (r *Registry) fromOrigin(ctx context.Context, d protocol.Document) ([]byte, error) {
	read := func() ([]byte, error) {
		p, err := r.places.Get(d.Module, func() (protocol.Place, error) { return r.placeOf(ctx, d.Module) })
		if err != nil {
			return nil, err
		}
		if p.Kind == "mod" {
			return r.askProxy(ctx, strings.TrimSuffix(p.Address, "/"), d)
		}
		o, err := r.origin(ctx, p)
		if err != nil {
			return nil, err
		}
		return o.Document(ctx, d)
	}
	var data []byte
	var err error
	if d.Forever {
		data, err = r.around.Client.Derive(path.Join("origin:"+d.Module, d.File), "golang/"+d.Form, read)
	} else {
		data, err = read()
	}
	var silence *fetch.Unreachable
	if err != nil && !errors.As(err, &silence) && ctx.Err() == nil && !protocol.IsMissing(err) {
		err = protocol.NoSuch(d.Module, "is not to be had: "+err.Error(), err)
	}
	return data, err
}
