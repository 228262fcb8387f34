// Package verdict keeps what real package clients said of projects, so that tests need not ask
// them each time. A verdict is found by a digest of all that the client saw; what a client has
// not been asked before is asked of the client itself.
package verdict

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
)

var (
	judge = flag.String(
		"judge", cmp.Or(os.Getenv("JUDGE"), "none"),
		"which kept verdicts of clients are asked for again: none, all, or a `digit` for the tenth of them that it names",
	)
	keep = flag.Bool("update", false, "keep what clients say now, and other golden files")
)

// Updating tells whether golden files are to be written anew.
func Updating() bool { return *keep }

// Book is a file of verdicts.
type Book struct {
	file  string
	mu    sync.Mutex
	known map[string]Verdict
	used  map[string]bool
}

// Verdict is what a client said, and which files it changed.
type Verdict struct {
	About  string            `json:"about"`        // the case, for people
	By     string            `json:"by,omitempty"` // the client's version, as it prints it
	Output string            `json:"output,omitempty"`
	Files  map[string]string `json:"files,omitempty"` // new contents of what it changed
}

// Open reads the verdicts in a file, and writes them back when the tests are done, where they
// are to be kept.
func Open(file string) *Book {
	b := &Book{file: file, known: map[string]Verdict{}, used: map[string]bool{}}
	if data, err := os.ReadFile(file); err == nil {
		if err := json.Unmarshal(data, &b.known); err != nil {
			panic(fmt.Sprintf("%s: %v", file, err))
		}
	}
	return b
}

