package work

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/condition"
	"bellwether/internal/core/contract"
	"bellwether/internal/core/flat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/carry"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/look"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

// keel is an ecosystem of another hard shape: majors of a package side by side, features that all who ask for a package unite,
// requirements for some targets, and patches that all get. Its manifest has lines
//
//	need NAME[FEATURE…] RANGE [if CONDITION]
//	patch NAME RANGE
//
// and the lock "NAME VERSION FEATURE…".
type keel struct {
	ballast
	yard ballastYard
}

func (keel) Kind() string                { return "keel" }
func (keel) Manifests() []string         { return []string{"keel.txt"} }
func (keel) Supports() ecosystem.Support { return ecosystem.Support{Everywhere: true} }
func (k keel) Detect(x *ecosystem.Index) ([]string, error) {
	var dirs []string
	for _, file := range x.Named(k.Manifests(), func(string) bool { return false }) {
		dirs = append(dirs, path.Dir(file))
	}
	return dirs, nil
}

// keelFiles is what was read.
type keelFiles struct {
	manifest, lock []byte
	features       map[string][]string // of requirements, by name
	patches        map[string]string
	locked         map[flat.Key]string // by line
}

// split takes "hawser[tls,io]" apart.
func split(text string) (name string, features []string) {
	name, rest, ok := strings.Cut(strings.TrimSuffix(text, "]"), "[")
	if ok {
		features = strings.Split(rest, ",")
	}
	return name, features
}

// lineOf is the line of a version as keys have it: its major.
func lineOf(text string) string {
	v, err := version.NPM{}.Parse(text)
	if err != nil {
		return ""
	}
	return v.Line()
}

func (k keel) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	f := &keelFiles{features: map[string][]string{}, patches: map[string]string{}, locked: map[flat.Key]string{}}
	c := &model.Component{Kind: k.Kind(), Type: k.Type(), Dir: dir, Manifest: path.Join(dir, "keel.txt"), Detail: f}
	c.Locks = []model.Lock{{File: path.Join(dir, "keel.lock")}}
	var err error
	if f.manifest, err = fs.ReadFile(x.FS, c.Manifest); err != nil {
		return nil, err
	}
	if f.lock, err = fs.ReadFile(x.FS, c.Locks[0].File); err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(f.lock)) {
		if words := strings.Fields(line); len(words) > 1 {
			f.locked[flat.Key{Name: words[0], Line: lineOf(words[1])}] = words[1]
		}
	}
	start := 0
	for line := range strings.Lines(string(f.manifest)) {
		words := strings.Fields(line)
		switch {
		case len(words) < 3:
		case words[0] == "patch":
			f.patches[words[1]] = words[2]
		case words[0] == "need":
			name, features := split(words[1])
			at := start + strings.Index(line, " "+words[2]) + 1
			r := model.Requirement{
				Subject: model.Subject{Kind: k.Type(), Name: name}, Name: name, Range: words[2],
				Site: model.Site{File: c.Manifest, Start: at, End: at + len(words[2]), Line: model.LineOf(f.manifest, at), Text: words[2]},
			}
			rng, err := version.NPM{}.ParseRange(words[2])
			if err != nil {
				return nil, err
			}
			for key, text := range f.locked {
				if v, err := (version.NPM{}).Parse(text); err == nil && key.Name == name && rng.Contains(v) {
					r.Locked = text
				}
			}
			if _, marker, ok := strings.Cut(strings.TrimSpace(line), " if "); ok {
				if r.When, err = condition.Parse(marker); err != nil {
					return nil, err
				}
			}
			f.features[name] = features
			c.Requirements = append(c.Requirements, r)
		}
		start += len(line)
	}
	return c, nil
}

func (k keel) Packages(c *model.Component) (all []model.Package) {
	for key, v := range c.Detail.(*keelFiles).locked {
		all = append(all, model.Package{Subject: model.Subject{Kind: k.Type(), Name: key.Name}, Version: v})
	}
	return all
}

// Rewrite writes patches.
func (k keel) Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error) {
	f := c.Detail.(*keelFiles)
	text := string(f.manifest)
	for _, o := range overrides {
		text = strings.ReplaceAll(text, "patch "+o.Name+" "+f.patches[o.Name]+"\n", "")
		if !o.Drop {
			text += "patch " + o.Name + " " + o.Range + "\n"
		}
	}
	return []model.FileEdit{{File: c.Manifest, Old: f.manifest, New: []byte(text)}}, nil
}

func (keel) Stages(c *model.Component) []model.Stage {
	return []model.Stage{{Name: "test", Dir: c.Dir, Command: []string{"sh", "-c", "test -s keel.lock"}}}
}

