package pattern

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/lex"
)

// rewritten applies a pattern to a text of a language.
func rewritten(t *testing.T, language, find, put, text string, conds map[string]Condition) string {
	t.Helper()
	code, err := Parse(lex.Named(language), find)
	require.NoError(t, err, find)
	template, err := code.Template(put)
	require.NoError(t, err, put)
	got, _, err := Rewrite(code, template, conds, text)
	require.NoError(t, err, find)
	return got
}

func TestRewrite(t *testing.T) {
	without := func(hole string, words ...string) map[string]Condition {
		return map[string]Condition{hole: {Without: words}}
	}
	for name, c := range map[string]struct {
		language, find, put, before, after string
		conds                              map[string]Condition
	}{
		"an option renamed and moved into another object": {
			"javascript", "createBoard({`a:list`, refresh: `v`, `b:list`})", "createBoard({`a`, timing: {every: `v`}, `b`})",
			"x = createBoard({\n  name: 'a', // the pier's\n  refresh: 5 * 60,\n  tides,\n});\ny = createBoard({refresh: f(1, 2)})",
			"x = createBoard({\n  name: 'a', // the pier's\n  timing: {every: 5 * 60},\n  tides,\n});\ny = createBoard({timing: " +
				"{every: f(1, 2)}})", nil,
		},
		"an argument wrapped into a function": {
			"javascript", "open(`a`, `rest:list`)", "open(pier(`a`), `rest`)", "open(b.c(1), 2); open( /* which */ d )",
			"open(pier(b.c(1)), 2); open( /* which */ pier(d) )", map[string]Condition{"a": {Not: regexp.MustCompile(`^pier\(`)}},
		},
		"one statement replaced by two": {
			"javascript", "board.start(`p`);", "board.prepare();\nboard.listen(`p`);", "if (a) {\n  board.start(80); // now\n}",
			"if (a) {\n  board.prepare();\n  board.listen(80); // now\n}", nil,
		},
		"a child element taken out, its content kept": {
			"javascript", "<Frame `attributes:block`>`inner:block`</Frame>", "`inner`",
			"return (\n  <Board>\n    <Frame wide>\n      <Row n={1}/> and <Frame>deep</Frame>\n    </Frame>\n  </Board>\n)",
			"return (\n  <Board>\n    <Row n={1}/> and deep\n  </Board>\n)", nil,
		},
		"a flag removed, first": {
			"typescript", "@Part({`a:list`, alone: true, `b:list`})", "@Part({`a`, `b`})", "@Part({alone: true, x: 1})",
			"@Part({x: 1})", nil,
		},
		"a flag removed, last": {
			"typescript", "@Part({`a:list`, alone: true, `b:list`})", "@Part({`a`, `b`})", "@Part({\n  x: 1,\n  alone: true\n})",
			"@Part({\n  x: 1\n})", nil,
		},
		"a flag removed, between": {
			"typescript", "@Part({`a:list`, alone: true, `b:list`})", "@Part({`a`, `b`})", "@Part({x: 1, alone: true, y})",
			"@Part({x: 1, y})", nil,
		},
		"a flag removed, only": {
			"typescript", "@Part({`a:list`, alone: true, `b:list`})", "@Part({`a`, `b`})", "@Part({ alone: true })", "@Part({ })",
			nil,
		},
		"a flag added where it was not": {
			"typescript", "@Part({`a:list`})", "@Part({`a`, alone: false})", "@Part({x: {alone: 1}}) @Part({}) @Part({alone: true}) @Part({x,})",
			"@Part({x: {alone: 1}, alone: false}) @Part({alone: false}) @Part({alone: true}) @Part({x, alone: false})", without("a", "alone"),
		},
		"a call renamed by its arguments' number": {
			"go", "tide.At(`a`, `b`)", "tide.AtPier(`a`, `b`)", "tide.At(x); tide.At(f(x, y), z); my.tide.At(1, 2)",
			"tide.At(x); tide.AtPier(f(x, y), z); my.tide.At(1, 2)", nil,
		},
		"equal holes": {
			"javascript", "if (`a`.open) `a`.close()", "`a`.shut()", "if (x.y.open) x.y.close(); if (x.open) " +
				"y.close()", "x.y.shut(); if (x.open) y.close()", nil,
		},
		"a part that may be missing": {
			"python", "fetch(`a` `(`, timeout=`t``)?`)", "read(`a` `(`, within=`t``)?`)", "fetch(x, timeout=f(1))\nfetch(y)\nfetch(z, 2)",
			"read(x, within=f(1))\nread(y)\nfetch(z, 2)", nil,
		},
		"a part that repeats": {
			"ruby", "names(`(``k:word` => `v`, `)*` last: `z`)", "names(`(``k`: `v`, `)*` last: `z`)", "names(a => 1, b => f(2), last: 3)",
			"names(a: 1, b: f(2), last: 3)", nil,
		},
		"a member of something, with a hole first": {
			"java", "`x`.getSize()", "`x`.size()", "a = b.c().getSize() + list[0].getSize();", "a = b.c().size() + list[0].size();", nil,
		},
		"a match in a match": {
			"javascript", "old(`a`)", "fresh(`a`)", "old(1 + old(2))", "fresh(1 + fresh(2))", nil,
		},
		"a statement taken away": {
			"javascript", "enableCompat();", "", "a();\nenableCompat();\nb(); enableCompat(); c()\n", "a();\nb();  c()\n", nil,
		},
		"strings in other quotes": {
			"javascript", "use('tides')", "use('tides/fetch')", "use(\"tides\"); use('tide')", "use('tides/fetch'); use('tide')", nil,
		},
		"a statement ends with its line": {
			"python", "x = `v`", "y = `v`", "x = a +\\\n  b\nz = 1\nx = (c\n  + d)\nw", "y = a +\\\n  b\nz = 1\ny = (c\n  + d)\nw", nil,
		},
		"a comment between what goes away": {
			"javascript", "f(`a`, `b`)", "f(`a`)", "f(x, /* why */ y)", "f(x /* why */)", nil,
		},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.after, rewritten(t, c.language, c.find, c.put, c.before, c.conds))
		})
	}
}

