package compat

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/version"
)

const good = `schema: bellwether/book/1
title: the pier's rules
as-of: 2026-01-31
releases:
  runtime/node:
    - {version: "20", since: 2023-04-18, ends: 2026-04-30}
    - {version: 22}
rules:
  - {id: a, because: x, source: https://pier.example/a, needs: {when: {npm/quayside: ^4}, then: {runtime/node: ">=20", tool/npm: 10.x}}}
  - {id: b, because: x, together: {subjects: [npm/quayside, npm/quayside-view], share: minor}}
  - {id: c, because: x, stepwise: [npm/quayside]}
  - {id: d, because: x, clashes: {npm/swell: ">=0.4", runtime/node: "<18"}}
  - {id: e, because: x, replaced: {old: npm/moor, new: npm/mooring-ui, versions: {1.x: ^2, 2.x: ^3}}}
  - {id: f, because: x, restored: {when: {npm/quayside: ">=4"}, feature: server pages, by: {npm/quayside-pages: ^1}}}
  - {id: g, because: x, ends: {subject: runtime/node, range: "<=16", on: 2023-09-11}}
  - {id: h, because: x, ends: {subject: platform/harbour-account, on: 2026-12-31}}
`

func TestParse(t *testing.T) {
	b, faults := Parse("book.yaml", []byte(good), orders)
	require.Empty(t, faults)
	assert.Equal(t, "the pier's rules", b.Title)
	assert.Len(t, b.Releases, 2)
	assert.Len(t, b.Rules, 8)
	assert.Equal(t, "book.yaml:9 (a): npm/quayside ^4 needs runtime/node >=20 and tool/npm 10.x, because x", b.Rules[0].String())
	v, err := version.NPM{}.Parse("2.3.4")
	require.NoError(t, err)
	assert.Equal(t, "^3", b.Rules[4].Becomes(v))
	assert.Equal(t, "2026-12-31", b.Rules[7].On.Format("2006-01-02"))
}

// bad are rules, or a whole book, and what is to be said of them.
var bad = map[string]string{
	`{id: a, because: x, need: {when: {npm/x: "1"}, then: {npm/y: ` +
		`"1"}}}`: `book.yaml:3:25: a rule has no key "need"` + "\n  next: did you mean \"needs\"?",
	`{id: a, because: x}`: "the rule a says nothing\n  next: give " +
		"it one of needs, together",
	`{id: a, because: x, clashes: {npm/x: "1"}}`:                 "it takes two to clash",
	`{id: a, because: x, clashes: {npm/x: "1", npm/y: "[1,2)"}}`: "book.yaml:3:54: ",
	`{because: x, stepwise: [npm/x]}`:                            "a rule has no id",
	`{id: a, because: x, stepwise: [quayside]}`:                  `"quayside" is not a subject like npm/quayside`,
	`{id: a, because: x, stepwise: [npm/x], ends: {subject: npm/x, on: 2026-01-01}}`: "a rule says one thing, but this one " +
		"has stepwise and ends",
	`{id: a, because: x, ends: {subject: npm/x, on: tomorrow}}`:                  `book.yaml:3:52: "tomorrow" is not a date like 2026-01-31`,
	`{id: a, because: x, ends: {subject: npm/x, on: 2026-02-31}}`:                `"2026-02-31" is not a date`,
	`{id: a, because: x, together: {subjects: [npm/x, npm/y], share: all}}`:      "a family shares its version, minor or major",
	`{id: a, because: x, needs: {when: {npm/x: "1"}}}`:                           "needs has no then",
	`{id: a, because: x, needs: {when: {npm/x: [1]}, then: {npm/y: "1"}}}`:       "a range is wanted here, as a text",
	`{id: a, because: x, id: b, stepwise: [npm/x]}`:                              `the key "id" stands twice`,
	`{id: a, because: x, together: {subjects: [npm/x, golang/y], share: major}}`: "the versions of npm/x and golang/y cannot be compared",
	"[1]": "a rule is a mapping",
}

func TestParseFaults(t *testing.T) {
	for rule, want := range bad {
		_, faults := Parse("book.yaml", []byte("schema: bellwether/book/1\nrules:\n  - "+rule+"\n"), orders)
		require.NotEmpty(t, faults, rule)
		assert.Contains(t, faults[0].Error(), want, rule)
	}
	for text, want := range map[string]string{
		"": "a book is one mapping", "schema: other\nrules: []": `the schema is "other"`, "rules: []": "a book has no schema",
		"schema: bellwether/book/1": "a book has no rules",
		"a: [":                      "book.yaml:1:", "schema: bellwether/book/1\nrules: {}": "a list is wanted here", "schema: " +
			"bellwether/book/1\nrules: []\nreleases: {runtime/x: [{version: new}]}": `"new" is not a version`,
		"a: &a [x, x]\nb: &b [*a, *a]\nschema: bellwether/book/1\nrules: *b": `a book has no key "a"`,
	} {
		_, faults := Parse("book.yaml", []byte(text), orders)
		require.NotEmpty(t, faults, text)
		assert.Contains(t, faults[0].Error(), want, text)
	}
	b, faults := Parse(
		"book.yaml",
		[]byte(
			"schema: bellwether/book/1\nrules:\n  - {id: a, because: x, stepwise: [npm/x]}\n  - {id: a, because: x, stepwise: "+
				"[npm/y]}\n  - {id: c, because: x, stepwise: [npm/z]}\n",
		),
		orders,
	)
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0].Error(), "there is a rule a already, in line 3")
	assert.Len(t, b.Rules, 2, "what is good is kept")
}

