package route

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/version"
)

// toolbox has a library, and development tools that nothing wants to meet.
func toolbox(tools int) *harbour {
	h := &harbour{
		at: map[string]string{"hull": "1.0.0"}, releases: map[string][]string{"hull": {"1.0.0", "2.0.0"}},
		peers: map[string]map[string]string{}, needs: map[string]string{},
	}
	for i := range tools {
		name := fmt.Sprintf("tool%02d", i)
		h.at[name], h.releases[name] = "1.0.0", []string{"1.0.0", "2.0.0", "3.0.0"}
	}
	return h
}

func planned(t *testing.T, h *harbour, change func(p *Plan)) (titles []string, notices string) {
	t.Helper()
	p := &Plan{Component: ".", Order: npm, Subjects: h.subjects(), Reach: version.Major}
	for _, s := range p.Subjects {
		s.Development = strings.HasPrefix(s.Name, "tool") || strings.HasPrefix(s.Name, "types-")
	}
	if change != nil {
		change(p)
	}
	legs, told, err := p.Legs(context.Background(), h)
	require.NoError(t, err)
	for _, l := range legs {
		titles = append(titles, fmt.Sprintf("%d: %s", len(l.Moves), l.Title))
	}
	return titles, strings.Join(told, "\n")
}

func TestToolsGoTogether(t *testing.T) {
	titles, _ := planned(t, toolbox(10), nil)
	assert.Equal(t, []string{
		"8: 8 development tools to newer majors: tool00, tool01, tool02 and 5 more",
		"2: 2 development tools to newer majors: tool08, tool09", "1: hull to 2",
	}, titles)
	titles, _ = planned(t, toolbox(4), func(p *Plan) { p.Few = 3 })
	assert.Equal(t, "3: 3 development tools to newer majors: tool00, tool01, tool02", titles[0])
	assert.Equal(t, "1: tool03 to 3", titles[len(titles)-1], "one alone is no bundle")
	titles, _ = planned(t, toolbox(2), func(p *Plan) { p.Stepwise = true })
	assert.Equal(t, []string{"1: hull to 2", "1: tool00 to 2", "1: tool00 to 3", "1: tool01 to 2", "1: tool01 to 3"}, titles)
}

func TestToolsThatOthersWantToMeet(t *testing.T) {
	h := toolbox(3)
	h.peers["tool01 1.0.0"] = map[string]string{"tool00": "^1"}
	h.peers["tool01 2.0.0"] = map[string]string{"tool00": "^2"}
	h.peers["tool01 3.0.0"] = map[string]string{"tool00": "^3"}
	titles, _ := planned(t, h, nil)
	assert.Equal(t, []string{"2: tool00 to 2", "2: tool00 to 3", "1: hull to 2", "1: tool02 to 3"}, titles)
}

func TestNobodyAskedForARuntime(t *testing.T) {
	h := toolbox(3)
	h.needs["hull 2.0.0"] = "runtime 9, and 8 is stated"
	h.needs["tool01 3.0.0"] = "runtime 9, and 8 is installed"
	titles, notices := planned(t, h, nil)
	assert.Equal(t, []string{"2: 2 development tools to newer majors: tool00, tool02", "1: tool01 to 2"}, titles)
	assert.Contains(t, notices, "hull stays at 1.0.0 and does not go to 2: hull 2.0.0 needs runtime 9, and 8 is stated")
	assert.Contains(t, notices, "tool01 stays at 2.0.0 and does not go to 3: tool01 3.0.0 needs runtime 9, and 8 is installed")

	h = toolbox(0)
	h.needs["hull 2.0.0"] = "runtime 9, and 8 is stated"
	titles, _ = planned(t, h, func(p *Plan) { p.Reach, p.Wishes = version.Stay, wish("hull@^2") })
	assert.Equal(t, []string{"1: hull to 2"}, titles, "what is asked for by name goes")

	h = toolbox(1)
	h.at["tool00"], h.releases["tool00"] = "1.0.0", []string{"1.0.0", "1.1.0"}
	h.releases["hull"] = []string{"1.0.0", "1.5.0"}
	h.needs["hull 1.5.0"] = "runtime 9, and 8 is stated"
	titles, notices = planned(t, h, func(p *Plan) { p.Reach = version.Minor })
	assert.Equal(t, []string{"1: refresh within the majors that are in use"}, titles, "the rest of a refresh goes on")
	assert.Contains(t, notices, "hull stays at 1.0.0: hull 1.5.0 needs runtime 9, and 8 is stated")
}

func TestDescriptionsFollow(t *testing.T) {
	decks := func() *harbour {
		h := toolbox(0)
		h.at["deck"], h.releases["deck"] = "1.0.0", []string{"1.0.0", "2.0.0"}
		h.at["types-deck"], h.releases["types-deck"] = "1.0.3", []string{"1.0.3", "2.0.1"}
		h.peers["deck 1.0.0"], h.peers["deck 2.0.0"] = map[string]string{"hull": "^1"}, map[string]string{"hull": "^2"}
		return h
	}
	family := func(p *Plan) {
		for _, s := range p.Subjects {
			if s.Name == "deck" {
				s.Family = []string{"types-deck"}
			}
		}
	}
	titles, _ := planned(t, decks(), family)
	assert.Equal(t, []string{"3: hull to 2"}, titles)
	// One that is stated exactly stays in a refresh, and is of no use beside another major.
	titles, _ = planned(t, decks(), func(p *Plan) {
		family(p)
		p.Subjects[len(p.Subjects)-1].Exact = true
		p.Reach, p.Wishes = version.Stay, wish("hull@^2")
	})
	assert.Equal(t, []string{"3: hull to 2"}, titles)
}

func TestUnfinishedLinesArePassed(t *testing.T) {
	h := toolbox(0)
	h.at["hull"], h.releases["hull"] = "0.1.0", []string{"0.1.0", "0.2.0", "0.3.0", "1.0.0", "2.0.0"}
	for i, name := range []string{"deck", "mast", "sail"} {
		h.at[name], h.releases[name] = "1.0.0", []string{"1.0.0", "2.0.0"}
		h.peers[name+" 1.0.0"] = map[string]string{"hull": "<2"}
		h.peers[name+" 2.0.0"] = map[string]string{"hull": fmt.Sprintf(">=%d", min(i, 1))}
	}
	titles, _ := planned(t, h, nil)
	assert.Equal(t, []string{"1: hull to 0.3", "1: hull to 1", "4: hull to 2"}, titles)
}
