package maven

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io/fs"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/linked"
	"bellwether/internal/standin"
	"bellwether/internal/standin/shorthand"
)

// jar is an archive of the classes that the compiler makes of sources, by their names; beside has what they need.
func jar(t *testing.T, beside string, sources map[string]string) (archive, classes string) {
	t.Helper()
	dir, out := t.TempDir(), t.TempDir()
	args := []string{"--release", "11", "-d", out, "-cp", beside}
	for name, text := range sources {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		args = append(args, file)
	}
	said, err := exec.Command("javac", args...).CombinedOutput()
	require.NoError(t, err, string(said))
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	require.NoError(t, fs.WalkDir(os.DirFS(out), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(filepath.Join(out, name))
		require.NoError(t, err)
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write(data)
		return err
	}))
	require.NoError(t, z.Close())
	return b.String(), out
}

// TestDangling sees that a library is told that refers to what a leg takes away, before anything is built: a package that is
// called otherwise by then, and a method with another signature.
func TestDangling(t *testing.T) {
	if _, err := exec.LookPath("javac"); err != nil {
		t.Skip("there is no javac")
	}
	artifacts, err := shorthand.Artifacts(`pier:servlet 4
pier:servlet 5
pier:quay 1
pier:quay 2
pier:report-kit 2.9 pier:servlet:4
pier:report-kit 3.0 pier:servlet:5
pier:report-kit 3.1-RC1
pier:optional 1
`)
	require.NoError(t, err)
	four, classes := jar(t, "", map[string]string{"Filter.java": "package old.servlet; public interface Filter { void pass(); }"})
	artifacts["pier/servlet/4/servlet-4.jar"] = four
	artifacts["pier/servlet/5/servlet-5.jar"], _ = jar(
		t,
		"",
		map[string]string{"Filter.java": "package servlet; public interface Filter { void pass(); }"},
	)
	one, quay := jar(t, "", map[string]string{"Quay.java": "package quay; public class Quay { public int depth() { return 1; } }"})
	artifacts["pier/quay/1/quay-1.jar"] = one
	artifacts["pier/quay/2/quay-2.jar"], _ = jar(
		t,
		"",
		map[string]string{"Quay.java": "package quay; public class Quay { public long depth() { return 1; } }"},
	)
	artifacts["pier/report-kit/2.9/report-kit-2.9.jar"], _ = jar(t, classes+string(os.PathListSeparator)+quay, map[string]string{
		"Kit.java":  "package report; public class Kit implements old.servlet.Filter { public void pass() { new quay.Quay().depth(); } }",
		"More.java": "package report; class More { old.servlet.Filter f; String s = toString(); }",
	})
	artifacts["pier/report-kit/3.0/report-kit-3.0.jar"], _ = jar(
		t,
		"",
		map[string]string{"Kit.java": "package report; public class Kit {}"},
	)
	_, own := jar(t, classes, map[string]string{"Own.java": "class Own { old.servlet.Filter f; }"})
	c, r, s := moved(
		t,
		artifacts,
		own,
		[]string{"servlet 4", "quay 1", "report-kit 2.9"},
		map[string]string{"pier:servlet": "5", "pier:quay": "2"},
	)
	assert.Equal(t, []string{
		"pier:report-kit 2.9 refers to old.servlet.Filter, quay.Quay.depth, which pier:quay 1, pier:servlet 4 had and nothing has " +
			"after this leg; its newest release, 3.0, does not",
		"the project's own code refers to old.servlet.Filter, which pier:servlet 4 had and nothing has after this leg",
	}, s.Notable)
	assert.Empty(t, s.Notices)
	source := filepath.Join(fmt.Sprint(r.Around.Files), "src", "main", "java", "Own.java")
	require.NoError(t, os.MkdirAll(filepath.Dir(source), 0o755))
	require.NoError(t, os.WriteFile(source, []byte("class Own {}"), 0o644))
	for changed, count := range map[time.Duration]int{-time.Hour: 1, time.Hour: 0} { // those of an older source are not its own
		at := time.Now().Add(changed)
		require.NoError(t, os.Chtimes(source, at, at))
		assert.Len(t, linked.OwnClasses(r.Registry, "pom.xml").Units, count)
	}
	packages, err := Ecosystem{}.Effective(t.Context(), r, c)
	require.NoError(t, err)
	for _, p := range packages {
		assert.Equal(t, graph.NeededJava(11), p.Needs, p.Subject.Name)
	}
}