// TestSchema sees that the published schema and the reader agree.
func TestSchema(t *testing.T) {
	s, err := jsonschema.NewCompiler().Compile("../../../docs/schema/book.json")
	require.NoError(t, err)
	validate := func(text string) error {
		var v any
		// JSON has no dates: they are texts.
		dates := regexp.MustCompile(`([0-9]{4}-[0-9]{2}-[0-9]{2})`)
		require.NoError(t, yaml.Unmarshal(dates.ReplaceAll([]byte(text), []byte(`"$1"`)), &v))
		return s.Validate(v)
	}
	require.NoError(t, validate(strings.ReplaceAll(good, "22}", `"22"}`)))
	for rule := range bad {
		if strings.Contains(rule, "id: b") || strings.Contains(rule, "[1,2)") || strings.Contains(rule, "02-31") ||
			strings.Contains(rule, "golang") {
			continue // beyond what a schema can say
		}
		assert.Error(t, validate("schema: bellwether/book/1\nrules:\n  - "+rule+"\n"), rule)
	}
}

func TestCheck(t *testing.T) {
	for rules, want := range map[string]string{
		`
  - {id: a, because: x, needs: {when: {maven/x: "1"}, then: {runtime/java: "21"}}}`: "4 it never applies, " +
			`since "maven" is no ecosystem that is known here`,
		`
  - {id: a, because: x, needs: {when: {npm/x: ">=4 <3"}, then: {runtime/java: "21"}}}`: "4 no version at all is in npm/x >=4 <3",
		`
  - {id: a, because: x, needs: {when: {npm/x: ">=4"}, then: {runtime/node: ">=20"}}}
  - {id: b, because: x, clashes: {npm/x: ">=3", runtime/node: ">=20"}}`: "4 what it needs can never be had",
		`
  - {id: a, because: x, needs: {when: {tool/x: ">=4"}, then: {tool/y: ">=2"}}}
  - {id: b, because: x, needs: {when: {tool/y: ">=1"}, then: {tool/z: ">=2"}}}
  - {id: c, because: x, needs: {when: {tool/z: "2"}, then: {tool/x: ">=5"}}}`: "4 the needs go round in a circle: " +
			"tool/x (a, line 4) needs tool/y (b, line 5) needs tool/z (c, line 6) needs tool/x",
		`
  - {id: a, because: x, needs: {when: {tool/x: ">=4"}, then: {tool/y: ">=2"}}}
  - {id: b, because: x, needs: {when: {tool/y: "1"}, then: {tool/x: ">=2"}}}`: "",
	} {
		b := book(t, rules)
		remarks, err := Check(t.Context(), b, orders)
		require.NoError(t, err)
		var got []string
		for _, r := range remarks {
			got = append(got, fmt.Sprint(r.Rule.Line, " ", r.Text))
		}
		assert.Equal(t, want, strings.Join(got, "\n"), rules)
	}
}

func FuzzParse(f *testing.F) {
	for part := range strings.SplitSeq(good, "\n  - ") { // small inputs are quickly made smaller
		f.Add([]byte("schema: bellwether/book/1\nrules:\n  - " + part))
	}
	for rule := range bad {
		f.Add([]byte("schema: bellwether/book/1\nrules:\n  - " + rule))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		b, faults := Parse("book.yaml", src, orders)
		for _, r := range b.Rules {
			_ = r.String()
		}
		for _, fault := range faults {
			assert.NotNil(t, fault)
		}
		if len(b.Rules) < 20 {
			_, err := Check(t.Context(), b, orders)
			require.NoError(t, err)
		}
	})
}

// BenchmarkTenThousandRules loads a book and applies it to a question.
func BenchmarkTenThousandRules(b *testing.B) {
	var text strings.Builder
	text.WriteString("schema: bellwether/book/1\nrules:\n")
	for i := range 10000 {
		fmt.Fprintf(
			&text,
			"  - id: rule-%d\n    because: package %d wants it\n    needs:\n      when: {npm/package-%d: \">=%d\"}\n      then: "+
				"{runtime/node: \">=%d\"}\n",
			i, i, i%2000, 1+i%7, 14+i%9,
		)
	}
	src := []byte(text.String())
	for b.Loop() {
		book, faults := Parse("book.yaml", src, orders)
		if len(faults) > 0 {
			b.Fatal(faults[0])
		}
		q := &Question{Orders: orders, Rules: book.Rules}
		one, _ := version.NPM{}.Parse("5.0.0")
		for i := range 1000 {
			q.Subjects = append(q.Subjects, &Subject{Subject: subject(fmt.Sprintf("npm/package-%d", i)), At: one})
		}
		if _, err := q.Answer(b.Context()); err != nil {
			b.Fatal(err)
		}
	}
}
