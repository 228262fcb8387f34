// Package layered places the boxes of a directed graph in rows, so that arrows lead down: what leads to what is read from
// top to bottom. No row has more boxes than fit, arrows pass between boxes, and labels have a place of their own (Sugiyama,
// Tagawa, Toda: Methods for Visual Understanding of Hierarchical System Structures, 1981).
package layered

import (
	"cmp"
	"math"
	"slices"
)

// Graph is what is to be placed; boxes go by their index.
type Graph struct {
	Boxes int
	Edges []Edge
}

// Edge is an arrow between two different boxes.
type Edge struct {
	From, To int
	Label    float64 // the width of its label, 0 for none
}

// Measures are in the unit of the result, as pixels.
type Measures struct {
	Across          int     // boxes in a row, at most
	Width, Height   float64 // of a box
	Label           float64 // the height of a label
	Beside, Between float64 // the gaps between neighbours in a row, and between rows
}

// Point is a place; y grows downwards.
type Point struct{ X, Y float64 }

// Layout is a graph with its places, all of them within 0, 0 and Width, Height.
type Layout struct {
	Width, Height float64
	Boxes         []Point // the upper left corners
	Ways          []Way   // of the edges
}

// Way is where an arrow runs.
type Way struct {
	// Points are the ends of its straight parts, two by two, which run up or down; a curve leads from one part to the
	// next. The first and the last are at a box each, with the same point twice.
	Points []Point
	Label  Point // where the text of the label begins: the middle of its left side
}

// Place places a graph. Arrows that close a circle lead up.
func Place(g Graph, m Measures) Layout {
	p := &placing{graph: g, measures: m}
	p.rank()
	p.chain()
	p.order()
	p.align()
	return p.layout()
}

// placing is a graph on its way to a layout. Rows of boxes and rows of labels take turns.
type placing struct {
	graph    Graph
	measures Measures
	up       []bool // edges that close a circle
	dots     []dot
	rows     [][]int // dots from left to right
	chains   [][]int // the dots of each edge, from the upper box to the lower one
}

// dot is a box, or a place that an edge passes.
type dot struct {
	row, at      int     // its row, and which it is there
	x            float64 // the middle of a box; where an edge passes
	left, right  float64 // how far it reaches from there: a label lies on the right
	above, below []int
	box          bool
}

// rank gives each box a row below all that lead to it, the first one with room.
func (p *placing) rank() {
	n := p.graph.Boxes
	out := make([][]int, n) // edges
	for i, e := range p.graph.Edges {
		out[e.From] = append(out[e.From], i)
	}
	p.up = make([]bool, len(p.graph.Edges))
	state := make([]int, n) // 1 begun, 2 done
	var order []int         // what leads to others comes after them
	var visit func(box int)
	visit = func(box int) {
		state[box] = 1
		for _, i := range out[box] {
			switch to := p.graph.Edges[i].To; state[to] {
			case 0:
				visit(to)
			case 1:
				p.up[i] = true
			}
		}
		state[box] = 2
		order = append(order, box)
	}
	for box := range n {
		if state[box] == 0 {
			visit(box)
		}
	}
	slices.Reverse(order)
	first := make([]int, n)
	for _, box := range order {
		for i, e := range p.graph.Edges {
			if from, to := p.ends(i); from == box && e.From != e.To {
				first[to] = max(first[to], first[box]+1)
			}
		}
	}
	// Those whose row is early come first, so that none waits for one that has no room.
	slices.SortStableFunc(order, func(a, b int) int { return first[a] - first[b] })
	var rows [][]int
	for _, box := range order {
		row := first[box]
		for row < len(rows) && len(rows[row]) >= p.measures.Across {
			row++
		}
		for row >= len(rows) {
			rows = append(rows, nil)
		}
		rows[row] = append(rows[row], box)
		first[box] = row
		for i := range p.graph.Edges {
			if from, to := p.ends(i); from == box {
				first[to] = max(first[to], row+1)
			}
		}
	}
	p.dots = make([]dot, n)
	for box := range n {
		p.dots[box] = dot{row: 2 * first[box], left: p.measures.Width / 2, right: p.measures.Width / 2, box: true}
	}
}

// ends are the upper and the lower box of an edge.
func (p *placing) ends(edge int) (from, to int) {
	e := p.graph.Edges[edge]
	if p.up[edge] {
		return e.To, e.From
	}
	return e.From, e.To
}

