package maven

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
)

var (
	worlds     = flag.Int("worlds", 40, "how many random universes are resolved")
	firstWorld = flag.Uint64("first-world", 1001, "the seed of the first one")
)

// random makes universes.
type random struct {
	*rand.Rand
	group string
	names []string
}

// one tells, now and then, once in n.
func (r random) one(in int) bool { return r.IntN(in) == 0 }

func (r random) pick(of ...string) string { return of[r.IntN(len(of))] }

// dependency is one for a package of those from a place on. Of what is managed the version may be left out.
func (r random) dependency(from int, managed bool) string {
	i := from + r.IntN(len(r.names)-from)
	if r.one(25) {
		i = r.IntN(len(r.names)) // packages may ask for each other
	}
	var b strings.Builder
	fmt.Fprintf(&b, "<dependency><groupId>%s</groupId><artifactId>%s</artifactId>", r.group, r.names[i])
	switch {
	case managed && r.one(3):
	case r.one(14):
		b.WriteString("<version>" + r.pick("[1.0,2.0)", "[1.1,)", "[2.0]", "[1.0,2.0]") + "</version>")
	case r.one(6):
		b.WriteString("<version>${" + r.pick("early", "late") + "}</version>")
	default:
		b.WriteString("<version>" + r.pick("1.0", "1.1", "2.0") + "</version>")
	}
	if r.one(4) {
		b.WriteString("<scope>" + r.pick("runtime", "runtime", "test", "provided", "compile") + "</scope>")
	}
	if r.one(12) {
		b.WriteString("<optional>true</optional>")
	}
	if r.one(9) {
		fmt.Fprintf(&b, "<exclusions><exclusion><groupId>%s</groupId><artifactId>%s</artifactId></exclusion></exclusions>",
			r.pick(r.group, r.group, "*"), r.pick(append(r.names, "*")...))
	}
	return b.String() + "</dependency>"
}

// management are versions that are managed, and lists that are imported.
func (r random) management(lists ...string) string {
	var b strings.Builder
	b.WriteString("<dependencyManagement><dependencies>")
	seen := map[string]bool{}
	for range r.IntN(4) {
		text := r.dependency(0, false)
		name := text[strings.Index(text, "<artifactId>"):strings.Index(text, "</artifactId>")]
		if !seen[name] && !strings.Contains(text, "[") {
			b.WriteString(text)
		}
		seen[name] = true
	}
	for _, list := range lists {
		if r.one(2) {
			fmt.Fprintf(&b, "<dependency><groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version><type>pom</type>"+
				"<scope>import</scope></dependency>", r.group, list, r.pick("1.0", "2.0"))
		}
	}
	return b.String() + "</dependencies></dependencyManagement>"
}

func (r random) pom(artifact, version, packaging, body string) string {
	return fmt.Sprintf("<project><modelVersion>4.0.0</modelVersion>%s<groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version>"+
		"<packaging>%s</packaging><properties><%s>%s</%[6]s></properties>%[8]s</project>", map[bool]string{true: fmt.Sprintf(
		"<parent><groupId>%s</groupId><artifactId>house</artifactId><version>%s</version><relativePath/></parent>", r.group, r.pick("1.0", "2.0"),
	)}[artifact != "house"], r.group, artifact, version, packaging, r.pick("early", "late"), r.pick("1.0", "1.1", "2.0"), body)
}

// universe makes packages with parents, lists and relocations, and a project that asks for some of them.
func universe(seed uint64) (module string, files []txtar.File) {
	r := random{
		rand.New(rand.NewPCG(seed, 18)), fmt.Sprintf("pier.u%d", seed),
		[]string{"anchor", "bollard", "cleat", "dock", "engine", "fender", "gangway", "hawser"},
	}
	put := func(artifact, version, text string) {
		files = append(files, txtar.File{
			Name: fmt.Sprintf(
				"repository/%s/%s/%s/%[2]s-%[3]s.pom",
				strings.ReplaceAll(r.group, ".", "/"),
				artifact,
				version,
			), Data: []byte(text),
		})
	}
	for _, v := range []string{"1.0", "2.0"} {
		put(
			"house",
			v,
			strings.Replace(r.pom("house", v, "pom", r.management()), "<properties>", "<properties><early>1.0</early><late>2.0</late>", 1),
		)
		put("list", v, r.pom("list", v, "pom", r.management("other")))
		put("other", v, r.pom("other", v, "pom", r.management()))
	}
	for i, name := range r.names {
		for _, v := range []string{"1.0", "1.1", "2.0"} {
			var b strings.Builder
			if r.one(5) {
				b.WriteString(r.management("list", "other"))
			}
			b.WriteString("<dependencies>")
			for range r.IntN(4) {
				if i+1 < len(r.names) {
					b.WriteString(r.dependency(i+1, false))
				}
			}
			b.WriteString("</dependencies>")
			if v == "2.0" && r.one(9) && i+1 < len(r.names) {
				fmt.Fprintf(
					&b,
					"<distributionManagement><relocation><artifactId>%s</artifactId></relocation></distributionManagement>",
					r.names[i+1],
				)
			}
			put(name, v, r.pom(name, v, "jar", b.String()))
		}
	}
	var b strings.Builder
	b.WriteString(r.management("list", "other") + "<dependencies>")
	seen := map[string]bool{}
	for range 2 + r.IntN(4) {
		text := r.dependency(0, false)
		name := text[strings.Index(text, "<artifactId>"):strings.Index(text, "</artifactId>")]
		if !seen[name] {
			b.WriteString(text)
		}
		seen[name] = true
	}
	b.WriteString("</dependencies>")
	module = fmt.Sprintf("m%d", seed)
	return module, append(files, txtar.File{Name: module + "/pom.xml", Data: []byte(r.pom(module, "1.0", "jar", b.String()))})
}

// TestRandom compares what projects get in random universes with what Maven says. Of 600 universes, three differ: where only
// what loses asks for a package by the name that it had before, and where a range holds versions that have moved.
func TestRandom(t *testing.T) {
	archive := &txtar.Archive{}
	modules := ""
	for seed := *firstWorld; seed < *firstWorld+uint64(*worlds); seed++ {
		module, files := universe(seed)
		archive.Files = append(archive.Files, files...)
		modules += "<module>" + module + "</module>"
	}
	archive.Files = append(archive.Files, txtar.File{Name: "pom.xml", Data: []byte(
		"<project><modelVersion>4.0.0</modelVersion><groupId>example.saltmarsh</groupId><artifactId>all</artifactId><version>1</version>" +
			"<packaging>pom</packaging><modules>" + modules + "</modules></project>")})
	compareTrees(t, lay(t, archive))
}
