// Package model holds the nouns of the job: components, requirements, sites,
// releases, moves, legs and routes. It has data and small pure functions only.
package model

import (
	"cmp"
	"net/url"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/condition"
)

// Subject is anything that has versions: a package of an ecosystem, or a
// runtime, tool, platform or image.
type Subject struct {
	Kind string // the ecosystem's name, or "runtime", "tool", "platform", "image"
	Name string // as the ecosystem writes it: "@harbour/signal"
}

// String is the form for people: "npm/left".
func (s Subject) String() string { return s.Kind + "/" + s.Name }

// Compare orders subjects by kind, then name.
func (s Subject) Compare(t Subject) int {
	return cmp.Or(strings.Compare(s.Kind, t.Kind), strings.Compare(s.Name, t.Name))
}

// PURL is the Package URL of a version of s, after ECMA-427. An empty version
// is left out.
func (s Subject) PURL(version string) string {
	var path []string
	name := s.Name
	if s.Kind == "maven" { // a group and an artifact, which are parts of the path there
		name = strings.Replace(name, ":", "/", 1)
	}
	for part := range strings.SplitSeq(name, "/") {
		path = append(path, strings.ReplaceAll(url.PathEscape(part), "@", "%40"))
	}
	kind := s.Kind
	switch kind {
	case "runtime", "tool", "platform":
		kind = "generic" // the type for what is no package of an ecosystem
	}
	text := "pkg:" + kind + "/" + strings.Join(path, "/")
	if version != "" {
		text += "@" + url.PathEscape(version)
	}
	return text
}

// ReadPURL reads a Package URL that PURL wrote. Of a generic one, which may be a runtime, a tool or a platform, it is not told
// which; qualifiers and subpaths count as part of the version.
func ReadPURL(text string) (s Subject, version string, ok bool) {
	path, is := strings.CutPrefix(text, "pkg:")
	path, version, _ = strings.Cut(path, "@")
	kind, name, named := strings.Cut(path, "/")
	name, err := url.PathUnescape(name)
	if !is || !named || kind == "" || name == "" || err != nil {
		return s, "", false
	}
	if version, err = url.PathUnescape(version); err != nil {
		return s, "", false
	}
	if kind == "maven" {
		at := strings.LastIndex(name, "/")
		if at < 0 {
			return s, "", false
		}
		name = name[:at] + ":" + name[at+1:]
	}
	return Subject{kind, name}, version, true
}

// Requirement is a dependency that a manifest declares, with its range.
type Requirement struct {
	ID       DeclarationID // tells it from all others; see Identify
	Subject  Subject
	Name     string         // what the manifest calls it; differs from Subject.Name for an alias
	Group    string         // the manifest's own word: "dependencies", "devDependencies"
	Role     Role           // what it is there for
	When     condition.Expr // when it counts; nil for always
	Range    string         // as it counts: without an alias prefix
	Site     Site           // where Range stands
	Optional bool           // its absence is no error
	Asked    bool           // it moves only where it must or is asked to by name: an indirect requirement, a runtime
	Peer     bool           // it is for whoever uses this component to provide
	Fixed    string         // why it cannot be moved by version ("git source"); empty if it can
	Locked   string         // the version in effect by the lock; empty without one
	Apart    bool           // other declarations of its name are at other versions
	// Development is that who uses the project does not get it.
	Development bool
}

// Role is what a declaration is there for.
type Role int

// The roles of declarations.
const (
	Requires Role = iota // a package is to be there, at some version
	Imports              // what another file says holds here as well: a parent, a list of versions
	Follows              // a package is to be there, at the version that a parent or a list states
)

// PinKinds are the kinds of subjects that are no packages.
var PinKinds = []string{"runtime", "tool", "platform", "image"}

// IsPin tells whether s is a runtime, tool, platform or image.
func (s Subject) IsPin() bool { return slices.Contains(PinKinds, s.Kind) }

// ReadSubject reads "npm/left" or "runtime/node"; ok is false for a text
// without a kind.
func ReadSubject(text string) (s Subject, ok bool) {
	kind, name, ok := strings.Cut(text, "/")
	return Subject{kind, name}, ok && kind != "" && name != ""
}

// Pin is a site that states the version of a subject that is no package.
type Pin struct {
	Subject  Subject
	Range    string
	Site     Site
	Floating bool   // it names whatever is newest: "latest", "lts"
	AtLeast  bool   // anything newer will do as well
	Here     bool   // it is for the machine that the project is worked on
	Whole    bool   // only a complete version may stand there: "20.11.1", not "20"
	Assumed  bool   // resolving is to assume it, whatever runs
	Image    bool   // it is the tag of an image
	Promise  bool   // it is said to who uses the project, and not to who works on it
	Unknown  string // why it cannot be known; Range is what stands there
	Digest   Site   // a digest behind it, which holds for this very version; zero if there is none
	List     *List  // the list that it is one of, all of which are tried; nil if there is none
}

// List is a pin's place in a list of versions.
type List struct {
	Start int  // byte where the list starts: what is in the same list has the same
	Entry Site // the whole entry, with its quotes; with its line ends where each entry has lines of its own
}

