package pin

import (
	"regexp"
	"strings"
)

var (
	fromLine = regexp.MustCompile(`(?i)^\s*FROM\s+((?:--\S+\s+)*)(\S+)(?:\s+AS\s+(\S+))?`)
	argLine  = regexp.MustCompile(`(?i)^\s*ARG\s+([A-Za-z_][A-Za-z0-9_]*)=(?:"([^"]*)"|'([^']*)'|(\S*))`)
	variable = regexp.MustCompile(`\$(?:\{([A-Za-z_][A-Za-z0-9_]*)\}|([A-Za-z_][A-Za-z0-9_]*))`)
)

// argument is an ARG with its default, and where that stands.
type argument struct {
	text  string
	start int
}

// containerFile reads the FROM lines of a Dockerfile or Containerfile. Where a
// tag comes from an ARG, that is where it stands.
func containerFile(f *file) {
	arguments := map[string]argument{}
	stages := map[string]bool{"scratch": true}
	f.lines(func(line string, start int) {
		if m := argLine.FindStringSubmatchIndex(line); m != nil {
			for group := 2; group <= 4; group++ {
				if m[2*group] >= 0 {
					arguments[line[m[2]:m[3]]] = argument{line[m[2*group]:m[2*group+1]], start + m[2*group]}
				}
			}
			return
		}
		m := fromLine.FindStringSubmatchIndex(line)
		if m == nil {
			return
		}
		reference, at := line[m[4]:m[5]], start+m[4]
		if !stages[strings.ToLower(reference)] {
			f.from(reference, at, arguments)
		}
		if m[6] >= 0 {
			stages[strings.ToLower(line[m[6]:m[7]])] = true
		}
	})
}

// from notes the image of a FROM line.
func (f *file) from(reference string, start int, arguments map[string]argument) {
	m := variable.FindStringSubmatchIndex(reference)
	if m == nil {
		f.image(reference, start)
		return
	}
	group := 2
	if m[2] < 0 {
		group = 4
	}
	value, known := arguments[reference[m[group]:m[group+1]]]
	name := strings.TrimSuffix(reference[:m[0]], ":")
	switch {
	case !known || strings.Contains(value.text, "$"):
	case name == "" && m[1] == len(reference):
		f.image(value.text, value.start) // all of it is the argument's
	case strings.HasSuffix(reference[:m[0]], ":"):
		// Read as if the tag stood here, and then put to where it does stand.
		probe := &file{name: f.name, src: []byte(name + ":" + value.text)}
		probe.image(name+":"+value.text, 0)
		for _, p := range probe.pins {
			at := value.start + p.Site.Start - len(name) - 1
			f.add(p.Subject, at, at+len(p.Range))
		}
	}
}
