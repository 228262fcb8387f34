package lex

import (
	"path"
	"slices"
	"strings"
	"sync"
	"unicode"
)

// pair is how something begins and ends.
type pair [2]string

// Language is how the texts of a language are split.
type Language struct {
	Name string
	// Indented tells that line ends and indentation have a meaning of their own.
	Indented bool
	// Lines tells that a line's end may end a statement.
	Lines bool

	line        []string // what begins a comment that ends with the line
	blocks      []pair   // what begins and ends a comment
	begin       *pair    // the same, at the beginning of a line only
	nested      bool     // comments lie in each other
	strings     []quote  // the longest opening mark first
	chars       bool     // a single quote may begin a character, or something else
	prefixes    string   // letters that may stand before a quote
	format      string   // the one of them that says that there is code inside
	words       string   // what stands in words besides letters, digits and "_"
	tails       string   // what may stand at a word's end
	regex       bool     // slashes may be around regular expressions
	commands    bool     // a name may be followed by an argument without brackets
	jsx         bool     // an expression may be an element
	heredoc     string   // what announces a string that begins in the next line
	heredocHole string   // what begins code in it
	markup      bool     // tags with text between
	void        bool     // with elements that are never closed
	inHTML      bool     // code stands between marks in a page
	first       *[256]bool
}

// begins tells with which bytes a comment or a string may begin.
func (l *Language) begins() *[256]bool {
	if l.first != nil {
		return l.first
	}
	first := &[256]bool{}
	for _, b := range l.blocks {
		first[b[0][0]] = true
	}
	for _, start := range l.line {
		first[start[0]] = true
	}
	if l.begin != nil {
		first[l.begin[0][0]] = true
	}
	for _, q := range l.strings {
		first[q.open[0]] = true
	}
	for _, c := range []byte(l.prefixes + l.heredoc) {
		first[c] = true
	}
	if l.chars {
		first['\''] = true
	}
	return first
}

// inWord tells whether a character is one of words.
func (l *Language) inWord(r rune) bool {
	return r == '_' || r < 0x80 && (r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9') ||
		r >= 0x80 && (unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r)) || strings.ContainsRune(l.words, r)
}

// hash tells whether "#" begins a comment at a place: in a shell only before a word.
func (l *Language) hash(src string, at int) bool {
	return l.Name != "shell" || at == 0 || strings.IndexByte(" \t\r\n;", src[at-1]) >= 0
}

var (
	double   = quote{open: `"`, close: `"`, escape: true}
	single   = quote{open: "'", close: "'", escape: true}
	backtick = quote{open: "`", close: "`", lines: true}
	triple   = quote{open: `"""`, close: `"""`, escape: true, lines: true}
	slashes  = []string{"//"}
	stars    = []pair{{"/*", "*/"}}
)

// with gives a form of strings that has code inside.
func (q quote) with(hole string, dollar bool) quote {
	q.hole, q.dollar = hole, dollar
	return q
}

// long gives a form of strings that may go over several lines.
func (q quote) long() quote {
	q.lines = true
	return q
}

var script = Language{
	Lines: true, line: slashes, blocks: stars, words: "$", regex: true,
	strings: []quote{double, single, quote{open: "`", close: "`", escape: true, lines: true}.with("${", false)},
}

