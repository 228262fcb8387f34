package source

import (
	"container/heap"
	"slices"
	"strings"

	"bellwether/internal/core/charset"
)

// nesting is what is found out about a file's tokens in one pass each, so that no question about one of them looks at
// all others.
type nesting struct {
	outer  []int // of each token, the innermost partner before it whose other one is behind it; -1 for none
	around []int // the same of brackets alone
	starts []int // of each token, the first one of its statement; nil before it was asked for
	indent []int // of each line, how many bytes of white space it begins with; -1 before it was asked for
}

// nested finds out what tokens lie in.
func (f *File) nested() *nesting {
	if f.nest != nil {
		return f.nest
	}
	n := &nesting{outer: make([]int, len(f.Said)), around: make([]int, len(f.Said))}
	var open []int
	for i, t := range f.Said {
		for len(open) > 0 && f.Said[open[len(open)-1]].Pair <= i {
			open = open[:len(open)-1]
		}
		n.outer[i], n.around[i] = -1, -1
		if len(open) > 0 {
			n.outer[i] = open[len(open)-1]
			n.around[i] = n.outer[i]
			if !strings.Contains("([{", f.Word(n.outer[i])) {
				n.around[i] = n.around[n.outer[i]]
			}
		}
		if t.Pair > i {
			open = append(open, i)
		}
	}
	f.nest = n
	return n
}

// enclosing is the innermost bracket around a token; -1 for none.
func (f *File) enclosing(i int) int {
	if i < 0 || i >= len(f.Said) {
		return -1
	}
	return f.nested().around[i]
}

// statement is the first token of the statement that a token is in.
func (f *File) statement(i int) int {
	n := f.nested()
	if n.starts == nil {
		n.starts = make([]int, len(f.Said))
		for k := 1; k < len(f.Said); k++ {
			n.starts[k] = n.starts[k-1]
			if f.startsStatement(k) {
				n.starts[k] = k
			}
		}
	}
	if i < 0 || i >= len(n.starts) {
		return 0
	}
	return n.starts[i]
}

// startsStatement tells whether a token that is not the first one begins a statement.
func (f *File) startsStatement(k int) bool {
	before, text := f.Said[k-1], f.Word(k-1)
	if before.Pair > k-1 && text == "(" && f.Word(k-2) != "import" && f.Lang.Name != "python" || text == ";" {
		return true
	}
	if !f.Lang.Lines || !strings.Contains(f.Text[before.End:f.Said[k].Start], "\n") {
		return false
	}
	open := f.enclosing(k) // within brackets a line's end means nothing
	return open < 0 || f.Word(open) == "{" && !f.imports(open)
}

// lineStarts are where the lines of the text begin.
func (f *File) lineStarts() []int {
	if f.lines == nil {
		f.lines = []int{0}
		for at := 0; ; {
			next := strings.IndexByte(f.Text[at:], '\n')
			if next < 0 {
				break
			}
			at += next + 1
			f.lines = append(f.lines, at)
		}
	}
	return f.lines
}

// Line is the line of a byte, counted from 1.
func (f *File) Line(at int) int {
	n, there := slices.BinarySearch(f.lineStarts(), at)
	if there {
		n++
	}
	return n
}

// indent is how many bytes of white space a token's line begins with.
func (f *File) indent(i int) int {
	n, line := f.nested(), f.Line(f.Said[i].Start)-1
	if n.indent == nil {
		n.indent = slices.Repeat([]int{-1}, len(f.lineStarts()))
	}
	start := f.lineStarts()[line]
	if n.indent[line] < 0 {
		rest := f.Text[start:]
		n.indent[line] = len(rest) - len(strings.TrimLeft(rest, " \t"))
	}
	return min(n.indent[line], f.Said[i].Start-start)
}

// looks is how often each token may be looked at, on average, to find where names count.
const looks = 100

// tires counts one more look, and tells whether there were too many.
func (f *File) tires() bool {
	f.Looked++
	return f.Tired()
}

// Tired tells whether too much was looked at to find where names count.
func (f *File) Tired() bool { return f.Looked > looks*(len(f.Said)+looks) }

// covering gives of each token, asked in ascending order, the first of several scopes that it lies in.
type covering struct {
	scopes []Scope
	order  []int // of the scopes, by where they begin
	active firsts
}

// Covered tells for each token, asked in their order, which scope it is in.
func Covered(scopes []Scope) *covering {
	c := &covering{scopes: scopes, order: make([]int, len(scopes))}
	for i := range scopes {
		c.order[i] = i
	}
	slices.SortStableFunc(c.order, func(a, b int) int { return scopes[a].from - scopes[b].from })
	return c
}

// At is the number of the scope; -1 for none.
func (c *covering) At(token int) int {
	for len(c.order) > 0 && c.scopes[c.order[0]].from <= token {
		heap.Push(&c.active, c.order[0])
		c.order = c.order[1:]
	}
	for len(c.active) > 0 && c.scopes[c.active[0]].to < token {
		heap.Pop(&c.active)
	}
	if len(c.active) == 0 {
		return -1
	}
	return c.active[0]
}

// firsts is a heap of numbers, the smallest first.
type firsts []int

func (h firsts) Len() int { return len(h) }

func (h firsts) Less(i, j int) bool { return h[i] < h[j] }

func (h firsts) Swap(i, j int) { h[i], h[j] = h[j], h[i] }

func (h *firsts) Push(x any) { *h = append(*h, x.(int)) }

func (h *firsts) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// Text is a file's content, with how it is written; nil bytes are no file.
type Text struct {
	File     *File
	Encoding charset.Encoding
	Raw      []byte
	Regions  []Region // what rules wrote
}

// Region is a part of a text that a rule wrote.
type Region struct {
	Start, End int
	Rule       string
}