func (k keel) Connect(context.Context, ecosystem.Surroundings, string) (ecosystem.Registry, error) {
	return keelYard{k.yard}, nil
}

// keelYard is the registry.
type keelYard struct{ ballastYard }

func (y keelYard) Copies(_ context.Context, c *model.Component, name string) (all []model.LockedCopy, err error) {
	for key, v := range c.Detail.(*keelFiles).locked {
		if key.Name == name {
			all = append(all, model.LockedCopy{Version: v, Where: c.LockFiles()})
		}
	}
	return all, nil
}

// direct is the place of what the project asks for itself: it may be in any line, and then that line is there.
const direct = "keel.txt"

// keelIndex is the yard as the resolver asks it.
type keelIndex struct {
	ballastIndex
	files *keelFiles
}

func (i keelIndex) Releases(ctx context.Context, key flat.Key) (all []flat.Release, err error) {
	list, err := i.ballastIndex.Releases(ctx, key)
	for _, r := range list {
		if key.Line == "" || r.Version.Line() == key.Line {
			all = append(all, r)
		}
	}
	return all, err
}

func (i keelIndex) Needs(_ context.Context, key flat.Key, release string) (needs []flat.Need, err error) {
	if key.Place == direct {
		exactly := func(v version.Version) bool { return v.String() == release }
		for _, feature := range append([]string{""}, i.files.features[key.Name]...) {
			own := flat.Key{Name: key.Name, Line: lineOf(release), Extra: feature}
			needs = append(needs, flat.Need{Options: []flat.Option{{Key: own, Allows: exactly}}, Text: own.String() + " " + release})
		}
		return needs, nil
	}
	about := key.Name
	if key.Extra != "" {
		about += "[" + key.Extra + "]"
	}
	for _, text := range i.ballastYard[about+" "+release] {
		what, rng, _ := strings.Cut(text, " ")
		name, features := split(what)
		if patched, is := i.files.patches[name]; is {
			rng, text = patched, text+", which is patched to "+patched
		}
		r, err := version.NPM{}.ParseRange(rng)
		if err != nil {
			return nil, err
		}
		for _, feature := range append([]string{""}, features...) {
			n := flat.Need{Text: text}
			for _, v := range slices.Backward(i.versions(name)) {
				option := flat.Option{Key: flat.Key{Name: name, Line: lineOf(v), Extra: feature}, Allows: r.Contains}
				at, err := version.NPM{}.Parse(v)
				same := func(o flat.Option) bool { return o.Key == option.Key }
				if err == nil && r.Contains(at) && !slices.ContainsFunc(n.Options, same) {
					n.Options = append(n.Options, option)
				}
			}
			needs = append(needs, n)
		}
	}
	return needs, nil
}

func (y keelYard) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	f := ask.Component.Detail.(*keelFiles)
	r := flat.Request{Goal: ask.Goal, Index: keelIndex{ballastIndex{y.ballastYard}, f}, Locked: map[flat.Key]string{}}
	for key, v := range f.locked {
		r.Locked[key] = v
	}
	key := func(q model.Requirement) flat.Key { return flat.Key{Name: q.Name, Place: direct} }
	for _, q := range ask.Component.Requirements {
		rng, err := version.NPM{}.ParseRange(q.Range)
		if err != nil {
			return nil, err
		}
		r.Locked[key(q)] = q.Locked
		r.Roots = append(r.Roots, flat.Root{
			Name: q.Name, Option: flat.Option{Key: key(q), Allows: rng.Contains}, Range: q.Range, Where: q.Site.String(),
		})
	}
	result, err := flat.Resolve(ctx, r)
	if err != nil {
		return nil, err
	}
	moves := result.Moves("ballast", ask.Component.Requirements, key, version.NPM{})
	s := &contract.State{Moves: moves.Moved, Notable: moves.Down}
	for i := range s.Moves {
		s.Moves[i].Place = "" // there is one of each name
	}
	for _, m := range moves.Carried { // lines that a requirement brings are told with it
		if _, asked := f.features[m.Subject.Name]; !asked && !strings.Contains(m.Name, "[") {
			s.Carried = append(s.Carried, m)
		}
	}
	var splices []model.Splice
	for _, m := range s.Moves {
		v, err := version.NPM{}.Parse(m.To)
		if err != nil {
			return nil, err
		}
		splices = append(splices, model.Splice{Site: m.Sites[0], New: version.NPM{}.Restate(m.Sites[0].Text, v)})
	}
	manifest, err := model.Apply(f.manifest, splices)
	if err != nil {
		return nil, err
	}
	lock := ""
	for _, c := range result.Chosen {
		switch {
		case c.Key.Place != "":
		case c.Key.Extra != "":
			lock = strings.TrimSuffix(lock, "\n") + " " + c.Key.Extra + "\n"
		default:
			lock += c.Key.Name + " " + c.Version + "\n"
		}
	}
	for _, e := range []model.FileEdit{
		{File: ask.Component.Manifest, Old: f.manifest, New: manifest}, {File: ask.Component.Locks[0].File, Old: f.lock, New: []byte(lock)},
	} {
		if string(e.Old) != string(e.New) {
			s.Edits = append(s.Edits, e)
		}
	}
	return s, nil
}

