package machine

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
)

// TestVersions lays folders of version managers out and asks simulated
// programs.
func TestVersions(t *testing.T) {
	home := t.TempDir()
	for _, folder := range []string{
		".nvm/versions/node/v18.20.1", ".nvm/versions/node/v20.11.0", ".asdf/installs/nodejs/16.4.0", "managed/versions/3.12.1",
		"managed/versions/3.13.0",
		".sdkman/candidates/java/21.0.2-tem", ".rustup/toolchains/1.80.1-x86_64-unknown-linux-gnu",
		".rustup/toolchains/stable-x86_64-unknown-linux-gnu",
	} {
		require.NoError(t, os.MkdirAll(filepath.Join(home, folder), 0o755))
	}
	require.NoError(t, os.Symlink("21.0.2-tem", filepath.Join(home, ".sdkman/candidates/java/current")))
	says := map[string]string{
		"node": "v20.11.0", "go": "go1.24.1", "ruby": "ruby 3.3.1 (2024-04-23 revision c56cd86388) [x86_64-linux]", "erl": "27",
		"rustc": "rustc 1.79.0 (129f3b996 2024-06-10)", "mvn": "\x1b[1mApache Maven 3.9.9 " +
			"(8e8579a9e76f7d015ee5ec7bfcdc97d260186937)\x1b[m\nMaven home: /opt/maven",
	}
	m := &Machine{
		Home: home,
		Env:  func(name string) string { return map[string]string{"PYENV_ROOT": filepath.Join(home, "managed")}[name] },
		Ask: func(_ context.Context, args ...string) (string, error) {
			if out, ok := says[args[0]]; ok {
				return out, nil
			}
			return "", errors.New("not installed")
		},
	}
	for subject, want := range map[string]string{
		"runtime/node": "20.11.0 18.20.1 16.4.0", "runtime/python": "3.13.0 3.12.1", "runtime/go": "1.24.1",
		"runtime/ruby": "3.3.1", "runtime/erlang": "27",
		"runtime/rust": "1.79.0 1.80.1", "tool/maven": "3.9.9", "tool/gradle": "", "tool/anything": "",
	} {
		s, ok := model.ReadSubject(subject)
		require.True(t, ok)
		var got []string
		for _, i := range m.Versions(t.Context(), s) {
			got = append(got, i.Version)
		}
		assert.Equal(t, want, strings.Join(got, " "), subject)
	}
	assert.True(t, Askable(model.Subject{Kind: "tool", Name: "gradle"}))
	assert.False(t, Askable(model.Subject{Kind: "platform", Name: "account"}))
}
