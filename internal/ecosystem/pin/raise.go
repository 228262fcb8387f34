package pin

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Raise gives the edits that take all places which state one subject to a
// version at least, and notes on what they mean or leave open, as sentences.
// Each place keeps its own form: an image its flavour, a range its operators,
// a list those of its entries for which enough holds.
func Raise(fsys fs.FS, pins []model.Pin, to version.Version, enough func(p model.Pin) bool) (edits []model.FileEdit, notes []string, err error) {
	byFile := map[string][]model.Pin{}
	for _, p := range pins {
		byFile[p.Site.File] = append(byFile[p.Site.File], p)
	}
	for _, name := range slices.Sorted(maps.Keys(byFile)) {
		src, err := fs.ReadFile(fsys, name)
		if err != nil {
			return nil, nil, fmt.Errorf("raising %s: %w", pins[0].Subject, err)
		}
		r := &raiser{src: src, to: to, enough: enough}
		r.file(byFile[name])
		fresh, err := model.Apply(src, r.splices)
		if err != nil {
			return nil, nil, err
		}
		if !bytes.Equal(src, fresh) {
			edits = append(edits, model.FileEdit{File: name, Old: src, New: fresh})
		}
		notes = append(notes, r.notes...)
	}
	return edits, notes, nil
}

// raiser changes one file.
type raiser struct {
	src     []byte
	to      version.Version
	enough  func(p model.Pin) bool
	splices []model.Splice
	notes   []string
}

func (r *raiser) file(pins []model.Pin) {
	lists := map[int][]model.Pin{}
	for _, p := range pins {
		switch {
		case p.Unknown != "":
			r.notes = append(r.notes, fmt.Sprintf("%s states %s in a way that cannot be changed from here: %s", p.Site, p.Subject, p.Unknown))
		case p.Floating:
			// It follows by itself.
		case p.List != nil:
			lists[p.List.Start] = append(lists[p.List.Start], p)
		case below(p, r.to):
			r.put(p.Site.Start, p.Site.End, restate(p, r.to))
			if p.Digest.Text != "" {
				r.put(p.Digest.Start, p.Digest.End, "")
				r.notes = append(r.notes, fmt.Sprintf("%s: the digest behind %s is dropped, since it holds for that version alone; put the one of %s there", p.Site, p.Range, r.to))
			}
		}
	}
	for _, start := range slices.Sorted(maps.Keys(lists)) {
		r.thin(lists[start])
	}
}

func (r *raiser) put(start, end int, text string) {
	r.splices = append(r.splices, model.Splice{Site: model.Site{Start: start, End: end, Text: string(r.src[start:end])}, New: text})
}

// Low is the lowest version that a place admits; nil where it is not known.
func Low(p model.Pin) version.Version {
	if v, err := (version.Plain{}).Newest(p.Range); err == nil && !p.AtLeast {
		return v
	}
	r, err := version.Plain{}.ParseRange(p.Range)
	if err != nil {
		return nil
	}
	lows := version.Plain{}.Lows(r)
	if len(lows) == 0 {
		zero, _ := version.Plain{}.Parse("0")
		return zero
	}
	return slices.MinFunc(lows, version.Version.Compare)
}

// below tells whether a place admits what is below a version.
func below(p model.Pin, to version.Version) bool {
	low := Low(p)
	return low != nil && low.Compare(to) < 0
}

// restate is the text of a place for a version.
func restate(p model.Pin, to version.Version) string {
	old := p.Site.Text
	if p.Range != old { // the text has another form than what it means: Java's 1.8
		old = p.Range
	}
	text := version.Plain{}.Restate(old, to)
	for p.Whole && strings.Count(text, ".") < strings.Count(old, ".") {
		text += ".0"
	}
	return text
}

// thin drops the entries of a list for which not enough holds; where that is
// all of them, the last one is raised.
func (r *raiser) thin(list []model.Pin) {
	stays := make([]bool, len(list))
	for i, p := range list {
		stays[i] = p.Floating || p.Unknown != "" || r.enough(p)
	}
	if last := len(list) - 1; !slices.Contains(stays, true) {
		stays[last] = true
		r.put(list[last].Site.Start, list[last].Site.End, restate(list[last], r.to))
	}
	for i := 0; i < len(list); i++ {
		first := i
		for i < len(list) && !stays[i] && list[i].List.Entry.Text != "" {
			i++
		}
		if i == first {
			continue
		}
		start, end := list[first].List.Entry.Start, list[i-1].List.Entry.End
		switch {
		case strings.HasSuffix(list[i-1].List.Entry.Text, "\n"): // its lines go
		case i < len(list):
			end = list[i].List.Entry.Start // with what separates it from the next
		case first > 0:
			start = list[first-1].List.Entry.End // with what separates it from the one before
		}
		r.put(start, end, "")
	}
}