// chain gives each edge a dot in every row that it passes; that of its label is as wide as the label.
func (p *placing) chain() {
	for i, e := range p.graph.Edges {
		from, to := p.ends(i)
		chain := []int{from}
		for row := p.dots[from].row + 1; row < p.dots[to].row; row++ {
			d := dot{row: row}
			if len(chain) == 1 {
				d.right = e.Label
			}
			chain = append(chain, len(p.dots))
			p.dots = append(p.dots, d)
		}
		chain = append(chain, to)
		for k := range chain[1:] {
			a, b := chain[k], chain[k+1]
			p.dots[a].below, p.dots[b].above = append(p.dots[a].below, b), append(p.dots[b].above, a)
		}
		p.chains = append(p.chains, chain)
	}
	for i, d := range p.dots {
		for d.row >= len(p.rows) {
			p.rows = append(p.rows, nil)
		}
		p.rows[d.row] = append(p.rows[d.row], i)
	}
	p.number()
}

func (p *placing) number() {
	for _, row := range p.rows {
		for at, i := range row {
			p.dots[i].at = at
		}
	}
}

// sweeps are how often rows are put in order, and aligned, by their neighbours above and below.
const sweeps = 12

// order puts rows in order so that few edges cross: each dot at the mean of its neighbours, in turns downwards and upwards.
func (p *placing) order() {
	best, fewest := clone(p.rows), p.crossings()
	for turn := range sweeps {
		p.sweep(turn, func(row []int, neighbours func(d *dot) []int) {
			mean := map[int]float64{}
			for _, i := range row {
				d := &p.dots[i]
				mean[i] = float64(d.at)
				if around := neighbours(d); len(around) > 0 {
					sum := 0
					for _, n := range around {
						sum += p.dots[n].at
					}
					mean[i] = float64(sum) / float64(len(around))
				}
			}
			slices.SortStableFunc(row, func(a, b int) int { return cmp.Compare(mean[a], mean[b]) })
			for at, i := range row {
				p.dots[i].at = at
			}
		})
		if n := p.crossings(); n < fewest {
			best, fewest = clone(p.rows), n
		}
	}
	p.rows = best
	p.number()
}

// sweep visits all rows but the first one downwards with what is above them, or upwards with what is below.
func (p *placing) sweep(turn int, visit func(row []int, neighbours func(d *dot) []int)) {
	if turn%2 == 0 {
		for _, row := range p.rows[min(1, len(p.rows)):] {
			visit(row, func(d *dot) []int { return d.above })
		}
		return
	}
	for k := len(p.rows) - 2; k >= 0; k-- {
		visit(p.rows[k], func(d *dot) []int { return d.below })
	}
}

func clone(rows [][]int) [][]int {
	all := make([][]int, len(rows))
	for i, row := range rows {
		all[i] = slices.Clone(row)
	}
	return all
}

// crossings are how often edges cross.
func (p *placing) crossings() (n int) {
	for _, row := range p.rows {
		var passed []int // where those edges end that begin further left
		for _, i := range row {
			for _, to := range p.dots[i].below {
				for _, before := range passed {
					if before > p.dots[to].at {
						n++
					}
				}
			}
			for _, to := range p.dots[i].below {
				passed = append(passed, p.dots[to].at)
			}
		}
	}
	return n
}

// gap is what lies between the places of two neighbours.
func (p *placing) gap(left, right int) float64 {
	return p.dots[left].right + p.measures.Beside + p.dots[right].left
}

// align moves the dots of each row towards their neighbours above and below, as near as their widths allow, and no further
// to the sides than the row with the most in it reaches.
func (p *placing) align() {
	wide := 0.0
	for _, row := range p.rows {
		if len(row) == 0 { // no edge passes between two rows of boxes
			continue
		}
		x := p.dots[row[0]].left
		for at, i := range row {
			if at > 0 {
				x += p.gap(row[at-1], i)
			}
			p.dots[i].x = x
		}
		wide = max(wide, x+p.dots[row[len(row)-1]].right)
	}
	for turn := range sweeps {
		p.sweep(turn, func(row []int, neighbours func(d *dot) []int) {
			wanted := make([]float64, len(row))
			for at, i := range row {
				d := &p.dots[i]
				wanted[at] = d.x
				if around := neighbours(d); len(around) > 0 {
					sum := 0.0
					for _, n := range around {
						sum += p.dots[n].x
					}
					wanted[at] = sum / float64(len(around))
				}
			}
			p.settle(row, wanted, wide)
		})
	}
}

