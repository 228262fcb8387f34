package yamldoc

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

func TestSites(t *testing.T) {
	for text, want := range map[string]string{
		"a: 20":                   "20",
		"\ufeffa: 20":             "20",
		"a:   'x y'  # note":      "x y",
		"ü: \"20\"\r\n":           "20",
		"a: &here 3.12\n":         "3.12",
		"a: !!str 20\n":           "20",
		"a: &n \"20\"\n":          "20",
		"a: \"tab\\there\"\n":     "", // escaped: the bytes are not the text
		"a: |\n  20\n":            "",
		"a:\n  b: [x, 20]\n":      "x",
		"--- \nb: 1\n---\na: 7\n": "1",
	} {
		d, err := Parse("f.yaml", []byte(text))
		require.NoError(t, err, text)
		got := ""
		for n := d.Roots[0]; ; n = n.Content[len(n.Content)-1] {
			if n.Kind == yaml.SequenceNode {
				n = n.Content[0]
			}
			if n.Kind == yaml.ScalarNode {
				if s, ok := d.Site(n); ok {
					got = text[s.Start:s.End]
				}
				break
			}
		}
		assert.Equal(t, want, got, text)
	}
}

func TestDecodeFaults(t *testing.T) {
	type inner struct {
		Command []string `yaml:"command"`
	}
	type outer struct {
		Stages []inner `yaml:"stages"`
		Hold   string  `yaml:"hold"`
	}
	for text, want := range map[string]string{
		"stages:\n  - comand: [x]": "reading YAML: f.yaml:2:5: the key \"comand\" is not known\n  next: did you mean \"command\"?",
		"hold: [x]":                "reading YAML: f.yaml:1: a text is wanted here, not a list",
		"stages: x":                "f.yaml:1: a list is wanted here, not a text (x)",
		"hold: a: b":               "f.yaml:1: mapping values are not allowed in this context",
		"hold: a\n\tb: c":          "f.yaml:2: found a tab character that violates indentation",
	} {
		assert.ErrorContains(t, Decode("f.yaml", []byte(text), &outer{}), want, text)
	}
	require.NoError(t, Decode("f.yaml", nil, &outer{}), "an empty file states nothing")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("a: &b [20, '3', \"x\"]\nc: *b\n"))
	f.Fuzz(func(t *testing.T, src []byte) {
		d, err := Parse("f.yaml", src)
		if err != nil {
			return
		}
		var visit func(n *yaml.Node)
		visit = func(n *yaml.Node) {
			if s, ok := d.Site(n); ok {
				assert.Equal(t, n.Value, string(src[s.Start:s.End]))
			}
			for _, c := range n.Content {
				visit(c)
			}
		}
		for _, n := range d.Roots {
			visit(n)
		}
	})
}
