package merge

import (
	"fmt"
	"strings"
)

// around is how many lines of a text stand around a change.
const around = 3

// Unified is how one text became another, as the hunks of a unified diff (POSIX diff -u); empty where they are the same.
func Unified(before, after string) string {
	a, b := Lines(before), Lines(after)
	all := changes(a, b)
	var out strings.Builder
	for len(all) > 0 {
		n := 1 // changes that share their surroundings are one hunk
		for n < len(all) && all[n].start-all[n-1].end <= 2*around {
			n++
		}
		hunk(&out, a, b, all[:n])
		all = all[n:]
	}
	return out.String()
}

// hunk writes changes with what is around them.
func hunk(out *strings.Builder, a, b []string, all []change) {
	first, last := all[0], all[len(all)-1]
	start, end := max(0, first.start-around), min(len(a), last.end+around)
	from, to := first.from-(first.start-start), last.to+(end-last.end)
	fmt.Fprintf(out, "@@ -%s +%s @@\n", span(start, end), span(from, to))
	write := func(mark string, lines []string) {
		for _, line := range lines {
			out.WriteString(mark + line)
			if !strings.HasSuffix(line, "\n") {
				out.WriteString("\n\\ No newline at end of file\n")
			}
		}
	}
	at := start
	for _, c := range all {
		write(" ", a[at:c.start])
		write("-", a[c.start:c.end])
		write("+", b[c.from:c.to])
		at = c.end
	}
	write(" ", a[at:end])
}

// span is a run of lines as hunks have it: from which line on, counted from 1, and how many if not one.
func span(start, end int) string {
	switch end - start {
	case 0:
		return fmt.Sprintf("%d,0", start)
	case 1:
		return fmt.Sprint(start + 1)
	}
	return fmt.Sprintf("%d,%d", start+1, end-start)
}
