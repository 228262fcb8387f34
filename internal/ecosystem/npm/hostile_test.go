package npm

import (
	"context"
	"fmt"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/placing"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/hostile"
	"bellwether/internal/standin/shorthand"
)

// TestHostileRegistry asks for a package, and for what an archive bundles, of registries
// that misbehave in every way: there is the right answer or an error that names the
// package, within bounds of time and memory.
func TestHostileRegistry(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	u, err := shorthand.Load("left 1.0.0\nleft 1.1.0\n")
	require.NoError(t, err)
	for _, kind := range []string{"/left", ".tgz"} {
		hostile.Trial{
			Good: u.NPM(), Kinds: []string{kind}, About: "left",
			Ask: func(address string) (string, error) { return askNPM(t, address, kind) },
		}.Run(t)
	}
}

// askNPM tells what a registry says, in short.
func askNPM(t *testing.T, address, kind string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	opened, err := Ecosystem{}.Connect(ctx, ecosystem.Surroundings{
		Files:   fstest.MapFS{},
		Environ: []string{"npm_config_registry=" + address, "npm_config_fetch_timeout=100", "npm_config_fetch_retries=0"},
		Client:  fetch.New(fetch.Config{Slow: 150 * time.Millisecond, Most: 24 << 20}), Now: time.Now(),
		Ask: func(context.Context, ...string) (string, error) { return "", fmt.Errorf("nothing is installed") },
	}, ".")
	if err != nil {
		return "", err
	}
	r := opened.(*registries)
	releases, err := r.Releases(ctx, model.Subject{Kind: packagejson.Name, Name: "left"})
	if err != nil {
		return "", err
	}
	text := ""
	for _, rel := range releases {
		text += rel.Version + "\n"
	}
	if kind == ".tgz" {
		p, err := r.Package(ctx, "left")
		if err != nil {
			return "", err
		}
		list, err := placing.Bundle(ctx, r.Registry, p.Releases[0])
		return fmt.Sprint(text, list), err
	}
	return text, nil
}
