package culprit

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lab shows each symptom where all moves of its guilty set are there.
type lab struct {
	guilty  map[string][]int
	broken  func(moves []int) bool // states that cannot be made
	trials  atomic.Int64
	running atomic.Int64
	most    atomic.Int64
}

func (l *lab) try(_ context.Context, moves []int) (Result, error) {
	l.most.Store(max(l.most.Load(), l.running.Add(1)))
	defer l.running.Add(-1)
	if l.broken != nil && l.broken(moves) {
		return Result{}, nil
	}
	l.trials.Add(1)
	r := Result{Resolved: true, Failing: map[string]bool{}}
	for symptom, guilty := range l.guilty {
		r.Failing[symptom] = containsAll(moves, guilty)
	}
	return r, nil
}

func containsAll(set, part []int) bool {
	return !slices.ContainsFunc(part, func(m int) bool { return !slices.Contains(set, m) })
}

func pick(rng *rand.Rand, n, k int) []int {
	set := rng.Perm(n)[:k]
	slices.Sort(set)
	return set
}

// TestTrials sees that culprits of 1 to 3 moves in 5 to 60 are found exactly, in no
// more trials than 2·k·(log₂(n/k)+1)+k on the median, and never more than n².
func TestTrials(t *testing.T) {
	for _, parallel := range []int{1, 2} {
		for k := 1; k <= 3; k++ {
			for n := 5; n <= 60; n += 5 {
				var counts []int
				for seed := range uint64(60) {
					rng := rand.New(rand.NewPCG(seed, uint64(n*10+k)))
					l := &lab{guilty: map[string][]int{"test": pick(rng, n, k)}}
					a, err := Find(t.Context(), Problem{Moves: n, Symptoms: []string{"test"}, Parallel: parallel}, l.try)
					require.NoError(t, err)
					require.Len(t, a.Culprits, 1)
					require.Equal(t, Culprit{Moves: l.guilty["test"], Symptoms: []string{"test"}, Certain: true}, a.Culprits[0])
					require.Len(t, a.Rest, n-1)
					require.Equal(t, int(l.trials.Load()), a.Trials)
					require.LessOrEqual(t, a.Trials, n*n)
					require.LessOrEqual(t, l.most.Load(), int64(parallel))
					counts = append(counts, a.Trials)
				}
				slices.Sort(counts)
				bound := 2*float64(k)*(math.Log2(float64(n)/float64(k))+1) + float64(k)
				assert.LessOrEqual(t, float64(counts[len(counts)/2]), bound, "n %d, k %d, %d at a time", n, k, parallel)
			}
		}
	}
}

func TestOneInThirtyTwo(t *testing.T) {
	for _, parallel := range []int{1, 2} {
		most := 0
		for guilty := range 32 {
			l := &lab{guilty: map[string][]int{"test": {guilty}}}
			a, err := Find(t.Context(), Problem{Moves: 32, Symptoms: []string{"test"}, Parallel: parallel}, l.try)
			require.NoError(t, err)
			require.Equal(t, []int{guilty}, a.Culprits[0].Moves)
			most = max(most, a.Trials)
		}
		assert.LessOrEqual(t, most, 12, "%d at a time", parallel)
	}
}

func TestSeveralSymptoms(t *testing.T) {
	l := &lab{guilty: map[string][]int{"a": {3}, "b": {3}, "c": {1, 7}}}
	a, err := Find(t.Context(), Problem{Moves: 10, Symptoms: []string{"a", "b", "c"}}, l.try)
	require.NoError(t, err)
	assert.Equal(t, []Culprit{
		{Moves: []int{3}, Symptoms: []string{"a", "b"}, Certain: true},
		{Moves: []int{1, 7}, Symptoms: []string{"c"}, Certain: true},
	}, a.Culprits)
	assert.Equal(t, []int{0, 1, 2, 4, 5, 6, 8, 9}, a.Rest)
}

