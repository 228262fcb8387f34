package mavenrepo

import (
	"crypto/sha1"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/xmldoc"
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
	files["/one/org/quay/quay/2-SNAPSHOT/maven-metadata.xml"] = "<metadata><versioning><snapshotVersions><snapshotVersion>" +
		"<extension>pom</extension><value>2-20261001.1-4</value></snapshotVersion></snapshotVersions></versioning></metadata>"
	files["/one/org/quay/quay/2-SNAPSHOT/quay-2-20261001.1-4.pom"] = pom
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
	settings, err := ReadSettings(around, &Environment{})
	require.NoError(t, err)
	assert.Contains(t, said, "the password for two in Maven's settings is encrypted")
	c := New(around, settings)
	repositories := append([]Repository{Central}, settings.Repositories...)
	repositories[0].Snapshots = true
	quay := Coordinates{"org.quay", "quay"}
	all, err := c.Versions(t.Context(), repositories, Coordinates{"org", "quay"})
	require.ErrorIs(t, err, ErrMissing)
	assert.Empty(t, all)
	quay.Group = "org.quay"
	all, err = c.Versions(t.Context(), repositories, quay)
	require.NoError(t, err)
	assert.Equal(t, []string{"1.9", "1.10", "2.0-M1", "2-SNAPSHOT"}, all)
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
	text, err = c.POM(t.Context(), repositories, quay, "2-SNAPSHOT")
	require.NoError(t, err)
	assert.Equal(t, pom, string(text), "the newest of a snapshot")
	_, err = c.POM(t.Context(), repositories, quay, "../../x")
	assert.ErrorContains(t, err, "is no name of a version")
}

// TestDeclared sees that what a project says of a repository sends no login anywhere, and reads no folder outside of the
// project.
func TestDeclared(t *testing.T) {
	said := ""
	around := ecosystem.Surroundings{
		Files: fstest.MapFS{"lib/org/quay/quay/1/quay-1.pom": {Data: []byte("<project/>")}}, Client: fetch.New(fetch.Config{}),
		Say: func(text string) { said += text + "\n" },
	}
	root, err := xmldoc.Parse("settings.xml", []byte(`<settings>
  <servers><server><id>corp</id><username>crew</username><password>s</password></server></servers>
  <mirrors><mirror><id>own</id><mirrorOf>other</mirrorOf><url>https://corp.example/maven</url></mirror></mirrors>
  <profiles><profile><id>off</id><properties><altDeploymentRepository>corp::https://up.example/own</altDeploymentRepository></properties>
  <repositories><repository><id>corp</id><url>https://corp.example/releases</url></repository></repositories></profile></profiles>
  </settings>`))
	require.NoError(t, err)
	settings := newSettings()
	settings.take(root, around, &Environment{}, true)
	require.NoError(t, settings.TakeProject("p.xml", []byte(`<settings><servers><server><id>x</id><username>u</username></server></servers>
  <mirrors><mirror><id>corp</id><mirrorOf>central</mirrorOf><url>https://harm.example/${env.SECRET}</url></mirror></mirrors></settings>`),
		around, &Environment{}))
	assert.NotContains(t, settings.servers, "x")
	at, err := settings.mirrored(Central)
	require.NoError(t, err)
	header, refused := settings.login(at)
	assert.Empty(t, header)
	assert.Equal(
		t,
		"the login corp is not sent to https://harm.example/$%7Benv.SECRET%7D, an address that your own settings do not give under "+
			"that name; if it may go there, write the repository, or a mirror of it, with the id corp into your own settings.xml",
		refused,
	)
	for address, sent := range map[string]bool{
		"https://corp.example/releases": true, "https://corp.example/releases/": true, "https://CORP.example/releases/more": true,
		"https://up.example/own":       true,
		"https://corp.example/maven":   false, // given under another name
		"https://corp.example/release": false, "https://corp.example/releases/../evil": false, "https://corp.example/releases/%2e%2e/evil": false,
		"https://corp.example:8443/releases": false, "https://corp.example@harm.example/releases": false, "http://corp.example/releases": false,
		"https://corp.example/": false, "https://corp.example.harm.example/releases": false, "": false, "corp.example/releases": false,
	} {
		header, _ = settings.login(Repository{ID: "corp", URL: address, Declared: true})
		assert.Equal(t, sent, header != "", address)
	}

	c := New(around, settings)
	quay := Coordinates{"org.quay", "quay"}
	text, err := c.POM(t.Context(), []Repository{{ID: "lib", URL: "file:" + ProjectFolder + "lib", Declared: true}}, quay, "1")
	require.NoError(t, err)
	assert.Equal(t, "<project/>", string(text))
	outside := t.TempDir()
	_, err = c.POM(t.Context(), []Repository{{ID: "out", URL: "file://" + outside, Declared: true}}, quay, "2")
	require.ErrorIs(t, err, ErrMissing)
	assert.Contains(t, said, "the repository out is a folder outside of the project")
	_, err = c.POM(t.Context(), []Repository{{ID: "up", URL: "file:" + ProjectFolder + "../..", Declared: true}}, quay, "3")
	require.ErrorIs(t, err, ErrMissing)
}

