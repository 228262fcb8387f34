// Package merge merges two changes of one text, line by line: what only one side changed is taken, what both changed
// alike is taken once, and what both changed differently is a conflict (Khanna, Kunal, Pierce: A Formal Investigation of
// Diff3).
package merge

import (
	"slices"
	"strings"
)

// Side says who changed a piece of a text.
type Side int

// The sides of a piece.
const (
	Neither  Side = iota // it is as it was
	Ours                 // only we changed it
	Theirs               // only they did
	Alike                // both did, to the same
	Conflict             // both did, differently
)

// Piece is a run of lines, each with its end, in the three texts.
type Piece struct {
	Side               Side
	Base, Ours, Theirs []string
}

// Lines are those of a text, with their ends.
func Lines(text string) []string { return slices.Collect(strings.Lines(text)) }

// Three merges our change of a text and theirs. Changes that touch each other are one piece.
func Three(base, ours, theirs []string) (pieces []Piece) {
	a, b := changes(base, ours), changes(base, theirs)
	at, inOurs, inTheirs := 0, 0, 0 // up to where the texts are told
	same := func(until int) {
		if n := until - at; n > 0 {
			pieces = append(pieces, Piece{Neither, base[at:until], ours[inOurs : inOurs+n], theirs[inTheirs : inTheirs+n]})
			at, inOurs, inTheirs = until, inOurs+n, inTheirs+n
		}
	}
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].end < b[0].start:
			same(a[0].start)
			c := a[0]
			n := c.end - c.start
			pieces = append(pieces, Piece{Ours, base[c.start:c.end], ours[c.from:c.to], theirs[inTheirs : inTheirs+n]})
			at, inOurs, inTheirs, a = c.end, c.to, inTheirs+n, a[1:]
		case len(a) == 0 || b[0].end < a[0].start:
			same(b[0].start)
			c := b[0]
			n := c.end - c.start
			pieces = append(pieces, Piece{Theirs, base[c.start:c.end], ours[inOurs : inOurs+n], theirs[c.from:c.to]})
			at, inOurs, inTheirs, b = c.end, inOurs+n, c.to, b[1:]
		default:
			same(min(a[0].start, b[0].start))
			end := max(a[0].end, b[0].end)
			ourEnd, theirEnd := inOurs+end-at, inTheirs+end-at
			for moved := true; moved; {
				moved = false
				for len(a) > 0 && a[0].start <= end {
					ourEnd += a[0].to - a[0].from - (a[0].end - a[0].start)
					if a[0].end > end {
						ourEnd, theirEnd, end = ourEnd+a[0].end-end, theirEnd+a[0].end-end, a[0].end
					}
					a, moved = a[1:], true
				}
				for len(b) > 0 && b[0].start <= end {
					theirEnd += b[0].to - b[0].from - (b[0].end - b[0].start)
					if b[0].end > end {
						ourEnd, theirEnd, end = ourEnd+b[0].end-end, theirEnd+b[0].end-end, b[0].end
					}
					b, moved = b[1:], true
				}
			}
			p := Piece{Conflict, base[at:end], ours[inOurs:ourEnd], theirs[inTheirs:theirEnd]}
			if slices.Equal(p.Ours, p.Theirs) {
				p.Side = Alike
			}
			pieces = append(pieces, p)
			at, inOurs, inTheirs = end, ourEnd, theirEnd
		}
	}
	same(len(base))
	return pieces
}

// Clean tells whether there is no conflict.
func Clean(pieces []Piece) bool {
	return !slices.ContainsFunc(pieces, func(p Piece) bool { return p.Side == Conflict })
}

// Text is the merged text. Marks names the sides of conflicts, which then stand between the usual markers; without it our
// side of them is taken.
func Text(pieces []Piece, marks *[2]string) string {
	var b strings.Builder
	write := func(lines []string) {
		for _, l := range lines {
			b.WriteString(l)
		}
	}
	whole := func(lines []string) {
		write(lines)
		if n := len(lines); n > 0 && !strings.HasSuffix(lines[n-1], "\n") {
			b.WriteString("\n")
		}
	}
	for _, p := range pieces {
		switch {
		case p.Side == Theirs:
			write(p.Theirs)
		case p.Side == Conflict && marks != nil:
			b.WriteString("<<<<<<< " + marks[0] + "\n")
			whole(p.Ours)
			b.WriteString("=======\n")
			whole(p.Theirs)
			b.WriteString(">>>>>>> " + marks[1] + "\n")
		default:
			write(p.Ours)
		}
	}
	return b.String()
}

