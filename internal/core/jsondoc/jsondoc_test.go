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

func TestPutAndDrop(t *testing.T) {
	for _, c := range []struct{ name, src, put string }{
		{"a new object at the end", "{\n  \"name\": \"x\"\n}\n", "{\n  \"name\": \"x\",\n  \"overrides\": {\n    \"a\": {\n     " +
			" \"b\": \"$b\"\n    }\n  }\n}\n"},
		{"one that is there", "{\r\n\t\"overrides\": {\r\n\t\t\"c\": \"1\"\r\n\t}\r\n}", "{\r\n\t\"overrides\": {\r\n\t\t\"c\": " +
			"\"1\",\r\n\t\t\"a\": {\r\n\t\t\t\"b\": \"$b\"\r\n\t\t}\r\n\t}\r\n}"},
		{"all on one line", `{"name": "x"}`, `{"name": "x", "overrides": {"a": {"b": "$b"}}}`},
		{"nothing at all", "{}", `{"overrides": {"a": {"b": "$b"}}}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := []string{"overrides", "a", "b"}
			put, err := Put("p.json", []byte(c.src), path, `"$b"`)
			require.NoError(t, err)
			assert.Equal(t, c.put, string(put))
			again, err := Put("p.json", put, path, `"$b"`)
			require.NoError(t, err)
			assert.Equal(t, c.put, string(again), "what is there is put in its place")
			dropped, err := Drop("p.json", put, path)
			require.NoError(t, err)
			assert.Equal(t, c.src, string(dropped))
			same, err := Drop("p.json", dropped, path)
			require.NoError(t, err)
			assert.Equal(t, c.src, string(same))
		})
	}
	first, err := Drop("p.json", []byte(`{"a": 1, "b": 2}`), []string{"a"})
	require.NoError(t, err)
	assert.Equal(t, `{"b": 2}`, string(first))
	_, err = Put("p.json", []byte(`{"a": "1"}`), []string{"a", "b"}, "1")
	assert.ErrorContains(t, err, "a is no object")
}
