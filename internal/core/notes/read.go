// Package notes reads what releases say of themselves: changelogs, histories, upgrade guides. A
// file is cut into the parts of its versions, and each part into entries, of which their kind is
// told.
package notes

import (
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// Part is what a file says of one version.
type Part struct {
	Version    string // as the heading has it, without "v"; empty for what is not released yet
	Unreleased bool
	Title      string // the heading
	Line       int    // of the heading, counted from 1
	Lines      []Line // what follows it
	major      bool   // the version is but a major: "5", "5.x"
}

// Line is a line of a file.
type Line struct {
	Number int
	Text   string
}

// wanted are the usual names of files with notes, without their endings, and the endings.
var wanted = lazyregexp.New(
	`(?i)^(change-?logs?|changes|history|news|releases?|release[-_]?notes|upgrade|upgrading|upgrade[-_]?guide|` +
		`migrat(e|ing|ion)|migration[-_]?guide|breaking(-?changes)?|what'?s-?new)([-_. ]?v?[0-9][0-9.x]*)?(\.(md|markdown|mdx|` +
		`rst|txt|adoc|asciidoc))?$`,
)

// folders are where such files lie besides an archive's top; in the first ones a file may have
// any name with a version.
var (
	folders = lazyregexp.New(`(?i)^(docs?|\.github|changelogs?|changes|releases?|release[-_]?notes|migrations?|upgrad(e|ing)|news)$`)
	perFile = lazyregexp.New(`(?i)^(changelogs?|changes|releases?|release[-_]?notes|migrations?|upgrad(e|ing)|news)$`)
	oneFile = lazyregexp.New(`(?i)^v?[0-9]+(\.[0-9x]+)*([-.][0-9a-z.]+)?\.(md|markdown|mdx|rst|txt|adoc|asciidoc)$`)
)

// IsNotes tells whether a file of an archive may hold notes, by its name.
func IsNotes(name string) bool {
	dir, base := path.Split(name)
	dir = strings.Trim(dir, "/")
	if strings.Count(dir, "/") > 1 {
		return false
	}
	last := path.Base(dir)
	if dir != "" && !folders.MatchString(strings.Split(dir, "/")[0]) {
		return false
	}
	return wanted.MatchString(base) || dir != "" && perFile.MatchString(last) && oneFile.MatchString(base)
}

// IsReadme tells whether a file of an archive is one whose sections about upgrading are notes.
func IsReadme(name string) bool { return readme.MatchString(name) }

var (
	readme  = lazyregexp.New(`(?i)^readme(\.(md|markdown|mdx|rst|txt|adoc|asciidoc))?$`)
	upgrade = lazyregexp.New(`(?i)\b(upgrad|migrat|breaking|changes? (in|from|since)|what'?s new|changelog|release notes)`)
)

// ReadReadme cuts the sections about upgrading out of a README: of all others, numbers in headings tell no version.
func ReadReadme(text string) (parts []Part) {
	lines := strings.Split(strings.ReplaceAll(strings.TrimPrefix(text, "\ufeff"), "\r\n", "\n"), "\n")
	within := 0 // the level of the heading about upgrading; 0 outside of such a section
	kept := make([]string, len(lines))
	titles := titlesOf(lines)
	for i, t := range titles {
		if within > 0 && t.level <= within {
			within = 0
		}
		if within == 0 && upgrade.MatchString(t.text) {
			within = t.level
		}
		if within == 0 {
			continue
		}
		end := len(lines)
		if i+1 < len(titles) {
			end = titles[i+1].line
		}
		copy(kept[t.line:end], lines[t.line:end])
	}
	return cut("UPGRADING.md", kept, titlesOf(kept))
}

// IsGuide tells whether a file tells how to get from one version to another.
func IsGuide(name string) bool {
	base := strings.ToLower(path.Base(name))
	return strings.HasPrefix(base, "upgrad") || strings.HasPrefix(base, "migrat") || strings.HasPrefix(base, "breaking")
}

const number = `[0-9]+(?:\.[0-9]+)+(?:\.x)?(?:[-+.~]?(?:alpha|beta|rc|pre|preview|canary|next|dev|snapshot|final|release|` +
	`ga|m|b|a)?[-.]?[0-9A-Za-z.+-]*)?`

var (
	// A version at the beginning of a heading: "[1.2.3] - 2020-01-31", "Version 1.2.3", "pier@1.2.3",
	// "2020-01-31, Version 1.2.3", "Changes in 1.2.3".
	heading = lazyregexp.New(`^(?:[0-9]{4}[-./][0-9]{2}[-./][0-9]{2}[,:]?\s+)?((?:[\w@/.-]+@|(?:[A-Za-z@/._-]+\s+){0,4}?))` +
		`(?:[Vv]ersion:?\s+|[Rr]elease:?\s+)?["'\x60*_\[(]*[vV]?(` + number + `)["'\x60*_\])]*(.*)$`)
	// A major alone needs a word before it, or "x" behind it.
	headingMajor = lazyregexp.New(
		`^(?:[A-Za-z@/._-]+\s+){0,4}?(?:[Vv]ersion\s+|[Rr]elease\s+|[vV])?([0-9]+)(\.x)?\b["'\x60*_\])]*(.*)$`,
	)
	unreleased = lazyregexp.New(
		`(?i)^["'*_\[(]*(unreleased|upcoming|next|head|master|main|develop(ment)?|not released|in development)\b`,
	)
	fromTo = lazyregexp.New(
		`(?i)\bfrom\s+(?:version\s+)?v?([0-9]+(?:\.[0-9x]+)*)\s+(?:to|->|→)\s+(?:version\s+)?v?([0-9]+(?:\.[0-9x]+)*)|` +
			`\bv?([0-9]+(?:\.[0-9x]+)*)\s*(?:->|→|=>| to )\s*v?([0-9]+(?:\.[0-9x]+)*)\b`,
	)
	anyNumber    = lazyregexp.New(`\bv?[0-9]+\.[0-9]+(\.[0-9]+)?\b`)
	afterVersion = lazyregexp.New(`^\s*($|[-–—:/,(\[]|\\?\()|^\s+(\(|released?\b|[0-9]{4}|[A-Za-z]{3,9}\.?\s+[0-9]|["“*]|` +
		`[^.]{0,60}$)`)
	together   = lazyregexp.New(`^(\s*/\s*v?[0-9][0-9A-Za-z.-]*)+`) // "1.28.0/0.50.0"
	afterWords = lazyregexp.New(`^\s*[-–—:,(\[]`)
	underline  = lazyregexp.New(`^(=+|-+|~+|\^+|\*+|#+|\++)\s*$`)
	link       = lazyregexp.New(`\]\([^)]*\)`)
	anchor     = lazyregexp.New(`<a [^>]*>\s*(</a>)?|</a>|<!--.*?-->`)
	dated      = lazyregexp.New(`[0-9]{4}[-/.][0-9]{1,2}[-/.][0-9]{1,2}|\b[0-9]{1,2}\s+\w+\s+[0-9]{4}|\b\w+ [0-9]{1,2},? [0-9]{4}`)
)

// title is a line that is a heading.
type title struct {
	line  int // index
	last  int // index of its last line
	level int
	text  string
}

// Read cuts a file into the parts of its versions, in the order of the file. Without a heading
// that names one there is none.
func Read(name, text string) []Part {
	lines := strings.Split(strings.ReplaceAll(strings.TrimPrefix(text, "\ufeff"), "\r\n", "\n"), "\n")
	titles := titlesOf(lines)
	parts := cut(name, lines, titles)
	if len(parts) == 0 {
		parts = cut(name, lines, plainTitles(lines))
	}
	if len(parts) == 0 {
		parts = whole(name, lines)
	}
	return parts
}

// whole is a file for one version, which its name tells.
func whole(name string, lines []string) []Part {
	base := path.Base(name)
	for _, known := range []string{".md", ".markdown", ".mdx", ".rst", ".txt", ".adoc", ".asciidoc"} {
		base = strings.TrimSuffix(base, known)
	}
	v := strings.TrimPrefix(strings.TrimPrefix(base, "v"), "V")
	at := strings.LastIndexAny(base, "-_")
	if at >= 0 && IsGuide(name) {
		v = strings.TrimPrefix(base[at+1:], "v")
	}
	if v == "" || v[0] < '0' || v[0] > '9' {
		return nil
	}
	p := Part{Version: v, Title: path.Base(name), Line: 1, major: !strings.Contains(v, ".")}
	for i, l := range lines {
		p.Lines = append(p.Lines, Line{i + 1, l})
	}
	return []Part{p}
}

// titlesOf are the headings of Markdown, AsciiDoc and reStructuredText. Blocks of code have none.
func titlesOf(lines []string) (titles []title) {
	fence := ""
	for i, l := range lines {
		bare := strings.TrimSpace(l)
		if fence != "" {
			if strings.HasPrefix(bare, fence) {
				fence = ""
			}
			continue
		}
		if strings.HasPrefix(bare, "```") || strings.HasPrefix(bare, "~~~") && len(bare) < 20 && !underline.MatchString(bare) {
			fence = bare[:3]
			continue
		}
		switch {
		case strings.HasPrefix(l, "#"):
			n := len(l) - len(strings.TrimLeft(l, "#"))
			if n <= 6 && len(l) > n {
				titles = append(titles, title{i, i, n, strings.TrimRight(strings.TrimSpace(l[n:]), "# ")})
			}
		case strings.HasPrefix(l, "=") && strings.TrimLeft(l, "=") != l && strings.HasPrefix(strings.TrimLeft(l, "="), " "):
			n := len(l) - len(strings.TrimLeft(l, "="))
			titles = append(titles, title{i, i, n, strings.TrimRight(strings.TrimSpace(l[n:]), "= ")})
		case i > 0 && underline.MatchString(l) && len(bare) >= 3 && strings.TrimSpace(lines[i-1]) != "" && !underline.MatchString(lines[i-1]):
			_, _, versioned := versionOf(lines[i-1], false)
			if (i < 2 || versioned || strings.TrimSpace(lines[i-2]) == "" || underline.MatchString(lines[i-2])) &&
				len(bare)+4 >= len(strings.TrimSpace(lines[i-1]))/2 {
				titles = append(titles, title{i - 1, i, 10 + strings.IndexByte("=-~^*#+", bare[0]), strings.TrimSpace(lines[i-1])})
			}
		case strings.HasPrefix(bare, "**") && strings.HasSuffix(bare, "**") && len(bare) > 4 && !strings.Contains(bare[2:len(bare)-2], "**"):
			titles = append(titles, title{i, i, 30, bare[2 : len(bare)-2]})
		case strings.HasPrefix(strings.ToLower(bare), "<h") && len(bare) > 4 && bare[2] >= '1' && bare[2] <= '6':
			titles = append(titles, title{i, i, int(bare[2] - '0'), strings.TrimSpace(tags.ReplaceAllString(bare, ""))})
		}
	}
	return titles
}

var tags = lazyregexp.New(`<[^>]*>`)

// plainTitles are lines of plain text that begin with a version, at the beginning of a line.
func plainTitles(lines []string) (titles []title) {
	for i, l := range lines {
		if l == "" || strings.IndexByte(" \t-*+", l[0]) >= 0 || len(l) > 100 {
			continue
		}
		if _, _, ok := versionOf(l, false); ok {
			titles = append(titles, title{i, i, 40, strings.TrimSpace(l)})
		}
	}
	return titles
}

// versionOf is the version that a heading names; major tells that it is but a major.
func versionOf(text string, guide bool) (v string, major, ok bool) {
	text = strings.TrimSpace(anchor.ReplaceAllString(link.ReplaceAllString(text, "]"), ""))
	text = strings.TrimSpace(strings.TrimLeft(text, "*_`~🎉🚀⭐️💥📦 "))
	if m := fromTo.FindStringSubmatch(text); m != nil && (guide || strings.Contains(strings.ToLower(text), "from ")) {
		v = m[2] + m[4]
		return strings.TrimSuffix(v, ".x"), !strings.Contains(strings.TrimSuffix(v, ".x"), "."), true
	}
	if m := heading.FindStringSubmatch(text); m != nil {
		words := strings.Fields(m[1])
		rest := strings.TrimLeft(together.ReplaceAllString(m[3], ""), "]*_`\")")
		bare := dated.ReplaceAllString(rest, "")
		fits := rest == "" || afterVersion.MatchString(rest)
		if len(words) > 1 && !strings.HasPrefix(strings.ToLower(m[1]), "changes ") && !strings.HasPrefix(strings.ToLower(m[1]), "what") {
			fits = rest == "" && len(words) < 3 || afterWords.MatchString(rest)
		}
		if !anyNumber.MatchString(bare) && fits {
			v := strings.TrimRight(m[2], ".-+~")
			if strings.HasSuffix(v, ".x") {
				return strings.TrimSuffix(v, ".x"), !strings.Contains(strings.TrimSuffix(v, ".x"), "."), true
			}
			return v, false, true
		}
	}
	if m := headingMajor.FindStringSubmatch(text); m != nil && len(m[1]) < 4 {
		worded := guide || m[2] != "" || strings.HasPrefix(strings.ToLower(text), "v") ||
			strings.HasPrefix(strings.ToLower(text), "release ")
		if worded && !anyNumber.MatchString(dated.ReplaceAllString(m[3], "")) && len(m[3]) < 60 {
			return m[1], true, true
		}
	}
	return "", false, false
}

// cut makes parts of what stands between headings that name versions.
func cut(name string, lines []string, titles []title) (parts []Part) {
	guide := IsGuide(name)
	levels := map[int]int{}
	type named struct {
		title
		version           string
		major, unreleased bool
	}
	var all []named
	for _, t := range titles {
		n := named{title: t}
		var ok bool
		if n.version, n.major, ok = versionOf(t.text, guide); !ok {
			if !unreleased.MatchString(link.ReplaceAllString(t.text, "]")) {
				continue
			}
			n.unreleased = true
		} else {
			levels[t.level]++
		}
		all = append(all, n)
	}
	if len(levels) == 0 {
		return nil
	}
	// Where one level has most versions, a number in a deeper heading is no version.
	best := 0
	for level, n := range levels {
		if n > levels[best] || n == levels[best] && level < best {
			best = level
		}
	}
	all = slices.DeleteFunc(all, func(n named) bool { return n.level > best && n.level < 30 && !bareVersion.MatchString(n.text) })
	for i, n := range all {
		end := len(lines)
		if i+1 < len(all) {
			end = all[i+1].line
		}
		p := Part{Version: n.version, Unreleased: n.unreleased, Title: n.text, Line: n.line + 1, major: n.major}
		for k := n.last + 1; k < end; k++ {
			p.Lines = append(p.Lines, Line{k + 1, lines[k]})
		}
		if !p.major || slices.ContainsFunc(p.Lines, func(l Line) bool { return strings.TrimSpace(l.Text) != "" }) {
			parts = append(parts, p)
		}
	}
	return parts
}

var bareVersion = lazyregexp.New(`^[^\pL\d]*[vV]?[0-9]`)

// Between are the parts that are of versions after one and up to another. Compare orders a
// version of a heading with those: it tells whether it is after the first, and not after the
// second. A part of a major counts if the major does.
func Between(parts []Part, in func(version string, major bool) bool) (between []Part) {
	seen := map[string]bool{}
	for _, p := range parts {
		if p.Unreleased || !in(p.Version, p.major) {
			continue
		}
		key := p.Version + "\x00" + p.Title
		if !seen[key] {
			seen[key] = true
			between = append(between, p)
		}
	}
	return between
}
