package gomod

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

	"golang.org/x/mod/module"

	"bellwether/internal/core/harmless"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
)

// place is where the modules below a path come from.
type place struct {
	Root    string // the path that stands for the repository, or the proxy
	Kind    string // "git", another system, or "mod" for a module proxy
	Address string
}

// maxPage is how much of a page that tells where modules come from is read, in bytes.
const maxPage = 1 << 20

// place finds where a module comes from, after "go help importpath": its path names a
// repository, or a page at that address does.
func (r *registry) place(ctx context.Context, modulePath string) (place, error) {
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
func (r *registry) qualifiedPlace(ctx context.Context, root string) (place, error) {
	schemes := []string{"https://", "ssh://"}
	if r.settings.insecure(root) {
		schemes = append(schemes, "http://", "git://")
	}
	var first error // the others were just tried
	for _, scheme := range schemes {
		for _, rest := range []string{root, strings.TrimSuffix(root, ".git")} {
			p := place{root, "git", scheme + rest}
			o, err := r.origin(ctx, p)
			if err == nil {
				_, err = o.refs(ctx)
			}
			if err == nil {
				return p, nil
			}
			if ctx.Err() != nil {
				return place{}, ctx.Err()
			}
			if first == nil {
				first = err
			}
		}
	}
	return place{}, first
}

// announced is what the page at a path says about a module.
func (r *registry) announced(ctx context.Context, at, modulePath string) (place, error) {
	schemes := []string{"https"}
	if r.settings.insecure(at) {
		schemes = append(schemes, "http")
	}
	var last error
	for _, scheme := range schemes {
		u := url.URL{Scheme: scheme, Path: at, RawQuery: "go-get=1"}
		u.Host, u.Path, _ = strings.Cut(at, "/")
		data, err := r.around.Client.Document(ctx, fetch.Request{
			URL: u.String(), Form: "golang/places/1", Page: true, Authorization: r.settings.logins[u.Host],
			Distil: func(body io.Reader) ([]byte, error) {
				return json.Marshal(readPlaces(&bounded{r: body, left: maxPage}))
			},
		})
		if err != nil {
			last = err
			continue
		}
		var places []place
		if err := json.Unmarshal(data, &places); err != nil {
			return place{}, err
		}
		for _, p := range places {
			if p.Root == modulePath || strings.HasPrefix(modulePath, p.Root+"/") {
				return p, r.settings.reachable(p)
			}
		}
		return place{}, &missing{modulePath, fmt.Sprintf("has a page at %s that names no repository for it", u.Host), nil}
	}
	return place{}, last
}

// readPlaces reads the <meta name="go-import"> of a page, up to what is no XML: it is
// HTML, and they stand near its beginning.
func readPlaces(page io.Reader) []place {
	places := []place{}
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
			places = append(places, place{f[0], f[1], f[2]})
		}
	}
}

// insecure tells whether modules may come without encryption.
func (g *settings) insecure(modulePath string) bool {
	return module.MatchPrefixPatterns(g.get("GOINSECURE"), modulePath)
}

// reachable refuses addresses that are not to be trusted with a module.
func (g *settings) reachable(p place) error {
	u, err := url.Parse(p.Address)
	if err != nil || u.Host == "" {
		return fmt.Errorf("%s is said to be at %q, which is no address", p.Root, harmless.Address(p.Address))
	}
	switch u.Scheme {
	case "https", "ssh", "git+ssh":
		return nil
	}
	if g.insecure(p.Root) && slices.Contains([]string{"http", "git"}, u.Scheme) {
		return nil
	}
	return fmt.Errorf(
		"%s is said to be at %s, which is no safe way to get it (GOINSECURE could allow it)", p.Root, harmless.Address(p.Address),
	)
}

// origin is the repository at a place.
func (r *registry) origin(ctx context.Context, p place) (*origin, error) {
	return r.origins.get(p, func() (*origin, error) {
		if p.Kind != "git" {
			return nil, &missing{p.Root, fmt.Sprintf("is kept in %s, which Bellwether does not read", p.Kind), fetch.ErrNotAsked}
		}
		if !r.settings.allowsGit(p.Root) {
			return nil, &missing{p.Root, "is not to be got with git (GOVCS)", fetch.ErrNotAsked}
		}
		dir := r.around.Client.Folder("git", p.Address)
		if dir == "" {
			return nil, &missing{p.Root, "is to be got from its repository, which needs a cache to keep it in", fetch.ErrNotAsked}
		}
		remote, err := git.OpenRemote(ctx, dir, strings.TrimPrefix(p.Address, "git+"))
		return &origin{root: p.Root, remote: remote, client: r.around.Client}, err
	})
}

// allowsGit reads GOVCS, a list of "pattern:system|system" of which the first that
// fits counts; "public" and "private" stand for all modules of the kind.
func (g *settings) allowsGit(root string) bool {
	private := g.matches("GOPRIVATE", root)
	for rule := range strings.SplitSeq(g.get("GOVCS"), ",") {
		pattern, systems, ok := strings.Cut(strings.TrimSpace(rule), ":")
		if !ok {
			continue
		}
		if pattern == "private" && private || pattern == "public" && !private || module.MatchPrefixPatterns(pattern, root) {
			list := strings.Split(systems, "|")
			return slices.Contains(list, "git") || slices.Contains(list, "all")
		}
	}
	return true
}

// fromOrigin gives what a proxy would, from where the module itself is kept.
func (r *registry) fromOrigin(ctx context.Context, d document) ([]byte, error) {
	read := func() ([]byte, error) {
		p, err := r.places.get(d.module, func() (place, error) { return r.place(ctx, d.module) })
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
		return o.document(ctx, d)
	}
	var data []byte
	var err error
	if d.forever {
		data, err = r.around.Client.Derive(path.Join("origin:"+d.module, d.file), "golang/"+d.form, read)
	} else {
		data, err = read()
	}
	var silence *fetch.Unreachable
	if err != nil && !errors.As(err, &silence) && ctx.Err() == nil && !isMissing(err) {
		err = &missing{d.module, "is not to be had: " + err.Error(), err}
	}
	return data, err
}
