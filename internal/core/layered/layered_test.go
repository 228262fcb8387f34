package layered

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var sizes = Measures{Across: 4, Width: 200, Height: 40, Label: 16, Beside: 20, Between: 30}

func TestPlace(t *testing.T) {
	l := Place(Graph{Boxes: 4, Edges: []Edge{{From: 0, To: 1}, {From: 0, To: 2}, {From: 1, To: 3}, {From: 2, To: 3, Label: 60}}}, sizes)
	assert.Equal(t, l.Boxes[1].Y, l.Boxes[2].Y, "beside each other")
	assert.Less(t, l.Boxes[0].Y, l.Boxes[1].Y)
	assert.Less(t, l.Boxes[2].Y, l.Boxes[3].Y)
	assert.InDelta(t, l.Boxes[0].X, l.Boxes[3].X, 40, "in the middle above and below them")

	assert.Equal(t, Layout{}, Place(Graph{}, sizes))

	long := Graph{Boxes: 11}
	for i := range 10 {
		long.Edges = append(long.Edges, Edge{From: 0, To: i + 1})
	}
	l = Place(long, sizes)
	assert.LessOrEqual(t, l.Width, 4*200+13*20.0, "what does not fit beside the others goes below them")

	circle := Place(Graph{Boxes: 3, Edges: []Edge{{From: 0, To: 1}, {From: 1, To: 2}, {From: 2, To: 0}}}, sizes)
	back := circle.Ways[2].Points
	assert.Greater(t, back[0].Y, back[len(back)-1].Y, "what closes a circle leads up")

	crossed := Graph{Boxes: 4, Edges: []Edge{{From: 0, To: 3}, {From: 1, To: 2}}}
	assert.Zero(t, crossings(Place(crossed, sizes)), "rows are put in another order")
}

// TestPlaceRandomly looks at drawings of random graphs: nothing lies over anything else, and arrows begin and end at their
// boxes.
func TestPlaceRandomly(t *testing.T) {
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		g := Graph{Boxes: 1 + rnd.IntN(24)}
		for range rnd.IntN(2 * g.Boxes) {
			if from, to := rnd.IntN(g.Boxes), rnd.IntN(g.Boxes); from != to {
				g.Edges = append(g.Edges, Edge{From: from, To: to, Label: float64(rnd.IntN(3) * 40)})
			}
		}
		l := Place(g, sizes)
		require.Equal(t, l, Place(g, sizes), "always the same")
		check(t, fmt.Sprintf("seed %d", seed), g, l)
	}
}

func check(t *testing.T, about string, g Graph, l Layout) {
	var taken []area
	inRow := map[float64]int{}
	for _, b := range l.Boxes {
		taken = append(taken, area{b.X, b.Y, sizes.Width, sizes.Height})
		inRow[b.Y]++
		require.LessOrEqual(t, inRow[b.Y], sizes.Across, about)
	}
	for i, e := range g.Edges {
		if e.Label > 0 {
			taken = append(taken, area{l.Ways[i].Label.X, l.Ways[i].Label.Y - sizes.Label/2, e.Label, sizes.Label})
		}
	}
	for i, a := range taken {
		require.True(
			t,
			a.x > -0.01 && a.y > -0.01 && a.x+a.w < l.Width+0.01 && a.y+a.h < l.Height+0.01,
			"%s: %v is within %v %v",
			about,
			a,
			l.Width,
			l.Height,
		)
		for _, b := range taken[:i] {
			require.False(t, a.x < b.x+b.w && b.x < a.x+a.w && a.y < b.y+b.h && b.y < a.y+a.h, "%s: %v lies over %v", about, a, b)
		}
	}
	for i, e := range g.Edges {
		points := l.Ways[i].Points
		require.Zero(t, len(points)%2)
		from, to := l.Boxes[e.From], l.Boxes[e.To]
		start, end := points[0], points[len(points)-1]
		for _, side := range []struct{ p, box Point }{{start, from}, {end, to}} {
			require.True(t, side.p.X > side.box.X && side.p.X < side.box.X+sizes.Width, "%s: at its box", about)
			require.True(t, side.p.Y == side.box.Y || side.p.Y == side.box.Y+sizes.Height, "%s: at its box", about)
		}
		for k := 0; k < len(points); k += 2 { // straight parts pass boxes and labels
			a, b := points[k], points[k+1]
			for _, box := range taken {
				low, high := min(a.Y, b.Y), max(a.Y, b.Y)
				require.False(t, a.X > box.x && a.X < box.x+box.w && low < box.y+box.h && box.y < high, "%s: runs through %v", about, box)
			}
			if k > 0 { // curves lie between rows
				for _, box := range taken {
					low, high := min(points[k-1].Y, a.Y), max(points[k-1].Y, a.Y)
					require.False(t, low < box.y+box.h && box.y < high && box.h == sizes.Height, "%s: a curve beside %v", about, box)
				}
			}
		}
	}
}

type area struct{ x, y, w, h float64 }

// crossings are those of straight lines from end to end.
func crossings(l Layout) (n int) {
	for i, a := range l.Ways {
		for _, b := range l.Ways[:i] {
			if (a.Points[0].X-b.Points[0].X)*(a.Points[len(a.Points)-1].X-b.Points[len(b.Points)-1].X) < 0 {
				n++
			}
		}
	}
	return n
}

func BenchmarkPlace(b *testing.B) {
	rnd := rand.New(rand.NewPCG(1, 1))
	g := Graph{Boxes: 200}
	for i := range 199 {
		g.Edges = append(g.Edges, Edge{From: rnd.IntN(i + 1), To: i + 1, Label: 40})
	}
	for b.Loop() {
		Place(g, sizes)
	}
}
