package route

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

var npm = version.NPM{}

// harbour is a world of a few packages with peers, solved by the real solver.
type harbour struct {
	at       map[string]string
	releases map[string][]string
	peers    map[string]map[string]string // "router 2.0.0" → frame → range
	needs    map[string]string            // what releases need and do not get
}

func (h *harbour) Solve(ctx context.Context, goal contract.Goal) (*contract.State, error) {
	p := &solve.Problem{}
	var names []string
	for name := range h.at {
		names = append(names, name)
	}
	slices.Sort(names)
	parse := func(text string) version.Version {
		v, err := npm.Parse(text)
		if err != nil {
			panic(err)
		}
		return v
	}
	for _, name := range names {
		id := p.Subject(name, h.releases[name])
		bound := goal.Bounds[name]
		at := parse(h.at[name])
		p.Require(id, p.Pick(id, func(c int) bool {
			v := parse(h.releases[name][c])
			if bound.Allow != nil {
				return bound.Allow(v)
			}
			return v.Compare(at) >= 0
		}), func() string { return cmp.Or(bound.Why, name+" is bounded") })
		if !bound.Newest {
			p.Prefer(id, []int{slices.Index(h.releases[name], h.at[name])})
		}
		if slices.Contains(goal.First, name) {
			p.Rank(id, -1)
		}
	}
	for id, name := range names {
		for c, rel := range h.releases[name] {
			for peer, text := range h.peers[name+" "+rel] {
				rng, err := npm.ParseRange(text)
				if err != nil {
					return nil, err
				}
				t := solve.ID(slices.Index(names, peer))
				p.Imply(solve.ID(id), p.Pick(solve.ID(id), func(i int) bool { return i == c }), t,
					p.Pick(t, func(i int) bool { return rng.Contains(parse(h.releases[peer][i])) }),
					func() string { return fmt.Sprintf("%s %s needs %s %s", name, rel, peer, text) })
			}
		}
	}
	solution, err := p.Solve(ctx)
	if err != nil {
		return nil, err
	}
	state := &contract.State{}
	for i, name := range names {
		if to := h.releases[name][solution[i]]; to != h.at[name] {
			state.Moves = append(state.Moves, model.Move{Name: name, From: h.at[name], To: to})
		}
	}
	return state, nil
}

func (h *harbour) Take(state *contract.State) error {
	for _, m := range state.Moves {
		h.at[m.Name] = m.To
	}
	return nil
}

func (h *harbour) Unmet(_ context.Context, s *contract.State) (all []Unmet, _ error) {
	for _, m := range s.Moves {
		if text := h.needs[m.Name+" "+m.To]; text != "" {
			all = append(all, Unmet{Name: m.Name, Text: m.Name + " " + m.To + " needs " + text})
		}
	}
	return all, nil
}

func (h *harbour) subjects() []*Subject {
	var all []*Subject
	for name, at := range h.at {
		s := &Subject{Name: name}
		s.At, _ = npm.Parse(at)
		for _, text := range h.releases[name] {
			v, _ := npm.Parse(text)
			s.Releases = append(s.Releases, v)
			for peer := range h.peers[name+" "+text] {
				s.Peers = append(s.Peers, peer)
			}
		}
		all = append(all, s)
	}
	slices.SortFunc(all, func(a, b *Subject) int { return strings.Compare(a.Name, b.Name) })
	return all
}

func ferries() *harbour {
	return &harbour{
		at: map[string]string{"frame": "1.0.0", "router": "1.0.0", "ui": "1.0.0", "date": "1.0.0", "tool": "1.0.0"},
		releases: map[string][]string{
			"frame":  {"1.0.0", "1.2.0", "2.0.0", "3.0.0", "3.1.0"},
			"router": {"1.0.0", "2.0.0", "3.0.0"},
			"ui":     {"1.0.0", "1.9.0"},
			"date":   {"1.0.0", "1.4.0"},
			"tool":   {"1.0.0", "2.0.0", "3.0.0", "4.0.0-rc.1"},
		},
		peers: map[string]map[string]string{
			"router 1.0.0": {"frame": "^1"}, "router 2.0.0": {"frame": "^2"}, "router 3.0.0": {"frame": "^3"},
			"ui 1.0.0": {"frame": "<3"}, "ui 1.9.0": {"frame": ">=3"},
		},
	}
}

