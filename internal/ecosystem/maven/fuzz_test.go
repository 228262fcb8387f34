package maven

import (
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/maven/project"
)

// FuzzPOM reads projects. What is spliced with nothing new is the same bytes, and what is rewritten can be read again.
func FuzzPOM(f *testing.F) {
	files, err := filepath.Glob("testdata/trees/*.txtar")
	require.NoError(f, err)
	for _, file := range files {
		archive, err := txtar.ParseFile(file)
		require.NoError(f, err)
		for _, part := range archive.Files {
			if strings.HasSuffix(part.Name, "pom.xml") {
				f.Add(part.Data, []byte("-Dview=1.0 -P a,!b"))
			}
		}
	}
	f.Add(
		[]byte(
			"\xef\xbb\xbf<project><dependencies>\r\n<dependency><!-- x --><groupId>a</groupId><artifactId>&oslash;<![CDATA[b]]></artifactId>"+
				"<version>${v}</version></dependency></dependencies><properties><v>1</v></properties></project>",
		),
		[]byte("-s x"),
	)
	f.Fuzz(func(t *testing.T, src, options []byte) {
		files := fstest.MapFS{"pom.xml": {Data: src}, ".mvn/maven.config": {Data: options}}
		c, err := project.Read(files, ".")
		if err != nil {
			return
		}
		var changes []contract.Change
		for _, q := range c.Requirements {
			of := files[q.Site.File]
			if q.Fixed == "" && q.Site.End > q.Site.Start {
				require.NotNil(t, of)
				text, err := model.Apply(of.Data, []model.Splice{{Site: q.Site, New: q.Site.Text}})
				require.NoError(t, err)
				assert.Equal(t, string(of.Data), string(text))
			}
			changes = append(changes, contract.Change{Old: q.Name, New: "new.pier:windlass", Range: "9"})
		}
		edits, err := Ecosystem{}.Rewrite(c, append(changes, contract.Change{New: "pier:quay", Range: "1"}), nil)
		if err != nil {
			return
		}
		for _, e := range edits {
			_, err := project.Read(fstest.MapFS{"pom.xml": {Data: e.New}}, ".")
			assert.NoError(t, err, string(e.New))
		}
	})
}
