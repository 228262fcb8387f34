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

// Aim is where the places that state one subject are to go.
type Aim struct {
	To     version.Version              // what is to be stated
	Low    version.Version              // the least that a range or list is to admit
	Enough func(v version.Version) bool // whether a list's entry may stay
	// Known are releases that are known to exist, for places that state a whole version.
	Known []version.Version
	// Promise is the least that places are to admit which promise it to who uses the project; nil for Low.
	Promise version.Version
}

// Raised is what Raise gives.
type Raised struct {
	Edits []model.FileEdit
	Sites []model.Site // the places that change
	Notes []string     // what the changes mean or leave open, as sentences
}

// Raise gives the edits that take all places which state one subject to an aim
// at least. Each place keeps its own form: an image its flavour, a range its
// operators, a list those of its entries that are enough.
func Raise(fsys fs.FS, pins []model.Pin, aim Aim) (*Raised, error) {
	all := &Raised{}
	byFile := map[string][]model.Pin{}
	for _, p := range pins {
		byFile[p.Site.File] = append(byFile[p.Site.File], p)
	}
	for _, name := range slices.Sorted(maps.Keys(byFile)) {
		src, err := fs.ReadFile(fsys, name)
		if err != nil {
			return nil, fmt.Errorf("raising %s: %w", pins[0].Subject, err)
		}
		r := &raiser{src: src, aim: aim}
		r.file(byFile[name])
		fresh, err := model.Apply(src, r.splices)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(src, fresh) {
			all.Edits = append(all.Edits, model.FileEdit{File: name, Old: src, New: fresh})
		}
		all.Sites, all.Notes = append(all.Sites, r.sites...), append(all.Notes, r.notes...)
	}
	return all, nil
}

// raiser changes one file.
type raiser struct {
	src     []byte
	aim     Aim
	splices []model.Splice
	sites   []model.Site
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
		case below(p, r.target(p)) && !r.agrees(p):
			r.sites = append(r.sites, p.Site)
			target := r.target(p)
			if p.Whole {
				target = r.newestKnown(target)
			}
			fresh := restate(p, target)
			r.put(p.Site.Start, p.Site.End, fresh)
			if p.Image {
				r.notes = append(r.notes, fmt.Sprintf(
					"%s: no registry of images was asked whether there is %s", p.Site, r.reference(p.Site, fresh),
				))
			}
			if to := target.String(); p.Whole && strings.Count(to, ".") < 2 {
				r.notes = append(r.notes, fmt.Sprintf(
					"%s: a whole version has to stand there, and of %s none is known but the first: put the current one there", p.Site, to,
				))
			}
			if p.Digest.Text != "" {
				r.put(p.Digest.Start, p.Digest.End, "")
				r.notes = append(
					r.notes,
					fmt.Sprintf(
						"%s: the digest behind %s is dropped, since it holds for that version alone; put the one of %s there", p.Site, p.Range,
						r.aim.To,
					),
				)
			}
		}
	}
	for _, start := range slices.Sorted(maps.Keys(lists)) {
		r.thin(lists[start])
	}
}

// reference is the whole name of an image whose tag begins with a site's text, with another in its place.
func (r *raiser) reference(s model.Site, fresh string) string {
	if s.Start == 0 || r.src[s.Start-1] != ':' {
		return "one with the tag " + fresh // an argument that a name is put together from
	}
	const ends = " \t\r\n\"'`,()[]{}@"
	from, to := s.Start, s.End
	for from > 0 && !strings.ContainsRune(ends, rune(r.src[from-1])) {
		from--
	}
	for to < len(r.src) && !strings.ContainsRune(ends, rune(r.src[to])) {
		to++
	}
	return string(r.src[from:s.Start]) + fresh + string(r.src[s.End:to])
}

// agrees tells whether a place says the same as the aim, as far as both go
// ("16.20.2" and "16.20"), and enough.
func (r *raiser) agrees(p model.Pin) bool {
	return Exact(p) && version.CompareStated(p.Range, r.aim.To.String()) == 0 && r.aim.Enough(Low(p))
}

// target is what a place is to state: a range starts at the least that is
// needed, or where it would leave out what the others state, at that.
func (r *raiser) target(p model.Pin) version.Version {
	switch {
	case !Exact(p) && !admits(p, r.aim.To) && below(p, r.aim.To):
		return r.aim.To
	case p.Promise && r.aim.Promise != nil:
		return r.aim.Promise
	case Exact(p):
		return r.aim.To
	}
	return r.aim.Low
}

