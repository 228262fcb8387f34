package resolving

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/spelling"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/ecosystem/gomod/tidying"
)

// sums writes the go.sum of a state. What it says already must hold for what
// was fetched; what is new is checked with the checksum database.
func (s *resolver) sums(l *tidying.Loader) ([]byte, error) {
	keep := l.KeptSums(l.Needs)
	if readsBoth(l.Needs.Selected["go"]) {
		// Go 1.16 reads such a module without pruning, and wants its hashes, too.
		whole, err := s.Requirements(l.Needs.List, l.Needs.Direct, false)
		if err != nil {
			return nil, err
		}
		keep = append(keep, l.KeptSums(whole)...)
	}
	keep = tidying.SortedVersions(keep)
	out := &project.Sums{Hashes: map[module.Version][]string{}}
	hashes := make([]string, len(keep))
	fresh := make([]bool, len(keep))
	group, ctx := errgroup.WithContext(s.Ctx)
	group.SetLimit(selection.AskAtOnce)
	for i, m := range keep {
		group.Go(func() (err error) {
			name, isMod := strings.CutSuffix(m.Version, "/go.mod")
			if isMod {
				var info *project.ModInfo
				if info, err = s.Registry.ModInfo(ctx, module.Version{Path: m.Path, Version: name}); err == nil {
					hashes[i] = info.Hash
				}
			} else {
				var x *imports.Index
				if x, err = s.Registry.IndexOf(ctx, m); err == nil {
					hashes[i] = x.Hash
				}
			}
			if err != nil {
				return err
			}
			same, says := s.Project.Sum.Has(m, hashes[i])
			if says && !same {
				return s.Project.Mismatch(m, hashes[i])
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
		out.Hashes[m] = s.Project.Sum.Hashes[m]
		if fresh[i] {
			out.Hashes[m] = append(slices.Clone(out.Hashes[m]), hashes[i])
		}
	}
	text := out.Text(keep)
	if bytes.Contains(s.Project.Sum.Src, []byte("\r\n")) {
		text = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	}
	return text, nil
}

// check looks new hashes up in the checksum database.
func (s *resolver) check(list []module.Version, hashes []string, fresh []bool) error {
	s.unchecked(list, fresh)
	db, err := s.Registry.SumDB(s.Ctx)
	if err != nil || db == nil {
		return err
	}
	group, _ := errgroup.WithContext(s.Ctx)
	group.SetLimit(selection.AskAtOnce)
	results := make([]error, len(list))
	for i, m := range list {
		if !fresh[i] || s.Registry.Settings.Unchecked(m.Path) || s.Registry.Vouched(m) == hashes[i] {
			continue
		}
		group.Go(func() error {
			results[i] = db.Check(m, hashes[i])
			if results[i] == nil {
				s.Registry.Vouch(m, hashes[i])
			}
			return nil
		})
	}
	_ = group.Wait()
	if s.Ctx.Err() != nil {
		return s.Ctx.Err()
	}
	return cmp.Or(results...)
}

// unchecked tells which new hashes no checksum database is asked about, because the
// person's own settings say so.
func (s *resolver) unchecked(list []module.Version, fresh []bool) {
	off := s.Registry.Settings.Get("GOSUMDB") == "off"
	var paths []string
	for i, m := range list {
		if fresh[i] && (off || s.Registry.Settings.Unchecked(m.Path)) && !slices.Contains(paths, m.Path) {
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
