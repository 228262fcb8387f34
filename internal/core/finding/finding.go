package finding

import (
	"cmp"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// Kind is what sort of thing a finding is.
type Kind string

// The kinds of findings.
const (
	Failure     Kind = "failure"
	Warning     Kind = "warning"
	Deprecation Kind = "deprecation"
)

// Kinds are all of them, the gravest first.
var Kinds = []Kind{Failure, Warning, Deprecation}

// Finding is something that a tool says of the project, or of a package in use.
type Finding struct {
	Kind    Kind   `json:"kind"`
	Tool    string `json:"tool,omitempty"`
	Code    string `json:"code,omitempty"`    // the tool's own: "TS2304", "DEP0040"
	Text    string `json:"text"`              // as it was printed first
	Place   string `json:"place,omitempty"`   // "file:line:column" in the project, the first of them
	Package string `json:"package,omitempty"` // that it comes from; empty for own code, or if nothing tells
	Version string `json:"version,omitempty"` // of Package, where it is told
	Through string `json:"through,omitempty"` // what leads to Package from a requirement; empty for one that is required itself
	Count   int    `json:"count"`             // how often it was printed
}

// Own tells whether a finding is about the project itself.
func (f Finding) Own() bool { return f.Package == "" }

// file is the place without line and column.
func (f Finding) file() string {
	name, _, _ := strings.Cut(f.Place, ":")
	return name
}

// cause is what makes two findings the same: not the line, which moves, nor
// anything else that differs from run to run.
type cause struct {
	kind                Kind
	code, pkg, file, is string
}

func (f Finding) cause() cause {
	return cause{f.Kind, f.Code, f.Package, f.file(), normal(f.Text)}
}

// fleeting is what differs from run to run: times, durations, addresses, numbers
// of processes and lines, and counters.
var fleeting = lazyregexp.New(strings.Join([]string{
	`\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?`,
	`\b\d\d:\d\d:\d\d(?:[.,]\d+)?\b`,
	`\b\d+(?:\.\d+)? ?(?:ms|µs|ns|s|sec|secs|seconds?|milliseconds?|minutes?)\b`,
	`\b0x[0-9a-fA-F]+\b`, `\b[0-9a-f]{32,}\b`,
	`\b[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}\b`,
	`\b(?:pid|PID|node|process|line|port):? ?\d+`, `:\d+(?::\d+)?\b`, `#\d+`,
	`\b\d+(?:/| of )\d+\b`, `\b\d+ (?:times?|warnings?|errors?|problems?|files?|more)\b`,
	`(?:/[\w.@+-]+){2,}/`, `[A-Za-z]:\\(?:[\w.@+ -]+\\)+`,
}, "|"))

// normal is a text without what differs from run to run.
func normal(text string) string {
	return strings.Join(strings.Fields(fleeting.ReplaceAllString(text, "…")), " ")
}

// maxFindings bounds how many different ones are kept of one stage.
const maxFindings = 2000

// Tally counts findings, equal ones once.
type Tally struct {
	list []Finding
	at   map[cause]int
	same map[Finding]int // as they were printed, which spares normalising
	More int             // that were printed when there were too many already
}

// Add takes a finding in; one that is known counts once more.
func (t *Tally) Add(f Finding) {
	f.Text = strings.TrimRight(strings.TrimSpace(f.Text), ": ")
	if f.Text == "" {
		return
	}
	if f.Count == 0 {
		f.Count = 1
	}
	raw := f
	if i, known := t.same[raw]; known {
		t.list[i].Count += f.Count
		return
	}
	key := f.cause()
	if i, known := t.at[key]; known {
		t.list[i].Count += f.Count
		t.list[i].Version = cmp.Or(t.list[i].Version, f.Version)
		if len(t.same) < maxFindings {
			t.same[raw] = i
		}
		return
	}
	if len(t.list) == maxFindings {
		t.More++
		return
	}
	if t.at == nil {
		t.at, t.same = map[cause]int{}, map[Finding]int{}
	}
	t.at[key], t.same[raw] = len(t.list), len(t.list)
	t.list = append(t.list, f)
}

// Sorted are the findings, the gravest first, own ones before those of packages.
func (t *Tally) Sorted() []Finding {
	slices.SortStableFunc(t.list, func(a, b Finding) int {
		return cmp.Or(slices.Index(Kinds, a.Kind)-slices.Index(Kinds, b.Kind), strings.Compare(a.Package, b.Package))
	})
	return t.list
}

// Of are the findings of a kind.
func Of(all []Finding, k Kind) []Finding {
	return slices.DeleteFunc(slices.Clone(all), func(f Finding) bool { return f.Kind != k })
}

// Missing are those of a list that another one has not, or has less often. Lines
// move, so that they do not count.
func Missing(from, in []Finding) []Finding {
	left := map[cause]int{}
	for _, f := range in {
		left[f.cause()] += f.Count
	}
	var list []Finding
	for _, f := range from {
		if n := f.Count - left[f.cause()]; n > 0 {
			f.Count = n
			list = append(list, f)
		}
	}
	return list
}
