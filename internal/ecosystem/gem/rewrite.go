package gem

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
)

// Rewrite gives the Gemfile and gemspecs with gems renamed, added, dropped, or taken from
// elsewhere. A renamed one keeps its place; one that is added goes where its name sorts among the
// lines that stand in no block, and behind them if they are in no order.
func (Ecosystem) Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error) {
	p := c.Detail.(*project)
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
		if change.New != "" && !gemName.MatchString(change.New) {
			return nil, fmt.Errorf("%q is no name of a gem", change.New)
		}
		if change.Old == "" {
			add := p.addition(change)
			splices[add.Site.File] = append(splices[add.Site.File], add)
			continue
		}
		for _, d := range slices.Concat(p.gemfile.gems, p.specced) {
			if d.name != change.Old {
				continue
			}
			if !d.literal() {
				return nil, &model.Fault{
					Doing: "changing the line of " + d.name, File: d.file, Line: d.line, Found: true,
					Wrong: cmp.Or(d.fixed, "its name stands in a list"), Next: "change it yourself, and commit it",
				}
			}
			src := p.gemfile.texts[d.file]
			if change.New == "" {
				splices[d.file] = append(splices[d.file], d.dropped(src))
				continue
			}
			splices[d.file] = append(splices[d.file], d.become(change, src)...)
		}
	}
	var edits []model.FileEdit
	for file, list := range splices {
		src := p.gemfile.texts[file]
		text, err := model.Apply(src, list)
		if err != nil {
			return nil, err
		}
		if !emptyBlock.Match(src) { // those that were there before stay
			text = emptyBlock.ReplaceAll(text, nil)
		}
		if !bytes.Equal(text, src) {
			edits = append(edits, model.FileEdit{File: file, Old: src, New: text})
		}
	}
	slices.SortFunc(edits, func(a, b model.FileEdit) int { return strings.Compare(a.File, b.File) })
	return edits, nil
}

// emptyBlock is a block of a Gemfile in which no gem stands any more, with the empty line before it.
var emptyBlock = lazyregexp.New(
	`(?m)(?:^[ \t]*\r?\n)?^[ \t]*(?:group|source|platforms?|install_if|git|path)\b[^\n]*\bdo[ \t]*\r?\n(?:[ \t]*\r?\n)*[ \t]*end[ \t]*\r?\n`,
)

// literal tells whether a gem's line alone says what it says.
func (d *declared) literal() bool {
	return (d.fixed == "" || d.fixed == "git source" || d.fixed == "path source") && len(d.call) > 0 && !d.looped
}

func splice(file string, src []byte, start, end int, fresh string) model.Splice {
	return model.Splice{
		Site: model.Site{File: file, Start: start, End: end, Line: model.LineOf(src, start), Text: string(src[start:end])}, New: fresh,
	}
}

// quote is the mark that a gem's line has about its name.
func (d *declared) quote(src []byte) string { return string(src[d.call[0].start]) }

// become gives a line another name and what is asked for. Requirements and repositories of before
// go; other options stay.
func (d *declared) become(change contract.Change, src []byte) (splices []model.Splice) {
	splices = append(splices, splice(d.file, src, d.call[0].start, d.call[0].end, argumentsFor(change, d.quote(src))))
	for i, part := range d.call {
		if i > 0 && (part.key == "" || slices.Contains(sourceOptions, part.key)) {
			splices = append(splices, splice(d.file, src, d.call[i-1].end, part.end, ""))
		}
	}
	return splices
}

// argumentsFor are the arguments of a line that asks for what a change says.
func argumentsFor(change contract.Change, mark string) string {
	quoted := func(text string) string { return mark + text + mark }
	text := quoted(change.New)
	if strings.HasPrefix(change.Range, sourceMark) {
		to := readSource(change.Range)
		text += ", git: " + quoted(to.address)
		if to.key != "" {
			text += ", " + to.key + ": " + quoted(to.at)
		}
		return text
	}
	for part := range strings.SplitSeq(change.Range, ",") {
		if part = strings.TrimSpace(part); part != "" && part != ">= 0" {
			text += ", " + quoted(part)
		}
	}
	return text
}

// sourceOptions are the options that say where a gem comes from, if not from a gem server.
var sourceOptions = []string{"git", "github", "gitlab", "bitbucket", "gist", "branch", "tag", "ref", "glob", "submodules", "path"}

// dropped takes a line out, with the comment behind it; of a line that says more, the statement alone.
func (d *declared) dropped(src []byte) model.Splice {
	start, end := d.start, d.end
	for start > 0 && (src[start-1] == ' ' || src[start-1] == '\t') {
		start--
	}
	alone := start == 0 || src[start-1] == '\n'
	line := end
	for line < len(src) && src[line] != '\n' {
		line++
	}
	rest := bytes.TrimSpace(src[end:line])
	switch {
	case alone && (len(rest) == 0 || rest[0] == '#'):
		return splice(d.file, src, start, min(line+1, len(src)), "")
	case alone && rest[0] == ';':
		end += bytes.IndexByte(src[end:], ';') + 1
		for end < line && src[end] == ' ' {
			end++
		}
		return splice(d.file, src, d.start, end, "")
	}
	if semicolon := bytes.TrimRight(src[:start], " \t"); len(semicolon) > 0 && semicolon[len(semicolon)-1] == ';' {
		start = len(semicolon) - 1
	}
	return splice(d.file, src, start, end, "")
}

// addition is a new line of the Gemfile.
func (p *project) addition(change contract.Change) model.Splice {
	main := p.gemfile.main
	src := p.gemfile.texts[main]
	end := "\n"
	if bytes.Contains(src, []byte("\r\n")) {
		end = "\r\n"
	}
	var lines []declared
	for _, d := range p.gemfile.gems {
		if d.file == main && !d.nested && d.literal() {
			lines = append(lines, d)
		}
	}
	mark := `"`
	if len(lines) > 0 {
		mark = lines[len(lines)-1].quote(src)
	}
	text := "gem " + argumentsFor(change, mark)
	sorted := slices.IsSortedFunc(lines, func(a, b declared) int { return strings.Compare(a.name, b.name) })
	for _, d := range lines {
		if sorted && len(lines) > 1 && d.name > change.New {
			return splice(main, src, d.start, d.start, text+end)
		}
	}
	at := len(src)
	if len(lines) > 0 {
		at = lines[len(lines)-1].end
		for at < len(src) && src[at] != '\n' {
			at++
		}
		at = min(at+1, len(src))
	}
	if at > 0 && src[at-1] != '\n' {
		text = end + text
	}
	return splice(main, src, at, at, text+end)
}