// Close writes the verdicts, if they are to be kept. What no test asked for any more goes, if
// all tests ran.
func (b *Book) Close() error {
	if !*keep {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if run := flag.Lookup("test.run"); run == nil || run.Value.String() == "" {
		for digest := range b.known {
			if !b.used[digest] {
				delete(b.known, digest)
			}
		}
	}
	data, err := json.MarshalIndent(b.known, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(b.file, append(data, '\n'), 0o644)
}

// Case is what a client is asked about.
type Case struct {
	About    string   // where it is asked, for people
	Client   string   // the program; it is skipped where neither a verdict is kept nor the client is there
	Question []string // what it is asked, as its arguments are
	Dir      string   // the folder that it looks at and may change
	Given    string   // what else it sees: what a registry serves, settings
	// Words stand for what differs from run to run, as a registry's address; they count, and
	// are kept, by their names.
	Words map[string]string
	Far   bool // the client asks more than this machine; it is asked again only where all are
}

// Ask gives what a client says of a case, and makes the changes that it makes. Ask asks the
// client itself; what it refuses is no verdict, and the error is that. A client that is not
// there, and was not asked this before, is ErrMissing.
func (b *Book) Ask(c Case, ask func() (output string, err error)) (string, error) {
	before, err := c.files()
	if err != nil {
		return "", err
	}
	digest := c.digest(before)
	b.mu.Lock()
	v, known := b.known[digest]
	b.used[digest] = true
	b.mu.Unlock()
	if known && !again(digest, c.Far) {
		return c.spoken(v.Output), c.change(v.Files)
	}
	if _, err := exec.LookPath(c.Client); err != nil {
		return "", fmt.Errorf("%s: %w", c.Client, ErrMissing)
	}
	output, err := ask()
	if err != nil {
		return output, err
	}
	after, err := c.files()
	if err != nil {
		return "", err
	}
	now := Verdict{About: c.About + ": " + c.Client + " " + strings.Join(c.Question, " "), By: versionOf(c.Client), Output: c.named(output)}
	for name, text := range after {
		if old, there := before[name]; !there || old != text {
			if now.Files == nil {
				now.Files = map[string]string{}
			}
			now.Files[name] = text
		}
	}
	if known && !*keep && !same(v, now) {
		who := c.Client + " says something else than it did"
		if v.By != now.By {
			who = fmt.Sprintf("%s is %q here and was %q, and says something else", c.Client, now.By, v.By)
		}
		return "", fmt.Errorf("%s (%s); if that is right, run the tests with -judge all -update\nwas: %q\nis:  %q", who, digest, v, now)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.known[digest] = now
	return output, nil
}

var (
	versions   = map[string]string{}
	versioning sync.Mutex
)

// versionOf is what a client says that it is, in one line; empty if it does not tell.
func versionOf(client string) string {
	versioning.Lock()
	defer versioning.Unlock()
	if known, ok := versions[client]; ok {
		return known
	}
	question := "--version"
	if client == "go" {
		question = "version"
	}
	said, _ := exec.Command(client, question).Output()
	line, _, _ := strings.Cut(strings.TrimSpace(escapes.ReplaceAllString(string(said), "")), "\n")
	versions[client] = line
	return line
}

// escapes are what clients colour their answers with.
var escapes = regexp.MustCompile(`\x1b\[[0-9;]*m`)

// ErrMissing means that a client is not installed, and was not asked before.
var ErrMissing = errors.New("it is not installed, and has not been asked this before")

// Required tells whether every client is meant to be there, so that a missing one is a failure:
// the environment has CLIENTS_REQUIRED.
func Required() bool { return os.Getenv("CLIENTS_REQUIRED") != "" }

// change writes the files that a client changed.
func (c Case) change(files map[string]string) error {
	for name, text := range files {
		file := filepath.Join(c.Dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(c.spoken(text)), 0o644); err != nil {
			return err
		}
	}
	return nil
}

func same(a, b Verdict) bool {
	x, _ := json.Marshal([]any{a.Output, a.Files})
	y, _ := json.Marshal([]any{b.Output, b.Files})
	return bytes.Equal(x, y)
}

// again tells whether a kept verdict is to be asked for again.
func again(digest string, far bool) bool {
	tenth, err := strconv.Atoi(*judge)
	if err != nil || far {
		return *judge == "all"
	}
	first, _ := strconv.ParseUint(digest[:8], 16, 64)
	return int(first%10) == tenth%10
}

// digest names a case by all that the client sees.
func (c Case) digest(files map[string]string) string {
	h := sha256.New()
	fmt.Fprintf(h, "%q\n%q\n%q\n", c.Client, c.Question, c.named(c.Given))
	names := []string{}
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(h, "%q %q\n", name, files[name])
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// leftOut are folders whose files do not count: what clients install, and what is no part of
// a project.
var leftOut = []string{"node_modules", ".git", ".bellwether", ".home"}

// files are the texts of the folder's files, with words by their names.
func (c Case) files() (map[string]string, error) {
	all := map[string]string{}
	err := filepath.WalkDir(c.Dir, func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && slices.Contains(leftOut, d.Name()):
			return fs.SkipDir
		case !d.Type().IsRegular():
			return nil
		}
		rel, err := filepath.Rel(c.Dir, name)
		if err != nil {
			return err
		}
		data, err := os.ReadFile(name)
		all[filepath.ToSlash(rel)] = c.named(string(data))
		return err
	})
	return all, err
}

// named puts the names of words in their place.
func (c Case) named(text string) string {
	names := slices.SortedFunc(maps.Keys(c.Words), func(a, b string) int { // a word may be part of another
		return cmp.Or(len(c.Words[b])-len(c.Words[a]), strings.Compare(a, b))
	})
	for _, name := range names {
		if c.Words[name] != "" {
			text = strings.ReplaceAll(text, c.Words[name], "{"+name+"}")
		}
	}
	return text
}

// spoken puts words in the place of their names.
func (c Case) spoken(text string) string {
	for name, word := range c.Words {
		text = strings.ReplaceAll(text, "{"+name+"}", word)
	}
	return text
}

// Runner runs the tests of a package that asks clients, and writes what they said where that
// is to be kept.
type Runner struct {
	M    interface{ Run() int }
	Book *Book
}

// Run gives the exit status.
func (r Runner) Run() int {
	status := r.M.Run()
	if err := r.Book.Close(); err != nil {
		panic(err)
	}
	return status
}

// Check asks for a test, and ends it where the client refuses: it fails, or where the client
// is missing and may be, is skipped.
func (b *Book) Check(t testing.TB, c Case, ask func() string) string {
	t.Helper()
	c.About = t.Name()
	output, err := b.Ask(c, func() (string, error) {
		output := ask()
		if t.Failed() {
			return output, errors.New("the test fails")
		}
		return output, nil
	})
	switch {
	case t.Failed():
		t.FailNow()
	case errors.Is(err, ErrMissing) && !Required():
		t.Skip(err)
	case err != nil:
		t.Fatal(err)
	}
	return output
}
