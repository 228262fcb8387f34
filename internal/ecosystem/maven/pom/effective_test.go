package pom

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem/mavenrepo"
)

// TestWithoutEnd sees that properties that are made of each other, lists that import each other and parents that lead to
// each other come to an end.
func TestWithoutEnd(t *testing.T) {
	var properties strings.Builder
	for i := range 30 {
		fmt.Fprintf(&properties, "<p%d>%s</p%d>", i, strings.Repeat(fmt.Sprintf("${p%d}", i+1), 10), i)
	}
	p, err := ReadPOM(
		"pom.xml",
		[]byte("<project><artifactId>a</artifactId><properties>"+properties.String()+"<x>${x}</x></properties></project>"),
		true, ReadConfig(fstest.MapFS{}, "."), nil,
	)
	require.NoError(t, err)
	s := &Finder{Files: fstest.MapFS{}, Foreign: map[string]*Effective{}, Begun: map[string]bool{}, Config: ReadConfig(fstest.MapFS{}, ".")}
	e, err := s.Effective(t.Context(), p, 0)
	require.NoError(t, err)
	assert.Less(t, len(e.Expand("${p0}")), 1<<20)
	assert.Equal(t, "${x}", e.Expand("${x}"))

	list := "<dependency><groupId>pier</groupId><artifactId>%s</artifactId><version>1</version><type>pom</type>" +
		"<scope>import</scope></dependency>"
	s.Ask = func(_ context.Context, _ []mavenrepo.Repository, c mavenrepo.Coordinates, _ string) ([]byte, error) {
		return fmt.Appendf(
			nil,
			"<project><groupId>pier</groupId><artifactId>%s</artifactId>"+
				"<version>1</version><dependencyManagement><dependencies>"+
				list+list+"</dependencies></dependencyManagement></project>",
			c.Artifact,
			"a",
			"b",
		), nil
	}
	_, err = s.Of(t.Context(), nil, mavenrepo.Coordinates{Group: "pier", Artifact: "a"}, "1", 0)
	assert.ErrorContains(t, err, "its lists import each other")
	s.Ask = func(_ context.Context, _ []mavenrepo.Repository, c mavenrepo.Coordinates, _ string) ([]byte, error) {
		return []byte(
			"<project><parent><groupId>pier</groupId><artifactId>a</artifactId><version>1</version></parent>" +
				"<artifactId>a</artifactId></project>",
		), nil
	}
	_, err = s.Of(t.Context(), nil, mavenrepo.Coordinates{Group: "pier", Artifact: "a"}, "1", 0)
	assert.ErrorContains(t, err, "its parents lead to each other")
}
