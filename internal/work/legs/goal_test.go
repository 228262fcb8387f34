package legs_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/npm"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/work"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/legs"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

// spy notes what its registry is asked for.
type spy struct {
	npm.Ecosystem
	asked *[]contract.Goal
}

func (s spy) Connect(ctx context.Context, around ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	r, err := s.Ecosystem.Connect(ctx, around, dir)
	return spied{r, s.asked}, err
}

type spied struct {
	ecosystem.Registry
	asked *[]contract.Goal
}

func (s spied) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	*s.asked = append(*s.asked, ask.Goal)
	return s.Registry.Resolve(ctx, ask)
}

// frame is what a goal lays down besides what moves.
func frame(g contract.Goal) string {
	text := fmt.Sprintf(
		"%v, overrides %v, apart %v, dedupe %v, fixes %v, avoids %v", g.Previews, g.Overrides, g.Apart, g.Dedupe, g.Fixes, g.Avoid != nil,
	)
	for _, r := range g.Rules {
		text += "; " + r.Why
	}
	return text
}

// TestOneGoal makes each kind of leg, and sees that who carries it out, and who tries a part of it, asks for the same as who
// planned it.
func TestOneGoal(t *testing.T) {
	u, err := shorthand.Load("quay 1.0.0\nquay 1.1.0\nquay 2.0.0-rc.1\nrope 1.0.0 twine@1.0.0\nrope 2.0.0 twine@1.0.0\n" +
		"twine 1.0.0\ntwine 1.0.1\nknot 1.0.0 quay@^1\nknot 2.0.0")
	require.NoError(t, err)
	start := t.TempDir()
	put(t, start, "bellwether.yaml", "books: [pier.yaml]\n")
	put(t, start, "pier.yaml", `schema: bellwether/book/1
rules:
  - {id: knots, because: they are tied to it, needs: {when: {npm/knot: ">=2"}, then: {npm/rope: ">=2"}}}
`)
	put(t, start, "package.json", `{"name": "x", "workspaces": ["a", "b"],
"dependencies": {"quay": "1.0.0", "rope": "1.0.0", "twine": "1.0.0"}}`)
	put(t, start, "a/package.json", `{"name": "a", "version": "1.0.0", "dependencies": {"knot": "1.0.0"}}`)
	put(t, start, "b/package.json", `{"name": "b", "version": "1.0.0", "dependencies": {"knot": "1.0.0"}}`)
	put(t, start, ".npmrc", "registry="+serve(t, u.NPM())+"/\n")
	records := t.TempDir()
	put(t, records, "one.json", `{"schema_version": "1.6.0", "id": "PIER-1", "affected": [{"package": {"ecosystem": "npm", "name": "twine"},
"ranges": [{"type": "SEMVER", "events": [{"introduced": "0"}, {"fixed": "1.0.1"}]}]}]}`)
	for name, opt := range map[string]world.Request{
		"a lock":      {Reach: "patch"},
		"a refresh":   {Reach: "minor"},
		"a major":     {Reach: "major"},
		"a wish":      {To: []string{"quay@2.0.0-rc.1"}},
		"one place":   {To: []string{"a/package.json::knot@2"}},
		"fixes":       {Reach: "fix", Advisories: records},
		"an override": {Override: []string{"rope:twine@1.0.1"}},
		"copies":      {Dedupe: true},
		"apart":       {To: []string{"knot@2"}, Apart: []string{"knot"}},
		"without":     {DoWithout: []string{"quay"}},
	} {
		t.Run(name, func(t *testing.T) {
			var asked []contract.Goal
			open := func() *work.Project {
				p, err := work.Open(t.Context(), desk.Options{Dir: start, NoCache: true, Ecosystems: ecosystem.Table{spy{asked: &asked}}})
				require.NoError(t, err)
				return p
			}
			p := open()
			_, err := plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, opt)
			require.NoError(t, err)
			file, err := p.Kept.Route(t.Context(), p.Tree)
			require.NoError(t, err)
			require.NotEmpty(t, file.Legs)
			planned := map[string]bool{}
			for _, g := range asked {
				planned[frame(g)] = true
			}
			p.Tree, err = p.Tree.With(nil)
			require.NoError(t, err)
			tr := p.Tree
			for i := range file.Legs {
				leg := &file.Legs[i]
				d := p.Desk.As(p.Desk.Options.AsOf, file.Preview)
				w, err := world.Of(t.Context(), d, tr, tr.Part(leg.Component))
				require.NoError(t, err)
				whole, err := legs.Goal(t.Context(), d, tr, w, leg, file.Advisories, legs.Part{})
				require.NoError(t, err)
				assert.True(t, planned[frame(whole)], "%s: %s is not one of %v", leg.ID, frame(whole), planned)
				part, err := legs.Goal(t.Context(), d, tr, w, leg, file.Advisories, legs.Part{Only: []int{0}, Free: true, Stays: "it is not tried"})
				require.NoError(t, err)
				assert.Equal(t, frame(whole), frame(part), leg.ID)
				state, err := w.Solve(t.Context(), whole)
				require.NoError(t, err, leg.ID)
				tr, err = tr.With(state.Edits)
				require.NoError(t, err)
				for _, m := range leg.Moves {
					if _, is := m.Pin(); !is && m.To != "" && m.Becomes == "" {
						assert.Equal(t, m.To, tr.Part(leg.Component).LockedAt(m.Key()), "%s: %s", leg.ID, m.Spoken())
					}
				}
			}
		})
	}
	assert.Equal(t, model.DeclarationID("a/package.json::knot"), model.Declaration("a/package.json", "knot"))
}
