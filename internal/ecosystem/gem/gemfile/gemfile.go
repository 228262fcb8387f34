// Package gemfile reads Gemfiles and gemspecs by their tokens, and changes them in place. Nothing of them is run.
package gemfile

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/condition"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/model"
)

// Gemfile is what a Gemfile declares, as far as its text tells.
type Gemfile struct {
	Main    string // the file that was read first
	Gems    []Declared
	Sources []string // the addresses of the global ones, in order
	Specs   []string // folders of "gemspec" lines
	Has     map[string]bool
	Pinned  map[string]bool // gems with a source of their own
	// Computes is where a gem stands first whose line the text alone does not tell; zero if all tell.
	Computes model.Site
	Ruby     bool // it states which Ruby it needs
	Rakefile bool
	Tests    bool
	Notes    []string
	Texts    map[string][]byte // the files that were read
}

// Declared is a gem line.
type Declared struct {
	Name    string
	Rng     string // its requirements with commas between
	Site    model.Site
	parts   []model.Site // the texts of its requirements, one by one
	Group   string
	Source  string // an address, where it has one of its own
	Git     Repository
	Path    string
	Fixed   string         // why it cannot be moved; empty if it can
	When    condition.Expr // the platforms that it is for; nil for all
	File    string
	Line    int
	options map[string]string
	Start   int    // where the statement begins in its file
	End     int    // and where it ends
	call    []part // its arguments; the first is the name
	Nested  bool   // it stands in a block
	looped  bool   // its name is one of a list
}

// reader reads one file of tokens.
type reader struct {
	files  fs.FS
	file   string
	src    string
	tokens []lex.Token
	into   *Gemfile
	blocks []block
	depth  int
	others map[string][]byte // files in which values stand that a gemspec computes; nil for none
	forges map[string]bool   // short forms of addresses that the Gemfile itself defines
}

// block is what an "end" closes.
type block struct {
	kind  string // "group", "source", "git", "path", "platforms", "condition", "computed" and so on
	value string
	names []string // of a loop: what its variable, the value, goes through
	line  int      // where it begins, of one of the Gemfile's own words
	with  map[string]string
	close int // the brace that ends it; 0 for one that "end" ends
}

// Read reads a Gemfile and those that it takes in.
func Read(files fs.FS, file string, src []byte) (*Gemfile, error) {
	g := newGemfile(file)
	if err := g.read(files, file, string(src), 0); err != nil {
		return nil, err
	}
	for _, d := range g.Gems {
		g.Has[d.Name] = true
	}
	return g, nil
}

func newGemfile(file string) *Gemfile {
	return &Gemfile{
		Main: file, Has: map[string]bool{}, Pinned: map[string]bool{}, Texts: map[string][]byte{},
	}
}

func (g *Gemfile) read(files fs.FS, file, src string, depth int) error {
	r := newReader(file, src, g)
	g.Texts[file] = []byte(src)
	r.files, r.depth = files, depth
	for i := 0; i < len(r.tokens); {
		next, err := r.statement(i)
		if err != nil {
			return err
		}
		i = max(next, i+1)
	}
	return r.unended()
}

// unended is the error of a block that nothing ends. Only what is certain is one: there are fewer
// ends than blocks.
func (r *reader) unended() error {
	open := 0
	for i, t := range r.tokens {
		if t.Kind == lex.Word && r.text(i) == "do" {
			open++
		} else if t.Kind == lex.Word && r.text(i) == "end" {
			open--
		}
	}
	for _, b := range slices.Backward(r.blocks) {
		if open > 0 && b.line > 0 {
			return r.fault(b.line, "the block that begins here has no end")
		}
	}
	return nil
}

func (r *reader) fault(line int, wrong string) error {
	return &model.Fault{Doing: "reading the Gemfile", File: r.file, Line: line, Wrong: wrong, Next: "mend its syntax"}
}

// whole is the error of a call with a bracket or a text that nothing closes.
func (r *reader) whole(from, to int) error {
	for i := from; i < to; i++ {
		t, text := r.tokens[i], r.text(i)
		switch {
		case t.Kind == lex.Mark && t.Pair < 0 && (text == "(" || text == "["):
			return r.fault(r.line(i), "nothing closes the "+text+" here")
		case t.Kind == lex.String && t.Pair < 0 && (text[0] == '"' || text[0] == '\'') && (len(text) < 2 || text[len(text)-1] != text[0]):
			return r.fault(r.line(i), "nothing closes the text that begins here")
		}
	}
	return nil
}

