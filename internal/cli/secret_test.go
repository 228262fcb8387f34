package cli

import (
	"bytes"
	"fmt"
	"io/fs"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/shorthand"
)

// TestNoSecretShown calls with passwords of all kinds in the addresses of registries,
// proxies and books, on servers that answer, refuse and are not there: no secret is in
// what is printed, kept or cached, nor in a file's name.
func TestNoSecretShown(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	t.Parallel()
	u, err := shorthand.Load("left 1.0.0\nleft 1.1.0\n")
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	defer server.Close()
	refusing := httptest.NewServer(faulty(u.NPM(), "401", "/left"))
	defer refusing.Close()
	const secret = "s3cretOfTheSea"
	odd := []string{"", "@", "/", ":", "%", "%zz", "#", "?", " ", "\\", "[", "é", "%2F", "&x="}
	for i, around := range odd {
		for _, host := range []string{server.URL, refusing.URL, "http://127.0.0.1:1"} {
			address := strings.Replace(host, "http://", "http://crew:"+around+secret+around+"@", 1) + "/"
			dir := t.TempDir()
			root := filepath.Join(dir, "project")
			for name, text := range map[string]string{
				"package.json": `{ "dependencies": { "left": "^1.0.0" } }`,
				"package-lock.json": `{ "lockfileVersion": 3, "packages": { "": { "dependencies": { "left": "^1.0.0" } }, ` +
					`"node_modules/left": { "version": "1.0.0" } } }`,
				"g/go.mod": "module own.example/g\n\ngo 1.21\n\nrequire left.example/l v1.0.0\n", "g/g.go": "package " +
					"g\n\nimport _ \"left.example/l\"\n",
				"bellwether.yaml": map[bool]string{true: fmt.Sprintf("books: [{url: %q, sha256: 00}]\n", address)}[i%2 == 1],
			} {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
			}
			var out bytes.Buffer
			for _, args := range [][]string{{"survey"}, {"route", "--reach", "minor", "--format", "json"}, {"books"}} {
				cmd := program(args...)
				cmd.Dir, cmd.Stdout, cmd.Stderr = root, &out, &out
				cmd.Env = append(
					os.Environ(), "HOME="+dir, "XDG_CACHE_HOME="+filepath.Join(dir, "cache"), "XDG_STATE_HOME="+filepath.Join(dir, "state"),
					"GOENV=off", "npm_config_registry="+address, "npm_config_fetch_retries=0", "GOPROXY="+strings.ReplaceAll(address, ",", ""),
					"GOSUMDB=off", "GOMODCACHE="+filepath.Join(dir, "modules"),
				)
				_ = cmd.Run()
			}
			about := fmt.Sprintf("%s\n%s", address, out.String())
			require.NotContains(t, out.String(), secret, about)
			require.NotContains(t, out.String(), "panic", about)
			require.NoError(t, filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() || name == filepath.Join(root, "bellwether.yaml") {
					return err
				}
				text, err := os.ReadFile(name)
				assert.NotContains(t, name, secret, about)
				assert.False(t, bytes.Contains(text, []byte(secret)), "%s: %s", name, about)
				return err
			}))
		}
	}
}

// program is a call of the program that tests run.
func program(args ...string) *exec.Cmd {
	bin, _, _ := strings.Cut(os.Getenv("PATH"), string(os.PathListSeparator))
	return exec.Command(filepath.Join(bin, "bellwether"), args...)
}