// moved is what comes of a project with some packages, "quay 1", and own classes, of which some move.
func moved(
	t *testing.T, artifacts standin.Artifacts, own string, packages []string, to map[string]string,
) (*model.Component, *registries, *contract.State) {
	t.Helper()
	return movedWith(t, artifacts, func(dir string) {
		if own != "" {
			require.NoError(t, os.CopyFS(filepath.Join(dir, "target", "classes"), os.DirFS(own)))
		}
	}, packages, to)
}

// movedWith is what comes of a project with some packages and more files, of which some packages move.
func movedWith(
	t *testing.T, artifacts standin.Artifacts, more func(dir string), packages []string, to map[string]string,
) (*model.Component, *registries, *contract.State) {
	t.Helper()
	server := httptest.NewServer(artifacts.Repository())
	t.Cleanup(server.Close)
	l := laid{dir: t.TempDir(), home: t.TempDir(), url: server.URL}
	require.NoError(t, os.MkdirAll(filepath.Join(l.home, ".m2"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(l.home, ".m2", "settings.xml"), []byte(
		"<settings><mirrors><mirror><id>pier</id><mirrorOf>*</mirrorOf><url>"+l.url+"</url></mirror></mirrors></settings>"), 0o644))
	text := `<project><groupId>a</groupId><artifactId>b</artifactId><version>1</version>
<properties><java>1.8</java><maven.compiler.target>${java}</maven.compiler.target></properties><dependencies>`
	for _, p := range packages {
		name, version, _ := strings.Cut(p, " ")
		text += "<dependency><groupId>pier</groupId><artifactId>" + name + "</artifactId><version>" + version + "</version></dependency>\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(l.dir, "pom.xml"), []byte(text+"</dependencies></project>"), 0o644))
	more(l.dir)
	c, r := l.read(t)
	r.Central = true
	goal := contract.Goal{Bounds: map[string]contract.Bound{}}
	for name, to := range to {
		goal.Bounds[name] = contract.Bound{Allow: func(v version.Version) bool { return v.String() == to }, Newest: true}
	}
	s, err := r.Resolve(t.Context(), ecosystem.Ask{Component: c, Goal: goal})
	require.NoError(t, err)
	return c, r, s
}

// TestStarved sees that nothing moves unasked to a release that needs classes of a newer package than its parent lets the project
// have, and that what is asked for goes and is told.
func TestStarved(t *testing.T) {
	if _, err := exec.LookPath("javac"); err != nil {
		t.Skip("there is no javac")
	}
	artifacts, err := shorthand.Artifacts(`harbour:parent 1 manages:rope:rope:1
rope:rope 1
rope:rope 2
pier:mast 1.0 rope:rope:1
pier:mast 1.1 rope:rope:2
pier:mast 1.2 rope:rope:2
pier:mast 1.2.1 rope:rope:2
`)
	require.NoError(t, err)
	one, _ := jar(t, "", map[string]string{"Rope.java": "package rope; public class Rope {}"})
	two, rope := jar(t, "", map[string]string{"Rope.java": "package rope; public class Rope { public void haul() {} }"})
	plain, _ := jar(t, "", map[string]string{"Mast.java": "package mast; public class Mast {}"})
	hauls, _ := jar(t, rope, map[string]string{"Mast.java": "package mast; public class Mast { void up() { new rope.Rope().haul(); } }"})
	artifacts["rope/rope/1/rope-1.jar"], artifacts["rope/rope/2/rope-2.jar"] = one, two
	for v, archive := range map[string]string{"1.0": plain, "1.1": plain, "1.2": hauls, "1.2.1": hauls} {
		artifacts["pier/mast/"+v+"/mast-"+v+".jar"] = archive
	}
	with := func(mast string) (*model.Component, *registries) {
		c, r, _ := movedWith(t, artifacts, func(dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "pom.xml"), []byte(`<project>
<parent><groupId>harbour</groupId><artifactId>parent</artifactId><version>1</version></parent><artifactId>b</artifactId><dependencies>
<dependency><groupId>pier</groupId><artifactId>mast</artifactId><version>`+mast+`</version></dependency></dependencies></project>`), 0o644))
		}, nil, nil)
		return c, r
	}
	c, r := with("1.0")
	goal := contract.Goal{Bounds: map[string]contract.Bound{"pier:mast": {Newest: true}}, Fit: true}
	s, err := r.Resolve(t.Context(), ecosystem.Ask{Component: c, Goal: goal})
	require.NoError(t, err)
	require.Len(t, s.Moves, 1)
	assert.Equal(t, "1.1", s.Moves[0].To)
	goal.Fit = false
	s, err = r.Resolve(t.Context(), ecosystem.Ask{Component: c, Goal: goal})
	require.NoError(t, err)
	require.Len(t, s.Moves, 1)
	assert.Equal(t, "1.2.1", s.Moves[0].To)
	assert.Contains(t, s.Notable, "pier:mast 1.2.1 refers to rope.Rope.haul, which rope:rope 1 does not have; it may be too old for that")
	// What was so before holds nothing back.
	c, r = with("1.2")
	goal.Fit = true
	s, err = r.Resolve(t.Context(), ecosystem.Ask{Component: c, Goal: goal})
	require.NoError(t, err)
	require.Len(t, s.Moves, 1)
	assert.Equal(t, "1.2.1", s.Moves[0].To)
}

