package mavenrepo

import (
	"crypto/sha1"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
)

// TestClient sees what is asked where: mirrors, logins, the local repository first, several repositories in their
// order, and that a file is checked against the digest that is stated.
func TestClient(t *testing.T) {
	pom := "<project/>"
	sum := sha1.Sum([]byte(pom))
	files := map[string]string{
		"/one/org/quay/quay/maven-metadata.xml": "<metadata><versioning><latest>9</latest><versions><version>1.10</version>" +
			"<version>1.9</version>" +
			"<version>2-SNAPSHOT</version><version>../x</version></versions></versioning></metadata>",
		"/two/org/quay/quay/maven-metadata.xml": "<metadata><versioning><versions><version>1.9</version><version>2.0-M1</version>" +
			"</versions></versioning></metadata>",
		"/one/org/quay/quay/1.9/quay-1.9.pom": pom, "/one/org/quay/quay/1.9/quay-1.9.pom.sha1": hex.EncodeToString(sum[:]) + "  quay-1.9.pom\n",
		"/two/org/quay/quay/2.0-M1/quay-2.0-M1.pom": pom, "/two/org/quay/quay/2.0-M1/quay-2.0-M1.pom.md5": "0000",
	}
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, _, _ := r.BasicAuth()
		asked = append(asked, user+r.URL.Path)
		if text, there := files[r.URL.Path]; there {
			_, _ = w.Write([]byte(text))
			return
		}
		http.NotFound(w, r)
	}))
	defer server.Close()
	home := t.TempDir()
	local := filepath.Join(home, ".m2", "repository", "org", "quay", "quay", "1.0")
	require.NoError(t, os.MkdirAll(local, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(local, "quay-1.0.pom"), []byte("<project><name>local</name></project>"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".m2", "settings.xml"), []byte(`<settings>
  <mirrors><mirror><id>pier</id><mirrorOf>external:*,!two</mirrorOf><url>`+server.URL+`/one</url></mirror></mirrors>
  <servers><server><id>pier</id><username>crew</username><password>${env.SECRET}</password></server>
    <server><id>two</id><username>x</username><password>{AbC=}</password></server></servers>
  <profiles><profile><id>a</id><activation><activeByDefault>true</activeByDefault></activation><repositories>
    <repository><id>two</id><url>`+server.URL+`/two</url></repository></repositories></profile></profiles>
</settings>`), 0o644))
	said := ""
	around := ecosystem.Surroundings{
		Home:    home,
		Client:  fetch.New(fetch.Config{}),
		Say:     func(text string) { said += text },
		Environ: []string{"SECRET=s"},
	}
	settings, err := ReadSettings(around)
	require.NoError(t, err)
	assert.Contains(t, said, "the password for two in Maven's settings is encrypted")
	c := New(around, settings)
	repositories := append([]Repository{Central}, settings.Repositories...)
	quay := Coordinates{"org.quay", "quay"}
	all, err := c.Versions(t.Context(), repositories, Coordinates{"org", "quay"})
	require.ErrorIs(t, err, ErrMissing)
	assert.Empty(t, all)
	quay.Group = "org.quay"
	all, err = c.Versions(t.Context(), repositories, quay)
	require.NoError(t, err)
	assert.Equal(t, []string{"1.9", "1.10", "2.0-M1"}, all)
	assert.Contains(t, asked, "crew/one/org/quay/quay/maven-metadata.xml")
	assert.Contains(t, asked, "/two/org/quay/quay/maven-metadata.xml")
	text, err := c.POM(t.Context(), repositories, quay, "1.9")
	require.NoError(t, err)
	assert.Equal(t, pom, string(text))
	asked = nil
	text, err = c.POM(t.Context(), repositories, quay, "1.0")
	require.NoError(t, err)
	assert.Contains(t, string(text), "local")
	assert.Empty(t, asked, "the client's own cache is read first")
	_, err = c.POM(t.Context(), repositories, quay, "2.0-M1")
	assert.ErrorContains(t, err, "the md5 that it states of org/quay/quay/2.0-M1/quay-2.0-M1.pom is that of another file")
	_, err = c.POM(t.Context(), repositories, quay, "../../x")
	assert.ErrorContains(t, err, "is no name of a version")
}
