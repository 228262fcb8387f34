// Package ecosystem says what the use cases know about one family of
// packages. Each family has a folder below this one.
package ecosystem

import (
	"context"
	"io/fs"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/host/fetch"
)

// Ecosystem is one family of packages: its files, versions and stages. Its methods may be
// called concurrently.
type Ecosystem interface {
	// Kind names the ecosystem, by how its manifests and locks are read: "npm", "golang".
	Kind() string
	// Type is the Package URL type of its packages, and the kind of their subjects. Several
	// ecosystems may share one.
	Type() string
	// Manifests are the names of its manifests, or patterns of them as path.Match has them.
	Manifests() []string
	// Order is how its versions are ordered and its ranges read.
	Order() version.Order
	// Detect gives the folders of a project that hold a component, sorted.
	Detect(x *Index) ([]string, error)
	// Read reads the component in dir: requirements with their sites, and
	// what its lock says. Use cases call [Read], which identifies what is declared.
	Read(x *Index, dir string) (*model.Component, error)
	// Packages are the packages in effect, direct ones among them, as far as
	// the files tell.
	Packages(c *model.Component) []model.Package
	// Connect gives the registry that the component in dir uses.
	Connect(ctx context.Context, s Surroundings, dir string) (Registry, error)
	// Stages are what clean, fetch, build and test are by default here.
	Stages(c *model.Component) []model.Stage
	// Supports says which terms of a goal are honoured.
	Supports() Support
	// Tools are the programs whose versions a verification depends on, as
	// commands that print them.
	Tools() [][]string
}

// Support says which terms of a goal an ecosystem honours besides bounds. What it does not is refused before anything is
// planned.
type Support struct {
	Places bool // one declaration of a package may move by itself: each place can have a version of its own
	Apart  bool // what shares a version may be told to have versions of its own
	Dedupe bool // copies of packages that nobody needs can be taken out
	// Indirect is that what only the lock has can go to the newest of its major that is asked for, while the rest stays.
	Indirect bool
	// Everywhere is that an override may be for all packages, whoever asks; one for a single package is an [Overrider]'s.
	Everywhere bool
}

// Read reads the component in dir, with an ID for each declaration.
func Read(eco Ecosystem, x *Index, dir string) (*model.Component, error) {
	c, err := eco.Read(x, dir)
	if err != nil {
		return nil, err
	}
	c.Identify()
	return c, nil
}

// Surroundings are what a registry may use of the world.
type Surroundings struct {
	Files   fs.FS    // the project's, as they lie on the disk
	Environ []string // "NAME=value"; of a name that stands twice the last counts
	Home    string
	Client  *fetch.Client
	Now     time.Time
	// Ask gives what an installed program prints, trimmed: its version, a
	// setting. The answer may be remembered from an earlier call.
	Ask func(ctx context.Context, args ...string) (string, error)
	// Find gives the file of an installed program, links followed; nil for not looking.
	Find   func(program string) (string, error)
	AsOf   time.Time     // releases after this do not exist; zero for now
	MinAge time.Duration // releases younger than this are held back
	// Share gives the registry that was opened before with the same settings, or opens it;
	// nil for opening one each time.
	Share func(settings string, open func() (Registry, error)) (Registry, error)
	// Say tells the person something to know, the same sentence once; nil for nobody.
	Say func(text string)
}

// Shared opens a registry, or gives the one that was opened before with the same settings.
// What it answers and keeps then holds for all components that use it.
func (s Surroundings) Shared(settings string, open func() (Registry, error)) (Registry, error) {
	if s.Share == nil {
		return open()
	}
	return s.Share(settings, open)
}

// Note tells the person something to know, such as what was refused.
func (s Surroundings) Note(text string) {
	if s.Say != nil {
		s.Say(text)
	}
}

// Env is the value of a variable of the environment, "" if it is not set.
func (s Surroundings) Env(name string) string {
	for _, pair := range slices.Backward(s.Environ) {
		if key, value, _ := strings.Cut(pair, "="); key == name {
			return value
		}
	}
	return ""
}

// InTime tells whether what was published at a time exists, as far as AsOf and
// MinAge are concerned. What has no date always does.
func (s Surroundings) InTime(published time.Time) bool {
	now := s.AsOf
	if now.IsZero() {
		now = s.Now
	}
	if published.IsZero() {
		return true
	}
	if !s.AsOf.IsZero() && published.After(s.AsOf) {
		return false
	}
	return s.MinAge == 0 || !published.After(now.Add(-s.MinAge))
}

// Registry answers what has been released, and resolves against it. One may serve several
// components. Its methods may be called concurrently.
type Registry interface {
	// Releases gives all releases of a package, oldest version first. The error is an [ErrUnknown] for a package that no
	// registry has.
	Releases(ctx context.Context, s model.Subject) ([]model.Release, error)
	// Copies are the copies of a package that are in effect, and who asks for
	// each.
	Copies(ctx context.Context, c *model.Component, name string) ([]model.LockedCopy, error)
	// Families are the names of requirements that are released together at the
	// same version, as far as the packages themselves show it.
	Families(ctx context.Context, c *model.Component) ([][]string, error)
	// Resolve finds versions for the whole component within the bounds of
	// ask, with as little change as they allow. Its error is a
	// *solve.Conflict if there are none.
	Resolve(ctx context.Context, ask Ask) (*contract.State, error)
}

// Ask is what Resolve is asked for.
type Ask struct {
	Component *model.Component
	Before    *model.Component // as it was before the goal's changes were made in its manifest; nil for no other one
	contract.Goal
}
