// Package mavenrepo reads repositories of the Maven layout: which versions there are, and the files of
// each, checked against the strongest digest that a repository states. It is what Maven and Gradle have in
// common.
package mavenrepo

import (
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/version"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// Type is the Package URL type of what such repositories hold.
const Type = "maven"

// Coordinates are what a package is called: a group and an artifact.
type Coordinates struct{ Group, Artifact string }

// String is the form for people: "org.example:quay".
func (c Coordinates) String() string { return c.Group + ":" + c.Artifact }

// Read reads the form for people; ok is false for another text.
func Read(text string) (c Coordinates, ok bool) {
	group, artifact, ok := strings.Cut(text, ":")
	return Coordinates{group, artifact}, ok && fine(group) && fine(artifact)
}

// fine tells whether a text may be part of coordinates, and so of a path.
func fine(text string) bool {
	return text != "" && strings.Trim(text, ".") != "" && !strings.ContainsFunc(text, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && !strings.ContainsRune("._-+", c)
	}) && !strings.Contains(text, "..")
}

// folder is where a package's files are, below a repository.
func (c Coordinates) folder() string { return strings.ReplaceAll(c.Group, ".", "/") + "/" + c.Artifact }

// Repository is one that a project, or the person's settings, name.
type Repository struct {
	ID, URL   string
	Snapshots bool // it has versions that change
	NoRelease bool // it has no others
	Declared  bool // a project or a package names it, and not the person's settings
}

// ProjectFolder stands in addresses for the folder of the project, before the path below it.
const ProjectFolder = "/{project}/"

// Central is the repository that every project has, unless settings put a mirror in its place
// (Maven's own Super POM).
var Central = Repository{ID: "central", URL: "https://repo.maven.apache.org/maven2"}

// Declare adds a repository that a project declares to those that are asked so far, in Maven's order: Central, which every
// project inherits, comes last, and one that a project declares under its ID stands in its place. Of two with one ID the
// first counts.
func Declare(all []Repository, one Repository) []Repository {
	inherited := slices.IndexFunc(all, func(r Repository) bool { return r == Central })
	same := slices.IndexFunc(all, func(r Repository) bool { return r.ID == one.ID })
	switch {
	case same >= 0 && same != inherited:
		return all
	case same >= 0:
		all = slices.Clone(all)
		all[same] = one
		return all
	case inherited >= 0:
		return slices.Insert(slices.Clone(all), inherited, one)
	}
	return append(slices.Clip(all), one)
}

// The bounds of a list of versions and of a pom, in bytes.
const (
	maxMetadata = 16 << 20
	MaxPOM      = 8 << 20
)

// ErrMissing is the error of what no repository has.
var ErrMissing = errors.New("no repository has it")

// Client asks repositories. Its methods may be called concurrently.
type Client struct {
	around   ecosystem.Surroundings
	settings *Settings
	mu       sync.Mutex
	poms     map[string]*once[[]byte]
	lists    map[string]*once[[]string]
	classes  map[string]*once[*Classes]
	// undigested are the repositories that do not state a digest of some file.
	undigested sync.Map
}

// once is something that is asked for once.
type once[T any] struct {
	once  sync.Once
	value T
	err   error
}

// New gives a client with the person's settings.
func New(s ecosystem.Surroundings, settings *Settings) *Client {
	return &Client{
		around: s, settings: settings, poms: map[string]*once[[]byte]{}, lists: map[string]*once[[]string]{},
		classes: map[string]*once[*Classes]{},
	}
}

// Versions are those that repositories list of a package, ascending, each once.
func (c *Client) Versions(ctx context.Context, repositories []Repository, of Coordinates) ([]string, error) {
	if !fine(of.Group) || !fine(of.Artifact) {
		return nil, fmt.Errorf("%q is no name of a package", of.String())
	}
	found := cached(c, c.lists, key(repositories, of.String()), func() ([]string, error) { return c.versions(ctx, repositories, of) })
	return found.value, found.err
}

func cached[T any](c *Client, in map[string]*once[T], key string, ask func() (T, error)) *once[T] {
	c.mu.Lock()
	o := in[key]
	if o == nil {
		o = &once[T]{}
		in[key] = o
	}
	c.mu.Unlock()
	o.once.Do(func() { o.value, o.err = ask() })
	return o
}

func key(repositories []Repository, what string) string {
	for _, r := range repositories {
		what += "\n" + r.URL
	}
	return what
}