// Component is one manifest and what belongs to it.
type Component struct {
	Kind         string // the ecosystem's: how its manifests and locks are read
	Type         string // the Package URL type of its packages, and the kind of their subjects
	Dir          string // slash-separated, relative to the project; "." at its root
	Name         string // what the manifest calls itself
	Manifest     string // file, relative to the project
	Locks        []Lock // that there are, each for some of its environments
	Lockless     bool   // there is never a lock: what is required is in effect
	Requirements []Requirement
	Pins         []Pin
	Notes        []string // what is particular here, as sentences
	Unread       []Missed // parts of it that could not be read
	Detail       any      // what the ecosystem itself keeps between reading and resolving
}

// Missed is a part of a component that could not be read: what it declares is not known.
type Missed struct {
	Dir string // slash-separated, relative to the project
	Err error
}

// Lock is a file in which a client keeps the versions that it found.
type Lock struct {
	File   string // relative to the project
	Client string // who writes it, where that is not ours to do; empty for what is
}

// Keeps tells whether a file is a lock of the component.
func (c *Component) Keeps(file string) bool {
	return slices.ContainsFunc(c.Locks, func(l Lock) bool { return l.File == file })
}

// LockFiles are the locks, as they are shown: "a.lock, b.lock".
func (c *Component) LockFiles() string {
	files := make([]string, len(c.Locks))
	for i, l := range c.Locks {
		files[i] = l.File
	}
	return strings.Join(files, ", ")
}

// Package is a package in effect, by the lock.
type Package struct {
	Subject Subject
	Version string
	Via     []string // what leads to it from the requirement on: "quayside 4.0.0", …; empty for what is required itself
	Site    Site     // of the requirement
	Needs   []Need   // what it states that it runs on
	// Development is that it is only there to work on the project: who uses that does not get it.
	Development bool
	// Builds is that it runs something when it is installed, as what is built for one version of a runtime does.
	Builds bool
}

// Need is a demand on something else than a package.
type Need struct {
	Subject Subject
	Range   string
	Advice  bool   // who installs it only warns where it is not met
	Stated  string // the range in the words of who states it, if those are others
}

// String is the form for people: "node >=18".
func (n Need) String() string { return n.Subject.Name + " " + cmp.Or(n.Stated, n.Range) }

// NeedsText is what a release states that it runs on, in words; "" for nothing.
func (r Release) NeedsText() string {
	texts := make([]string, len(r.Needs))
	for i, n := range r.Needs {
		texts[i] = n.String()
	}
	return strings.Join(texts, ", ")
}

// Release is one published version of a subject.
type Release struct {
	Version    string
	As         string    // what the package is called at this version, if not as it was asked for
	Published  time.Time // zero if the registry does not say
	Deprecated string    // the notice; empty if it is not deprecated
	Retracted  bool      // its author took it back
	Because    string    // why it was taken back, if the author says
	Peers      []string  // names of the packages it wants to meet, sorted
	Needs      []Need    // what it states that it runs on
	Unfit      string    // why it does not run on what is installed; empty if it does
	Replaced   string    // the name of the package that goes on in its place
}

// Stage is one part of a verification.
type Stage struct {
	Name     string // clean, fetch, build, test or start
	Dir      string // relative to the project
	Command  []string
	Env      []string      // "NAME=value", added to the surroundings'
	Timeout  time.Duration // zero for the default
	Optional bool          // a failure is reported, but does not fail the verification
	Skip     string        // why the stage is not run; empty if it is
	Fine     []int         // exit statuses that are fine besides 0
	Remove   []string      // of clean: patterns of what is generated, relative to Dir, as doublestar has them
	Results  []string      // patterns of files of results that it writes, likewise
	Probes   []Probe       // of start: what must hold while the program runs; none for one that ends by itself
	Within   time.Duration // of start: how long it may take until they hold; zero for the default
	// ByHand says what a person does where the command is not installed; empty if
	// the stage then fails.
	ByHand string
	// Refreshes are files and folders, relative to the project, that the stage writes anew
	// and that belong to what is committed.
	Refreshes []string
}

// Probe is something that must hold of a started program: an answer over HTTP, a port
// that accepts connections, a line that it prints, or a command that succeeds.
type Probe struct {
	URL     string
	Status  int               // of the answer; 0 for 200
	Header  map[string]string // names, and what their values have in them
	Body    string            // what the body has in it
	JSON    string            // a path in the body: names and numbers with dots between
	Is      string            // what stands there; empty for anything
	TCP     string            // "host:port"
	Prints  string            // a regular expression; its first group, if it has one, is what it tells
	Command []string
	Tells   Subject // whose version the probe tells; zero for nobody's
}

// LockedCopy is one copy of a package in a lock, and who asks for it.
type LockedCopy struct {
	Version string   `json:"version"`
	Where   string   `json:"where"`
	Scope   string   `json:"scope,omitempty"` // what it is there for, where an ecosystem tells: "test"
	Askers  []string `json:"askers"`
}
