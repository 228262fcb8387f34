package printed

import (
	"cmp"
	"strings"
	"sync"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// maxFrames bounds how many frames are kept of a stack.
const maxFrames = 12

// stackShape is how a language prints stacks: head begins one, frame is a line of it. A
// stack may name another error as its cause; the one that names none is the first.
type stackShape struct {
	tool  string
	head  *lazyregexp.Regexp // group text; and file and line, where it has them
	frame *lazyregexp.Regexp // groups file and line
	// upward is that the innermost frame comes last, and the error after it.
	upward bool
	tail   *lazyregexp.Regexp // upward: the line with the error
	cause  *lazyregexp.Regexp // a line that begins the stack of the cause
	other  *lazyregexp.Regexp // a line of it that is no frame
	ends   *lazyregexp.Regexp // a line that ends it once it has frames, though it looks like one of it
	below  bool               // the text stands on the line after the head
}

// stackShapes are those of all languages that are known.
var stackShapes = sync.OnceValue(func() []stackShape {
	return []stackShape{
		{
			tool: "node",
			head: lazyregexp.New(
				`^(?:Uncaught )?(?:\[)?(?P<text>(?:[A-Z]\w*(?:Error|Exception)|Error|AggregateError)(?: \[\w+\])?: .+|[A-Z]\w*Error)$`,
			),
			frame: lazyregexp.New(`^\s+at (?:.*? \()?(?:file://)?(?P<file>[^\s()]+?):(?P<line>\d+)(?::\d+)?\)?(?: \{)?$`),
			cause: lazyregexp.New(`^\s+\[cause\]: (?P<text>.+)$`),
			other: lazyregexp.New(`^(?:Require stack:$|- )`),
		},
		{
			tool:   "python",
			head:   lazyregexp.New(`^(?P<text>Traceback \(most recent call last\)):$`),
			frame:  lazyregexp.New(`^\s+File "(?P<file>[^"]+)", line (?P<line>\d+)(?:, in .+)?$`),
			upward: true, tail: lazyregexp.New(`^(?P<text>[A-Za-z_][\w.]*(?:Error|Exception|Exit|Interrupt|Warning|Iteration|\w)(?:: .*)?)$`),
		},
		{
			tool: "java",
			head: lazyregexp.New(
				`^(?:Exception in thread "[^"]*" |\[ERROR\] )?(?P<text>(?:[a-z]\w*\.)+[A-Z][\w$]*(?:Exception|Error|Failure)\b.*)$`,
			),
			frame: lazyregexp.New(
				`^\s+at (?:[\w.@-]+/+)?[\w.$]+\.[\w$<>]+\((?:(?P<file>[\w$]+\.\w+)(?::(?P<line>\d+))?|Native Method|Unknown Source)\)(?: ` +
					`~?\[(?P<jar>[^\]]+)\])?$`,
			),
			cause: lazyregexp.New(`^Caused by: (?P<text>.+)$`),
		},
		{
			tool:  "go",
			head:  lazyregexp.New(`^(?P<text>(?:panic|fatal error): .+)$`),
			frame: lazyregexp.New(`^\t(?P<file>\S+\.\w+):(?P<line>\d+)(?: \+0x[0-9a-f]+)?$`),
			other: lazyregexp.New(`^(?:$|goroutine |\[signal |created by |\S+\)$)`),
			ends:  lazyregexp.New(`^goroutine `), // the others only wait
		},
		{
			tool:  "ruby",
			head:  lazyregexp.New(`^(?P<file>[^\s:]+):(?P<line>\d+):in [\x60'].+': (?P<text>.+ \([\w:]+\))$`),
			frame: lazyregexp.New(`^\s+(?:\d+: )?from (?P<file>[^\s:]+):(?P<line>\d+):in `),
		},
		{
			tool:  "php",
			head:  lazyregexp.New(`^(?:PHP )?Fatal error: +Uncaught (?P<text>.+?) in (?P<file>\S+):(?P<line>\d+)$`),
			frame: lazyregexp.New(`^#\d+ (?P<file>[^\s(]+)\((?P<line>\d+)\): `),
			other: lazyregexp.New(`^(?:Stack trace:$|#)`),
		},
		{
			tool:  "dotnet",
			head:  lazyregexp.New(`^Unhandled exception\. (?P<text>[\w.]+(?:Exception|Error)?: .+)$`),
			frame: lazyregexp.New(`^\s+at .+? in (?P<file>.+):line (?P<line>\d+)$`),
			cause: lazyregexp.New(`^ ---> (?P<text>[\w.]+: .+)$`),
		},
		{
			tool:  "elixir",
			head:  lazyregexp.New(`^\s*\*\* \((?P<name>\w+(?:\.\w+)*(?:Error|Exit))\) (?P<text>.+)$`),
			frame: lazyregexp.New(`^\s+\((?P<jar>[\w]+ [\w.+-]+)\) (?P<file>\S+):(?P<line>\d+): `),
		},
		{
			tool:  "rust",
			head:  lazyregexp.New(`^thread '.+?'(?: \(\d+\))? (?P<text>panicked) at (?P<file>[^\s:]+):(?P<line>\d+):\d+:$`),
			frame: lazyregexp.New(`^\s+at (?P<file>\S+):(?P<line>\d+)(?::\d+)?$`),
			other: lazyregexp.New(`^note: `),
			below: true,
		},
	}
})

// stacks reads the stacks in what a program prints.
type stacks struct {
	place func(file, line string) string // in the project; "" for elsewhere
	form  *stackShape
	now   finding.Crash
	first string // the place of an error that stands before its text, as Node.js writes it
	outer string // the innermost place in the project of what the present error is the cause of
	own   bool   // the innermost frame that is nobody's runtime was seen
	wait  bool   // the text follows on the next line
	head  string // the line that began the stack
	done  func(c finding.Crash, tool string)
	none  func(line string) // takes a line that began no stack after all
}

// nodePlace is the line by which Node.js begins, with the place of the error.
var nodePlace = lazyregexp.New(`^(?:file://)?(/\S+|[A-Z]:\\\S+):(\d+)$`)

// Take takes the next line; it tells whether it belongs to a stack.
func (s *stacks) Take(line string) bool {
	if s.form != nil {
		if s.inside(line) {
			return true
		}
		s.End()
	}
	if !mayHead(line) {
		if m := nodePlace.FindStringSubmatch(line); m != nil {
			s.first = m[1] + ":" + m[2]
		}
		return false
	}
	shapes := stackShapes()
	for i := range shapes {
		f := &shapes[i]
		if g := named(f.head, line); g != nil {
			s.head = line
			s.begin(f, g)
			return true
		}
	}
	return false
}

// mayHead tells whether a line has a word that begins a stack.
func mayHead(line string) bool {
	return heads.in(line)
}

var heads = newWords("Error", "xception", "Traceback", "panic", "fatal error: ", ":in ", "Failure", "** (")

func (s *stacks) begin(f *stackShape, g map[string]string) {
	s.form, s.now, s.own, s.outer = f, finding.Crash{Text: g["text"]}, false, ""
	if g["name"] != "" {
		s.now.Text = g["name"] + ": " + g["text"]
	}
	if f.below {
		s.now.Text, s.wait = "", true
	}
	if g["file"] != "" {
		s.frame(g, "")
	}
}

// inside takes a line of the stack that is being read; it is false after its end.
func (s *stacks) inside(line string) bool {
	f := s.form
	if s.wait {
		s.now.Text, s.wait = line, false
		return true
	}
	if f.cause != nil {
		if g := named(f.cause, line); g != nil {
			s.outer = cmp.Or(s.now.Place, s.outer)
			s.now, s.own = finding.Crash{Text: strings.TrimSuffix(g["text"], " {")}, false
			return true
		}
	}
	if g := named(f.frame, line); g != nil {
		if f.upward { // what was innermost so far is not
			s.own, s.now.Package, s.now.Version = false, "", ""
		}
		s.frame(g, line)
		return true
	}
	switch {
	case f.upward && strings.HasPrefix(line, " "):
		return true // the source line
	case f.upward:
		if g := named(f.tail, line); g != nil {
			s.now.Text = g["text"]
			s.End()
			return true
		}
		return false
	case f.ends != nil && len(s.now.Frames) > 0 && f.ends.MatchString(line):
		return false
	case f.other != nil && f.other.MatchString(line):
		return true
	}
	return placeless.MatchString(line)
}

// placeless is a frame that tells no place, or says how many more there are.
var placeless = lazyregexp.New(`^\s*(?:at|\.\.\.) `)

// frame notes a place of the stack.
func (s *stacks) frame(g map[string]string, line string) {
	if line != "" && len(s.now.Frames) < maxFrames {
		if s.form.upward {
			s.now.Frames = append([]string{strings.TrimSpace(line)}, s.now.Frames...)
		} else {
			s.now.Frames = append(s.now.Frames, strings.TrimSpace(line))
		}
	}
	pkg, version := finding.PackageOf(g["file"])
	if jar := g["jar"]; jar != "" && pkg == "" {
		pkg, version = jarName(jar)
	}
	own := ""
	if pkg == "" {
		own = s.place(g["file"], g["line"])
	}
	if own != "" && (s.now.Place == "" || s.form.upward) {
		s.now.Place = own
	}
	if !s.own && (pkg != "" || own != "") {
		s.own, s.now.Package, s.now.Version = true, pkg, version
	}
}

// jarFile is a JAR in a frame, as logging libraries print it, or an application of
// Erlang/OTP with its version.
var jarFile = lazyregexp.New(`^([\w.-]+?)[- ](\d[\w.+-]*?)(?:\.jar)?(?:[:!].*)?$`)

func jarName(jar string) (name, version string) {
	if m := jarFile.FindStringSubmatch(jar); m != nil {
		return m[1], m[2]
	}
	return "", ""
}

// End hands over the stack that is being read.
func (s *stacks) End() {
	f := s.form
	if s.form = nil; f == nil {
		return
	}
	s.now.Place = cmp.Or(s.now.Place, s.outer)
	if s.first != "" && s.now.Place == "" && f.tool == "node" {
		if pkg, version := finding.PackageOf(s.first); pkg != "" {
			s.now.Package, s.now.Version = cmp.Or(s.now.Package, pkg), cmp.Or(s.now.Version, version)
		} else {
			at := strings.LastIndexByte(s.first, ':')
			s.now.Place = s.place(s.first[:at], s.first[at+1:])
		}
	}
	s.first = ""
	if s.wait || s.now.Text == "" || len(s.now.Frames) == 0 && s.now.Place == "" && s.now.Package == "" {
		s.wait = false
		s.none(s.head) // a line that merely reads like the begin of one
		return
	}
	s.done(s.now, f.tool)
}