func newReader(file, src string, into *Gemfile) *reader {
	if at := theEnd.FindStringIndex(src); at != nil {
		src = src[:at[0]]
	}
	return &reader{file: file, src: src, tokens: lex.Said(lex.Split(lex.Named("ruby"), src)), into: into}
}

// theEnd is the line behind which a file of Ruby holds data.
var theEnd = lazyregexp.New(`(?m)^__END__\r?$`)

func (r *reader) text(i int) string {
	if i < 0 || i >= len(r.tokens) {
		return ""
	}
	return r.tokens[i].Of(r.src)
}

func (r *reader) line(i int) int { return model.LineOf([]byte(r.src), r.tokens[i].Start) }

// newLine tells whether a token is the first of its line, or of a statement.
func (r *reader) newLine(i int) bool {
	if i == 0 {
		return true
	}
	before := r.text(i - 1)
	return strings.Contains(r.src[r.tokens[i-1].End:r.tokens[i].Start], "\n") || before == ";" || before == "do" || before == "then" ||
		before == "|" || r.braces(i-1) || before == "else"
}

// end is the token behind a statement: the line's end, unless a comma or a bracket goes on.
func (r *reader) end(i int) int {
	for k := i; k < len(r.tokens); k++ {
		if r.text(k) == "do" || r.braces(k) {
			return k
		}
		if p := r.tokens[k].Pair; p > k {
			k = p
		}
		if k+1 >= len(r.tokens) || r.text(k+1) == ";" || r.text(k+1) == "}" || r.text(k+1) == "end" && r.tokens[k+1].Kind == lex.Word {
			return k + 1
		}
		gap := r.src[r.tokens[k].End:r.tokens[k+1].Start]
		if strings.Contains(gap, "\n") && !slices.Contains([]string{",", "=>", "=", "|", "(", "[", "{", "&&", "||", "."}, r.text(k)) &&
			r.text(k+1) != "." {
			return k + 1
		}
	}
	return len(r.tokens)
}

// braces tells whether a token is the brace that begins a block, as "do" does: group(:test) { … }.
func (r *reader) braces(i int) bool {
	if r.text(i) != "{" || r.tokens[i].Pair <= i || i == 0 || r.text(i-1) == "lambda" || r.text(i-1) == "proc" {
		return false
	}
	before := r.tokens[i-1]
	return before.Kind == lex.Word || before.Kind == lex.String || r.text(i-1) == ")"
}

// closes is the brace that ends a block which a token begins; 0 for one that "end" ends.
func (r *reader) closes(i int) int { return max(r.tokens[i].Pair, 0) }

// declaring are the words of a Gemfile that declare something.
var declaring = []string{
	"gem", "source", "git", "github", "path", "group", "platforms", "platform", "install_if", "gemspec", "ruby", "eval_gemfile",
}

// statement reads what begins at a token.
func (r *reader) statement(i int) (int, error) {
	word := r.text(i)
	if next := r.loop(i); next > 0 {
		return next, nil
	}
	if n := len(r.blocks); n > 0 && r.blocks[n-1].close == i && i > 0 {
		r.blocks = r.blocks[:n-1]
		return i + 1, nil
	}
	if r.tokens[i].Kind != lex.Word || !r.newLine(i) {
		if before := r.text(i - 1); word == "gem" && r.text(i+1) != ":" && before != "def" { // self.gem, send :gem
			r.compute(r.line(i))
		}
		if word == "do" || r.braces(i) { // of something that begins with no name
			r.blocks = append(r.blocks, block{kind: "computed", close: r.closes(i)})
		}
		return i + 1, nil
	}
	end := r.end(i)
	args := arguments(r, i+1, r.modifier(i, end))
	opens := r.text(end) == "do" || end < len(r.tokens) && r.braces(end)
	if slices.Contains(declaring, word) {
		if err := r.whole(i, end); err != nil {
			return 0, err
		}
	}
	switch word {
	case "gem":
		r.gem(i, end, args)
	case "source", "git", "github", "path", "group", "platforms", "platform", "install_if":
		if opens {
			r.blocks = append(
				r.blocks,
				block{kind: word, value: strings.Join(args.strings(), ", "), line: r.line(i), with: args.options, close: r.closes(end)},
			)
			return end + 1, nil
		}
		if word == "source" && len(args.plain) > 0 {
			r.into.Sources = append(r.into.Sources, args.plain[0].value)
			r.login(i, args.plain[0].value)
		}
	case "git_source":
		if len(args.plain) > 0 {
			if r.forges == nil {
				r.forges = map[string]bool{}
			}
			r.forges[args.plain[0].value] = true
		}
		return i + 1, nil
	case "gemspec":
		r.into.Specs = append(r.into.Specs, path.Join(path.Dir(r.file), args.options["path"]))
	case "ruby":
		r.into.Ruby = true
	case "eval_gemfile":
		return end, r.other(i, args)
	case "if", "unless", "case", "while", "until", "begin", "def":
		r.blocks = append(r.blocks, block{kind: "condition", value: strings.TrimSpace(word)})
		return i + 1, nil
	case "end":
		if n := len(r.blocks); n > 0 {
			r.blocks = r.blocks[:n-1]
		}
		return i + 1, nil
	case "else", "elsif", "when", "ensure", "rescue":
		return i + 1, nil
	}
	if !slices.Contains(declaring, word) {
		return i + 1, nil // what it opens, or calls, is seen then
	}
	if opens {
		r.blocks = append(r.blocks, block{kind: "computed", close: r.closes(end)})
		return end + 1, nil
	}
	return end, nil
}