func (c *Client) versions(ctx context.Context, repositories []Repository, of Coordinates) (all []string, err error) {
	known := false
	seen := map[string]bool{}
	var unreached error
	var passed []string
	for _, r := range repositories {
		if r.NoRelease { // it has snapshots alone, which nobody goes to
			continue
		}
		text, err := c.document(ctx, r, of.folder()+"/maven-metadata.xml", fetch.Request{
			Form: "maven-metadata/1", Limit: maxMetadata, Absent: []byte{}, Distil: io.ReadAll,
		})
		if err != nil {
			err = fmt.Errorf("asking the repository %s for %s: %w", r.ID, of, err)
			if passable(err) {
				unreached, passed = cmp.Or(unreached, err), append(passed, r.ID)
				continue
			}
			return nil, err
		}
		if len(text) == 0 {
			continue
		}
		known = true
		root, err := xmldoc.Parse("maven-metadata.xml of "+of.String(), text)
		if err != nil {
			return nil, err
		}
		for _, v := range root.At("versioning", "versions").All("version") {
			if err := ecosystem.CheckReleases(len(all) + 1); err != nil {
				return nil, fmt.Errorf("the repository %s: the list of %s: %w", r.ID, of, err)
			}
			snapshot := strings.HasSuffix(v.Text, "-SNAPSHOT")
			if ecosystem.ListedVersion(v.Text) && fine(v.Text) && (snapshot && r.Snapshots || !snapshot && !r.NoRelease) && !seen[v.Text] {
				seen[v.Text] = true
				all = append(all, v.Text)
			}
		}
	}
	if !known {
		return nil, cmp.Or(unreached, fmt.Errorf("%s: %w", of, ErrMissing))
	}
	c.passed(passed)
	return ascending(all), nil
}

// ascending sorts versions, each read once.
func ascending(all []string) []string {
	parsed := make(map[string]version.Version, len(all))
	for _, text := range all {
		parsed[text], _ = version.Maven{}.Parse(text)
	}
	slices.SortStableFunc(all, func(a, b string) int { return parsed[a].Compare(parsed[b]) })
	return all
}

// Compare orders versions as they are written.
func Compare(a, b string) int {
	v, _ := version.Maven{}.Parse(a)
	w, _ := version.Maven{}.Parse(b)
	return v.Compare(w)
}

// POM is the description of a version: from the client's own cache, else from the first repository that
// has it.
func (c *Client) POM(ctx context.Context, repositories []Repository, of Coordinates, version string) ([]byte, error) {
	if !fine(of.Group) || !fine(of.Artifact) || !fine(version) {
		return nil, fmt.Errorf("%q is no name of a version of a package", of.String()+":"+version)
	}
	found := cached(c, c.poms, key(repositories, of.String()+":"+version), func() ([]byte, error) {
		return c.pom(ctx, repositories, of, version)
	})
	return found.value, found.err
}

func (c *Client) pom(ctx context.Context, repositories []Repository, of Coordinates, version string) ([]byte, error) {
	file := of.file(version, version, ".pom")
	if c.settings.Local != "" {
		text, err := within.Plain(filepath.Join(c.settings.Local, filepath.FromSlash(file)), MaxPOM)
		if err == nil {
			return text, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			c.around.Note(fmt.Sprintf("%s in Maven's local repository cannot be read, and is asked for: %v", of, err))
		}
	}
	var unreached error
	var passed []string
	for _, r := range repositories {
		file, err := c.fileIn(ctx, r, of, version, ".pom")
		var text []byte
		if err == nil && file != "" {
			text, err = c.checked(ctx, r, file, MaxPOM)
		}
		if err != nil {
			err = fmt.Errorf("asking the repository %s for %s %s: %w", r.ID, of, version, err)
			if passable(err) {
				unreached, passed = cmp.Or(unreached, err), append(passed, r.ID)
				continue
			}
			return nil, err
		}
		if text != nil {
			c.passed(passed)
			return text, nil
		}
	}
	return nil, cmp.Or(unreached, fmt.Errorf("%s %s: %w", of, version, ErrMissing))
}

// passable tells whether an error of one repository leaves it to the others to have something, as it does for Maven: it was not
// reached, or must not be asked. One whose answer is wrong stops.
func passable(err error) bool { return fetch.Failed(err) || errors.Is(err, errBlocked) }

// passed tells of repositories that could not be asked where another one had what was asked for.
func (c *Client) passed(ids []string) {
	for _, id := range ids {
		c.around.Note(fmt.Sprintf("the repository %s could not be asked; what only it has is not known here", id))
	}
}

// file is where a file of a version is, below a repository. Exact is the version that its name has.
func (c Coordinates) file(version, exact, ending string) string {
	return c.folder() + "/" + version + "/" + c.Artifact + "-" + exact + ending
}

