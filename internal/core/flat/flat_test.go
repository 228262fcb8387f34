package flat

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/core/want"
)

// harbour is an index of a few packages, all in memory.
type harbour struct {
	releases map[Key][]string
	needs    map[string][]Need // "hawser 1.0.0"
	whole    bool
}

func (h *harbour) Releases(_ context.Context, key Key) ([]Release, error) {
	texts, ok := h.releases[key]
	if !ok {
		return nil, ErrUnknown
	}
	var all []Release
	for _, text := range texts {
		all = append(all, Release{Text: text, Version: parse(text)})
	}
	return all, nil
}

func (h *harbour) Needs(_ context.Context, key Key, release string) ([]Need, error) {
	return h.needs[key.String()+" "+release], nil
}

func (h *harbour) AtHand(Key) bool { return h.whole }

// versions are those of small problems, parsed once.
var versions sync.Map

func parse(text string) version.Version {
	if v, ok := versions.Load(text); ok {
		return v.(version.Version)
	}
	v, err := version.NPM{}.Parse(text)
	if err != nil {
		panic(err)
	}
	versions.Store(text, v)
	return v
}

func in(name, rng string) Option {
	r, err := version.NPM{}.ParseRange(rng)
	if err != nil {
		panic(err)
	}
	return Option{Key: Key{Name: name}, Allows: r.Contains}
}

func root(name, rng string) Root {
	return Root{Name: name, Option: in(name, rng), Range: rng, Where: "hold.txt"}
}

func requires(name, rng string) Need {
	return Need{Options: []Option{in(name, rng)}, Text: name + " " + rng}
}

// said gives a result in a line: "crane 1.0.0, hawser 2.0.0".
func line(r *Result) string {
	var texts []string
	for _, c := range r.Chosen {
		texts = append(texts, c.Key.String()+" "+c.Version)
	}
	return strings.Join(texts, ", ")
}

func TestResolve(t *testing.T) {
	h := &harbour{
		releases: map[Key][]string{
			{Name: "quayside"}: {"1.0.0", "2.0.0"}, {Name: "hawser"}: {"1.0.0", "1.1.0", "2.0.0"}, {Name: "crane"}: {"1.0.0", "2.0.0"},
			{Name: "winch"}: {
				"1.0.0",
			}, {Name: "hawser", Extra: "tls"}: {"1.0.0", "1.1.0", "2.0.0"}, {Name: "knot", Line: "1"}: {"1.0.0"}, {Name: "knot",
				Line: "2"}: {"2.0.0"},
		},
		needs: map[string][]Need{
			"quayside 1.0.0": {requires("hawser", "^1.0.0")},
			"quayside 2.0.0": {
				requires("hawser", "^2.0.0"), {Options: []Option{in("winch", "*"), in("crane", "^2.0.0")}, Text: "winch or crane ^2"},
			},
			"hawser 2.0.0": {
				{Sense: Excludes, Options: []Option{in("crane", "^1.0.0")}, Text: "crane ^1"},
				{Options: []Option{{Key: Key{Name: "knot", Line: "2"}, Allows: in("knot", "^2.0.0").Allows}}, Text: "knot ^2"},
			},
			"hawser[tls] 2.0.0": {
				{Options: []Option{{Key: Key{Name: "knot", Line: "1"}, Allows: in("knot", "^1.0.0").Allows}}, Text: "knot ^1"},
			},
			"winch 1.0.0": {{Sense: IfPresent, Options: []Option{in("crane", "^2.0.0")}, Text: "crane ^2"}},
		},
	}
	newest := func(name, rng string) contract.Goal {
		return contract.Goal{
			Bounds: map[string]contract.Bound{name: {Allow: in(name, rng).Allows, Newest: true, Why: name + "@" + rng + " is asked for"}},
			First:  []string{name},
		}
	}
	locked := map[Key]string{{Name: "quayside"}: "1.0.0", {Name: "hawser"}: "1.0.0", {Name: "crane"}: "1.0.0"}
	for _, c := range []struct {
		what, want string
		r          Request
	}{
		{"what is locked stays", "crane 1.0.0, hawser 1.0.0, quayside 1.0.0",
			Request{Roots: []Root{root("quayside", "^1.0.0"), root("crane", "*")}, Locked: locked}},
		{"without a lock the newest in range", "hawser 1.1.0, quayside 1.0.0", Request{Roots: []Root{root("quayside", "^1.0.0")}}},
		{"or the lowest", "hawser 1.0.0, quayside 1.0.0", Request{Roots: []Root{root("quayside", "^1.0.0")}, Tendency: want.Lowest}},
		{"lines lie side by side, and what is there already meets an alternative", "crane 2.0.0, hawser 2.0.0, knot 2 2.0.0, quayside 2.0.0",
			Request{Roots: []Root{root("quayside", "*"), root("crane", "*")}, Locked: locked, Goal: newest("quayside", "^2.0.0")}},
		{"else the first alternative does", "hawser 2.0.0, knot 2 2.0.0, quayside 2.0.0, winch 1.0.0",
			Request{Roots: []Root{root("quayside", "*")}, Goal: newest("quayside", "^2.0.0")}},
		{"an extra has the version of its package, and needs of its own", "hawser 2.0.0, hawser[tls] 2.0.0, knot 1 1.0.0, knot 2 2.0.0",
			Request{Roots: []Root{{
				Name: "hawser", Option: Option{Key: Key{Name: "hawser", Extra: "tls"}, Allows: in("hawser", "^2.0.0").Allows},
				Range: "^2.0.0", Where: "hold.txt",
			}}}},
		{"what is avoided goes, though it is locked", "crane 1.0.0, hawser 1.1.0, quayside 1.0.0",
			Request{Roots: []Root{root("quayside", "^1.0.0"), root("crane", "*")}, Locked: locked,
				Goal: contract.Goal{Avoid: func(name, v string) bool { return name == "hawser" && v == "1.0.0" }}}},
	} {
		for _, whole := range []bool{false, true} {
			h.whole, c.r.Index = whole, h
			r, err := Resolve(t.Context(), c.r)
			require.NoError(t, err, c.what)
			assert.Equal(t, c.want, line(r), c.what)
		}
	}
	r, err := Resolve(t.Context(), Request{Roots: []Root{root("quayside", "^1.0.0")}, Index: h, Locked: locked})
	require.NoError(t, err)
	assert.Equal(t, []Asker{{"quayside 1.0.0", "hawser ^1.0.0"}}, r.Of(Key{Name: "hawser"}).Askers)
	assert.Nil(t, r.Of(Key{Name: "winch"}))

	held := newest("quayside", "^2.0.0")
	held.Bounds["crane"] = contract.Bound{Allow: in("crane", "1.0.0").Allows, Why: "crane is held at 1.0.0"}
	_, err = Resolve(
		t.Context(),
		Request{Roots: []Root{root("quayside", "*"), root("crane", "^1.0.0")}, Locked: locked, Index: h, Goal: held},
	)
	var conflict *solve.Conflict
	require.ErrorAs(t, err, &conflict)
	for _, said := range []string{
		"quayside@^2.0.0 is asked for", "quayside 2.0.0 needs hawser ^2.0.0", "hawser 2.0.0 does not go with crane ^1",
		"crane is held at 1.0.0",
	} {
		assert.Contains(t, err.Error(), said)
	}
	_, err = Resolve(t.Context(), Request{Roots: []Root{root("ghost", "*")}, Index: h})
	assert.ErrorContains(t, err, "hold.txt asks for ghost *, which the registry does not know")
	_, err = Resolve(t.Context(), Request{Roots: []Root{root("crane", "^9.0.0")}, Index: h})
	assert.ErrorContains(t, err, "no release can be that (the newest is 2.0.0)")
}

