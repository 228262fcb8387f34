// Package contract is what the planner and the ecosystems say to each other: what a solved state of a component must be like, and
// what it is.
package contract

import (
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Bound limits what one requirement may become.
type Bound struct {
	// Allow tells which releases may be chosen; nil for any that is not
	// older than the locked one.
	Allow func(v version.Version) bool
	// Newest asks for the newest allowed release even where the locked one
	// would do.
	Newest bool
	// Why says in a sentence who set the bound; empty for the manifest.
	Why string
}

// Change is of a manifest: the requirement Old goes on as New, or where Old is
// empty, New is added, and where New is, Old goes. Where both are the same, it comes from
// elsewhere.
type Change struct {
	Old, New string
	Range    string // what is asked for of New
	Why      string
	Title    string // of a leg that makes nothing but this; empty for one that says the names
	Asked    bool   // somebody named it as a destination
	First    bool   // it goes before anything is refreshed
}

// Rule says that its terms do not all hold.
type Rule struct {
	Terms []Term
	Why   string // a sentence without a full stop
}

// Term says that a requirement is at one of some versions.
type Term struct {
	Name string // what the manifests call it
	In   func(v version.Version) bool
}

// Goal is what a solved state must be like.
type Goal struct {
	// Bounds are by key: the name that the manifest uses, or the ID of one declaration, which counts before its name. A
	// requirement without one may become anything that is not older than what is locked.
	Bounds map[string]Bound
	First  []string // keys to decide before all others, in this order
	// Changes are made to the manifest first.
	Changes []Change
	// Rules hold of requirements in every state.
	Rules []Rule
	// Avoid tells which versions of packages below the requirements are not to be
	// taken, nor kept, where there are others; nil for none.
	Avoid func(name, version string) bool
	// Also are versions that no list of releases has, by name.
	Also map[string]string
	// Previews are names whose pre-releases may be taken.
	Previews []string
	// Terms are those of the leg that the state is for. Overrides are made in the manifest
	// first, too. A bound on a name that is apart leaves a member where it is if it cannot go along.
	model.Terms
	// Renames say where packages are that own sources import, and that a release has no more.
	Renames []Rename
	// Peek asks for no more than the moves of requirements: the state is not to be taken.
	Peek bool
	// Fit forbids releases that do not run on what is installed. It is for
	// moves that nobody asked for by name.
	Fit bool
}

// Bound is what limits the declarations that a key speaks of.
func (g *Goal) Bound(key string) Bound {
	b, ok := g.Bounds[key]
	if place, name := model.Parted(key); !ok && place != "" {
		return g.Bounds[name]
	}
	return b
}

// Leads is the place of a key among those that are decided first, -1 for none.
func (g *Goal) Leads(key string) int {
	at := slices.Index(g.First, key)
	if place, name := model.Parted(key); at < 0 && place != "" {
		return slices.Index(g.First, name)
	}
	return at
}

// Keys gives what tells the keys of declarations: the name where all of that name are at one version and the goal makes no
// difference between them, else the ID.
func (g *Goal) Keys() func(r model.Requirement) string {
	parted := map[string]bool{}
	for key := range g.Bounds {
		if place, name := model.Parted(key); place != "" {
			parted[name] = true
		}
	}
	return func(r model.Requirement) string {
		if parted[r.Name] && r.Fixed == "" {
			return string(r.ID)
		}
		return r.Key()
	}
}

// Rename is a package, or a path of packages, that goes on under another path.
type Rename struct {
	Old, New string
	Below    bool     // also what is below it
	Unless   []string // what is below it and stays
}

// Of is what a path becomes; ok is false where it stays.
func (r Rename) Of(path string) (renamed string, ok bool) {
	rest, ok := strings.CutPrefix(path, r.Old)
	if !ok || rest != "" && (!r.Below || rest[0] != '/') {
		return "", false
	}
	for _, u := range r.Unless {
		if path == u || strings.HasPrefix(path, u+"/") {
			return "", false
		}
	}
	return r.New + rest, true
}

// Double is a version of a package that came in beside the one that the component requires itself, in another major.
type Double struct {
	Name    string   // as it is required
	Version string   // of the one that came in
	For     []string // the requirements that it came in for, by their names
}

// Cure is a release of a package with which what a state would break is whole again.
type Cure struct {
	Name string
	To   string
	Why  string // what it has, or does without, a clause
}

// Hollow is a requirement whose release has nothing in it any more.
type Hollow struct {
	Name string
	Text string // that, and where it went if that is told, a sentence
}

// State is a solved state of a component, and how it differs from the present one.
type State struct {
	Moves   []model.Move // of direct requirements, from the present state
	Carried []model.Move // of packages that only the lock names
	Notices []string     // things to know that are no errors, as sentences
	// AsBefore are such things that held of the present state, too.
	AsBefore []string
	// Notable are changes below the requirements that nobody should miss, as sentences: what
	// goes down, changes its licence, runs something.
	Notable []string
	// Doubled are further majors that came in of what the component requires itself.
	Doubled []Double
	// Cures are releases of what stays that do without what it refers to and is gone.
	Cures []Cure
	// Hollow are requirements whose new release has nothing in it any more.
	Hollow []Hollow
	// InEffect gives the packages that are in effect in the state, where that is known without reading it anew; nil for elsewhere.
	InEffect func() []model.Package
	// Edits are the new contents of the files that differ.
	Edits []model.FileEdit
}