// compute notes that a line's text alone does not tell what it declares.
func (r *reader) compute(line int) {
	if r.into.Computes.File == "" {
		r.into.Computes = model.Site{File: r.file, Line: line}
	}
}

// login notes an address that has a login in it.
func (r *reader) login(i int, address string) {
	if plain, ok := harmless.WithoutLogin(address); ok && plain != address {
		r.into.Notes = append(r.into.Notes, fmt.Sprintf(
			"%s:%d has a login in the address of a source, where everybody reads it, and Bundler writes it into the lock; put it into "+
				"Bundler's own configuration",
			r.file, r.line(i)))
	}
}

// modifier is where a condition behind a statement begins; end for none.
func (r *reader) modifier(i, end int) int {
	for k := i + 2; k < end; k++ {
		if word := r.text(k); r.tokens[k].Kind == lex.Word && (word == "if" || word == "unless") && r.text(k-1) != ":" &&
			r.text(k+1) != ":" {
			return k
		}
	}
	return end
}

// loop reads the head of a loop over a list of literal texts: %w[a b].each do |x|, ["a", "b"].each do |x|. It
// gives the token behind it, 0 where there is none.
func (r *reader) loop(i int) int {
	open := i
	if r.text(i) == "%" && (r.text(i+1) == "w" || r.text(i+1) == "W") {
		open = i + 2
	}
	if open >= len(r.tokens) || !r.newLine(i) || r.tokens[open].Pair <= open {
		return 0
	}
	end := r.tokens[open].Pair
	if r.text(end+1) != "." || r.text(end+2) != "each" || r.text(end+3) != "do" && r.text(end+3) != "{" || r.text(end+4) != "|" ||
		r.text(end+6) != "|" {
		return 0
	}
	b := block{kind: "loop", value: r.text(end + 5), close: r.closes(end + 3)}
	if open > i {
		b.names = strings.Fields(r.src[r.tokens[open].End:r.tokens[end].Start])
	} else {
		for k := open + 1; k < end; k++ {
			if r.plainString(k) {
				b.names = append(b.names, unquoted(r.text(k)))
			}
		}
	}
	r.blocks = append(r.blocks, b)
	return end + 7
}

// looped are the names that a variable goes through; nil for none.
func (r *reader) looped(variable string) []string {
	for _, b := range slices.Backward(r.blocks) {
		if b.kind == "loop" && b.value == variable {
			return b.names
		}
	}
	return nil
}

// other reads a Gemfile that this one takes in.
func (r *reader) other(i int, args args) error {
	if len(args.plain) != 1 || r.depth > 8 {
		r.compute(r.line(i))
		r.into.Notes = append(r.into.Notes, fmt.Sprintf("%s:%d takes in another Gemfile, whose name is computed", r.file, r.line(i)))
		return nil
	}
	name := path.Join(path.Dir(r.file), args.plain[0].value)
	src, err := fs.ReadFile(r.files, name)
	if err != nil {
		return &model.Fault{
			Doing: "reading the Gemfile",
			File:  r.file,
			Line:  r.line(i),
			Wrong: fmt.Sprintf("%s cannot be read: %s", name, model.Reason(err)),
		}
	}
	return r.into.read(r.files, name, string(src), r.depth+1)
}

