// Package route computes the ordered legs from where a component is to where
// it is to be. It moves one subject at a time, keeps everything else, and
// sees what is forced along; what is forced along belongs to the leg.
package route

import (
	"context"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Restore says that while its terms all hold, a requirement has to be there.
type Restore struct {
	When []contract.Term
	Add  contract.Change
}

// World is the component that a route is planned for. Planning never changes
// anything outside of it.
type World interface {
	// Solve finds a state that meets the goal; the error is a
	// *solve.Conflict if there is none.
	Solve(ctx context.Context, goal contract.Goal) (*contract.State, error)
	// Take makes a state that Solve found the present one.
	Take(s *contract.State) error
	// Unmet is what packages that come with a state need of runtimes and the like, and do not get.
	Unmet(ctx context.Context, s *contract.State) ([]Unmet, error)
}

// Unmet is a need that a state brings and the project does not meet.
type Unmet struct {
	Name string // of the requirement that leads to it, as the manifest calls it
	Text string // who needs what, and what there is
}

// Subject is a direct requirement that can move.
type Subject struct {
	Name     string          // its key: what the manifest calls it, or the ID of one declaration of several
	At       version.Version // where it is; nil if nothing is locked
	Releases []version.Version
	Previews bool                             // pre-releases may be taken
	Peers    []string                         // names that any of its releases wants to meet
	PeersAt  func(v version.Version) []string // and those that one does
	Held     bool                             // stays where it is
	Family   []string                         // names of what is released together with it
	// Stated is what the manifest asks for, and Admits whether it takes a version; nil where that says nothing of later ones.
	Stated string
	Admits func(v version.Version) bool
	// Exact is that one version is stated among ranges, which somebody decided: no reach moves it.
	Exact bool
	// Ranged is that a range is stated and nothing is locked: the client takes what the range gives. No reach moves it, either.
	Ranged bool
	// Development is that only who works on the project gets it.
	Development bool
	Runtime     bool   // what others need to run; it moves where it is asked to, before all others
	Carries     bool   // it is a parent or a list, where many take their versions from such
	Stepwise    string // why no major of it may be skipped; empty if one may
	// Shun says why nobody should move to a release by itself: it is
	// deprecated, or does not run here. Empty if there is nothing against it.
	Shun func(v version.Version) string
	// Bars says why a release that would do well is not to be had here: it does not run on what is there. Empty
	// for one that is, and for one that nobody should want; nil where nothing is known.
	Bars func(v version.Version) string
	// GoesOn is the name that its own releases say it goes on under; empty for none.
	GoesOn string
	// Again says what it is like under another name, which it goes on under; nil where that says nothing new.
	Again func(ctx context.Context, s *Subject, name string) error
}

// String is the subject in sentences: "hawser", "hawser in decks/package.json".
func (s *Subject) String() string { return model.Spoken(s.Name) }

// Vulnerable is a requirement whose version has a known vulnerability.
type Vulnerable struct {
	Name string
	Free func(v version.Version) bool // of known vulnerabilities
	Why  string                       // which it has, a clause
}

// Wish is a destination that a user named.
type Wish struct {
	Name  string // the key of a subject
	Range version.Range
	Text  string // as the user wrote it
	// Because is why another destination needs it; empty for one that the user
	// named. Where such a wish cannot be met by itself, what needs it takes it along.
	Because string
	// Follows tells that it only follows something else that moves: where it does not go it stays, and that is told.
	Follows bool
}
