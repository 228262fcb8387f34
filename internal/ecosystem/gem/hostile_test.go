package gem

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/hostile"
)

// TestHostileServer asks for a gem of servers that misbehave in every way, with the list of all gems and with its own: there
// is the right answer or an error that names the gem, within bounds of time and memory.
func TestHostileServer(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	good := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text := map[string]string{
			"/versions": "created_at: 2026-01-01\n---\nleft 1.0.0,1.1.0 " + strings.Repeat("0", 31) + "\n", "/info/left": "---\n1.0.0 |\n1.1.0 |\n",
		}[r.URL.Path]
		if text == "" {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write([]byte(text))
	})
	hostile.Trial{
		Good: good, Kinds: []string{"/versions", "/info/left"}, About: "left",
		Ask: func(address string) (string, error) { return askServer(t, address) },
		// Lines of a list that are cut off whole are not missed where no digest is stated.
		Loose: func(kind string) bool { return kind == "/info/left" },
	}.Run(t)
}

// askServer tells what a server says of a gem, in short.
func askServer(t *testing.T, address string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	r, err := Ecosystem{}.Connect(ctx, ecosystem.Surroundings{
		Files:  fstest.MapFS{"Gemfile": {Data: []byte("source '" + address + "'\ngem 'left'")}},
		Client: fetch.New(fetch.Config{Slow: 150 * time.Millisecond, Stall: 100 * time.Millisecond, Most: 24 << 20}), Now: time.Now(),
		Say: func(string) {}, Ask: func(context.Context, ...string) (string, error) { return "", assert.AnError },
	}, ".")
	if err != nil {
		return "", err
	}
	releases, err := r.Releases(ctx, model.Subject{Kind: project.Name, Name: "left"})
	text := ""
	for _, rel := range releases {
		text += rel.Version + "\n"
	}
	return text, err
}
