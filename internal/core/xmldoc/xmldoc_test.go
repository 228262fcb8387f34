package xmldoc

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	src := "\xef\xbb\xbf<?xml version=\"1.0\"?>\r\n<!-- a > b -->\n<p:project xmlns:p=\"x\" a='1'>\n <v> 1.0 <!-- c --></v>" +
		"<w><![CDATA[ 2.0 ]]></w>" +
		"<x>1<!-- and -->2</x><empty/><y>&#49;.&lt;0</y>\n</p:project>\n"
	root, err := Parse("pom.xml", []byte(src))
	require.NoError(t, err)
	assert.Equal(t, "project", root.Name)
	assert.Equal(t, "1", root.Attrs["a"])
	for name, want := range map[string][2]string{"v": {"1.0", "1.0"}, "w": {"2.0", "2.0"}, "x": {"12", ""}, "y": {"1.<0", "&#49;.&lt;0"}} {
		c := root.Child(name)
		assert.Equal(t, want[0], c.Text, name)
		assert.Equal(t, want[1], c.Site.Text, name)
		assert.Equal(t, c.Site.Text, src[c.Site.Start:c.Site.End], name)
	}
	assert.Equal(t, "<empty/>", src[root.Child("empty").Start:root.Child("empty").End])
	assert.Equal(t, 4, root.Child("v").Site.Line)
	for text, want := range map[string]string{
		"<a><b></a>": "pom.xml:1: </a> ends nothing", "<a>": "<a> is not closed", "": "it has no element", "<a/><b/>": "more than one root",
		"<!DOCTYPE a [<!ENTITY x 'y'>]><a>&x;</a>": "invalid character entity", "<a\n><": "pom.xml:2",
	} {
		_, err := Parse("pom.xml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	latin := "<?xml version='1.0' encoding='ISO-8859-1'?><a><n>F\xe4hre</n><v>1</v></a>"
	root, err = Parse("pom.xml", []byte(latin))
	require.NoError(t, err)
	at := root.Child("v").Site
	assert.Equal(t, "<v>1</v>", latin[at.Start-3:at.End+4])
}

// FuzzParse sees that no text stops the reader, and that places are where they are.
func FuzzParse(f *testing.F) {
	f.Add("<a b='c'><d> 1 </d><e><![CDATA[x]]></e><!-- f --></a>")
	f.Fuzz(func(t *testing.T, src string) {
		root, err := Parse("a.xml", []byte(src))
		if err != nil {
			return
		}
		var look func(e *Element)
		look = func(e *Element) {
			require.Equal(t, e.Site.Text, src[e.Site.Start:e.Site.End])
			require.LessOrEqual(t, e.Start, e.Inner)
			require.LessOrEqual(t, e.Inner, e.End)
			for _, c := range e.Children {
				look(c)
			}
		}
		look(root)
	})
}