// TestWhatMovesTogether sees that only closed sets are tried, and that what a culprit
// cannot go without is told apart.
func TestWhatMovesTogether(t *testing.T) {
	needs := [][]int{nil, {2}, {1}, {4}, nil, nil} // 1 and 2 need each other, 3 needs 4
	l := &lab{guilty: map[string][]int{"a": {3}, "b": {2}}}
	closed := func(moves []int) bool {
		for _, m := range moves {
			if !containsAll(moves, needs[m]) {
				return false
			}
		}
		return true
	}
	a, err := Find(
		t.Context(),
		Problem{Moves: 6, Needs: needs, Symptoms: []string{"a", "b"}},
		func(ctx context.Context, moves []int) (Result, error) {
			assert.True(t, closed(moves), "%v", moves)
			return l.try(ctx, moves)
		},
	)
	require.NoError(t, err)
	assert.Equal(t, []Culprit{
		{Moves: []int{3}, With: []int{4}, Symptoms: []string{"a"}, Certain: true},
		{Moves: []int{1, 2}, Symptoms: []string{"b"}, Certain: true},
	}, a.Culprits)
	assert.Equal(t, []int{0, 4, 5}, a.Rest)
}

// TestStatesThatCannotBeMade sees that they are passed over; where nothing between can
// be made, the moves cannot be told apart.
func TestStatesThatCannotBeMade(t *testing.T) {
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 5))
		n := 5 + rng.IntN(20)
		guilty := pick(rng, n, 1+rng.IntN(2))
		l := &lab{guilty: map[string][]int{"a": guilty}, broken: func(moves []int) bool {
			h := uint64(14695981039346656037)
			for _, m := range moves {
				h = (h ^ uint64(m) ^ seed) * 1099511628211
			}
			return h%4 == 0
		}}
		a, err := Find(t.Context(), Problem{Moves: n, Symptoms: []string{"a"}, Parallel: 2}, l.try)
		require.NoError(t, err)
		require.Len(t, a.Culprits, 1)
		require.True(t, containsAll(a.Culprits[0].Moves, guilty), "%v is not in %v", guilty, a.Culprits[0].Moves)
		require.LessOrEqual(t, a.Trials, n*n)
	}
	l := &lab{guilty: map[string][]int{"a": {1}}, broken: func(moves []int) bool { return len(moves) < 4 }}
	a, err := Find(t.Context(), Problem{Moves: 4, Symptoms: []string{"a"}}, l.try)
	require.NoError(t, err)
	assert.Equal(t, []Culprit{{Moves: []int{0, 1, 2, 3}, Symptoms: []string{"a"}, Certain: true}}, a.Culprits)
}

func TestUnstable(t *testing.T) {
	n := 0
	a, err := Find(t.Context(), Problem{Moves: 8, Symptoms: []string{"a"}}, func(context.Context, []int) (Result, error) {
		n++
		return Result{Resolved: true, Failing: map[string]bool{"a": n == 1}}, nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"a"}, a.Unstable, "nobody is blamed")
	assert.Empty(t, a.Culprits)
}

func TestBudget(t *testing.T) {
	l := &lab{guilty: map[string][]int{"a": {5}}}
	var told []Known
	a, err := Find(
		t.Context(),
		Problem{Moves: 32, Symptoms: []string{"a"}, Tell: func(k Known) { told = append(told, k) }},
		func(ctx context.Context, moves []int) (Result, error) {
			if l.trials.Load() == 3 {
				return Result{}, ErrSpent
			}
			return l.try(ctx, moves)
		},
	)
	require.NoError(t, err)
	assert.True(t, a.Spent)
	assert.Equal(t, 3, a.Trials)
	require.Len(t, a.Culprits, 1)
	assert.Equal(t, Culprit{Moves: []int{4, 5, 6, 7}, Symptoms: []string{"a"}}, a.Culprits[0], "it is among these")
	assert.Equal(t, []int{4, 5, 6, 7}, told[len(told)-1].Among)

	wrong := errors.New("no room")
	_, err = Find(
		t.Context(), Problem{Moves: 3, Symptoms: []string{"a"}}, func(context.Context, []int) (Result, error) { return Result{}, wrong },
	)
	assert.ErrorIs(t, err, wrong)
}

func TestSplit(t *testing.T) {
	for n := 1; n < 40; n++ {
		for first := range n {
			passes, fails, trials, err := Split(t.Context(), n, func(_ context.Context, step int) (bool, bool, error) {
				return step >= first, step%7 != 3 || step == first-1 || step == first, nil
			})
			require.NoError(t, err)
			require.Equal(t, fmt.Sprint(first-1, first), fmt.Sprint(passes, fails), "of %d", n)
			require.LessOrEqual(t, trials, 2+int(math.Ceil(math.Log2(float64(n)))))
		}
	}
}
