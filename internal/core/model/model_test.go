package model

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPURL(t *testing.T) {
	assert.Equal(t, "pkg:npm/left@1.2.3", Subject{"npm", "left"}.PURL("1.2.3"))
	assert.Equal(t, "pkg:npm/%40harbour/signal@1.0.0-rc.1", Subject{"npm", "@harbour/signal"}.PURL("1.0.0-rc.1"))
	assert.Equal(t, "pkg:npm/left", Subject{"npm", "left"}.PURL(""))
	assert.Equal(t, "pkg:maven/org.quay/quay-view@1.2", Subject{"maven", "org.quay:quay-view"}.PURL("1.2"))
}

// TestApply puts new text into random ranges and looks at what lies between.
func TestApply(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	for range 500 {
		var src, want bytes.Buffer
		var splices []Splice
		for range rng.IntN(6) {
			keep := strings.Repeat("k", rng.IntN(4))
			old, fresh := strings.Repeat("o", rng.IntN(4)), strings.Repeat("n", rng.IntN(4))
			src.WriteString(keep)
			want.WriteString(keep)
			splices = append(splices, Splice{Site{File: "f", Start: src.Len(), End: src.Len() + len(old), Text: old}, fresh})
			src.WriteString(old)
			want.WriteString(fresh)
		}
		rng.Shuffle(len(splices), func(i, j int) {
			if splices[i].Site.Start != splices[j].Site.Start {
				splices[i], splices[j] = splices[j], splices[i]
			}
		})
		got, err := Apply(src.Bytes(), splices)
		if err != nil {
			continue // empty ranges at one place may be out of order
		}
		require.Equal(t, want.String(), string(got))
	}
}

func TestApplyRefuses(t *testing.T) {
	src := []byte(`"1.0.0"`)
	_, err := Apply(src, []Splice{{Site{File: "f", Start: 1, End: 6, Text: "2.0.0"}, "3.0.0"}})
	assert.ErrorContains(t, err, `found "1.0.0" where "2.0.0" was read`)
	_, err = Apply(src, []Splice{{Site{Start: 1, End: 4, Text: "1.0"}, "x"}, {Site{Start: 3, End: 6, Text: "0.0"}, "y"}})
	assert.ErrorContains(t, err, "overlap")
	_, err = Apply(src, []Splice{{Site{Start: 5, End: 9}, "x"}})
	assert.ErrorContains(t, err, "outside the file")
}

func TestLinesAndColumns(t *testing.T) {
	src := []byte("ab\ncd\r\nef")
	assert.Equal(t, 1, LineOf(src, 0))
	assert.Equal(t, 2, LineOf(src, 4))
	assert.Equal(t, 2, ColumnOf(src, 4))
	assert.Equal(t, 3, LineOf(src, 100))
}

func TestFault(t *testing.T) {
	f := &Fault{Doing: "reading", File: "a.json", Line: 3, Col: 7, Wrong: "it is wet", Next: "dry it"}
	assert.Equal(t, "reading: a.json:3:7: it is wet\n  next: dry it", f.Error())
	assert.Equal(t, "it is wet", (&Fault{Wrong: "it is wet"}).Error())
}

// TestReadPURL sees that what PURL writes can be read again, and that nothing else is taken for one.
func TestReadPURL(t *testing.T) {
	for _, s := range []Subject{
		{"npm", "left"}, {"npm", "@harbour/signal"}, {"maven", "pier.frame:core"}, {"golang", "brine.example/journal/v2"}, {"gem", "rope"},
	} {
		for _, version := range []string{"", "1.0.0-rc.1+build", "v1.2.3"} {
			got, at, ok := ReadPURL(s.PURL(version))
			assert.True(t, ok)
			assert.Equal(t, s, got)
			assert.Equal(t, version, at)
		}
	}
	for _, text := range []string{"", "npm/left", "pkg:", "pkg:npm", "pkg:npm/", "pkg:maven/core@1", "pkg:npm/%zz@1", "pkg:npm/a@%zz"} {
		_, _, ok := ReadPURL(text)
		assert.False(t, ok, text)
	}
}