// newestKnown is the newest release that is known of those that a version stands for; the version itself where none is.
func (r *raiser) newestKnown(to version.Version) version.Version {
	var newest version.Version
	for _, v := range r.aim.Known {
		if version.CompareStated(v.String(), to.String()) == 0 && r.aim.Enough(v) && (newest == nil || v.Compare(newest) > 0) {
			newest = v
		}
	}
	if newest == nil {
		return to
	}
	return newest
}

func (r *raiser) put(start, end int, text string) {
	r.splices = append(r.splices, model.Splice{Site: model.Site{Start: start, End: end, Text: string(r.src[start:end])}, New: text})
}

// Exact tells whether a place states one version, rather than a range.
func Exact(p model.Pin) bool {
	_, err := version.Plain{}.Parse(p.Range)
	return err == nil && !p.AtLeast && !p.Floating && p.Unknown == ""
}

// Low is the lowest version that a place admits; nil where it is not known. One
// that states "20" gets the newest 20.
func Low(p model.Pin) version.Version {
	if p.Floating || p.Unknown != "" {
		return nil
	}
	if Exact(p) {
		v, _ := version.Plain{}.Newest(p.Range)
		return v
	}
	r, err := version.Plain{}.ParseRange(p.Range)
	if err != nil {
		return nil
	}
	if lows := version.Bounds(version.Plain{}, r); len(lows) > 0 {
		return lows[0]
	}
	return nil
}

// admits tells whether a range that a place states has a version in it.
func admits(p model.Pin, v version.Version) bool {
	rng, err := version.Plain{}.ParseRange(p.Range)
	return err != nil || p.AtLeast || rng.Contains(v)
}

// Admits tells whether a version does what a place states, of a subject whose lines have so many numbers: releases of one line
// stand for each other. A place that is not understood, follows by itself or only assumes something admits all.
func Admits(p model.Pin, v version.Version, line int) bool {
	switch {
	case p.Unknown != "" || p.Floating || p.Assumed:
		return true
	case Exact(p):
		stated := strings.Split(strings.TrimPrefix(p.Range, "v"), ".")
		return version.CompareStated(strings.Join(stated[:min(line, len(stated))], "."), v.String()) == 0
	case p.AtLeast:
		low := Low(p)
		return low == nil || v.Compare(low) >= 0
	}
	return admits(p, v)
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

// shift lets the aim come in behind the last of a list that ascends, in the form of that one. It is false where the list is not of
// this kind. The first entry is to go.
func (r *raiser) shift(list []model.Pin) bool {
	if len(list) < 2 {
		return false
	}
	for i, p := range list {
		if low := Low(p); low == nil || p.List.Entry.Text == "" || i > 0 && low.Compare(Low(list[i-1])) <= 0 {
			return false
		}
	}
	last, before := list[len(list)-1], list[len(list)-2]
	entry := last.List.Entry
	at := last.Site.Start - entry.Start
	fresh := string(r.src[entry.Start:last.Site.Start]) + restate(last, r.aim.To) + entry.Text[at+last.Site.End-last.Site.Start:]
	if !strings.HasSuffix(entry.Text, "\n") {
		fresh = string(r.src[before.List.Entry.End:entry.Start]) + fresh
	}
	r.sites = append(r.sites, list[0].Site)
	r.put(entry.End, entry.End, fresh)
	return true
}

// thin drops the entries of a list that are not enough. Where none is left that is at the aim or above, the aim comes in: in the
// place of the oldest where all are enough, else the last one is raised to it.
func (r *raiser) thin(list []model.Pin) {
	stays := make([]bool, len(list))
	for i, p := range list {
		low := Low(p)
		stays[i] = low == nil || r.aim.Enough(low)
		if !stays[i] {
			r.sites = append(r.sites, p.Site)
		}
	}
	arrived := false
	for i, p := range list {
		low := Low(p)
		arrived = arrived || stays[i] && (low == nil || low.Compare(r.aim.To) >= 0)
	}
	switch {
	case !arrived && !slices.Contains(stays, false) && r.shift(list):
		stays[0] = false
	case !arrived:
		last := len(list) - 1
		for slices.Contains(stays, true) && !stays[last] {
			last--
		}
		if stays[last] {
			r.sites = append(r.sites, list[last].Site)
		}
		stays[last] = true
		r.put(list[last].Site.Start, list[last].Site.End, restate(list[last], r.aim.To))
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
