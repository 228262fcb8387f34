package mavenrepo

import (
	"context"
	"crypto/sha1"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/hostile"
)

// TestHostileRepository asks for the versions, a description and the classes of a package of repositories that misbehave
// in every way: there is the right answer or an error that names the package, within bounds of time and memory.
func TestHostileRepository(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	const pom = "<project><groupId>org.quay</groupId><artifactId>left</artifactId><version>1.0</version></project>"
	good := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		file, digest := strings.CutSuffix(r.URL.Path, ".sha1")
		text := map[string]string{
			"/org/quay/left/maven-metadata.xml":    "<metadata><versioning><versions><version>1.0</version></versions></versioning></metadata>",
			"/org/quay/left/1.0/left-1.0.pom":      pom,
			"/org/quay/left/1.0/left-1.0.pom.sha1": fmt.Sprintf("%x", sha1.Sum([]byte(pom))),
		}[r.URL.Path]
		if text == "" || digest && file == "" {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write([]byte(text))
	})
	hostile.Trial{
		Good: good, Kinds: []string{"/maven-metadata.xml", ".pom", ".pom.sha1"}, About: "left",
		Ask:   func(address string) (string, error) { return askRepository(t, address) },
		Loose: func(kind string) bool { return kind == "/maven-metadata.xml" }, // a list that is none of XML lists nothing
	}.Run(t)
}

// askRepository tells what a repository says of a package, in short.
func askRepository(t *testing.T, address string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	around := ecosystem.Surroundings{
		Client: fetch.New(fetch.Config{Slow: 150 * time.Millisecond, Stall: 100 * time.Millisecond, Most: 24 << 20}), Say: func(string) {},
	}
	c := New(around, newSettings())
	from, left := []Repository{{ID: "x", URL: address}}, Coordinates{"org.quay", "left"}
	versions, err := c.Versions(ctx, from, left)
	if err != nil {
		return "", err
	}
	text, err := c.POM(ctx, from, left, "1.0")
	return fmt.Sprint(versions, string(text)), err
}
