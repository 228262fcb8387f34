package gomod

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/spelling"
)

// keptSums are, in no order, what a go.sum has to vouch for: every go.mod that counts in the
// graph, and every module that has a package or could have it by its path.
func (l *loader) keptSums(rs *requirements) []version {
	keep := map[version]bool{}
	note := func(m version, whole bool) {
		src, err := l.p.source(m)
		if err != nil || src.dir != "" {
			return
		}
		if whole {
			keep[src.mod] = true
		} else {
			keep[modKey(src.mod)] = true
		}
	}
	for _, k := range l.list {
		if k.testOf != nil || !k.external() {
			continue
		}
		if compareGo(rs.selected["go"], "1.21") >= 0 {
			note(k.mod, false)
		}
		versions := rs.selected
		if rs.pruned && rs.roots[k.mod.Path] == k.mod.Version {
			versions = rs.roots
		}
		for _, prefix := range prefixes(k.path) {
			if v := versions[prefix]; v != "" && prefix != "go" && prefix != "toolchain" {
				note(version{Path: prefix, Version: v}, true)
			}
		}
	}
	for m := range rs.requires {
		note(m, false)
	}
	return slices.Collect(maps.Keys(keep))
}

// sums writes the go.sum of a state. What it says already must hold for what
// was fetched; what is new is checked with the checksum database.
func (s *resolver) sums(l *loader) ([]byte, error) {
	keep := l.keptSums(l.rs)
	if readsBoth(l.rs.selected["go"]) {
		// Go 1.16 reads such a module without pruning, and wants its hashes, too.
		whole, err := s.requirements(l.rs.list, l.rs.direct, false)
		if err != nil {
			return nil, err
		}
		keep = append(keep, l.keptSums(whole)...)
	}
	keep = sortedVersions(keep)
	out := &sums{hashes: map[version][]string{}}
	hashes := make([]string, len(keep))
	fresh := make([]bool, len(keep))
	group, ctx := errgroup.WithContext(s.ctx)
	group.SetLimit(askAtOnce)
	for i, m := range keep {
		group.Go(func() (err error) {
			name, isMod := strings.CutSuffix(m.Version, "/go.mod")
			if isMod {
				var info *modInfo
				if info, err = s.r.modInfo(ctx, version{Path: m.Path, Version: name}); err == nil {
					hashes[i] = info.hash
				}
			} else {
				var x *index
				if x, err = s.r.indexOf(ctx, m); err == nil {
					hashes[i] = x.Hash
				}
			}
			if err != nil {
				return err
			}
			same, says := s.p.sum.has(m, hashes[i])
			if says && !same {
				return s.p.mismatch(m, hashes[i])
			}
			fresh[i] = !same
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	if err := s.check(keep, hashes, fresh); err != nil {
		return nil, err
	}
	for i, m := range keep {
		out.hashes[m] = s.p.sum.hashes[m]
		if fresh[i] {
			out.hashes[m] = append(slices.Clone(out.hashes[m]), hashes[i])
		}
	}
	text := out.text(keep)
	if bytes.Contains(s.p.sum.src, []byte("\r\n")) {
		text = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	}
	return text, nil
}

func sortedVersions(list []version) []version {
	slices.SortFunc(list, func(a, b version) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Version, b.Version)
	})
	return slices.Compact(list)
}

// check looks new hashes up in the checksum database.
func (s *resolver) check(list []version, hashes []string, fresh []bool) error {
	s.unchecked(list, fresh)
	db, err := s.r.sumDB(s.ctx)
	if err != nil || db == nil {
		return err
	}
	group, _ := errgroup.WithContext(s.ctx)
	group.SetLimit(askAtOnce)
	results := make([]error, len(list))
	for i, m := range list {
		if !fresh[i] || s.r.settings.unchecked(m.Path) || s.r.vouched(m) == hashes[i] {
			continue
		}
		group.Go(func() error {
			results[i] = db.check(m, hashes[i])
			if results[i] == nil {
				s.r.vouch(m, hashes[i])
			}
			return nil
		})
	}
	_ = group.Wait()
	if s.ctx.Err() != nil {
		return s.ctx.Err()
	}
	return cmp.Or(results...)
}

// unchecked tells which new hashes no checksum database is asked about, because the
// person's own settings say so.
func (s *resolver) unchecked(list []version, fresh []bool) {
	off := s.r.settings.get("GOSUMDB") == "off"
	var paths []string
	for i, m := range list {
		if fresh[i] && (off || s.r.settings.unchecked(m.Path)) && !slices.Contains(paths, m.Path) {
			paths = append(paths, m.Path)
		}
	}
	if len(paths) == 0 {
		return
	}
	why := "GONOSUMDB or GOPRIVATE says so"
	if off {
		why = "GOSUMDB is off"
	}
	s.notable = append(
		s.notable,
		fmt.Sprintf("new hashes in go.sum are not checked with a checksum database, since %s: %s", why, spelling.Few(paths, 3)),
	)
}

func (r *registry) vouched(m version) string {
	r.checking.Lock()
	defer r.checking.Unlock()
	return r.checked[m]
}

func (r *registry) vouch(m version, hash string) {
	r.checking.Lock()
	defer r.checking.Unlock()
	r.checked[m] = hash
}