// change is that lines start to end of a text became lines from to to of another one.
type change struct{ start, end, from, to int }

// maxEdits bounds how many edits are looked for one by one; texts that differ in more are one change.
const maxEdits = 4000

// changes are those between two texts, by as few edits as there can be (Myers: An O(ND) Difference Algorithm).
func changes(a, b []string) []change {
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	n, m := len(a)-head-tail, len(b)-head-tail
	if n == 0 && m == 0 {
		return nil
	}
	if n == 0 || m == 0 {
		return slid(a, b, []change{{head, head + n, head, head + m}})
	}
	return slid(a, b, shifted(shortest(a[head:head+n], b[head:head+m]), head))
}

func shifted(all []change, by int) []change {
	for i := range all {
		all[i] = change{all[i].start + by, all[i].end + by, all[i].from + by, all[i].to + by}
	}
	return all
}

// slid moves changes that only add or only take away as far down as they go, so that equal ones of two sides are at one
// place.
func slid(a, b []string, all []change) []change {
	for i := len(all) - 1; i >= 0; i-- {
		c := &all[i]
		endA, endB := len(a), len(b)
		if i+1 < len(all) {
			endA, endB = all[i+1].start, all[i+1].from
		}
		adds, takes := c.start == c.end, c.from == c.to
		for c.end < endA && c.to < endB && (adds && b[c.from] == b[c.to] || takes && a[c.start] == a[c.end]) {
			*c = change{c.start + 1, c.end + 1, c.from + 1, c.to + 1}
		}
	}
	joined := all[:0]
	for _, c := range all {
		if n := len(joined); n > 0 && joined[n-1].end == c.start && joined[n-1].to == c.from {
			joined[n-1].end, joined[n-1].to = c.end, c.to
			continue
		}
		joined = append(joined, c)
	}
	return joined
}

// shortest are the changes of the shortest way from a to b.
func shortest(a, b []string) []change {
	n, m := len(a), len(b)
	most := min(n+m, maxEdits)
	v := make([]int, 2*most+2)
	var trace [][]int
	found := false
	for d := 0; d <= most && !found; d++ {
		trace = append(trace, slices.Clone(v[most-d:most+d+2]))
		for k := -d; k <= d; k += 2 {
			var x int
			if k == -d || k != d && v[most+k-1] < v[most+k+1] {
				x = v[most+k+1]
			} else {
				x = v[most+k-1] + 1
			}
			y := x - k
			for x < n && y < m && a[x] == b[y] {
				x, y = x+1, y+1
			}
			v[most+k] = x
			if x >= n && y >= m {
				found = true
				break
			}
		}
	}
	if !found {
		return []change{{0, n, 0, m}}
	}
	var edits []change // single ones, from the end
	x, y := n, m
	for d := len(trace) - 1; d > 0; d-- {
		before := trace[d] // v as it was before round d: before[i] is v[most-d+i]
		of := func(k int) int { return before[k+d] }
		k := x - y
		down := k == -d || k != d && of(k-1) < of(k+1)
		var fromX int
		if down {
			fromX = of(k + 1)
		} else {
			fromX = of(k - 1)
		}
		if down {
			fromY := fromX - (k + 1)
			edits = append(edits, change{fromX, fromX, fromY, fromY + 1})
			x, y = fromX, fromY
		} else {
			fromY := fromX - (k - 1)
			edits = append(edits, change{fromX, fromX + 1, fromY, fromY})
			x, y = fromX, fromY
		}
	}
	slices.Reverse(edits)
	var all []change
	for _, e := range edits {
		if i := len(all) - 1; i >= 0 && all[i].end == e.start && all[i].to == e.from {
			all[i].end, all[i].to = e.end, e.to
			continue
		}
		all = append(all, e)
	}
	return all
}
