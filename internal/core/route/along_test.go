package route

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/version"
)

// quay is a world in which what stands side by side has consequences that versions alone do not show.
type quay struct {
	*harbour
	after func(at func(name string) string, s *contract.State)
}

func (q quay) Solve(ctx context.Context, goal contract.Goal) (*contract.State, error) {
	s, err := q.harbour.Solve(ctx, goal)
	if err == nil {
		q.after(func(name string) string {
			for _, m := range s.Moves {
				if m.Name == name {
					return m.To
				}
			}
			return q.at[name]
		}, s)
	}
	return s, err
}

func TestWhatGoesAlong(t *testing.T) {
	front := func() *harbour {
		return &harbour{
			at: map[string]string{"front": "1.0.0", "back": "1.2.0"},
			releases: map[string][]string{
				"front": {"1.0.0", "2.0.0"}, "back": {"1.2.0", "1.3.0", "1.6.0", "2.0.0"},
			},
		}
	}
	legs := func(q quay, change func(p *Plan)) ([]string, []string) {
		p := &Plan{Component: ".", Order: npm, Subjects: q.subjects(), Reach: version.Major}
		if change != nil {
			change(p)
		}
		all, notices, err := p.Legs(context.Background(), q)
		require.NoError(t, err)
		return told(all), notices
	}
	asked := func(p *Plan) { p.Reach, p.Wishes = version.Stay, wish("front@^2") }

	broken := quay{front(), func(at func(string) string, s *contract.State) {
		if at("front") == "2.0.0" && at("back") == "1.2.0" {
			s.Cures = []contract.Cure{{Name: "back", To: "1.3.0"}}
		}
	}}
	titles, _ := legs(broken, asked)
	assert.Equal(t, []string{"front to 2: back 1.2.0>1.3.0, front 1.0.0>2.0.0"}, titles, "to the release that does without, and no further")

	held := quay{front(), broken.after}
	titles, _ = legs(held, func(p *Plan) {
		asked(p)
		p.Subjects[0].Held = true
	})
	assert.Equal(t, []string{"front to 2: front 1.0.0>2.0.0"}, titles, "what is held stays")

	twice := quay{front(), func(at func(string) string, s *contract.State) {
		if (at("front") == "2.0.0") != (at("back") == "2.0.0") {
			s.Doubled = []contract.Double{{Name: "front", Version: "1.0.0", For: []string{"back"}}}
		}
	}}
	titles, _ = legs(twice, asked)
	assert.Equal(t, []string{"front to 2: back 1.2.0>2.0.0, front 1.0.0>2.0.0"}, titles)

	empty := quay{front(), func(at func(string) string, s *contract.State) {
		if at("front") == "2.0.0" && len(s.Moves) > 0 {
			s.Hollow = []contract.Hollow{{Name: "front", Text: "front 2.0.0 has nothing in it any more"}}
		}
	}}
	titles, notices := legs(empty, nil)
	assert.NotContains(t, titles, "front to 2: front 1.0.0>2.0.0", "what has nothing in it is no release to go to by itself")
	assert.Contains(t, notices, "front stays at 1.0.0 and does not go to 2: front 2.0.0 has nothing in it any more")
	empty.harbour = front()
	titles, _ = legs(empty, asked)
	assert.Equal(t, []string{"front to 2: front 1.0.0>2.0.0"}, titles, "who asks for it by name gets it")
}
