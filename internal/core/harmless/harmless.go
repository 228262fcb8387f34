// Package harmless is the door for texts that others wrote and that are shown:
// whatever a registry, a repository or a test prints, it can neither steer a terminal
// nor pass for markup, and an address shows no login.
package harmless

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// The lengths to which texts are shown, in bytes: nobody reads more, and somebody may have made it to be long.
const (
	maxLine = 2000
	maxText = 64 << 10
)

// short is the beginning of a text that is too long, with how much more there is.
func short(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return fmt.Sprintf("%s… (%d more bytes)", s[:most], len(s)-most)
}

// Text gives a text in which nothing steers a terminal or turns the direction of
// writing: control and format characters and what is not UTF-8 are written out, as
// \x1b, \u202e. Line ends and tabs stay.
func Text(s string) string { return written(short(s, maxText), "\n\t") }

// Line is Text for what is to stay on one line: line ends and tabs become spaces.
func Line(s string) string {
	s = short(s, maxLine)
	if strings.ContainsAny(s, "\r\n\t") {
		s = strings.NewReplacer("\r\n", " ", "\n", " ", "\t", " ").Replace(s)
	}
	return written(s, "")
}

// Code gives a line of a file's text as it is, with its tabs and the return that may end it; what else steers a terminal is written
// out.
func Code(s string) string {
	line, end := strings.CutSuffix(s, "\r")
	line = written(short(line, maxText), "\t")
	if end {
		line += "\r"
	}
	return line
}

func written(s, stays string) string {
	clean := true
	for i := 0; i < len(s) && clean; i++ { // most texts are plain ASCII
		clean = s[i] >= ' ' && s[i] < 0x7f || strings.IndexByte(stays, s[i]) >= 0
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case strings.ContainsRune(stays, r) || !steers(r):
			b.WriteString(s[i : i+n])
		case r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			fmt.Fprintf(&b, `\U%08x`, r)
		}
		i += n
	}
	return b.String()
}

// JSON gives a JSON text that means the same, in which what steers a terminal is written
// as an escape (RFC 8259).
func JSON(s string) string {
	if strings.IndexFunc(s, func(r rune) bool { return r != '\n' && r != '\t' && steers(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || r == '\t' || !steers(r):
			b.WriteRune(r)
		case r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		}
	}
	return b.String()
}

// steers tells of a character that is not shown but does something: control
// characters (Cc), and those of format (Cf) and the separators of lines (Zl, Zp), among
// them all that turn the direction of writing (UAX #9).
func steers(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r)
}

// markup are the characters that make markup of a text in Markdown (CommonMark 0.31).
var markup = strings.NewReplacer(
	`\`, `\\`, "`", "\\`", `*`, `\*`, `[`, `\[`, `]`, `\]`, `<`, `&lt;`, `>`, `&gt;`, `&`, `&amp;`, `~`, `\~`,
)

// Fenced gives lines as a block of code in Markdown, with a fence that none of them ends.
func Fenced(lines []string) string {
	fence := "```"
	var b strings.Builder
	for _, l := range lines {
		l = Line(l)
		for strings.Contains(l, fence) {
			fence += "`"
		}
		b.WriteString(l + "\n")
	}
	return fence + "text\n" + b.String() + fence + "\n"
}

// Markdown gives a line that Markdown shows as it is: no markup, no links, no HTML. What stands between two backticks stays code.
func Markdown(s string) string {
	var b strings.Builder
	parts := strings.Split(Line(s), "`")
	for i, part := range parts {
		switch {
		case i%2 == 1 && i < len(parts)-1 && plainCode(part):
			b.WriteString("`" + part + "`")
		case i%2 == 1:
			b.WriteString("\\`" + underlined(markup.Replace(part)))
			if i < len(parts)-1 {
				b.WriteString("\\`")
			}
		default:
			b.WriteString(underlined(markup.Replace(part)))
		}
	}
	s = b.String()
	start := len(s) - len(strings.TrimLeft(s, " "))
	first := s[start:]
	switch {
	case strings.HasPrefix(first, "#"), strings.HasPrefix(first, "- "), strings.HasPrefix(first, "+ "), strings.HasPrefix(first, "="),
		strings.HasPrefix(first, "--"):
		s = s[:start] + `\` + first
	}
	return s
}

// plainCode tells whether a text can stand as code in a line or in a cell of a table: there, a bar would end it.
func plainCode(s string) bool {
	return s != "" && len(s) <= 200 && !strings.ContainsAny(s, "|<") && strings.TrimSpace(s) == s
}

// underlined keeps underscores from marking words: those within a word do not.
func underlined(s string) string {
	if !strings.Contains(s, "_") {
		return s
	}
	inWord := func(i int) bool {
		return i >= 0 && i < len(s) && (s[i] == '_' || s[i] >= '0' && s[i] <= '9' || s[i]|0x20 >= 'a' && s[i]|0x20 <= 'z')
	}
	var b strings.Builder
	for i := range len(s) {
		if s[i] == '_' && (!inWord(i-1) || !inWord(i+1)) {
			b.WriteByte('\\')
		}
		b.WriteByte(s[i])
	}
	return b.String()
}