// sunken is an index that fails.
type sunken struct{ *harbour }

func (s sunken) Needs(context.Context, Key, string) ([]Need, error) {
	return nil, errors.New("the server is gone")
}

func TestFailingIndex(t *testing.T) {
	h := &harbour{releases: map[Key][]string{{Name: "crane"}: {"1.0.0"}}}
	_, err := Resolve(t.Context(), Request{Roots: []Root{root("crane", "*")}, Index: sunken{h}})
	assert.ErrorContains(t, err, "crane 1.0.0: the server is gone")
	assert.NotErrorAs(t, err, new(*solve.Conflict))
}

// TestAgainstEveryAssignment resolves small random problems, and compares with trying all there
// is: there is a state exactly if there is one, and the one that was found breaks nothing.
func TestAgainstEveryAssignment(t *testing.T) {
	problems := 20000
	if testing.Short() {
		problems = 4000
	}
	solved, refuted := 0, 0
	for seed := range uint64(problems) {
		h, r := smallProblem(seed)
		r.Index = h
		result, err := Resolve(t.Context(), r)
		var conflict *solve.Conflict
		switch {
		case err == nil:
			solved++
			found := map[Key]string{}
			for _, c := range result.Chosen {
				found[c.Key] = c.Version
				if len(c.Askers) == 0 {
					t.Fatalf("seed %d: nobody asks for %s in %s", seed, c.Key, line(result))
				}
			}
			if wrong := broken(h, r, found); wrong != "" {
				t.Fatalf("seed %d: %s in %s", seed, wrong, line(result))
			}
		case errors.As(err, &conflict):
			refuted++
			if state := anyState(h, r); state != nil {
				t.Fatalf("seed %d: %v is a state, and this was proved:\n%s", seed, state, err)
			}
		default:
			t.Fatalf("seed %d: %v", seed, err)
		}
	}
	assert.Greater(t, solved, problems/4)
	assert.Greater(t, refuted, problems/10)
	t.Logf("%d solved, %d refuted", solved, refuted)
}

