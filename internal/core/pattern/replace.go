package pattern

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/lex"
	"bellwether/internal/core/splice"
)

// MaxText bounds a text that a pattern rewrites, in bytes.
const MaxText = 4 << 20

// ErrLarge is the error of a text that would grow beyond that.
var ErrLarge = fmt.Errorf("it would have more than %d MB afterwards", MaxText>>20)

// Edit is a change of a text.
type Edit = splice.Edit

// Replace gives the edits that make a template of what a pattern matched. What is the same on
// both sides stays as it is, with the white space and the comments in it; a comment between
// what goes away stays. It is ErrLarge if there would be more than a number of bytes.
func (t *Code) Replace(src *Source, m Match, most int) ([]Edit, error) {
	r := &replacer{src: src, code: t, indent: src.indentOf(m.Start), trailing: m.trailing(), left: most}
	r.write(t.parts, m.bound)
	if r.left < 0 {
		return nil, ErrLarge
	}
	if len(r.out) == 0 {
		return []Edit{r.removal(m)}, nil
	}
	kept := closing(m.items, r.out, common(m.items, r.out))
	var edits []Edit
	pi, ti := 0, 0
	for _, k := range append(kept, [2]int{len(m.items), len(r.out)}) {
		if e, ok := r.between(m, pi, k[0], ti, k[1]); ok {
			edits = append(edits, e)
		}
		pi, ti = k[0]+1, k[1]+1
	}
	return edits, nil
}

// replacer writes a template for one match.
type replacer struct {
	src    *Source
	code   *Code
	indent string // of the line in which the match begins
	out    []item
	// trailing tells that the source has a comma behind the last of a list.
	trailing bool
	passed   *string // the white space before what was left out; nil for none
	left     int     // how many bytes may still be written; less than none once there were too many
}

// lineStart is where the line of a byte begins.
func (s *Source) lineStart(at int) int {
	if s.lines == nil {
		s.lines = []int{0}
		for i := 0; ; {
			next := strings.IndexByte(s.Text[i:], '\n')
			if next < 0 {
				break
			}
			i += next + 1
			s.lines = append(s.lines, i)
		}
	}
	n, there := slices.BinarySearch(s.lines, at)
	if !there {
		n--
	}
	return s.lines[n]
}

// indentOf is the white space that the line of a byte begins with.
func (s *Source) indentOf(at int) string {
	line := s.Text[s.lineStart(at):at]
	for i := range len(line) {
		if line[i] != ' ' && line[i] != '\t' {
			return line[:i]
		}
	}
	return line
}

// trailing tells whether a comma stands before a closing bracket.
func (m Match) trailing() bool {
	for i := 1; i < len(m.items); i++ {
		if m.items[i-1].key == "," && (m.items[i].key == "}" || m.items[i].key == ")" || m.items[i].key == "]") {
			return true
		}
	}
	return false
}

// write makes items of a template's parts. The white space before what is left out comes
// before what follows it.
func (r *replacer) write(parts []part, b *binding) {
	dropped := false
	for i, p := range parts {
		if r.left < 0 {
			return
		}
		switch {
		case p.group != nil:
			for k, round := range b.roundsOf(p.sign()) {
				from := len(r.out)
				r.write(p.group, round)
				if k == 0 && from < len(r.out) {
					r.out[from].gap = p.gap
				}
			}
		case p.hole != "":
			s, _ := b.find(p.hole)
			if s.from == s.to {
				r.pass(p.gap)
				continue
			}
			start, end := r.src.tokens[s.from].Start, r.src.tokens[s.to-1].End
			text := r.src.Text[start:end]
			if strings.HasSuffix(text, ",") && i+1 < len(parts) && parts[i+1].text == "," {
				text = strings.TrimRight(strings.TrimSuffix(text, ","), " \t")
			}
			r.put(item{key: "\x00" + p.hole, start: start, end: end, text: text, gap: p.gap})
		case p.soft && (r.empty(parts, i-1, b) || r.empty(parts, i+1, b) && !dropped && !r.trailing):
			dropped = r.empty(parts, i+1, b)
			r.pass(p.gap)
		default:
			dropped = false
			r.put(item{key: p.text, text: p.text, gap: p.gap})
		}
	}
}

func (r *replacer) put(it item) {
	if r.passed != nil {
		it.gap, r.passed = *r.passed, nil
	}
	r.left -= len(it.text) + len(it.gap)
	r.out = append(r.out, it)
}

func (r *replacer) pass(gap string) {
	if r.passed == nil {
		r.passed = &gap
	}
}

// roundsOf are what the rounds of a group took.
func (b *binding) roundsOf(sign string) []*binding {
	for ; b != nil; b = b.outer {
		if rounds, ok := b.rounds[sign]; ok {
			return rounds
		}
	}
	return nil
}

