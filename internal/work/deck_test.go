package work

import (
	"cmp"
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

// deck is an ecosystem of the hard shape, to see what one needs: environments with a lock each, several manifests, markers, extras,
// and a shared place of versions. Its manifests have lines
//
//	for ENVIRONMENT…
//	state NAME RANGE
//	need NAME[EXTRA] RANGE|$NAME [if CONDITION]
//	include FILE
type deck struct {
	ballast
	yard ballastYard
}

func (deck) Kind() string                { return "deck" }
func (deck) Type() string                { return "ballast" } // its packages are ballast's
func (deck) Manifests() []string         { return []string{"deck.txt"} }
func (deck) Supports() ecosystem.Support { return ecosystem.Support{Places: true} }

func (d deck) Detect(x *ecosystem.Index) (dirs []string, err error) {
	for _, file := range x.Named(d.Manifests(), func(string) bool { return false }) {
		dirs = append(dirs, path.Dir(file))
	}
	return dirs, nil
}

// deckNeed is a line that asks for a package.
type deckNeed struct {
	name, extra string
	when        condition.Expr
	site        model.Site
}

// deckFiles is what was read.
type deckFiles struct {
	texts        map[string][]byte
	environments []string
	needs        []deckNeed
	states       map[string]model.Site
	locked       map[string]map[string]string // by environment
	of           map[model.DeclarationID]int  // which need a declaration is of
	in           map[model.DeclarationID]string
}

func (f *deckFiles) read(fsys fs.FS, file string) error {
	src, err := fs.ReadFile(fsys, file)
	if err != nil {
		return err
	}
	f.texts[file] = src
	start := 0
	for line := range strings.Lines(string(src)) {
		site := func(text string) model.Site {
			at := start + strings.Index(line, text)
			return model.Site{File: file, Start: at, End: at + len(text), Line: model.LineOf(src, at), Text: text}
		}
		words := strings.Fields(line)
		switch {
		case len(words) < 2:
		case words[0] == "for":
			f.environments = words[1:]
		case words[0] == "state":
			f.states[words[1]] = site(words[2])
		case words[0] == "include":
			if err := f.read(fsys, path.Join(path.Dir(file), words[1])); err != nil {
				return err
			}
		case words[0] == "need":
			n := deckNeed{site: site(words[2])}
			n.name, n.extra, _ = strings.Cut(strings.TrimSuffix(words[1], "]"), "[")
			if _, marker, ok := strings.Cut(strings.TrimSpace(line), " if "); ok {
				if n.when, err = condition.Parse(marker); err != nil {
					return err
				}
			}
			f.needs = append(f.needs, n)
		}
		start += len(line)
	}
	return nil
}

// holds tells whether a condition does in an environment.
func holds(when condition.Expr, environment string) bool {
	return when == nil || when.Eval(func(t condition.Term) condition.Truth { return t.Compared(environment, nil) }) == condition.True
}

func (d deck) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	f := &deckFiles{
		texts: map[string][]byte{}, states: map[string]model.Site{}, locked: map[string]map[string]string{},
		of: map[model.DeclarationID]int{}, in: map[model.DeclarationID]string{},
	}
	c := &model.Component{Kind: d.Kind(), Type: d.Type(), Dir: dir, Manifest: path.Join(dir, "deck.txt"), Detail: f}
	if err := f.read(x.FS, c.Manifest); err != nil {
		return nil, err
	}
	for _, environment := range f.environments {
		file := path.Join(dir, environment+".lock")
		text, err := fs.ReadFile(x.FS, file)
		if err != nil {
			return nil, err
		}
		f.texts[file], f.locked[environment] = text, map[string]string{}
		c.Locks = append(c.Locks, model.Lock{File: file})
		for line := range strings.Lines(string(text)) {
			name, v, _ := strings.Cut(strings.TrimSpace(line), " ")
			f.locked[environment][name] = v
		}
		for i, n := range f.needs {
			if !holds(n.when, environment) {
				continue
			}
			if shared, is := strings.CutPrefix(n.site.Text, "$"); is {
				n.site = f.states[shared]
			}
			r := model.Requirement{
				ID: model.Declaration(n.site.File+"#"+environment, n.name), Subject: model.Subject{Kind: d.Type(), Name: n.name}, Name: n.name,
				Range: n.site.Text, Site: n.site, When: n.when, Locked: f.locked[environment][n.name],
			}
			f.of[r.ID], f.in[r.ID] = i, environment
			c.Requirements = append(c.Requirements, r)
		}
	}
	return c, nil
}

func (d deck) Packages(c *model.Component) (all []model.Package) {
	for _, locked := range c.Detail.(*deckFiles).locked {
		for name, v := range locked {
			all = append(all, model.Package{Subject: model.Subject{Kind: d.Type(), Name: name}, Version: v})
		}
	}
	return all
}

