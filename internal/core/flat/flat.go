// Package flat resolves where a package has one version in all of an application: the case of
// most ecosystems with a lock. It asks an index for releases and for what they need, and
// gives one solved state, with who asks for what, or a proof that there is none.
package flat

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/version"
	"bellwether/internal/core/want"
)

// Key is what has one version: a package, one line of it where several majors lie side by
// side, or one of its extras, which has the version of its package.
type Key struct {
	Name  string
	Line  string // empty for the package as a whole
	Extra string // empty for the package itself
	Place string // of the one declaration that it is, where others may be at other versions; empty for all
}

// String is the form for people: "hawser", "hawser 2", "hawser[tls]", "hawser in app/pom.xml".
func (k Key) String() string {
	text := k.Name
	if k.Line != "" {
		text += " " + k.Line
	}
	if k.Extra != "" {
		text += "[" + k.Extra + "]"
	}
	if k.Place != "" {
		text += " in " + k.Place
	}
	return text
}

// Compare orders keys by name, line, extra and place.
func (k Key) Compare(o Key) int {
	return cmp.Or(
		strings.Compare(k.Name, o.Name), strings.Compare(k.Line, o.Line), strings.Compare(k.Extra, o.Extra), strings.Compare(k.Place, o.Place),
	)
}

// Release is a published version of a key.
type Release struct {
	Text    string
	Version version.Version
	Shunned bool // nobody should go there by itself: it is deprecated, taken back
	Unfit   bool // it does not run on what is installed
}

// Option is a way to meet a need: a key at some of its versions.
type Option struct {
	Key    Key
	Allows func(v version.Version) bool
}

// Sense is how a need is meant.
type Sense int

// The senses of needs.
const (
	Requires  Sense = iota // one of the options has to be there
	Excludes               // none of the options may be there
	IfPresent              // what is there of the options' keys has to be as they allow
)

// Need is what a release says of others. Options of a need that requires are alternatives, in
// the order of preference; one without any is never met, and its text says why.
type Need struct {
	Sense   Sense
	Options []Option
	Text    string // the need in the words of who states it: "hawser ^2"
	About   string // what it is about where it has no options
}

// Index answers what is published. Its methods are called concurrently; what they answer is
// asked for once.
type Index interface {
	// Releases are those of a key, ascending; ErrUnknown for a package that there is not.
	Releases(ctx context.Context, key Key) ([]Release, error)
	// Needs are what a release says of others.
	Needs(ctx context.Context, key Key, release string) ([]Need, error)
}

// ErrUnknown is the error of a package that an index does not know.
var ErrUnknown = errors.New("the registry does not know it")

// Whole is an index that has the needs of all releases of a key at once, so that what many of
// them say alike is stated in one.
type Whole interface {
	Index
	// AtHand tells whether the needs of all releases of a key are there without asking.
	AtHand(key Key) bool
}

// Root is a requirement of the project itself.
type Root struct {
	Name   string // what the manifest calls it
	Spoken string // how the goal speaks of it; empty for Name
	Option        // what the manifest asks for
	Range  string // the range as it is written
	Where  string // "app/hold.txt:3"
	Still  bool   // it moves only where a bound names it, as a runtime does
	Weight int    // how many others want to meet it: heavy ones are decided first
}

// Request is what is to be resolved.
type Request struct {
	Roots    []Root
	Locked   map[Key]string // the versions in effect
	Goal     contract.Goal
	Tendency want.Tendency // of all that the goal does not take to the newest
	Index    Index
	// Upward keeps what only the lock has from going down.
	Upward bool
}

// Asker is who asks for a key.
type Asker struct {
	By    string // "app/hold.txt:3", "quayside 4.0.0"
	Wants string // in the words of who asks
}

// Chosen is a key with the version that was found for it.
type Chosen struct {
	Key     Key
	Version string
	Was     string // the version in effect before, empty for none
	Askers  []Asker
}

// Result is a solved state.
type Result struct {
	Chosen []Chosen // in the order of the keys
	Gone   []Chosen // what was there before and is needed no more; without versions
}

// Of is what was chosen for a key; nil if the state is without it.
func (r *Result) Of(key Key) *Chosen {
	at, ok := slices.BinarySearchFunc(r.Chosen, key, func(c Chosen, key Key) int { return c.Key.Compare(key) })
	if !ok {
		return nil
	}
	return &r.Chosen[at]
}

// Resolve finds a version for every key that is needed, with as little change as the goal
// allows. The error is a *solve.Conflict if there is none.
func Resolve(ctx context.Context, r Request) (*Result, error) {
	ctx, cancel := context.WithCancel(ctx)
	asked := newAnswers(ctx, r.Index)
	defer asked.wait()
	defer cancel()
	s := newResolver(ctx, r, asked)
	if err := s.roots(); err != nil {
		return nil, err
	}
	solution, err := s.problem.Solve(ctx)
	if err != nil {
		return nil, err
	}
	return s.result(solution)
}

// asks is the sentence of a requirement of the project.
func (r Root) asks() string { return fmt.Sprintf("%s asks for %s %s", r.Where, r.Name, r.Range) }