// site is where a text stands, without its quotes.
func (r *reader) site(i int) model.Site {
	t := r.tokens[i]
	return model.Site{File: r.file, Start: t.Start + 1, End: t.End - 1, Line: r.line(i), Text: r.src[t.Start+1 : t.End-1]}
}

// Why a gem cannot be moved whose line the text alone does not tell.
const (
	Conditional     = "it stands in a condition"
	ComputedVersion = "its version is computed"
	ComputedBlock   = "it stands in a block that is computed"
	UnknownSource   = "where it comes from is not known"
)

// gem reads a gem line.
func (r *reader) gem(i, end int, a args) {
	d := Declared{
		File: r.file, Line: r.line(i), Group: "default", options: a.options,
		Start: r.tokens[i].Start, End: r.tokens[end-1].End, call: a.parts, Nested: len(r.blocks) > 0,
	}
	first := i + 1
	if r.text(first) == "(" {
		first++
	}
	names := r.looped(r.text(first))
	if names != nil && len(names) == 0 {
		return // it is done for nothing
	}
	if names != nil {
		a.plain = append([]argument{{value: names[0], site: model.Site{File: r.file}}}, a.plain...)
		a.computed, d.looped = false, true
		defer func() {
			last := r.into.Gems[len(r.into.Gems)-1]
			for _, name := range names[1:] {
				last.Name = name
				r.into.Gems = append(r.into.Gems, last)
			}
		}()
	} else if first >= len(r.tokens) || !r.plainString(first) {
		a.plain = nil
	}
	if len(a.plain) == 0 || a.plain[0].site.File == "" {
		r.compute(d.Line)
		r.into.Notes = append(r.into.Notes, fmt.Sprintf("%s:%d declares a gem whose name is computed; it is not moved", r.file, d.Line))
		return
	}
	d.Name = a.plain[0].value
	var texts []string
	for _, p := range a.plain[1:] {
		texts = append(texts, p.value)
		d.parts = append(d.parts, p.site)
	}
	d.Rng = strings.Join(texts, ", ")
	d.Site = model.Site{File: r.file, Line: d.Line}
	if n := len(d.parts); n > 0 {
		d.Site = d.parts[0]
		d.Site.End = d.parts[n-1].End
		d.Site.Text = r.src[d.Site.Start:d.Site.End]
	}
	for _, b := range r.blocks {
		switch b.kind {
		case "group":
			d.Group = b.value
		case "source":
			d.Source = b.value
		case "git", "github":
			d.repository(b.kind, b.value, b.with)
		case "path":
			d.Path = b.value
		case "condition":
			d.Fixed = Conditional
		case "platform", "platforms":
			d.When = condition.All(d.When, anyPlatform(words(b.value)))
		case "loop":
			if d.Rng != "" {
				d.Fixed = "one line of a loop states it for several"
			}
		case "computed":
			d.Fixed = ComputedBlock
		}
	}
	for _, key := range []string{"group", "groups"} {
		if v := a.options[key]; v != "" {
			d.Group = strings.Join(strings.Fields(strings.Trim(strings.ReplaceAll(v, ":", ""), "[] ")), " ")
		}
	}
	for _, key := range []string{"platforms", "platform"} {
		if v := a.options[key]; v != "" {
			d.When = condition.All(d.When, anyPlatform(words(v)))
		}
	}
	d.origin(a)
	if r.modifier(i, end) < end {
		d.Fixed = Conditional
	}
	if a.computed && d.Fixed == "" {
		d.Fixed = ComputedVersion
	}
	if !r.knowsSource(a) && d.Fixed == "" || d.Git.Address != "" && r.ownForge(a, r.blocks) {
		d.Fixed, d.Git = UnknownSource, Repository{}
	}
	if slices.Contains([]string{Conditional, ComputedBlock, ComputedVersion, UnknownSource}, d.Fixed) {
		r.compute(d.Line)
	}
	if d.Source != "" || d.Git.Address != "" || d.Path != "" {
		r.into.Pinned[d.Name] = true
	}
	r.into.Gems = append(r.into.Gems, d)
}

// OrAny is a range as messages say it.
func OrAny(rng string) string {
	if rng == "" {
		return "any version"
	}
	return rng
}