// TestHollow sees that a release without classes is told, though what only tests get has them.
func TestHollow(t *testing.T) {
	if _, err := exec.LookPath("javac"); err != nil {
		t.Skip("there is no javac")
	}
	artifacts, err := shorthand.Artifacts(`pier:quay 1
pier:quay 2
pier:probe 1
pier:probe 2 pier:quay-jvm:2
pier:quay-jvm 2
`)
	require.NoError(t, err)
	classes, _ := jar(t, "", map[string]string{"Quay.java": "package quay; public class Quay {}"})
	artifacts["pier/quay/1/quay-1.jar"], artifacts["pier/quay-jvm/2/quay-jvm-2.jar"] = classes, classes
	for scope, want := range map[string]bool{"test": true, "compile": false} {
		_, _, s := movedWith(t, artifacts, func(dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "pom.xml"), []byte(`<project>
<groupId>a</groupId><artifactId>b</artifactId><version>1</version><dependencies>
<dependency><groupId>pier</groupId><artifactId>quay</artifactId><version>1</version></dependency>
<dependency><groupId>pier</groupId><artifactId>probe</artifactId><version>1</version><scope>`+scope+`</scope></dependency>
</dependencies></project>`), 0o644))
		}, nil, map[string]string{"pier:quay": "2", "pier:probe": "2"})
		assert.Equal(t, want, len(s.Hollow) == 1 && s.Hollow[0].Name == "pier:quay", scope)
	}
}

// TestRenamed sees that a release is told which refers to a package by its new name, while only the former one is there, with
// the release that has the new one; what it can do without, and never was there, is not.
func TestRenamed(t *testing.T) {
	if _, err := exec.LookPath("javac"); err != nil {
		t.Skip("there is no javac")
	}
	artifacts, err := shorthand.Artifacts("pier:server 9\npier:server 10\npier:server 10.1\npier:server 11\npier:frame 5\npier:frame 6\n")
	require.NoError(t, err)
	filter := func(in string) map[string]string {
		return map[string]string{
			"Filter.java": "package " + in + "; public interface Filter {}",
			"Call.java":   "package " + in + "; public class Call {}",
		}
	}
	nine, old := jar(t, "", filter("old.servlet"))
	ten, new := jar(t, "", filter("servlet"))
	_, extra := jar(t, "", map[string]string{"Chart.java": "package chart; public class Chart {}"})
	frame := func(in, beside string) string {
		text, _ := jar(t, beside+string(os.PathListSeparator)+extra, map[string]string{
			"Frame.java": "package frame; class Frame implements " + in + ".Filter { " + in + ".Call call; }",
			"Extra.java": "package frame; class Extra { chart.Chart chart; }",
		})
		return text
	}
	artifacts["pier/server/9/server-9.jar"] = nine
	for _, v := range []string{"10", "10.1", "11"} {
		artifacts["pier/server/"+v+"/server-"+v+".jar"] = ten
	}
	artifacts["pier/frame/5/frame-5.jar"], artifacts["pier/frame/6/frame-6.jar"] = frame("old.servlet", old), frame("servlet", new)
	_, _, s := moved(t, artifacts, "", []string{"server 9", "frame 5"}, map[string]string{"pier:frame": "6"})
	assert.Equal(t, []string{
		"pier:frame 6 refers to servlet.Call in the place of old.servlet.Call, and to 1 more likewise; nothing has them after this leg; " +
			"pier:server has them at 10.1",
	}, s.Notable)
	assert.Equal(t, []contract.Cure{
		{Name: "pier:server", To: "10.1", Why: "brings servlet.Call, which others refer to after this leg"},
	}, s.Cures)
	_, _, s = moved(t, artifacts, "", []string{"server 9", "frame 5"}, map[string]string{"pier:frame": "6", "pier:server": "10.1"})
	assert.Empty(t, s.Notable)
	// The new names may be in what the newer release asks for.
	apart, err := shorthand.Artifacts("pier:server 9\npier:server 10 pier:server-api:10\npier:server-api 10\npier:frame 5\npier:frame 6\n")
	require.NoError(t, err)
	apart["pier/server/9/server-9.jar"], apart["pier/server-api/10/server-api-10.jar"] = nine, ten
	for _, frame := range []string{"pier/frame/5/frame-5.jar", "pier/frame/6/frame-6.jar"} {
		apart[frame] = artifacts[frame]
	}
	_, _, s = moved(t, apart, "", []string{"server 9", "frame 5"}, map[string]string{"pier:frame": "6"})
	if assert.Len(t, s.Cures, 1) {
		assert.Equal(t, "10", s.Cures[0].To)
	}
}

