package pin

import (
	"path"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
)

// The instructions of a Dockerfile that matter here, after its reference.
var (
	fromLine = lazyregexp.New(`(?i)^\s*FROM\s+((?:--\S+\s+)*)(\S+)(?:\s+AS\s+(\S+))?`)
	argLine  = lazyregexp.New(`(?i)^\s*ARG\s+([A-Za-z_][A-Za-z0-9_]*)=(?:"([^"]*)"|'([^']*)'|(\S*))`)
	heredoc  = lazyregexp.New(`<<-?["']?([A-Za-z_][A-Za-z0-9_]*)["']?`)
	variable = lazyregexp.New(`\$\{\{[^}]*\}\}|\$\{([A-Za-z_][A-Za-z0-9_]*)(?::?-([^}]*))?\}|\$([A-Za-z_][A-Za-z0-9_]*)`)
)

// traced is a text put together from pieces of a file: each byte knows where it
// stands there, -1 for what cannot be known.
type traced struct {
	text string
	from []int
}

// hole stands in a traced text for a variable that is not known.
const hole = "\x00"

func (t *traced) add(text string, start int) {
	t.text += text
	for i := range len(text) {
		if start < 0 {
			t.from = append(t.from, -1)
		} else {
			t.from = append(t.from, start+i)
		}
	}
}

// cut is the part of t from byte i to j.
func (t traced) cut(i, j int) traced { return traced{t.text[i:j], t.from[i:j]} }

// place is where the text stands in one piece in the file; ok is false if it
// does not.
func (t traced) place() (start, end int, ok bool) {
	if len(t.from) == 0 || t.from[0] < 0 {
		return 0, 0, false
	}
	for i, at := range t.from {
		if at != t.from[0]+i {
			return 0, 0, false
		}
	}
	return t.from[0], t.from[0] + len(t.from), true
}

// trace fills the variables of a text that starts at a byte of the file.
func trace(text string, start int, values map[string]traced) traced {
	var t traced
	at := 0
	for _, m := range variable.FindAllStringSubmatchIndex(text, -1) {
		t.add(text[at:m[0]], start+at)
		at = m[1]
		name := ""
		switch {
		case m[2] >= 0:
			name = text[m[2]:m[3]]
		case m[6] >= 0:
			name = text[m[6]:m[7]]
		}
		value, known := values[name]
		switch {
		case known:
			t.text, t.from = t.text+value.text, append(t.from, value.from...)
		case m[4] >= 0:
			t.add(text[m[4]:m[5]], start+m[4])
		default:
			t.add(hole, -1)
		}
	}
	t.add(text[at:], start+at)
	return t
}

// containerFile reads the FROM lines of a Dockerfile or Containerfile. Where a
// tag comes from an ARG before the first of them, that is where it stands.
func containerFile(f *file) {
	arguments := map[string]traced{}
	stages := map[string]bool{"scratch": true}
	from, continued, until := false, false, ""
	f.lines(func(line string, start int) {
		trimmed := strings.TrimSpace(line)
		switch inside := continued; {
		case until != "":
			if trimmed == until {
				until = ""
			}
			return
		case inside:
			if !strings.HasPrefix(trimmed, "#") {
				continued = strings.HasSuffix(trimmed, "\\")
			}
			return
		case strings.HasPrefix(trimmed, "#"):
			return
		}
		continued = strings.HasSuffix(trimmed, "\\")
		if m := heredoc.FindStringSubmatch(line); m != nil {
			until = m[1]
		}
		if m := argLine.FindStringSubmatchIndex(line); m != nil && !from {
			for group := 2; group <= 4; group++ {
				if m[2*group] >= 0 {
					arguments[line[m[2]:m[3]]] = trace(line[m[2*group]:m[2*group+1]], start+m[2*group], arguments)
				}
			}
			return
		}
		m := fromLine.FindStringSubmatchIndex(line)
		if m == nil {
			return
		}
		from = true
		reference := trace(line[m[4]:m[5]], start+m[4], arguments)
		if !stages[strings.ToLower(reference.text)] {
			f.image(reference, start+m[4], start+m[5])
		}
		if m[6] >= 0 {
			stages[strings.ToLower(line[m[6]:m[7]])] = true
		}
	})
}

// image notes the version in a reference to an image that stands between two
// bytes: registry/name:tag@digest.
func (f *file) image(t traced, start, end int) {
	name, digest, sealed := strings.Cut(t.text, "@")
	tag, at := "", len(name)
	if colon := strings.LastIndexByte(name, ':'); colon > strings.LastIndexByte(name, '/') {
		name, tag, at = name[:colon], name[colon+1:], colon+1
	}
	if name == "" {
		return
	}
	subject := imageSubject(name)
	if subject.Kind == "image" && strings.Contains(name, hole) {
		f.unknown(model.Subject{Kind: "image", Name: string(f.src[start:end])}, start, end, "it comes from a variable that has no value here")
		return
	}
	version := tag
	if startsWithDigit(strings.TrimPrefix(tag, "v")) {
		version, _, _ = strings.Cut(tag, "-") // what follows is the image's flavour
	}
	from, to, ok := t.cut(at, at+len(version)).place()
	switch {
	case strings.Contains(tag, hole):
		f.unknown(subject, start, end, "its tag comes from a variable that has no value here")
	case tag == "" && sealed:
		f.unknown(subject, start, end, "it is named by its digest alone")
	case tag == "":
		// No tag is the same as "latest"; the name stands for it.
		f.add(subject, start, end, func(p *model.Pin) { p.Range, p.Floating = "latest", true })
	case !ok:
		f.unknown(subject, start, end, "its tag is put together from several pieces")
	default:
		withDigest := func(p *model.Pin) {
			p.Image = true
			i := len(t.text) - len(digest) - 1
			if from, to, ok := t.cut(max(i, 0), len(t.text)).place(); ok && sealed {
				p.Digest = f.site(from, to)
			}
		}
		f.add(subject, from, to, withDigest)
		if subject.Name != "java" {
			f.javaOfImage(t.cut(0, at+len(tag)), at, withDigest)
		}
	}
}

// imageSubject is what an image is for, by its name without tag and digest.
func imageSubject(name string) model.Subject {
	base := path.Base(name)
	if path.Base(path.Dir(name)) == "dotnet" { // dotnet/sdk, dotnet/aspnet
		base = "dotnet"
	}
	if s, ok := runtimeNamed(base); ok {
		return s
	}
	if tool, ok := imageTools[base]; ok {
		return model.Subject{Kind: "tool", Name: tool}
	}
	return model.Subject{Kind: "image", Name: name}
}
