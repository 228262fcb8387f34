package gemfile

import (
	"bytes"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
)

// EmptyBlock is a block of a Gemfile in which no gem stands any more, with the empty line before it.
var EmptyBlock = lazyregexp.New(
	`(?m)(?:^[ \t]*\r?\n)?^[ \t]*(?:group|source|platforms?|install_if|git|path)\b[^\n]*\bdo[ \t]*\r?\n(?:[ \t]*\r?\n)*[ \t]*end[ \t]*\r?\n`,
)

// Literal tells whether a gem's line alone says what it says.
func (d *Declared) Literal() bool {
	return (d.Fixed == "" || d.Fixed == "git source" || d.Fixed == "path source") && len(d.call) > 0 && !d.looped
}

// Splice is a change of a file between two of its bytes.
func Splice(file string, src []byte, start, end int, fresh string) model.Splice {
	return model.Splice{
		Site: model.Site{File: file, Start: start, End: end, Line: model.LineOf(src, start), Text: string(src[start:end])}, New: fresh,
	}
}

// Quote is the mark that a gem's line has about its name.
func (d *Declared) Quote(src []byte) string { return string(src[d.call[0].start]) }

// Become gives a line another name and what is asked for. Requirements and repositories of before
// go; other options stay.
func (d *Declared) Become(change contract.Change, src []byte) (splices []model.Splice) {
	splices = append(splices, Splice(d.File, src, d.call[0].start, d.call[0].end, ArgumentsFor(change, d.Quote(src))))
	for i, part := range d.call {
		if i > 0 && (part.key == "" || slices.Contains(sourceOptions, part.key)) {
			splices = append(splices, Splice(d.File, src, d.call[i-1].end, part.end, ""))
		}
	}
	return splices
}

// ArgumentsFor are the arguments of a line that asks for what a change says.
func ArgumentsFor(change contract.Change, mark string) string {
	quoted := func(text string) string { return mark + text + mark }
	text := quoted(change.New)
	if strings.HasPrefix(change.Range, SourceMark) {
		to := readSource(change.Range)
		text += ", git: " + quoted(to.Address)
		if to.Key != "" {
			text += ", " + to.Key + ": " + quoted(to.At)
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

// Dropped takes a line out, with the comment behind it; of a line that says more, the statement alone.
func (d *Declared) Dropped(src []byte) model.Splice {
	start, end := d.Start, d.End
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
		return Splice(d.File, src, start, min(line+1, len(src)), "")
	case alone && rest[0] == ';':
		end += bytes.IndexByte(src[end:], ';') + 1
		for end < line && src[end] == ' ' {
			end++
		}
		return Splice(d.File, src, d.Start, end, "")
	}
	if semicolon := bytes.TrimRight(src[:start], " \t"); len(semicolon) > 0 && semicolon[len(semicolon)-1] == ';' {
		start = len(semicolon) - 1
	}
	return Splice(d.File, src, start, end, "")
}
