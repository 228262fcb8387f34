package jsondoc

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOffsets(t *testing.T) {
	src := []byte("\ufeff{\r\n  \"a\\\"b\": {\"x\" : \"1\\\\\"},\r\n  \"n\": [1.50, true, null]\r\n}\r\n")
	v, err := Parse("f.json", src)
	require.NoError(t, err)
	assert.Equal(t, `"1\\"`, string(v.At(`a"b`, "x").Raw(src)))
	assert.Equal(t, `1\`, v.At(`a"b`, "x").String())
	assert.Equal(t, "1.50", string(v.Get("n").Items[0].Raw(src)))
	assert.Equal(t, "[1.50, true, null]", string(v.Get("n").Raw(src)))
	assert.Equal(t, byte('"'), src[v.Members[0].Start])
	site := v.At(`a"b`, "x").Within("f.json", src)
	assert.Equal(t, "f.json:2", site.String())
	assert.Equal(t, `1\\`, site.Text)
}

func TestFaults(t *testing.T) {
	for text, want := range map[string]string{
		"{\n  \"a\": 1,\n  \"a\": 2\n}": `f.json:3:3: the name "a" stands twice`,
		"{\n  \"a\": }":                 "f.json:2:8: this is not JSON",
		"":                              "f.json:1:1: ",
		"{} {}":                         "more text",
		"<html>":                        "f.json:1:1: this is not JSON",
	} {
		_, err := Parse("f.json", []byte(text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"a": ["b\"", 1e5], "c": {"d": null}}`))
	f.Fuzz(func(t *testing.T, src []byte) {
		v, err := Parse("f.json", src)
		if err != nil {
			return
		}
		var walk func(v *Value)
		walk = func(v *Value) {
			again, err := Parse("part", v.Raw(src))
			require.NoError(t, err, "%q", v.Raw(src))
			require.Equal(t, v.Text, again.Text)
			for _, m := range v.Members {
				require.Equal(t, byte('"'), src[m.Start])
				walk(m.Value)
			}
			for _, i := range v.Items {
				walk(i)
			}
		}
		walk(v)
	})
}