// TestSources sees that sources are told which import what a leg takes away, with where it went, and what is empty by now.
func TestSources(t *testing.T) {
	if _, err := exec.LookPath("javac"); err != nil {
		t.Skip("there is no javac")
	}
	artifacts, err := shorthand.Artifacts(
		"pier:servlet 4\npier:servlet 5\npier:cask 1\npier:cask 2\npier:oar 1\npier:oar 2 pier:oar-java:2\npier:oar-java 2\n",
	)
	require.NoError(t, err)
	filter := func(in string) string {
		text, _ := jar(t, "", map[string]string{"Filter.java": "package " + in + "; public interface Filter { int DEEP = 1; }"})
		return text
	}
	artifacts["pier/servlet/4/servlet-4.jar"] = filter("old.web.filters")
	artifacts["pier/servlet/5/servlet-5.jar"] = filter("fresh.web.filters")
	artifacts["pier/cask/1/cask-1.jar"] = filter("cask")
	var empty bytes.Buffer
	require.NoError(t, zip.NewWriter(&empty).Close())
	artifacts["pier/cask/2/cask-2.jar"] = empty.String()
	// What is in another archive, which comes along, has not gone.
	artifacts["pier/oar/1/oar-1.jar"], artifacts["pier/oar-java/2/oar-java-2.jar"] = filter("oar"), filter("oar")
	artifacts["pier/oar/2/oar-2.jar"] = empty.String()
	sources := map[string]string{
		"src/main/java/A.java":   "package a;\nimport old.web.filters.Filter;\nimport static old.web.filters.Filter.DEEP;\nclass A {}\n",
		"src/test/java/B.java":   "  import old.web.filters.*;\n// import cask.Filter;\nclass B {}\n",
		"src/main/java/D.java":   "import static old.web.filters.Filter.*;\nclass D {}\n",
		"src/main/java/C.java":   "import java.util.List;\nimport old.web.Other;\nclass C {}\n",
		"src/main/java/old.text": "import old.web.filters.Filter;\n",
	}
	_, _, s := movedWith(t, artifacts, func(dir string) {
		for name, text := range sources {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
	}, []string{"servlet 4", "cask 1", "oar 1"}, map[string]string{"pier:servlet": "5", "pier:cask": "2", "pier:oar": "2"})
	assert.Equal(t, []string{
		"src/main/java/A.java:2, src/main/java/A.java:3, src/main/java/D.java:1, src/test/java/B.java:1 import " +
			"old.web.filters.Filter, which pier:servlet 4 had and nothing has after this leg; fresh.web.filters.Filter of pier:servlet 5 is there",
		"pier:cask 2 has no classes any more, and does not say where they went",
	}, s.Notable)
	// A class of the same name that came, and is the only one, is where it went.
	artifacts["pier/servlet/5/servlet-5.jar"] = filter("fresh.other")
	_, _, apart := movedWith(t, artifacts, func(dir string) {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "src"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "src", "A.java"), []byte("import old.web.filters.Filter;\n"), 0o644))
	}, []string{"servlet 4"}, map[string]string{"pier:servlet": "5"})
	assert.Equal(t, []string{
		"src/A.java:1 imports old.web.filters.Filter, which pier:servlet 4 had and nothing has after this leg; " +
			"fresh.other.Filter of pier:servlet 5 is there",
	}, apart.Notable)
	require.Len(t, s.Hollow, 1)
	assert.Equal(t, "pier:cask", s.Hollow[0].Name)
	// One that came from elsewhere, and no longer says so, has lost what it had there.
	forgot, err := shorthand.Artifacts("pier:sail 1 becomes:port:sail\npier:sail 2\nport:sail 1\n")
	require.NoError(t, err)
	forgot["port/sail/1/sail-1.jar"], forgot["pier/sail/2/sail-2.jar"] = filter("sail"), empty.String()
	_, _, s = moved(t, forgot, "", []string{"sail 1"}, map[string]string{"pier:sail": "2"})
	require.Len(t, s.Hollow, 1)
	assert.Equal(t, "pier:sail", s.Hollow[0].Name)
}
