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

	"bellwether/internal/core/contract"
	"bellwether/internal/core/flat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/carry"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/look"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

// ballast is an ecosystem of its own invention, to see what one needs: a manifest of lines
// "NAME RANGE", a lock of lines "NAME VERSION", and one version of each package.
type ballast struct{ yard ballastYard }

func (ballast) Kind() string                { return "ballast" }
func (ballast) Type() string                { return "ballast" }
func (ballast) Manifests() []string         { return []string{"ballast.txt"} }
func (ballast) Order() version.Order        { return version.NPM{} }
func (ballast) Supports() ecosystem.Support { return ecosystem.Support{} }
func (ballast) Tools() [][]string           { return nil }

func (b ballast) Detect(x *ecosystem.Index) (dirs []string, err error) {
	for _, file := range x.Named(b.Manifests(), func(string) bool { return false }) {
		dirs = append(dirs, path.Dir(file))
	}
	return dirs, nil
}

func (b ballast) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	c := &model.Component{
		Kind: b.Kind(), Type: b.Type(), Dir: dir, Manifest: path.Join(dir, "ballast.txt"),
		Locks: []model.Lock{{File: path.Join(dir, "ballast.lock")}},
	}
	src, err := fs.ReadFile(x.FS, c.Manifest)
	if err != nil {
		return nil, err
	}
	lock, err := fs.ReadFile(x.FS, c.Locks[0].File)
	if err != nil {
		return nil, err
	}
	locked := map[string]string{}
	for line := range strings.Lines(string(lock)) {
		name, v, _ := strings.Cut(strings.TrimSpace(line), " ")
		locked[name] = v
	}
	at := 0
	for line := range strings.Lines(string(src)) {
		name, rng, ok := strings.Cut(strings.TrimSpace(line), " ")
		if ok {
			site := model.Site{
				File: c.Manifest, Start: at + len(name) + 1, End: at + len(name) + 1 + len(rng), Line: model.LineOf(src, at), Text: rng,
			}
			c.Requirements = append(
				c.Requirements,
				model.Requirement{
					Subject: model.Subject{Kind: b.Type(), Name: name},
					Name:    name,
					Range:   rng,
					Site:    site,
					Locked:  locked[name],
				},
			)
		}
		at += len(line)
	}
	c.Detail = ballastFiles{src, lock, locked}
	return c, nil
}

type ballastFiles struct {
	manifest, lock []byte
	locked         map[string]string
}

func (b ballast) Packages(c *model.Component) (all []model.Package) {
	for name, v := range c.Detail.(ballastFiles).locked {
		all = append(all, model.Package{Subject: model.Subject{Kind: b.Type(), Name: name}, Version: v})
	}
	return all
}

func (ballast) Stages(c *model.Component) []model.Stage {
	return []model.Stage{{Name: "test", Dir: c.Dir, Command: []string{"sh", "-c", "test -s ballast.lock"}}}
}

func (b ballast) Connect(context.Context, ecosystem.Surroundings, string) (ecosystem.Registry, error) {
	return b.yard, nil
}

// ballastYard is the registry: what "quayside 1.0.0" needs, as "hawser ^1".
type ballastYard map[string][]string

func (y ballastYard) versions(name string) (all []string) {
	for release := range y {
		if of, v, _ := strings.Cut(release, " "); of == name {
			all = append(all, v)
		}
	}
	slices.Sort(all)
	return all
}

func (y ballastYard) Releases(_ context.Context, s model.Subject) (all []model.Release, err error) {
	for _, v := range y.versions(s.Name) {
		all = append(all, model.Release{Version: v})
	}
	return all, nil
}

func (y ballastYard) Copies(_ context.Context, c *model.Component, name string) ([]model.LockedCopy, error) {
	v, ok := c.Detail.(ballastFiles).locked[name]
	if !ok {
		return nil, nil
	}
	return []model.LockedCopy{{Version: v, Where: c.Locks[0].File}}, nil
}

func (y ballastYard) Families(context.Context, *model.Component) ([][]string, error) { return nil, nil }

// ballastIndex is the yard as the resolver asks it.
type ballastIndex struct{ ballastYard }

func (i ballastIndex) Releases(_ context.Context, key flat.Key) (all []flat.Release, err error) {
	for _, text := range i.versions(key.Name) {
		v, err := version.NPM{}.Parse(text)
		if err != nil {
			return nil, err
		}
		all = append(all, flat.Release{Text: text, Version: v})
	}
	if all == nil {
		return nil, flat.ErrUnknown
	}
	return all, nil
}

func (i ballastIndex) Needs(_ context.Context, key flat.Key, release string) (needs []flat.Need, err error) {
	for _, text := range i.ballastYard[key.Name+" "+release] {
		name, rng, _ := strings.Cut(text, " ")
		r, err := version.NPM{}.ParseRange(rng)
		if err != nil {
			return nil, err
		}
		needs = append(needs, flat.Need{Options: []flat.Option{{Key: flat.Key{Name: name}, Allows: r.Contains}}, Text: text})
	}
	return needs, nil
}