func (deck) Stages(c *model.Component) []model.Stage {
	return []model.Stage{{Name: "test", Dir: c.Dir, Command: []string{"sh", "-c", "test -s upper.lock"}}}
}

func (d deck) Connect(context.Context, ecosystem.Surroundings, string) (ecosystem.Registry, error) {
	return deckYard{d.yard}, nil
}

// deckYard is the registry: what "quayside 1.0.0" needs, as "hawser ^1 if deck == upper"; "quayside[tls] 1.0.0" is what its extra
// needs.
type deckYard struct{ ballastYard }

func (y deckYard) Copies(_ context.Context, c *model.Component, name string) (all []model.LockedCopy, err error) {
	for environment, locked := range c.Detail.(*deckFiles).locked {
		if v := locked[name]; v != "" {
			all = append(all, model.LockedCopy{Version: v, Where: environment})
		}
	}
	return all, nil
}

// deckIndex is the yard for one environment.
type deckIndex struct {
	ballastIndex
	environment string
}

func (i deckIndex) Needs(_ context.Context, key flat.Key, release string) (needs []flat.Need, err error) {
	for _, text := range i.ballastYard[key.String()+" "+release] {
		want, marker, _ := strings.Cut(text, " if ")
		when, err := condition.Parse(marker)
		if err != nil {
			return nil, err
		}
		name, rng, _ := strings.Cut(want, " ")
		r, err := version.NPM{}.ParseRange(rng)
		if err != nil {
			return nil, err
		}
		if holds(when, i.environment) {
			needs = append(needs, flat.Need{Options: []flat.Option{{Key: flat.Key{Name: name}, Allows: r.Contains}}, Text: want})
		}
	}
	return needs, nil
}

func (y deckYard) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	f := ask.Component.Detail.(*deckFiles)
	s := &contract.State{}
	keys := ask.Keys()
	ranges := map[model.Site][]string{} // what a place has to take, in each environment
	edited := map[string][]byte{}
	for _, environment := range f.environments {
		var here []model.Requirement
		for _, q := range ask.Component.Requirements {
			if f.in[q.ID] == environment {
				here = append(here, q)
			}
		}
		r := flat.Request{Goal: ask.Goal, Index: deckIndex{ballastIndex{y.ballastYard}, environment}, Locked: map[flat.Key]string{}}
		for name, v := range f.locked[environment] {
			r.Locked[flat.Key{Name: name}] = v
		}
		for _, q := range here {
			rng, err := version.NPM{}.ParseRange(q.Range)
			if err != nil {
				return nil, err
			}
			r.Roots = append(r.Roots, flat.Root{
				Name: q.Name, Spoken: keys(q), Range: q.Range, Where: q.Site.String(),
				Option: flat.Option{Key: flat.Key{Name: q.Name}, Allows: rng.Contains},
			})
			if extra := f.needs[f.of[q.ID]].extra; extra != "" {
				key := flat.Key{Name: q.Name, Extra: extra}
				r.Locked[key] = q.Locked
				r.Roots = append(r.Roots, flat.Root{
					Name: q.Name, Spoken: keys(q), Range: q.Range, Where: q.Site.String(), Option: flat.Option{Key: key, Allows: rng.Contains},
				})
			}
		}
		result, err := flat.Resolve(ctx, r)
		if err != nil {
			return nil, err
		}
		of := func(q model.Requirement) flat.Key { return flat.Key{Name: q.Name} }
		moves := result.Moves("ballast", here, of, version.NPM{})
		s.Notable = append(s.Notable, moves.Down...)
		for _, q := range here {
			to := result.Of(of(q)).Version
			v, err := version.NPM{}.Parse(to)
			if err != nil {
				return nil, err
			}
			ranges[q.Site] = append(ranges[q.Site], version.NPM{}.Restate(q.Range, v))
			for _, m := range moves.Moved {
				m = m.At(keys(q))
				same := func(o model.Move) bool { return o.Key() == m.Key() && o.From == m.From && o.To == m.To }
				if m.Name == q.Name && !slices.ContainsFunc(s.Moves, same) {
					s.Moves = append(s.Moves, m)
				}
			}
		}
		for _, m := range moves.Carried {
			if !strings.Contains(m.Name, "[") {
				s.Carried = append(s.Carried, m)
			}
		}
		lock := ""
		for _, c := range result.Chosen {
			if c.Key.Extra == "" {
				lock += c.Key.Name + " " + c.Version + "\n"
			}
		}
		edited[path.Join(ask.Component.Dir, environment+".lock")] = []byte(lock)
	}
	splices := map[string][]model.Splice{}
	for site, all := range ranges {
		slices.Sort(all)
		splices[site.File] = append(splices[site.File], model.Splice{Site: site, New: strings.Join(slices.Compact(all), "||")})
	}
	for file, list := range splices {
		text, err := model.Apply(f.texts[file], list)
		if err != nil {
			return nil, err
		}
		edited[file] = text
	}
	for file, text := range edited {
		if string(text) != string(f.texts[file]) {
			s.Edits = append(s.Edits, model.FileEdit{File: file, Old: f.texts[file], New: text})
		}
	}
	slices.SortFunc(s.Edits, func(a, b model.FileEdit) int { return cmp.Compare(a.File, b.File) })
	model.SortMoves(s.Moves)
	return s, nil
}

