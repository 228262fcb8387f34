package jsondoc

import (
	"bytes"
	"fmt"
	"strings"

	"bellwether/internal/core/model"
)

// Inside gives a text as it stands between the quotes of a JSON string.
func Inside(text string) string {
	q := quoted(text)
	return q[1 : len(q)-1]
}

// Keeps sees that an edited document says what it said before, but for the members of
// its top that may differ. Its error, a *model.Fault, names what differs otherwise: an
// edit did more than it was meant to, and must not be written.
func Keeps(file string, before, after []byte, mayDiffer func(name string) bool) error {
	was, err := Parse(file, before)
	if err != nil {
		return err
	}
	now, err := Parse(file, after)
	if err == nil && (was.Kind != '{' || now.Kind != '{') {
		err = &model.Fault{Wrong: "it is no object any more"}
	}
	if err != nil {
		return unmeant(file, err.Error())
	}
	rest := func(v *Value) (kept []Member) {
		for _, m := range v.Members {
			if !mayDiffer(m.Name) {
				kept = append(kept, m)
			}
		}
		return kept
	}
	a, b := rest(was), rest(now)
	for i, m := range b {
		if i >= len(a) || a[i].Name != m.Name || !bytes.Equal(before[a[i].Value.Start:a[i].Value.End], after[m.Value.Start:m.Value.End]) {
			return unmeant(file, fmt.Sprintf("%q would change with it", m.Name))
		}
	}
	if len(a) > len(b) {
		return unmeant(file, fmt.Sprintf("%q would go with it", a[len(b)].Name))
	}
	return nil
}

func unmeant(file, wrong string) error {
	return &model.Fault{
		Doing: "editing JSON", File: file, Wrong: "the edit would do more than it is meant to: " + strings.TrimSpace(wrong),
		Next: "see what the route asks for there; nothing was written",
	}
}
