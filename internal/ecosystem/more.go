package ecosystem

import (
	"context"
	"io/fs"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
)

// What an ecosystem or its registry can do besides. Who needs it asks whether it is there.

// Effective is an ecosystem whose files alone do not tell which packages are in effect:
// parents, imported lists of versions, or a graph without a lock have to be asked for.
type Effective interface {
	// Effective are the packages in effect, direct ones among them.
	Effective(ctx context.Context, r Registry, c *model.Component) ([]model.Package, error)
}

// Graphed is an ecosystem whose files do not say which package brings which: its graph has to be asked for.
type Graphed interface {
	// Brought are the packages in effect, each with what brings it by the shortest way.
	Brought(ctx context.Context, r Registry, c *model.Component) ([]model.Package, error)
}

// Importer is an ecosystem that can tell where a project's own files use a requirement.
type Importer interface {
	// Imports are the places in a component's own files that import a requirement, in the
	// order of the files.
	Imports(fsys fs.FS, c *model.Component, name string) ([]model.Site, error)
}

// Rewriter is an ecosystem in whose manifests requirements can be renamed, added and
// dropped, and those of an Overrider overridden.
type Rewriter interface {
	// Rewrite gives the edits of the manifests alone; Resolve follows with
	// what the changes mean.
	Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error)
}

// Overrider is a Rewriter whose manifests can say what a package gets of another, whatever it
// asks for.
type Overrider interface {
	Rewriter
	// CanOverride tells whether a component's can.
	CanOverride(c *model.Component) bool
}

// Sourced is an ecosystem in whose manifests a requirement can ask for a repository
// of the source in the place of releases. It is a Rewriter, too.
type Sourced interface {
	// IsSource tells whether a requirement's range asks for a repository.
	IsSource(rng string) bool
	// SourceRange is what asks for a branch, tag or commit of a repository.
	SourceRange(address, ref string) string
}

// Describer is an ecosystem with packages that only describe others, and follow their
// versions.
type Describer interface {
	// Describes is what a package describes, a package or a runtime; ok is false for others.
	Describes(name string) (s model.Subject, ok bool)
}

// Neighbour is an ecosystem whose components build with folders that are not theirs.
type Neighbour interface {
	// BuildsWith are those folders and files, relative to the project.
	BuildsWith(c *model.Component) []string
}

// Installer is an ecosystem that can tell what its client installed.
type Installer interface {
	// Installed are the versions of a component's requirements as they lie in a tree,
	// by the names that the manifest uses. What is not there is left out.
	Installed(fsys fs.FS, c *model.Component) (map[string]string, error)
}

// Namer is an ecosystem in which one package may be written in several ways.
type Namer interface {
	// Normal is the name that subjects have, for one that a stack, a path or a record says.
	Normal(name string) string
}

// Advised is an ecosystem that vulnerability records are kept for.
type Advised interface {
	// OSVName is what the OSV schema calls the ecosystem.
	OSVName() string
	// OSVVersion is a version that a record says, as the ecosystem writes it.
	OSVVersion(text string) string
}

// Brancher is a registry that gives versions of what is not released.
type Brancher interface {
	// Branch is the version that stands for the present end of a branch of a
	// package's source.
	Branch(ctx context.Context, s model.Subject, name string) (string, error)
	// OfBranch tells whether a version stands for something that is not released.
	OfBranch(version string) bool
}

// Stater is a registry of an ecosystem whose requirements may take their version from elsewhere, and can state it themselves. It is
// that of a Rewriter.
type Stater interface {
	// Stated is the version in effect of a requirement that takes it from elsewhere, and the name that this version says the package
	// goes on under, empty for none. It is all empty for other requirements.
	Stated(ctx context.Context, c *model.Component, name string) (version, goesOn string, err error)
}

// Archived is a registry that can show what is in the archive of a release.
type Archived interface {
	// Archive are the files of a release's archive that are wanted, in its order. The archive is
	// read as data, within limits, and what is found is kept for good. Links are no files.
	Archive(ctx context.Context, s model.Subject, version string, wanted Wanted) ([]ArchiveFile, error)
}

// Wanted says which files of an archive are.
type Wanted struct {
	Form string                             // names this very choice, for what is kept
	File func(name string, size int64) bool // of a name below the archive's own folder
}

// ArchiveFile is a file of an archive.
type ArchiveFile struct {
	Name string // below the archive's own folder
	Data []byte
}

// NormalName is a name as an ecosystem's subjects have it.
func NormalName(eco Ecosystem, name string) string {
	if namer, ok := eco.(Namer); ok {
		return namer.Normal(name)
	}
	return name
}