// fileIn is where a repository has a file of a version, "" where it cannot have it. What is newest of a snapshot is
// asked for (Maven: Repository Metadata).
func (c *Client) fileIn(ctx context.Context, r Repository, of Coordinates, version, ending string) (string, error) {
	base, snapshot := strings.CutSuffix(version, "-SNAPSHOT")
	if !snapshot && r.NoRelease || snapshot && !r.Snapshots {
		return "", nil
	}
	if !snapshot {
		return of.file(version, version, ending), nil
	}
	name := of.folder() + "/" + version + "/maven-metadata.xml"
	text, err := c.document(ctx, r, name, fetch.Request{Form: "maven-metadata/1", Limit: maxMetadata, Absent: []byte{}, Distil: io.ReadAll})
	if err != nil || len(text) == 0 {
		return "", err
	}
	root, err := xmldoc.Parse(name, text)
	if err != nil {
		return "", err
	}
	for _, v := range root.At("versioning", "snapshotVersions").All("snapshotVersion") {
		if exact := v.Value("value"); "."+v.Value("extension") == ending && v.Value("classifier") == "" && fine(exact) {
			return of.file(version, exact, ending), nil
		}
	}
	if s := root.At("versioning", "snapshot"); s.Value("timestamp") != "" {
		if exact := base + "-" + s.Value("timestamp") + "-" + s.Value("buildNumber"); fine(exact) {
			return of.file(version, exact, ending), nil
		}
	}
	return of.file(version, version, ending), nil
}

// digest is a kind of digest, with the ending of the files that state it.
type digest struct {
	name string
	make func() hash.Hash
}

// digests are those that a repository may state of a file, in the order in which they are asked for. The one that Maven asks
// for, and that all have, comes first: all come from where the file does, so that they tell of damage, whichever it is.
var digests = []digest{{"sha1", sha1.New}, {"sha512", sha512.New}, {"sha256", sha256.New}, {"md5", md5.New}}

// checked is a file that never changes, checked against the digest that there is; nil for one
// that the repository does not have.
func (c *Client) checked(ctx context.Context, r Repository, file string, limit int64) ([]byte, error) {
	text, err := c.document(ctx, r, file, fetch.Request{
		Form: "maven-file/1", Limit: limit, Absent: []byte{}, Forever: true, Distil: io.ReadAll,
	})
	if err != nil || len(text) == 0 {
		return nil, err
	}
	if err := c.verify(ctx, r, file, text); err != nil {
		return nil, err
	}
	return text, nil
}

// verify checks a file against the first digest that a repository states of it.
func (c *Client) verify(ctx context.Context, r Repository, file string, data []byte) error {
	for _, d := range digests {
		stated, err := c.document(ctx, r, file+"."+d.name, fetch.Request{
			Form: "maven-digest/1", Limit: 4096, Absent: []byte{}, Forever: true, Distil: io.ReadAll,
		})
		if err != nil {
			return err
		}
		word, _, _ := strings.Cut(strings.TrimSpace(string(stated)), " ") // the name of the file may follow
		if word == "" {
			continue
		}
		sum := d.make()
		sum.Write(data)
		if !strings.EqualFold(word, hex.EncodeToString(sum.Sum(nil))) {
			return fmt.Errorf("the %s that it states of %s is that of another file", d.name, file)
		}
		return nil
	}
	if _, told := c.undigested.LoadOrStore(r.ID, true); !told && !strings.HasPrefix(r.URL, "file:") {
		c.around.Note(fmt.Sprintf(
			"the repository %s states no digest of %s, nor perhaps of others: what it answers is not checked then", r.ID, file,
		))
	}
	return nil
}

// fromFolder gets a file of a repository that is a folder. One that a project names lies in the project.
func (c *Client) fromFolder(r Repository, folder, file string, request fetch.Request) (text []byte, err error) {
	own, in := strings.CutPrefix(folder, ProjectFolder)
	switch {
	case in:
		if own = path.Join(own, file); fs.ValidPath(own) {
			text, err = fs.ReadFile(c.around.Files, own)
		}
	case r.Declared:
		c.around.Note(
			"the repository " + r.ID + " is a folder outside of the project, and is not looked at; name it in your own settings of Maven " +
				"to allow it",
		)
		return nil, nil
	default:
		text, err = within.Plain(filepath.Join(filepath.FromSlash(folder), filepath.FromSlash(file)), request.Limit)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if int64(len(text)) > request.Limit {
		return nil, fmt.Errorf("%s is too large", file)
	}
	if err != nil || request.Distil == nil {
		return text, err
	}
	return request.Distil(bytes.NewReader(text))
}

// document gets a file of a repository, by way of its mirror and with its login.
func (c *Client) document(ctx context.Context, r Repository, file string, request fetch.Request) ([]byte, error) {
	at, err := c.settings.mirrored(r)
	if err != nil {
		return nil, err
	}
	if folder, is := strings.CutPrefix(at.URL, "file:"); is {
		return c.fromFolder(at, "/"+strings.TrimLeft(folder, "/"), file, request)
	}
	plain, _ := harmless.WithoutLogin(at.URL)
	request.URL = strings.TrimSuffix(plain, "/") + "/" + file
	header, refused := c.settings.login(at)
	if refused != "" {
		c.around.Note(refused)
	}
	request.Authorization = header
	return c.around.Client.Document(ctx, request)
}