// empty tells whether a part is a list that took nothing.
func (r *replacer) empty(parts []part, i int, b *binding) bool {
	if i < 0 || i >= len(parts) || parts[i].hole == "" {
		return false
	}
	s, ok := b.find(parts[i].hole)
	return ok && s.from == s.to
}

// common are the items that both sides have in the same order, as pairs of indices: those at
// their beginnings and ends, and as many as there can be between.
func common(a, b []item) (pairs [][2]int) {
	from := 0
	for from < len(a) && from < len(b) && same(a[from], b[from]) {
		pairs = append(pairs, [2]int{from, from})
		from++
	}
	to := 0
	for len(a)-to > from && len(b)-to > from && same(a[len(a)-1-to], b[len(b)-1-to]) {
		to++
	}
	for _, p := range longest(a[from:len(a)-to], b[from:len(b)-to]) {
		pairs = append(pairs, [2]int{from + p[0], from + p[1]})
	}
	for i := to; i > 0; i-- {
		pairs = append(pairs, [2]int{len(a) - i, len(b) - i})
	}
	return pairs
}

// closing leaves out of what stays the brackets with a comma before them that would close something else, or nothing.
func closing(a, b []item, kept [][2]int) [][2]int {
	opens, opened := partners(a), partners(b)
	return slices.DeleteFunc(slices.Clone(kept), func(k [2]int) bool {
		if !a[k[0]].comma {
			return false
		}
		from, to := opens[k[0]], opened[k[1]]
		return to < 0 || to == k[1]-1 || b[to].key == "(" && !calls(b, to) || !slices.Contains(kept, [2]int{from, to})
	})
}

// calls tells whether round brackets are those of a call: what stands in others is one value, and takes no comma.
func calls(items []item, open int) bool {
	if open == 0 {
		return false
	}
	before := items[open-1].text
	last := before[len(before)-1]
	return strings.IndexByte(",=({[:;", last) < 0 && !slices.Contains(keywords, before)
}

// partners are the opening brackets of closing ones, by their places; -1 for what is none.
func partners(items []item) []int {
	all := slices.Repeat([]int{-1}, len(items))
	var open []int
	for i, it := range items {
		switch {
		case it.key == "(" || it.key == "[" || it.key == "{":
			open = append(open, i)
		case closes(it.key) && len(open) > 0:
			all[i], open = open[len(open)-1], open[:len(open)-1]
		}
	}
	return all
}