// told writes legs as "title: name from>to, …".
func told(legs []model.Leg) []string {
	var all []string
	for _, l := range legs {
		var moves []string
		for _, m := range l.Moves {
			moves = append(moves, fmt.Sprintf("%s %s>%s", m.Name, m.From, m.To))
		}
		all = append(all, l.Title+": "+strings.Join(moves, ", "))
	}
	return all
}

func wish(text string) []Wish {
	name, rng, _ := strings.Cut(text, "@")
	r, err := npm.ParseRange(rng)
	if err != nil {
		panic(err)
	}
	return []Wish{{Name: name, Range: r, Text: text}}
}

func TestOneMajorAtATimeWithWhatCannotStay(t *testing.T) {
	h := ferries()
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Wishes: wish("frame@^3")}
	legs, notices, err := p.Legs(context.Background(), h)
	require.NoError(t, err)
	assert.Empty(t, notices)
	assert.Equal(t, []string{
		"refresh within the majors that are in use: frame 1.0.0>1.2.0",
		"frame to 2: frame 1.2.0>2.0.0, router 1.0.0>2.0.0",
		"frame to 3: frame 2.0.0>3.1.0, router 2.0.0>3.0.0, ui 1.0.0>1.9.0",
	}, told(legs))
	assert.Equal(t, "on the way to frame@^3", legs[1].Moves[0].Because)
	assert.Equal(t, "cannot stay as it is beside frame 2", legs[1].Moves[1].Because)
}

func TestReachMajor(t *testing.T) {
	h := ferries()
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Reach: version.Major}
	legs, _, err := p.Legs(context.Background(), h)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"refresh within the majors that are in use: date 1.0.0>1.4.0, frame 1.0.0>1.2.0",
		"frame to 2: frame 1.2.0>2.0.0, router 1.0.0>2.0.0",
		"frame to 3: frame 2.0.0>3.1.0, router 2.0.0>3.0.0, ui 1.0.0>1.9.0",
		"tool to 3: tool 1.0.0>3.0.0",
	}, told(legs), "what nobody wants to meet goes straight to its newest major, pre-releases left out")
}

func TestHeldAndShunned(t *testing.T) {
	h := ferries()
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Reach: version.Major}
	for _, s := range p.Subjects {
		s.Held = s.Name == "router"
		if s.Name == "tool" {
			s.Shun = func(v version.Version) string {
				if v.String() == "3.0.0" {
					return "it is deprecated"
				}
				return ""
			}
		}
	}
	legs, notices, err := p.Legs(context.Background(), h)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"refresh within the majors that are in use: date 1.0.0>1.4.0, frame 1.0.0>1.2.0",
		"tool to 2: tool 1.0.0>2.0.0",
	}, told(legs))
	assert.Contains(t, strings.Join(notices, "\n"), "frame stays at 1.2.0 and does not go to 3")
	assert.Contains(t, strings.Join(notices, "\n"), "tool stays at 2.0.0 and does not go to 3.0.0: it is deprecated")
}

func TestNoWay(t *testing.T) {
	h := ferries()
	h.releases["router"] = h.releases["router"][:2]
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Wishes: wish("frame@^3")}
	_, _, err := p.Legs(context.Background(), h)
	var conflict *solve.Conflict
	require.ErrorAs(t, err, &conflict)
}

// TestPassingMajors is what decides whether a destination is gone to directly.
func TestPassingMajors(t *testing.T) {
	for _, c := range []struct {
		name  string
		set   func(p *Plan)
		title []string
	}{
		{"nothing wants the majors between", func(*Plan) {}, []string{"tool to 3: tool 1.0.0>3.0.0"}},
		{"it is asked for", func(p *Plan) { p.Stepwise = true }, []string{"tool to 2: tool 1.0.0>2.0.0", "tool to 3: tool 2.0.0>3.0.0"}},
		{"a rule wants it", func(p *Plan) {
			for _, s := range p.Subjects {
				if s.Name == "tool" {
					s.Stepwise = "its data are moved step by step"
				}
			}
		}, []string{"tool to 2: tool 1.0.0>2.0.0", "tool to 3: tool 2.0.0>3.0.0"}},
	} {
		h := ferries()
		p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Wishes: wish("tool@^3")}
		c.set(p)
		legs, _, err := p.Legs(context.Background(), h)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.title, told(legs), c.name)
	}
}

