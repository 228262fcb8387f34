package run

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"bellwether/internal/host/within"
)

// Prober asks installed programs for short facts, such as their version, and
// remembers the answers for as long as the program stays the same. They are asked in a
// neutral folder, with an environment built from a list.
type Prober struct {
	File   string        // where answers are kept; empty for nowhere
	MaxAge time.Duration // older answers are asked for again
	Env    []string      // "NAME=value", added to the environment

	mu    sync.Mutex
	known map[string]answer
	shims map[string]answer // of programs that stand for others, for as long as the prober is there
}

// answer is what a program printed.
type answer struct {
	Program string    `json:"program"`
	Changed time.Time `json:"changed"` // when the program's file was
	Asked   time.Time `json:"asked"`
	Output  string    `json:"output"`
}

// Ask gives what a program prints, trimmed. The error is ErrMissing for a
// program that is not installed.
func (p *Prober) Ask(ctx context.Context, args ...string) (string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	program, err := Find(args[0])
	if err != nil {
		return "", err
	}
	info, err := os.Stat(program)
	if err != nil {
		return "", err
	}
	p.load()
	key := strings.Join(args, " ")
	known := p.known
	if !steady(program, args[0]) {
		known = p.shims
	}
	a, ok := known[key]
	if ok && a.Program == program && a.Changed.Equal(info.ModTime()) && young(a.Asked, p.MaxAge) {
		return a.Output, nil
	}
	out, err := output(ctx, p.Env, args...)
	if err != nil {
		return "", err
	}
	known[key] = answer{Program: program, Changed: info.ModTime(), Asked: time.Now(), Output: out}
	p.save()
	return out, nil
}

// steady tells whether what a program answers changes only with its file. A shim, which starts
// one of several versions, is a shell script, or has a name of its own.
func steady(file, name string) bool {
	if !strings.Contains(filepath.Base(file), strings.TrimSuffix(filepath.Base(name), ".exe")) {
		return false
	}
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	start := make([]byte, 64)
	n, _ := f.Read(start)
	line, _, _ := strings.Cut(string(start[:n]), "\n")
	return !strings.HasPrefix(line, "#!") || !strings.Contains(line, "sh")
}

// young tells whether something asked for at a time is not older than an age. What
// comes from the future is no answer at all.
func young(asked time.Time, age time.Duration) bool {
	since := time.Since(asked)
	return since >= 0 && since < age
}

func (p *Prober) load() {
	if p.known != nil {
		return
	}
	p.known, p.shims = map[string]answer{}, map[string]answer{}
	if data, err := os.ReadFile(p.File); err == nil {
		_ = json.Unmarshal(data, &p.known)
	}
}

// save keeps the answers; where that fails they are asked for again.
func (p *Prober) save() {
	if p.File == "" {
		return
	}
	if data, err := json.Marshal(p.known); err == nil && os.MkdirAll(filepath.Dir(p.File), 0o700) == nil {
		_ = within.Replace(p.File, data)
	}
}