// longest are the most items that both sides have in the same order.
func longest(a, b []item) (pairs [][2]int) {
	if len(a)*len(b) > 1_000_000 { // what is so long is written anew
		return nil
	}
	length := make([][]int, len(a)+1)
	for i := range length {
		length[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for k := len(b) - 1; k >= 0; k-- {
			if same(a[i], b[k]) {
				length[i][k] = length[i+1][k+1] + 1
			} else {
				length[i][k] = max(length[i+1][k], length[i][k+1])
			}
		}
	}
	for i, k := 0, 0; i < len(a) && k < len(b); {
		switch {
		case same(a[i], b[k]) && length[i][k] == length[i+1][k+1]+1:
			pairs = append(pairs, [2]int{i, k})
			i, k = i+1, k+1
		case length[i+1][k] >= length[i][k+1]:
			i++
		default:
			k++
		}
	}
	return pairs
}

// same tells whether an item of the template is one that was matched: the same token, or the
// same hole with the same text.
func same(matched, wanted item) bool {
	if wanted.end > 0 {
		return matched.start == wanted.start && matched.end == wanted.end && matched.end-matched.start == len(wanted.text)
	}
	return matched.key == wanted.key
}

// shape is what white space is like: none, within a line, or with line ends.
func shape(gap string) int {
	switch {
	case gap == "":
		return 0
	case !strings.Contains(gap, "\n"):
		return 1
	}
	return 2
}

// between is the edit of what lies between two items that stay; ok is false where nothing
// changes there.
func (r *replacer) between(m Match, p0, p1, t0, t1 int) (e Edit, ok bool) {
	if p0 == p1 && t0 == t1 {
		return e, false
	}
	e = Edit{Start: m.Start, End: m.End}
	if p0 > 0 {
		e.Start = m.items[p0-1].end
	}
	if p1 < len(m.items) {
		e.End = m.items[p1].start
	}
	e.New = r.region(m, e, p0, p1, t0, t1)
	return e, r.src.Text[e.Start:e.End] != e.New
}

// region is what comes in the place of the items from p0 to p1, and of the white space around
// them: the template's items from t0 to t1.
func (r *replacer) region(m Match, e Edit, p0, p1, t0, t1 int) string {
	text := r.src.Text
	var written strings.Builder
	for i := t0; i < t1; i++ {
		if i > t0 {
			written.WriteString(r.shifted(r.out[i].gap))
		}
		written.WriteString(r.out[i].text)
	}
	first, last := p0 > 0, p1 < len(m.items) // something stays before, and behind
	// choose gives the white space of the source where pattern and template have the same.
	choose := func(there, pattern string, wanted int) string {
		if wanted >= len(r.out) || shape(pattern) == shape(r.out[wanted].gap) || strings.TrimSpace(there) != "" {
			return there
		}
		return r.shifted(r.out[wanted].gap)
	}
	if p0 == p1 { // nothing goes
		gap := text[e.Start:e.End]
		if strings.IndexByte(",;)]}", written.String()[0]) >= 0 || !last {
			return r.shifted(r.out[t0].gap) + written.String() + choose(gap, m.gap(p1), t1)
		}
		return choose(gap, m.gap(p1), t0) + written.String() + r.shifted(r.out[t1].gap)
	}
	lead, trail := "", ""
	if first {
		lead = text[e.Start:m.items[p0].start]
	}
	if last {
		trail = text[m.items[p1-1].end:e.End]
	}
	comments := r.comments(m, p0, p1)
	if t0 < t1 {
		if first {
			lead = choose(lead, m.gap(p0), t0)
		}
		if last {
			trail = choose(trail, m.gap(p1), t1)
		}
		return lead + comments + written.String() + trail
	}
	if !first || !last {
		return comments
	}
	if strings.TrimSpace(lead+trail)+comments != "" {
		return lead + separated(lead, comments) + strings.TrimLeft(trail, " ")
	}
	switch wanted := shape(r.out[t1].gap); wanted {
	case shape(m.gap(p1)):
		return trail
	case shape(m.gap(p0)):
		return lead
	}
	return r.shifted(r.out[t1].gap)
}

// separated puts a blank before comments where there is none.
func separated(before, comments string) string {
	comments = strings.TrimRight(comments, " ")
	if comments == "" || before != "" && strings.TrimRight(before, " \t\n") != before {
		return comments
	}
	return " " + comments
}

// gap is the white space that the pattern has before an item.
func (m Match) gap(i int) string {
	if i < len(m.items) {
		return m.items[i].gap
	}
	return ""
}

// comments are those between the items that go, each with what has to follow it.
func (r *replacer) comments(m Match, p0, p1 int) (all string) {
	for i := p0; i < p1-1; i++ {
		gap := r.src.Text[m.items[i].end:m.items[i+1].start]
		for _, t := range lex.Split(r.src.Lang, gap) {
			if t.Kind != lex.Comment {
				continue
			}
			c := t.Of(gap)
			all += c
			if strings.HasPrefix(c, "//") || strings.HasPrefix(c, "#") || strings.HasPrefix(c, "--") {
				all += "\n" + r.indent
			} else {
				all += " "
			}
		}
	}
	return all
}

// shifted is white space of a template, indented like the place it comes to.
func (r *replacer) shifted(gap string) string { return strings.ReplaceAll(gap, "\n", "\n"+r.indent) }

// removal takes a match away, and the lines with it that it had for itself.
func (r *replacer) removal(m Match) Edit {
	text := r.src.Text
	e := Edit{Start: m.Start, End: m.End}
	if strings.HasPrefix(text[e.End:], ";") {
		e.End++
	}
	lineStart := r.src.lineStart(e.Start)
	lineEnd := len(text)
	if n := strings.IndexByte(text[e.End:], '\n'); n >= 0 {
		lineEnd = e.End + n + 1
	}
	if strings.TrimSpace(text[lineStart:e.Start]) == "" && strings.TrimSpace(text[e.End:lineEnd]) == "" {
		return Edit{Start: lineStart, End: lineEnd}
	}
	return e
}

// Rewrite applies a pattern and its template to a text, again and again where a match lies in
// another one, until nothing matches. How many places were changed is told. A pattern that
// matches what its template writes is ErrLoop, and a text that would grow too large ErrLarge.
func Rewrite(find, put *Code, conds map[string]Condition, text string) (string, int, error) {
	const rounds = 20
	count := 0
	for range rounds {
		src := NewSource(find.lang, text)
		found, err := find.Find(src, conds)
		if err != nil {
			return "", 0, err
		}
		var edits []Edit
		end, room := -1, MaxText
		for _, m := range found {
			if m.Start < end {
				continue // inside the one before: the next round
			}
			all, err := put.Replace(src, m, room)
			if err != nil {
				return "", 0, err
			}
			for _, e := range all {
				room -= len(e.New)
			}
			if len(all) > 0 {
				edits = append(edits, all...)
				end = m.End
				count++
			}
		}
		if len(edits) == 0 {
			return text, count, nil
		}
		next, _ := splice.Apply(text, edits)
		if next == text {
			return text, count, nil
		}
		if len(next) > MaxText {
			return "", 0, ErrLarge
		}
		text = next
	}
	return "", 0, ErrLoop
}