// table has the languages that are described here.
var table = sync.OnceValue(func() map[string]*Language {
	javascript, typescript := script, script
	javascript.jsx = true
	all := map[string]*Language{
		"javascript": &javascript, "typescript": &typescript,
		"go": {Lines: true, line: slashes, blocks: stars, strings: []quote{double, single, backtick}},
		"python": {
			Lines: true, Indented: true, line: []string{"#"}, prefixes: "rRbBfFuU", format: "f",
			strings: []quote{triple, {open: "'''", close: "'''", escape: true, lines: true}, double, single},
		},
		"ruby": {
			Lines: true, line: []string{"#"}, begin: &pair{"=begin", "\n=end"}, words: "@", tails: "?!", regex: true, commands: true,
			strings: []quote{double.with("#{", false).long(), single.long()}, heredoc: "<<", heredocHole: "#{",
		},
		"java": {line: slashes, blocks: stars, strings: []quote{triple, double, single}},
		"kotlin": {
			Lines:   true,
			line:    slashes,
			blocks:  stars,
			nested:  true,
			strings: []quote{triple.with("${", true), double.with("${", true), single},
		},
		"scala": {
			Lines:   true,
			line:    slashes,
			blocks:  stars,
			nested:  true,
			strings: []quote{triple.with("${", true), double.with("${", true), single},
		},
		"groovy": {
			Lines: true, line: slashes, blocks: stars,
			strings: []quote{
				triple.with("${", true),
				{open: "'''", close: "'''", escape: true, lines: true},
				double.with("${", true),
				single,
			},
		},
		"csharp": {line: slashes, blocks: stars, strings: []quote{
			{open: `$"""`, close: `"""`, lines: true, hole: "{"}, {open: `"""`, close: `"""`, lines: true},
			{
				open:    `$@"`,
				close:   `"`,
				lines:   true,
				doubled: true,
				hole:    "{",
			}, {open: `@$"`, close: `"`, lines: true, doubled: true, hole: "{"},
			{open: `@"`, close: `"`, lines: true, doubled: true}, {open: `$"`, close: `"`, escape: true, hole: "{"}, double, single,
		}},
		"php": {
			line: []string{"//", "#"}, blocks: stars, words: "$", inHTML: true, heredoc: "<<<", heredocHole: "{$",
			strings: []quote{double.with("{", false).long(), single.long()},
		},
		"rust": {line: slashes, blocks: stars, nested: true, chars: true, strings: []quote{
			{open: `r##"`, close: `"##`, lines: true}, {open: `r#"`, close: `"#`, lines: true}, {open: `r"`, close: `"`, lines: true},
			{open: `"`, close: `"`, escape: true, lines: true},
		}},
		"c":     {line: slashes, blocks: stars, strings: []quote{double, single}},
		"swift": {Lines: true, line: slashes, blocks: stars, nested: true, strings: []quote{triple, double}},
		"dart": {
			line:     slashes,
			blocks:   stars,
			prefixes: "r",
			strings:  []quote{triple.with("${", true), double.with("${", true), single.with("${", true)},
		},
		"elixir": {
			Lines: true, line: []string{"#"}, words: "@", tails: "?!",
			strings: []quote{triple.with("#{", false), double.with("#{", false).long(), single.long()},
		},
		"shell": {
			Lines: true, line: []string{"#"}, words: "-./@%+", heredoc: "<<", heredocHole: "${",
			strings: []quote{double.with("${", true).long(), {open: "'", close: "'", lines: true}},
		},
		"dockerfile": {Lines: true, line: []string{"#"}, words: "-./@%+", strings: []quote{double, single}},
		"makefile":   {Lines: true, Indented: true, line: []string{"#"}, words: "-./@%+", strings: []quote{double, single}},
		"css":        {line: nil, blocks: stars, words: "-", strings: []quote{double, single}},
		"scss":       {line: slashes, blocks: stars, words: "-$", strings: []quote{double, single}},
		"sql":        {line: []string{"--"}, blocks: stars, strings: []quote{{open: "'", close: "'", doubled: true, lines: true}, double}},
		"html":       {markup: true, void: true},
		"xml":        {markup: true},
		"yaml": {
			Lines:    true,
			Indented: true,
			line:     []string{"#"},
			words:    "-.",
			strings:  []quote{double, {open: "'", close: "'", doubled: true}},
		},
		"toml": {
			Lines:   true,
			line:    []string{"#"},
			words:   "-",
			strings: []quote{triple, {open: "'''", close: "'''", lines: true}, double, single},
		},
		"erlang": {line: []string{"%"}, words: "@", strings: []quote{triple, double.long(), single}},
		"fsharp": {
			Lines: true, Indented: true, line: slashes, blocks: []pair{{"(*", "*)"}}, nested: true, chars: true,
			strings: []quote{triple, {open: `@"`, close: `"`, lines: true, doubled: true}, double.long()},
		},
		"visualbasic": {Lines: true, line: []string{"'"}, strings: []quote{{open: `"`, close: `"`, doubled: true}}},
		"clojure":     {line: []string{";"}, words: "-*+!?<>=./", strings: []quote{double.long()}},
		"haskell": {
			Lines: true, Indented: true, line: []string{"--"}, blocks: []pair{{"{-", "-}"}}, nested: true, chars: true, tails: "'",
			strings: []quote{double},
		},
		"lua": {
			Lines: true, blocks: []pair{{"--[[", "]]"}}, line: []string{"--"},
			strings: []quote{{open: "[[", close: "]]", lines: true}, double, single},
		},
		"perl": {Lines: true, line: []string{"#"}, begin: &pair{"=pod", "\n=cut"}, words: "$@%", strings: []quote{double.long(), single.long()}},
		"r":    {Lines: true, line: []string{"#"}, words: ".", strings: []quote{double.long(), single.long(), backtick}},
		"julia": {
			Lines: true, line: []string{"#"}, blocks: []pair{{"#=", "=#"}}, nested: true, tails: "!", chars: true,
			strings: []quote{triple.with("$(", true), double.long()},
		},
		"powershell": {
			Lines: true, line: []string{"#"}, blocks: []pair{{"<#", "#>"}}, words: "$-",
			strings: []quote{double.with("$(", true).long(), {open: "'", close: "'", doubled: true, lines: true}},
		},
		"protobuf": {line: slashes, blocks: stars, words: ".", strings: []quote{double, single}},
		"graphql":  {Lines: true, line: []string{"#"}, words: "$@", strings: []quote{triple, double}},
		"nix": {
			line: []string{"#"}, blocks: stars, words: "-'",
			strings: []quote{double.with("${", false).long(), {open: "''", close: "''", lines: true}},
		},
		"cmake":      {Lines: true, line: []string{"#"}, words: "-.", strings: []quote{double.long()}},
		"properties": {Lines: true, line: []string{"#", "!"}, words: "-."},
		"ini":        {Lines: true, line: []string{"#", ";"}, words: "-."},
		"json":       {line: slashes, blocks: stars, strings: []quote{double, single}},
		"hcl":        {Lines: true, line: []string{"#", "//"}, blocks: stars, words: "-", strings: []quote{double.with("${", false)}},
	}
	for name, l := range all {
		l.Name = name
		l.first = l.begins()
	}
	return all
})

