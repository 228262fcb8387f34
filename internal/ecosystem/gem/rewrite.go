package gem

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
)

// Rewrite gives the Gemfile and gemspecs with gems renamed, added, dropped, or taken from
// elsewhere. A renamed one keeps its place; one that is added goes where its name sorts among the
// lines that stand in no block, and behind them if they are in no order.
func (Ecosystem) Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error) {
	p := c.Detail.(*project.Project)
	if len(overrides) > 0 {
		return nil, &model.Fault{
			Doing: "overriding " + overrides[0].Name + " in " + overrides[0].Of, File: c.Manifest, Line: 1, Found: true,
			Wrong: "a Gemfile cannot say what a gem gets of another",
		}
	}
	splices := map[string][]model.Splice{}
	for i, change := range changes {
		again := func(later contract.Change) bool { return later.Old == change.Old }
		if change.Old != "" && slices.ContainsFunc(changes[i+1:], again) {
			continue // the last word about a gem counts
		}
		if change.New != "" && !registry.GemName.MatchString(change.New) {
			return nil, fmt.Errorf("%q is no name of a gem", change.New)
		}
		if change.Old == "" {
			add := p.Addition(change)
			splices[add.Site.File] = append(splices[add.Site.File], add)
			continue
		}
		for _, d := range slices.Concat(p.Gemfile.Gems, p.Specced) {
			if d.Name != change.Old {
				continue
			}
			if !d.Literal() {
				return nil, &model.Fault{
					Doing: "changing the line of " + d.Name, File: d.File, Line: d.Line, Found: true,
					Wrong: cmp.Or(d.Fixed, "its name stands in a list"), Next: "change it yourself, and commit it",
				}
			}
			src := p.Gemfile.Texts[d.File]
			if change.New == "" {
				splices[d.File] = append(splices[d.File], d.Dropped(src))
				continue
			}
			splices[d.File] = append(splices[d.File], d.Become(change, src)...)
		}
	}
	var edits []model.FileEdit
	for file, list := range splices {
		src := p.Gemfile.Texts[file]
		text, err := model.Apply(src, list)
		if err != nil {
			return nil, err
		}
		if !gemfile.EmptyBlock.Match(src) { // those that were there before stay
			text = gemfile.EmptyBlock.ReplaceAll(text, nil)
		}
		if !bytes.Equal(text, src) {
			edits = append(edits, model.FileEdit{File: file, Old: src, New: text})
		}
	}
	slices.SortFunc(edits, func(a, b model.FileEdit) int { return strings.Compare(a.File, b.File) })
	return edits, nil
}