// smallProblem has a few packages with needs of all senses.
func smallProblem(seed uint64) (*harbour, Request) {
	rng := rand.New(rand.NewPCG(seed, 29))
	h := &harbour{releases: map[Key][]string{}, needs: map[string][]Need{}, whole: rng.IntN(2) == 0}
	n := 2 + rng.IntN(4)
	var keys []Key
	for i := range n {
		key := Key{Name: string(rune('a' + i))}
		if rng.IntN(5) == 0 {
			key.Line = "1"
		}
		keys = append(keys, key)
		for v := range 1 + rng.IntN(3) {
			h.releases[key] = append(h.releases[key], fmt.Sprintf("%d.0.0", v+1))
		}
		if rng.IntN(4) == 0 {
			extra := key
			extra.Extra = "x"
			h.releases[extra] = slices.Clone(h.releases[key])
			keys = append(keys, extra)
		}
	}
	option := func() Option {
		least, most := 1+rng.IntN(3), 1+rng.IntN(3)
		low, high := parse(fmt.Sprintf("%d.0.0", min(least, most))), parse(fmt.Sprintf("%d.0.0", max(least, most)))
		return Option{
			Key:    keys[rng.IntN(len(keys))],
			Allows: func(v version.Version) bool { return v.Compare(low) >= 0 && v.Compare(high) <= 0 },
		}
	}
	for _, key := range keys {
		for _, release := range h.releases[key] {
			for range rng.IntN(3) {
				need := Need{Sense: Sense(rng.IntN(5))}
				if need.Sense > IfPresent {
					need.Sense = Requires
				}
				for range 1 + rng.IntN(2) {
					need.Options = append(need.Options, option())
				}
				need.Text = fmt.Sprintf("need %d", rng.Uint32())
				id := key.String() + " " + release
				h.needs[id] = append(h.needs[id], need)
			}
		}
	}
	r := Request{Locked: map[Key]string{}}
	for _, i := range rng.Perm(len(keys))[:1+rng.IntN(2)] {
		o := option()
		o.Key = keys[i]
		r.Roots = append(r.Roots, Root{Name: keys[i].String(), Option: o, Range: "some", Where: "hold.txt"})
		if rng.IntN(2) == 0 {
			r.Locked[keys[i]] = h.releases[keys[i]][0]
		}
	}
	return h, r
}

// broken tells what a state breaks, "" for nothing. It knows nothing of how states are found.
func broken(h *harbour, r Request, state map[Key]string) string {
	meets := func(o Option) bool { return state[o.Key] != "" && o.Allows(parse(state[o.Key])) }
	for _, root := range r.Roots {
		low := r.Locked[root.Key]
		switch {
		case state[root.Key] == "":
			return root.Name + " is not there"
		case low == "" && !meets(root.Option), low != "" && parse(state[root.Key]).Compare(parse(low)) < 0:
			return root.Name + " is not as it is asked for"
		}
	}
	for key, release := range state {
		if key.Extra != "" && state[Key{Name: key.Name, Line: key.Line}] != release {
			return key.String() + " is apart from its package"
		}
		for _, need := range h.needs[key.String()+" "+release] {
			met := slices.ContainsFunc(need.Options, meets)
			wrong := slices.ContainsFunc(need.Options, func(o Option) bool { return state[o.Key] != "" && !meets(o) })
			if need.Sense == Requires && !met || need.Sense == Excludes && met || need.Sense == IfPresent && wrong {
				return fmt.Sprintf("a need of %s %s is not met", key, release)
			}
		}
	}
	return ""
}

// anyState tries every assignment; nil if none is a state.
func anyState(h *harbour, r Request) map[Key]string {
	var keys []Key
	for key := range h.releases {
		keys = append(keys, key)
	}
	state := map[Key]string{}
	var try func(i int) bool
	try = func(i int) bool {
		if i == len(keys) {
			return broken(h, r, state) == ""
		}
		for _, release := range append([]string{""}, h.releases[keys[i]]...) {
			state[keys[i]] = release
			if release == "" {
				delete(state, keys[i])
			}
			if try(i + 1) {
				return true
			}
		}
		delete(state, keys[i])
		return false
	}
	if try(0) {
		return state
	}
	return nil
}

// BenchmarkLarge resolves 2,000 packages with 50 versions each.
func BenchmarkLarge(b *testing.B) {
	rng := rand.New(rand.NewPCG(7, 7))
	h := &harbour{releases: map[Key][]string{}, needs: map[string][]Need{}, whole: true}
	const packages, versions = 2000, 50
	name := func(i int) string { return fmt.Sprintf("p%04d", i) }
	for i := range packages {
		key := Key{Name: name(i)}
		var to []int
		for range min(4, packages-1-i) {
			to = append(to, i+1+rng.IntN(min(60, packages-1-i)))
		}
		for v := range versions {
			release := fmt.Sprintf("%d.%d.0", 1+v/10, v%10)
			h.releases[key] = append(h.releases[key], release)
			for _, t := range to {
				h.needs[key.String()+" "+release] = append(
					h.needs[key.String()+" "+release],
					requires(name(t), fmt.Sprintf("^%d.0.0", 1+v/10)),
				)
			}
		}
	}
	r := Request{Index: h}
	for i := range 60 {
		r.Roots = append(r.Roots, root(name(i), "*"))
	}
	for b.Loop() {
		result, err := Resolve(b.Context(), r)
		require.NoError(b, err)
		require.Greater(b, len(result.Chosen), 1500)
	}
}