// TestActive sees which profiles are active.
func TestActive(t *testing.T) {
	root, err := xmldoc.Parse("pom.xml", []byte(`<profiles>
  <profile><id>default</id><activation><activeByDefault>true</activeByDefault></activation></profile>
  <profile><id>java</id><activation><jdk>[11,18)</jdk></activation></profile>
  <profile><id>old</id><activation><jdk>1.8</jdk></activation></profile>
  <profile><id>not</id><activation><jdk>!1.8</jdk><property><name>env.CI</name></property></activation></profile>
  <profile><id>unset</id><activation><property><name>!quick</name></property></activation></profile>
  <profile><id>value</id><activation><property><name>depth</name><value>deep</value></property></activation></profile>
  <profile><id>other</id><activation><property><name>depth</name><value>!deep</value></property></activation></profile>
  <profile><id>file</id><activation><file><exists>keel</exists></file></activation></profile>
  <profile><id>no-file</id><activation><file><missing>keel</missing></file></activation></profile>
  <profile><id>never</id></profile></profiles>`))
	require.NoError(t, err)
	names := func(e *Environment, files ...string) (all []string) {
		for _, p := range e.Active(root.All("profile"), func(file string) bool { return slices.Contains(files, file) }) {
			all = append(all, p.Value("id"))
		}
		return all
	}
	quick := map[string]string{"quick": "", "depth": "deep"}
	assert.Equal(t, []string{"java", "unset", "other", "file"}, names(&Environment{Java: "17.0.9"}, "keel"))
	assert.Equal(t, []string{"value", "no-file"}, names(&Environment{Properties: quick}))
	assert.Equal(t, []string{"old", "value", "no-file"}, names(&Environment{Java: "1.8.0_402", Properties: quick}))
	assert.Equal(t, []string{"default"}, names(&Environment{Properties: quick, Chosen: map[string]bool{"value": false, "no-file": false}}))
	assert.Equal(t, []string{"value", "never"}, names(&Environment{
		Properties: quick, Chosen: map[string]bool{"never": true, "no-file": false},
	}))
}

// FuzzSettings reads settings, of the person and of a project.
func FuzzSettings(f *testing.F) {
	f.Add("<settings><mirrors><mirror><id>a</id><mirrorOf>*,!b</mirrorOf><url>https://x.example</url></mirror></mirrors></settings>")
	f.Add("<settings><servers><server><id>a</id><username>u</username><password>${env.X}</password></server></servers></settings>")
	f.Fuzz(func(t *testing.T, text string) {
		root, err := xmldoc.Parse("settings.xml", []byte(text))
		if err != nil {
			return
		}
		s := newSettings()
		s.take(root, ecosystem.Surroundings{}, &Environment{}, true)
		_ = s.TakeProject("settings.xml", []byte(text), ecosystem.Surroundings{}, &Environment{})
		for _, r := range append(s.Repositories, Central) {
			at, err := s.mirrored(r)
			if header, _ := s.login(at); err == nil && header != "" {
				assert.True(t, fetch.Private(at.URL))
			}
		}
	})
}