// TestInventedLines surveys, routes, refuses, patches, advances and takes back a project of the second hard shape.
func TestInventedLines(t *testing.T) {
	yard := ballastYard{
		"quayside 1.0.0": {"rope ^1"}, "quayside 1.1.0": {"rope ^1"}, "quayside 2.0.0": {"rope[io] ^2", "knot >=2"},
		"tide 1.0.0": {"rope ^1", "knot ^1"},
		"tide 1.1.0": {"rope[tls] ^1", "knot <2"}, "rope 1.0.0": nil, "rope 1.2.0": nil, "rope 2.0.0": nil, "rope[io] 2.0.0": nil,
		"rope[tls] 1.0.0": {"seal ^1"}, "rope[tls] 1.2.0": {"seal ^1"},
		"seal 1.0.0": nil, "knot 1.0.0": nil, "winch 1.0.0": nil, "winch 1.4.0": nil,
	}
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	has := func(name string) string {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(text)
	}
	const manifest = "need quayside ^1.0.0\nneed tide ^1.0.0\nneed winch ^1.0.0 if os == windows\n"
	const lock = "knot 1.0.0\nquayside 1.0.0\nrope 1.0.0\ntide 1.0.0\nwinch 1.0.0\n"
	write("keel.txt", manifest)
	write("keel.lock", lock)
	open := func() *Project {
		p, err := Open(t.Context(), desk.Options{Dir: dir, NoCache: true, Ecosystems: ecosystem.Table{keel{yard: yard}}})
		require.NoError(t, err)
		return p
	}
	ask := func(opt world.Request) (*output.RouteResult, error) {
		p := open()
		return plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, opt)
	}
	advance := func() {
		p := open()
		done, err := carry.Advance(t.Context(), p.Desk, p.Tree, p.Kept, carry.Options{})
		require.NoError(t, err)
		assert.True(t, done.Done)
	}
	p := open()
	s, err := look.Survey(t.Context(), p.Desk, p.Tree, look.SurveyOptions{})
	require.NoError(t, err)
	assert.Equal(t, "os == windows", s.Components[0].Requirements[2].When)

	_, err = ask(world.Request{To: []string{"quayside@^2"}})
	assert.ErrorContains(t, err, "quayside 2 2.0.0 needs knot >=2")
	_, err = ask(world.Request{Override: []string{"knot"}})
	assert.ErrorContains(t, err, "it is not OF:NAME, OF:NAME@RANGE or NAME@RANGE")
	_, err = ask(world.Request{Override: []string{"quayside:knot@^1"}})
	assert.ErrorContains(t, err, "no component whose manifest can have such an override", "there are only patches for all")

	r, err := ask(world.Request{To: []string{"quayside@^2"}, Override: []string{"knot@^1"}})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(r.Legs[0].Overrides), "every package gets knot ^1, whatever it asks for")
	for range r.Legs {
		advance()
	}
	assert.Contains(t, has("keel.txt"), "need quayside ^2.0.0\n")
	assert.Contains(t, has("keel.txt"), "patch knot ^1\n")
	assert.Contains(t, has("keel.lock"), "rope 1.0.0\nrope 2.0.0 io\n", "two lines side by side, with the feature that is asked for")

	r, err = ask(world.Request{Reach: "minor"})
	require.NoError(t, err)
	require.Len(t, r.Legs, 1)
	advance()
	assert.Equal(t, "knot 1.0.0\nquayside 2.0.0\nrope 1.0.0 tls\nrope 2.0.0 io\nseal 1.0.0\ntide 1.1.0\nwinch 1.4.0\n", has("keel.lock"))
	assert.Contains(t, has("keel.txt"), "need winch ^1.4.0 if os == windows")
	_, err = carry.Undo(t.Context(), open().Kept, true)
	require.NoError(t, err)
	assert.Contains(t, has("keel.lock"), "winch 1.0.0\n")
}