func (y ballastYard) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	files := ask.Component.Detail.(ballastFiles)
	r := flat.Request{Goal: ask.Goal, Index: ballastIndex{y}, Locked: map[flat.Key]string{}}
	for name, v := range files.locked {
		r.Locked[flat.Key{Name: name}] = v
	}
	key := func(q model.Requirement) flat.Key { return flat.Key{Name: q.Subject.Name} }
	for _, q := range ask.Component.Requirements {
		rng, err := version.NPM{}.ParseRange(q.Range)
		if err != nil {
			return nil, err
		}
		r.Roots = append(
			r.Roots,
			flat.Root{Name: q.Name, Option: flat.Option{Key: key(q), Allows: rng.Contains}, Range: q.Range, Where: q.Site.String()},
		)
	}
	result, err := flat.Resolve(ctx, r)
	if err != nil {
		return nil, err
	}
	moves := result.Moves("ballast", ask.Component.Requirements, key, version.NPM{})
	s := &contract.State{Moves: moves.Moved, Carried: moves.Carried, Notable: moves.Down}
	var splices []model.Splice
	for _, m := range s.Moves {
		v, err := version.NPM{}.Parse(m.To)
		if err != nil {
			return nil, err
		}
		splices = append(splices, model.Splice{Site: m.Sites[0], New: version.NPM{}.Restate(m.Sites[0].Text, v)})
	}
	manifest, err := model.Apply(files.manifest, splices)
	if err != nil {
		return nil, err
	}
	lock := ""
	for _, c := range result.Chosen {
		lock += c.Key.Name + " " + c.Version + "\n"
	}
	for _, e := range []model.FileEdit{
		{File: ask.Component.Manifest, Old: files.manifest, New: manifest},
		{File: ask.Component.Locks[0].File, Old: files.lock, New: []byte(lock)},
	} {
		if string(e.Old) != string(e.New) {
			s.Edits = append(s.Edits, e)
		}
	}
	return s, nil
}

// TestInventedEcosystem surveys, routes and advances a project whose ecosystem nobody but this
// test knows: it needs nothing but the contract.
func TestInventedEcosystem(t *testing.T) {
	yard := ballastYard{
		"quayside 1.0.0": {"hawser ^1"}, "quayside 1.1.0": {"hawser ^1.1"}, "quayside 2.0.0": {"hawser ^2", "rope ^1"},
		"hawser 1.0.0": nil, "hawser 1.1.0": nil, "hawser 2.0.0": nil, "rope 1.0.0": nil, "rope 1.5.0": nil,
		"tide 1.0.0": {"hawser ^1"}, "tide 2.0.0": {"hawser ^2", "rope <1.5.0"},
	}
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("ballast.txt", "quayside ^1.0.0\n\ntide ^1.0.0\nrope ^1.0.0\n")
	write("ballast.lock", "hawser 1.0.0\nquayside 1.0.0\nrope 1.5.0\ntide 1.0.0\n")
	open := func() *Project {
		p, err := Open(t.Context(), desk.Options{Dir: dir, NoCache: true, Ecosystems: ecosystem.Table{ballast{yard}}})
		require.NoError(t, err)
		return p
	}
	p := open()
	s, err := look.Survey(t.Context(), p.Desk, p.Tree, look.SurveyOptions{})
	require.NoError(t, err)
	row := s.Components[0].Requirements[0]
	assert.Equal(t, "1.1.0 2.0.0 pkg:ballast/quayside@1.0.0", fmt.Sprint(row.Minor, " ", row.Major, " ", row.PURL))

	_, err = plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, world.Request{To: []string{"quayside@^2"}, Hold: []string{"tide"}})
	assert.ErrorContains(t, err, "quayside 2.0.0 needs hawser ^2")
	assert.ErrorContains(t, err, "tide is held at 1.0.0")
	assert.ErrorContains(t, err, "way out: let tide move, to 2.0.0")

	p = open()
	r, err := plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, world.Request{To: []string{"quayside@^2"}, AllowDown: []string{"rope"}})
	require.NoError(t, err)
	require.Len(t, r.Legs, 2)
	assert.Equal(
		t,
		[]string{
			"rope goes down from 1.5.0 to 1.0.0: ballast.txt:4 asks for ^1.0.0, quayside 2.0.0 asks for rope ^1, tide 2.0.0 asks for rope <1.5.0",
		},
		r.Legs[1].Notes,
	)

	for range r.Legs {
		p = open()
		done, err := carry.Advance(t.Context(), p.Desk, p.Tree, p.Kept, carry.Options{})
		require.NoError(t, err)
		assert.True(t, done.Done)
	}
	manifest, err := os.ReadFile(filepath.Join(dir, "ballast.txt"))
	require.NoError(t, err)
	assert.Equal(t, "quayside ^2.0.0\n\ntide ^2.0.0\nrope ^1.0.0\n", string(manifest))
	lock, err := os.ReadFile(filepath.Join(dir, "ballast.lock"))
	require.NoError(t, err)
	assert.Equal(t, "hawser 2.0.0\nquayside 2.0.0\nrope 1.0.0\ntide 2.0.0\n", string(lock))

	_, err = carry.Undo(t.Context(), open().Kept, true)
	require.NoError(t, err)
	lock, err = os.ReadFile(filepath.Join(dir, "ballast.lock"))
	require.NoError(t, err)
	assert.Contains(t, string(lock), "quayside 1.0.0")
}
