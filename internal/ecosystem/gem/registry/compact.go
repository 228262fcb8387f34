package registry

import (
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"sync"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/host/fetch"
)

// The bounds of a source's list of all gems, and of the list of one gem, in bytes.
const (
	maxVersions = 128 << 20
	maxInfo     = 32 << 20
)

// infoForm names the form in which a gem's list of releases is kept: as it came.
const infoForm = "gem-info/1"

// listing is what a source lists of all its gems: the digest of each gem's own list. It tells which
// of the lists that are kept are still right.
type listing struct {
	once  sync.Once
	there bool // the source has such a list
	anew  bool // it was asked for although what was kept was young
	sums  map[string]string
	err   error
}

// listing is that of a source.
func (r *Registry) listing(ctx context.Context, source string, anew bool) *listing {
	r.mu.Lock()
	l := r.all[source]
	if l == nil || anew && !l.anew {
		l = &listing{anew: anew}
		r.all[source] = l
	}
	r.mu.Unlock()
	l.once.Do(func() { l.ask(ctx, r, source) })
	return l
}

func (l *listing) ask(ctx context.Context, r *Registry, source string) {
	address, header := r.address(source, "versions")
	text, err := r.Around.Client.Document(ctx, fetch.Request{
		URL: address, Accept: "text/plain", Authorization: header, Form: "gem-versions/2", Limit: maxVersions, Absent: []byte{},
		Grows: true, Anew: l.anew,
	})
	switch {
	case errors.Is(err, fetch.ErrNotCached), errors.As(err, new(*fetch.Status)):
		return // what a gem's own list says is enough
	case err != nil:
		l.err = err
		return
	}
	l.there = bytes.HasPrefix(text, []byte("created_at:")) // anything else is an answer to whatever is asked
	if l.there {
		l.sums = ReadVersions(text)
	}
}

// ReadVersions reads the list of all gems: a line each, or several, of which the last one counts: "rack 1.0.0,1.1.0 DIGEST".
func ReadVersions(text []byte) map[string]string {
	sums := map[string]string{}
	if _, rest, ok := bytes.Cut(text, []byte("---\n")); ok {
		text = rest
	}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		name, rest, _ := strings.Cut(line, " ")
		if name == "" {
			continue
		}
		sums[name] = rest[strings.LastIndexByte(rest, ' ')+1:]
		if !md5Text.MatchString(sums[name]) {
			sums[name] = "" // it is there, and nothing is said of its list
		}
	}
	return sums
}

var md5Text = lazyregexp.New(`^[0-9a-f]{32}$`)

// without tells whether a source lists gems, and not this one.
func (l *listing) without(gem string) bool {
	_, listed := l.sums[gem]
	return l.there && !listed
}

// names tells whether a list of a gem is the one that is named. Where no digest is, any is.
func (l *listing) names(gem string, list []byte) bool {
	if l.sums[gem] == "" {
		return true
	}
	sum := md5.Sum(list)
	return l.sums[gem] == hex.EncodeToString(sum[:])
}

// info is a gem's list of releases as a source has it; empty for a gem that it does not know.
func (r *Registry) info(ctx context.Context, source, name string) ([]byte, error) {
	all := r.listing(ctx, source, false)
	if all.without(name) {
		all = r.listing(ctx, source, true)
	}
	if all.err != nil {
		return nil, all.err
	}
	if all.without(name) {
		return nil, nil
	}
	address, header := r.address(source, "info/"+url.PathEscape(name))
	request := fetch.Request{
		URL: address, Accept: "text/plain", Authorization: header, Form: infoForm, Limit: maxInfo, Absent: []byte{},
		Distil: func(body io.Reader) ([]byte, error) {
			text, err := io.ReadAll(body)
			if err == nil && !strings.HasPrefix(string(text), "---\n") && !strings.Contains(string(text), "\n---\n") {
				err = fmt.Errorf("this is no list of a compact index; the server may have only the older interface, which is not read")
			}
			return text, err
		},
	}
	if all.sums[name] != "" {
		request.Fresh = func(kept []byte) bool { return len(kept) > 0 && all.names(name, kept) }
	}
	list, err := r.Around.Client.Document(ctx, request)
	if err != nil || all.names(name, list) || r.Around.Client.Offline() {
		return list, err
	}
	if all = r.listing(ctx, source, true); all.err == nil && !all.names(name, list) { // it changed in between
		request.Anew = true
		list, err = r.Around.Client.Document(ctx, request)
		if err == nil && !all.names(name, list) {
			err = &model.Fault{
				Doing: "asking for " + name, Found: true,
				Wrong: fmt.Sprintf("what %s lists of it is not what its list of all gems names by its digest", harmless.Address(source)),
				Next:  "run the command again a little later; if it stays so, do not trust what the server says",
			}
		}
	}
	return list, err
}

// ask gives the releases of a gem, of its own source or of all global ones, as Bundler has it. Of a
// release that several of those list, that of the last one counts.
func (r *Registry) ask(ctx context.Context, name string) (all []*Variant, err error) {
	if !GemName.MatchString(name) {
		return nil, fmt.Errorf("%q is no name of a gem", name)
	}
	sources := r.Sources
	if own := r.OwnSource(name); own != "" {
		sources = []string{own}
	}
	if len(sources) == 0 {
		return nil, &model.Fault{
			Doing: "looking for a gem server",
			Wrong: "the Gemfile names no source",
			Next:  `write source "https://…" at its top`,
		}
	}
	var knowing []string
	for _, source := range sources {
		list, err := r.list(ctx, source, name)
		if err != nil {
			return nil, err
		}
		if list == nil {
			continue
		}
		knowing = append(knowing, harmless.Address(source))
		all = together(all, list, source)
	}
	if knowing == nil {
		return nil, cmp.Or(r.older(ctx, sources), ErrUnknown)
	}
	if len(knowing) > 1 {
		r.mu.Lock()
		r.doubled[name] = knowing
		r.mu.Unlock()
	}
	return all, nil
}

// list is what a source lists of a gem; nil for a gem that it does not know.
func (r *Registry) list(ctx context.Context, source, name string) ([]*Variant, error) {
	r.mu.Lock()
	list := r.heard[asked{source, name}]
	r.mu.Unlock()
	if list != nil {
		return list, nil
	}
	text, err := r.info(ctx, source, name)
	if err != nil {
		return nil, fmt.Errorf("asking the gem server for %s: %w", name, err)
	}
	if len(text) == 0 {
		return nil, nil
	}
	list, err = ReadInfo(string(text))
	if err != nil {
		return nil, fmt.Errorf("reading what %s lists of %s: %w", harmless.Address(source), name, err)
	}
	return list, nil
}

// older is the error of a source that has no compact index at all: it may have the older
// interface only, which is not read.
func (r *Registry) older(ctx context.Context, sources []string) error {
	for _, source := range sources {
		if l := r.listing(ctx, source, false); l.err == nil && !l.there && !r.Around.Client.Offline() {
			return fmt.Errorf("%s has no compact index; if it has only the older interface, that is not read", harmless.Address(source))
		}
	}
	return nil
}