// TestMistakes sees that what is wrong with a pattern is told with its place.
func TestMistakes(t *testing.T) {
	for find, want := range map[string]string{
		"f(`a)":            "1:3: this hole is not closed",
		"f(x,\n  `a:lst`)": `2:3: there is no hole of the kind "lst"`,
		"f(`a` `b`)":       "1:7: two holes stand side by side, and nothing tells where the first one ends",
		"f(\"x `a`\")":     "1:6: a hole cannot be a part of a string or of a comment",
		"x`a`":             "1:2: a hole takes whole words, but here it touches one",
		"f(`(`a)":          "1:3: this part is not closed",
		"f(a`)*`)":         "1:4: no part begins that ends here",
		"(`a`)":            "1:1: this matches everything",
		"f(`9`)":           `1:3: "9" is not the name of a hole`,
	} {
		_, err := Parse(lex.Named("javascript"), find)
		if assert.Error(t, err, find) {
			assert.Equal(t, want, err.Error(), find)
		}
	}
	code, err := Parse(lex.Named("javascript"), "f(`a`)")
	require.NoError(t, err)
	_, err = code.Template("g(`b`)")
	assert.ErrorContains(t, err, `no hole "b"`)
	loop, err := code.Template("f(f(`a`))")
	require.NoError(t, err)
	_, _, err = Rewrite(code, loop, nil, "f(1)")
	assert.ErrorIs(t, err, ErrLoop)
}

// TestSpacing sees that white space and comments between tokens change nothing of what matches.
func TestSpacing(t *testing.T) {
	wide := strings.NewReplacer("(", " /* a */ (\n  ", ")", " ) ", ",", " // b\n , ")
	before := "open(b.c(1), 2, f(3));"
	find, put := "open(`a`, `b`, f(`c`))", "shut(`c`, `a`)"
	assert.Equal(t, "shut(3, b.c(1));", rewritten(t, "javascript", find, put, before, nil))
	got := rewritten(t, "javascript", find, put, wide.Replace(before), nil)
	assert.Equal(t, Tokens(lex.Named("javascript"), "shut(3, b.c(1));"), Tokens(lex.Named("javascript"), got), got)
}

// FuzzParse sees that no pattern and no text stop the program.
func FuzzParse(f *testing.F) {
	f.Add("f(`a:list`, `(`b: `c`,`)*`)", "f(1, b: 2, b: 3,)")
	f.Add("`x`.y(`x`)", "a.b.y(a.b)")
	f.Fuzz(func(t *testing.T, find, text string) {
		code, err := Parse(lex.Named("javascript"), find)
		if err != nil {
			return
		}
		found, err := code.Find(NewSource(code.lang, text), nil)
		for _, m := range found {
			require.LessOrEqual(t, m.Start, m.End)
		}
		if put, perr := code.Template(find); perr == nil && err == nil {
			got, n, err := Rewrite(code, put, nil, text)
			if err == nil && n == 0 {
				require.Equal(t, text, got)
			}
		}
	})
}