// TestInventedEnvironments surveys, routes, refuses, advances and takes back a project of the hard shape.
func TestInventedEnvironments(t *testing.T) {
	yard := ballastYard{
		"hawser 1.0.0": nil, "hawser 1.1.0": nil, "hawser 2.0.0": {"rope ^2 if deck == upper"}, "hawser[tls] 1.0.0": {"twine ^1"},
		"hawser[tls] 1.1.0": {"twine ^1.1"}, "hawser[tls] 2.0.0": {"twine ^1.1"},
		"rope 1.0.0": nil, "rope 1.2.0": nil, "rope 2.0.0": nil, "twine 1.0.0": nil, "twine 1.1.0": nil, "sail 1.0.0": nil, "sail 1.3.0": nil,
		"sail 2.0.0": nil, "sail 2.1.0": nil,
	}
	dir := t.TempDir()
	files := map[string]string{
		"deck.txt":   "for upper lower\nstate tackle ^1.0.0\nneed hawser[tls] ^1.0.0 if deck == upper\nneed rope $tackle\ninclude more.txt\n",
		"more.txt":   "need sail ^1.0.0||^2.0.0\nneed hawser ^1.0.0 if deck != upper\n",
		"upper.lock": "hawser 1.0.0\nrope 1.0.0\nsail 1.0.0\ntwine 1.0.0\n", "lower.lock": "hawser 1.0.0\nrope 1.0.0\nsail 2.0.0\n",
	}
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	has := func(name string) string {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(text)
	}
	open := func() *Project {
		p, err := Open(t.Context(), desk.Options{Dir: dir, NoCache: true, Ecosystems: ecosystem.Table{deck{yard: yard}}})
		require.NoError(t, err)
		return p
	}
	moves := func(legs []output.LegResult) (all []string) {
		for _, l := range legs {
			for _, m := range l.Moves {
				all = append(all, fmt.Sprintf("%s %s %s", m.Spoken(), m.From, m.To))
			}
		}
		return all
	}
	p := open()
	s, err := look.Survey(t.Context(), p.Desk, p.Tree, look.SurveyOptions{})
	require.NoError(t, err)
	require.Len(t, s.Components[0].Requirements, 6)
	assert.Equal(t, "deck == upper", s.Components[0].Requirements[0].When)
	assert.Equal(t, "upper.lock, lower.lock", s.Components[0].Lock)

	r, err := plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, world.Request{Reach: "minor"})
	require.NoError(t, err)
	assert.Equal(t, []string{
		"hawser 1.0.0 1.1.0", "rope 1.0.0 1.2.0", "sail in more.txt#upper 1.0.0 1.3.0", "sail in more.txt#lower 2.0.0 2.1.0",
	}, moves(r.Legs), "each environment within its own major")
	done, err := carry.Advance(t.Context(), open().Desk, open().Tree, open().Kept, carry.Options{})
	require.NoError(t, err)
	assert.True(t, done.Done)
	assert.Equal(t, "hawser 1.1.0\nrope 1.2.0\nsail 1.3.0\ntwine 1.1.0\n", has("upper.lock"), "the extra's needs came along")
	assert.Equal(t, "hawser 1.1.0\nrope 1.2.0\nsail 2.1.0\n", has("lower.lock"))

	p = open()
	_, err = plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, world.Request{To: []string{"hawser@^2"}, Hold: []string{"rope"}})
	assert.ErrorContains(t, err, "hawser 2.0.0 needs rope ^2")
	assert.ErrorContains(t, err, "rope is held at 1.2.0")
	r, err = plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, world.Request{To: []string{"more.txt#lower::hawser@^2"}, Hold: []string{"rope"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"hawser in more.txt#lower 1.1.0 2.0.0"}, moves(r.Legs), "where nothing else is needed, it goes")
	done, err = carry.Advance(t.Context(), open().Desk, open().Tree, open().Kept, carry.Options{})
	require.NoError(t, err)
	assert.True(t, done.Done)
	assert.Equal(t, "hawser 2.0.0\nrope 1.2.0\nsail 2.1.0\n", has("lower.lock"))
	assert.Contains(t, has("upper.lock"), "hawser 1.1.0")
	assert.Contains(t, has("more.txt"), "need hawser ^2.0.0 if deck != upper")
	_, err = carry.Undo(t.Context(), open().Kept, true)
	require.NoError(t, err)
	assert.Equal(t, "hawser 1.1.0\nrope 1.2.0\nsail 2.1.0\n", has("lower.lock"))
	assert.Contains(t, has("more.txt"), "need hawser ^1.1.0 if deck != upper")
}
