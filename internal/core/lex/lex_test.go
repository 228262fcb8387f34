package lex

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// words are the names that a text has as code, one after the other.
func words(language, src string) string {
	var all []string
	for _, t := range Split(Named(language), src) {
		if t.Kind == Word {
			all = append(all, t.Of(src))
		}
	}
	return strings.Join(all, " ")
}

// TestCodeApart sees that what looks like code in comments, strings and texts is not taken for
// code, and that code inside strings is.
func TestCodeApart(t *testing.T) {
	for _, c := range []struct{ language, src, words string }{
		{"javascript", "open(1) // open\n/* open\n */ 'open' \"o\\\"pen\"", "open"},
		{"javascript", "`open ${shut({a: `in ${deep} open`})} open` + end", "shut a deep end"},
		{"javascript", "a = b / c / d; e = /open['\"`]/g; f", "a b c d e f"},
		{"javascript", "if (x) return <Board title=\"open\" on={() => open({a: 1})}>it's open {shut} <b/></Board>; y",
			"if x return Board title on open a shut b Board y"},
		{"javascript", "const f = <T,>(x) => x < y; z > 1", "const f T x x y z"},
		{"typescript", "let a = <Board>open; b", "let a Board open b"},
		{"go", "a := `open\n\"` + \"open\" + 'o' // open\nb", "a b"},
		{"python", "x = f'{open!r} {{open}} {shut[\"a\"]}' + r'\\' + '''open\n''' # open\ny", "x open r shut y"},
		{"ruby", "x = <<~EOS + y\n  open #{shut} \n  EOS\nz = %w[a] if a / b / c\nputs /open/ # open\n=begin\nopen\n=end\nw?",
			"x y shut z w a if a b c puts w?"},
		{"shell", "cat <<'END' --open=1 # open\nopen\nEND\necho \"$shut ${name} open\" 'open' a#b", "cat --open echo shut name a b"},
		{"java", "String s = \"\"\"\n open \"\"\"; char c = '\"'; /* open */ x", "String s char c x"},
		{"kotlin", "val s = \"open $shut ${a.b(\"x\")}\" /* /* open */ open */ + z", "val s shut a b z"},
		{"csharp", "var s = @\"open\"\"open\" + $\"{shut(\"a\")} open {{open}}\"; // open", "var s shut"},
		{"rust", "let c = '\"'; fn f<'a>(x: &'a str) { r#\"open\"open\"# } /* /* */ open */ z", "let c fn f a x a str z"},
		{"php", "<p>open</p><?php echo $open . 'open' . \"a {$shut}\"; # open\n?> open", "echo $open $shut"},
		{"elixir", "x = \"open #{shut(1)}\" # open\ny?", "x shut y?"},
		{"html", "<!-- open --><p class=\"open\">open</p><script>let a = 'open'</script><br><i>", "p class p script let a script br i"},
		{"xml", "<?xml version=\"1\"?><a><![CDATA[open]]><b c='open'/></a>", "a b c a"},
		{"css", ".open-door { --open: 'open'; /* open */ }", "open-door --open"},
		{"lua", "local x = open -- open\ny = 'open' .. [[open]]", "local x open y"},
		{"sql", "SELECT a FROM b -- open\nWHERE c = 'it''s open'", "SELECT a FROM b WHERE c"},
	} {
		assert.Equal(t, c.words, words(c.language, c.src), "%s: %s", c.language, c.src)
	}
}

// TestPairs sees which tokens are partners.
func TestPairs(t *testing.T) {
	partner := func(language, src, open string) string {
		tokens := Split(Named(language), src)
		for _, k := range tokens {
			if k.Of(src) == open {
				require.GreaterOrEqual(t, k.Pair, 0, src)
				return src[k.Start:tokens[k.Pair].End]
			}
		}
		return ""
	}
	assert.Equal(t, "(a, [b])", partner("javascript", "f(a, [b]) + (c)", "("))
	assert.Equal(t, "{a: `}${x}}`}", partner("javascript", "f({a: `}${x}}`})", "{"))
	assert.Equal(t, "<A><A/>x</A>", partner("javascript", "y = <A><A/>x</A>;", "<"))
	assert.Equal(t, "`a ${b} c`", partner("javascript", "y = `a ${b} c` + d", "`a ${"))
	assert.Equal(t, "<p>x<br>y</p>", partner("html", "<p>x<br>y</p><p>", "<"))
}

func TestOf(t *testing.T) {
	for file, name := range map[string]string{
		"a/b.tsx": "javascript", "Gemfile": "ruby", "x/Dockerfile.dev": "dockerfile", ".env.local": "properties", "a.lua": "lua",
		"pom.xml": "xml",
	} {
		l := Of(file)
		if assert.NotNil(t, l, file) {
			assert.Equal(t, name, l.Name, file)
		}
	}
	for _, file := range []string{"README.md", "a.png", "LICENSE", "x.lock", "noend"} {
		assert.Nil(t, Of(file), file)
	}
}

// FuzzSplit sees that tokens are the whole text, and that partners agree.
func FuzzSplit(f *testing.F) {
	for _, seed := range []string{
		"`${`${a}`}`", "<<~A\n#{b}\nA", "<a><b></a>", "f'{x}'", "$\"{a}\"", "/* a", "<?php <<<X\n{$a}\nX;", "'", "(]", "{{{",
	} {
		for i := range Languages() {
			f.Add(uint8(i), seed)
		}
	}
	f.Fuzz(func(t *testing.T, n uint8, src string) {
		names := append(Languages(), "lua", "perl")
		tokens := Split(Named(names[int(n)%len(names)]), src)
		at := 0
		for i, k := range tokens {
			require.Equal(t, at, k.Start)
			require.Greater(t, k.End, k.Start)
			at = k.End
			if k.Pair >= 0 {
				require.Equal(t, i, tokens[k.Pair].Pair)
			}
		}
		require.Equal(t, len(src), at)
	})
}