// settle places a row as near as can be to what is wanted, by least squares, within a width, and keeps the order and the
// gaps: without the gaps it is a regression that never falls (Ayer and others: An Empirical Distribution Function for
// Sampling with Incomplete Information, 1955).
func (p *placing) settle(row []int, wanted []float64, wide float64) {
	if len(row) == 0 {
		return
	}
	type pool struct {
		sum   float64
		count int
	}
	var pools []pool
	offset := make([]float64, len(row))
	for at := range row {
		if at > 0 {
			offset[at] = offset[at-1] + p.gap(row[at-1], row[at])
		}
		next := pool{wanted[at] - offset[at], 1}
		for len(pools) > 0 && pools[len(pools)-1].sum/float64(pools[len(pools)-1].count) > next.sum/float64(next.count) {
			last := pools[len(pools)-1]
			next.sum, next.count = next.sum+last.sum, next.count+last.count
			pools = pools[:len(pools)-1]
		}
		pools = append(pools, next)
	}
	first, last := p.dots[row[0]].left, wide-p.dots[row[len(row)-1]].right-offset[len(row)-1]
	at := 0
	for _, one := range pools {
		for range one.count {
			p.dots[row[at]].x = min(max(one.sum/float64(one.count), first), last) + offset[at]
			at++
		}
	}
}

// layout reads the places off.
func (p *placing) layout() (l Layout) {
	left := math.Inf(1)
	for i := range p.dots {
		left = min(left, p.dots[i].x-p.dots[i].left)
	}
	for i := range p.dots {
		p.dots[i].x -= left
		l.Width = max(l.Width, p.dots[i].x+p.dots[i].right)
	}
	tops, high := make([]float64, len(p.rows)), make([]float64, len(p.rows))
	for k, row := range p.rows {
		if k > 0 {
			tops[k] = tops[k-1] + high[k-1] + p.measures.Between
		}
		for _, i := range row {
			switch d := p.dots[i]; {
			case d.box:
				high[k] = p.measures.Height
			case d.right > 0:
				high[k] = max(high[k], p.measures.Label)
			}
		}
		l.Height = tops[k] + high[k]
	}
	for _, d := range p.dots[:p.graph.Boxes] {
		l.Boxes = append(l.Boxes, Point{d.x - d.left, tops[d.row]})
	}
	below, above := p.ports(func(d *dot) []int { return d.below }), p.ports(func(d *dot) []int { return d.above })
	for i, chain := range p.chains {
		from, to := chain[0], chain[len(chain)-1]
		start := Point{below[[2]int{from, chain[1]}], tops[p.dots[from].row] + high[p.dots[from].row]}
		end := Point{above[[2]int{to, chain[len(chain)-2]}], tops[p.dots[to].row]}
		way := Way{Points: []Point{start, start}}
		for _, k := range chain[1 : len(chain)-1] {
			d := p.dots[k]
			if high[d.row] == 0 { // a row without labels only adds to the gap
				continue
			}
			way.Points = append(way.Points, Point{d.x, tops[d.row]}, Point{d.x, tops[d.row] + high[d.row]})
			if d.right > 0 {
				way.Label = Point{d.x, tops[d.row] + high[d.row]/2}
			}
		}
		way.Points = append(way.Points, end, end)
		if p.up[i] {
			slices.Reverse(way.Points)
		}
		l.Ways = append(l.Ways, way)
	}
	return l
}

// ports are the places along the boxes' sides where edges begin or end, by the box and the dot next to it: as many as there
// are edges, in the order in which these lie.
func (p *placing) ports(side func(d *dot) []int) map[[2]int]float64 {
	ports := map[[2]int]float64{}
	for i := range p.dots[:p.graph.Boxes] {
		d := &p.dots[i]
		next := slices.Clone(side(d))
		slices.SortStableFunc(next, func(a, b int) int { return p.dots[a].at - p.dots[b].at })
		width := d.left + d.right
		step := min(width*0.7/float64(max(len(next), 1)), width/6)
		for k, n := range next {
			ports[[2]int{i, n}] = d.x + step*(float64(k)-float64(len(next)-1)/2)
		}
	}
	return ports
}