// TestUnstableGround has a loader whose majors in the middle do not go, one that can go
// to its newest at once, and companions of a core that another package holds.
func TestUnstableGround(t *testing.T) {
	h := &harbour{
		at: map[string]string{"bundle": "4.0.0", "loader": "1.1.0", "core": "1.0.0", "draw": "1.0.0", "old": "1.0.0", "lone": "1.0.0"},
		releases: map[string][]string{
			"bundle": {"4.0.0"}, "loader": {"1.1.0", "2.0.0", "6.2.0", "7.0.0"}, "old": {"1.0.0"},
			"core": {"1.0.0", "2.0.0"}, "draw": {"1.0.0", "2.0.0"}, "lone": {"1.0.0", "2.0.0", "3.0.0", "4.0.0"},
		},
		peers: map[string]map[string]string{
			"loader 1.1.0": {"bundle": "*"}, "loader 2.0.0": {"bundle": "^3"}, "loader 6.2.0": {"bundle": "^4"}, "loader 7.0.0": {"bundle": "^5"},
			"draw 1.0.0": {"core": "^1"}, "draw 2.0.0": {"core": "^2"}, "old 1.0.0": {"core": "^1", "lone": "*"},
		},
	}
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Reach: version.Major}
	legs, notices, err := p.Legs(context.Background(), h)
	require.NoError(t, err)
	assert.Equal(t, []string{"lone to 4: lone 1.0.0>4.0.0", "loader to 6: loader 1.1.0>6.2.0"}, told(legs))
	assert.Equal(t, []string{
		"core (at 1.0.0, not 2) and draw (at 1.0.0, not 2) stay behind: old is bounded; old 1.0.0 needs core ^1",
		"loader stays at 6.2.0 and does not go to 7: loader 7.0.0 needs bundle ^5",
	}, notices)
}

// TestStepwiseCompanions takes along what would skip a major.
func TestStepwiseCompanions(t *testing.T) {
	h := &harbour{
		at:       map[string]string{"core": "1.0.0", "draw": "1.0.0"},
		releases: map[string][]string{"core": {"1.0.0", "2.0.0"}, "draw": {"1.0.0", "2.0.0", "3.0.0"}},
		peers:    map[string]map[string]string{"draw 1.0.0": {"core": "^1"}, "draw 2.0.0": {"core": "^1"}, "draw 3.0.0": {"core": "^2"}},
	}
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Wishes: wish("core@^2"), Stepwise: true}
	legs, _, err := p.Legs(context.Background(), h)
	require.NoError(t, err)
	assert.Equal(t, []string{"draw to 2: draw 1.0.0>2.0.0", "core to 2: core 1.0.0>2.0.0, draw 2.0.0>3.0.0"}, told(legs))
}

// TestFewAndWhy splits what only refreshes, and says why legs are as they are.
func TestFewAndWhy(t *testing.T) {
	h := ferries()
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Reach: version.Minor, Few: 1, Explain: true, Wishes: wish("frame@^3")}
	legs, _, err := p.Legs(context.Background(), h)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"refresh frame: frame 1.0.0>1.2.0",
		"refresh date: date 1.0.0>1.4.0",
		"frame to 2: frame 1.2.0>2.0.0, router 1.0.0>2.0.0",
		"frame to 3: frame 2.0.0>3.1.0, router 2.0.0>3.0.0, ui 1.0.0>1.9.0",
	}, told(legs))
	assert.Equal(t, []string{
		"frame is to pass through 2 on the way to frame@^3, since router goes with it step by step",
		"router moves along: router 1.0.0 needs frame ^1",
		"in this place: after what could be made ready for it",
	}, legs[2].Why)
}