// byEnding are the languages of files by the end of their names, byName by their whole names.
var byEnding = map[string]string{
	".js": "javascript", ".jsx": "javascript", ".mjs": "javascript", ".cjs": "javascript", ".tsx": "javascript",
	".ts": "typescript", ".mts": "typescript", ".cts": "typescript", ".go": "go", ".py": "python", ".pyi": "python", ".rb": "ruby",
	".rake": "ruby", ".gemspec": "ruby", ".ru": "ruby", ".java": "java", ".kt": "kotlin", ".kts": "kotlin", ".scala": "scala", ".sbt": "scala",
	".groovy": "groovy", ".gradle": "groovy", ".cs": "csharp", ".php": "php", ".rs": "rust", ".c": "c", ".h": "c", ".cc": "c", ".cpp": "c",
	".hpp": "c", ".cxx": "c", ".m": "c", ".swift": "swift", ".dart": "dart", ".ex": "elixir", ".exs": "elixir",
	".sh": "shell", ".bash": "shell",
	".zsh": "shell", ".css": "css", ".less": "scss", ".scss": "scss", ".sql": "sql", ".html": "html", ".htm": "html", ".vue": "html",
	".svelte": "html", ".xml": "xml", ".csproj": "xml", ".fsproj": "xml", ".vbproj": "xml", ".props": "xml",
	".targets": "xml", ".config": "xml",
	".xaml": "xml", ".cshtml": "html", ".razor": "html", ".yml": "yaml", ".yaml": "yaml", ".toml": "toml", ".properties": "properties",
	".ini": "ini", ".cfg": "ini", ".env": "properties", ".json": "json", ".jsonc": "json", ".json5": "json", ".tf": "hcl", ".mk": "makefile",
	".erl": "erlang", ".hrl": "erlang", ".fs": "fsharp", ".fsx": "fsharp", ".fsi": "fsharp", ".vb": "visualbasic", ".clj": "clojure",
	".cljs": "clojure", ".cljc": "clojure", ".edn": "clojure", ".hs": "haskell", ".lua": "lua", ".pl": "perl", ".pm": "perl", ".r": "r",
	".jl": "julia", ".ps1": "powershell", ".psm1": "powershell", ".proto": "protobuf", ".graphql": "graphql", ".gql": "graphql",
	".nix": "nix", ".cmake": "cmake", ".mm": "c", ".nuspec": "xml", ".pom": "xml", ".podspec": "ruby",
}

var byName = map[string]string{
	"Gemfile": "ruby", "Rakefile": "ruby", "Guardfile": "ruby", "gems.rb": "ruby", "Podfile": "ruby", "Fastfile": "ruby",
	"Vagrantfile": "ruby",
	"Dockerfile":  "dockerfile", "Containerfile": "dockerfile", "Makefile": "makefile", "GNUmakefile": "makefile", "Jenkinsfile": "groovy",
	"CMakeLists.txt": "cmake",
	"BUILD":          "python", ".env": "properties", ".editorconfig": "ini", ".npmrc": "ini", "Procfile": "shell",
}

// Named is the language of a name; nil for none.
func Named(name string) *Language {
	return table()[name]
}

// Code is how a piece of code by itself is split: without the page that it stands in.
func (l *Language) Code() *Language {
	if !l.inHTML {
		return l
	}
	code := *l
	code.inHTML = false
	return &code
}

// Languages are the names of those that are described here, sorted.
func Languages() []string {
	var names []string
	for name := range table() {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Of is the language of a file by its name; nil for none.
func Of(file string) *Language {
	base := path.Base(file)
	if name := byName[base]; name != "" {
		return table()[name]
	}
	if strings.HasPrefix(base, "Dockerfile.") || strings.HasPrefix(base, ".env.") {
		return table()[byName[base[:strings.LastIndexByte(base[1:], '.')+1]]]
	}
	ending := strings.ToLower(path.Ext(base))
	if name := byEnding[ending]; name != "" {
		return table()[name]
	}
	return nil
}
