package keys

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// apply makes edits.
func apply(src string, edits ...Edit) string {
	slices.SortFunc(edits, func(a, b Edit) int { return b.Start - a.Start })
	for _, e := range edits {
		src = src[:e.Start] + e.New + src[e.End:]
	}
	return src
}

// read reads a text of which nothing may be wrong.
func read(t *testing.T, f Format, src string) *Document {
	t.Helper()
	d, err := Read(f, src)
	require.NoError(t, err, src)
	return d
}

func TestRename(t *testing.T) {
	for _, c := range []struct {
		format                  Format
		old, new, before, after string
	}{
		{
			Properties, "server.port", "server.http.port", "# server.port\nserver.port = 80\nserver.portal=1\n",
			"# server.port\nserver.http.port = 80\nserver.portal=1\n",
		},
		{Properties, "server.max-size", "server.limit", "server.maxSize: 5\\\n 6", "server.limit: 5\\\n 6"},
		{Env, "server.port", "http.port", "export SERVER_PORT=80 # x\r\nPORT=1\r\n", "export HTTP_PORT=80 # x\r\nPORT=1\r\n"},
		{INI, "server.port", "server.listen", "[server]\nport=80\n[other]\nport = 1\n", "[server]\nlisten=80\n[other]\nport = 1\n"},
		{YAML, "server.port", "server.listen", "server: # here\n  port: 80\nport: 1\n", "server: # here\n  listen: 80\nport: 1\n"},
		{YAML, "server.port", "http.listen", "server.port: 80\n", "http.listen: 80\n"},
		{YAML, "server.port", "server.listen", "{server: {port: 80, portal: 1}}", "{server: {listen: 80, portal: 1}}"},
		{JSON, "server.port", "server.listen", "{\"server\": { // port\n \"port\": 80, }}", "{\"server\": { // port\n \"listen\": 80, }}"},
		{TOML, "server.port", "server.listen", "[server]\nport = 80 # x\n", "[server]\nlisten = 80 # x\n"},
		{TOML, "server.port", "http.port", "server.port = 80\n", "http.port = 80\n"},
		{XML, "beans.server.@port", "beans.server.@listen", "<beans><server port='80'/></beans>", "<beans><server listen='80'/></beans>"},
		{XML, "beans.server", "beans.listener", "<beans>\n<server>\n1</server></beans>", "<beans>\n<listener>\n1</listener></beans>"},
		{
			XML, "p.server.port", "p.http.port", `<p><property name="server.port" value="80"/></p>`,
			`<p><property name="http.port" value="80"/></p>`,
		},
	} {
		d := read(t, c.format, c.before)
		found := d.Find(Split(c.old))
		if assert.NotEmpty(t, found, "%s in %s: %v", c.old, c.before, d.Names()) {
			edits, ok := d.Rename(found[0], Split(c.new))
			assert.True(t, ok, c.before)
			assert.Equal(t, c.after, apply(c.before, edits...))
		}
	}
}

func TestRemove(t *testing.T) {
	for _, c := range []struct {
		format             Format
		key, before, after string
	}{
		{Properties, "a.b", "x=1\na.b=\\\n  2\ny=3", "x=1\ny=3"},
		{Env, "A_B", "A_B='1'\r\nC=2", "C=2"},
		{INI, "a.b", "[a]\nb=1\nc=2", "[a]\nc=2"},
		{YAML, "a.b", "a:\n  b:\n    - 1\n    # deep\n    - 2\n  # about c\n  c: 3\n", "a:\n  # about c\n  c: 3\n"},
		{YAML, "a.b", "a:\n  b:\n  - 1\n  - 2\n  c: 3\n", "a:\n  c: 3\n"},
		{YAML, "a.b", "a: {x: 1, b: [1, 2], c: 3}\n", "a: {x: 1, c: 3}\n"},
		{YAML, "[0].b", "- b: 1\n  c: 2\n", "- c: 2\n"},
		{YAML, "t", "t: |\n  one\n\n  two\nu: 1\n", "u: 1\n"},
		{JSON, "b", "{\n  \"a\": 1,\n  \"b\": {\"x\": []}\n}", "{\n  \"a\": 1\n}"},
		{JSON, "a", "{\n  \"a\": 1, // one\n  \"b\": 2\n}", "{ // one\n  \"b\": 2\n}"},
		{JSON, "a", `{"a": 1, "b": 2}`, `{"b": 2}`},
		{TOML, "t.a", "[t]\na = [\n 1,\n]\nb = 2\n", "[t]\nb = 2\n"},
		{TOML, "t.a", "t = { x = 1, a = 2 }\n", "t = { x = 1 }\n"},
		{XML, "r.a", "<r>\n  <a>1</a>\n  <b/>\n</r>\n", "<r>\n  <b/>\n</r>\n"},
		{XML, "r.a.@x", "<r><a x=\"1\" y=\"2\"/></r>", "<r><a y=\"2\"/></r>"},
	} {
		d := read(t, c.format, c.before)
		found := d.Find(Split(c.key))
		if assert.NotEmpty(t, found, "%s in %s: %v", c.key, c.before, d.Names()) {
			edit, err := d.Remove(found[0])
			require.NoError(t, err)
			assert.Equal(t, c.after, apply(c.before, edit))
		}
	}
}

func TestAdd(t *testing.T) {
	for _, c := range []struct {
		format                    Format
		key, value, before, after string
	}{
		{Properties, "a.c", "1", "a.b = 0\nx = 1\n", "a.b = 0\na.c = 1\nx = 1\n"},
		{Properties, "z", "1", "", "z=1\n"},
		{Env, "a.c", "x y", "A_B=0", "A_B=0\nA_C=\"x y\""},
		{INI, "a.c", "1", "[a]\nb = 0\n\n[x]\n", "[a]\nb = 0\nc = 1\n\n[x]\n"},
		{INI, "n.c", "1", "[a]\nb=0\n", "[a]\nb=0\n\n[n]\nc=1\n"},
		{YAML, "a.c", "yes", "a:\n    b: 0\nx: 1\n", "a:\n    b: 0\n    c: \"yes\"\nx: 1\n"},
		{YAML, "a.n.c", "1", "a:\n  b: 0", "a:\n  b: 0\n  n:\n    c: 1"},
		{YAML, "a.c", "1", "a: {b: 0}\n", "a: {b: 0, c: 1}\n"},
		{YAML, "a", "1", "# only\n", "# only\na: 1\n"},
		{JSON, "a.c", "x", "{\n\t\"a\": {\n\t\t\"b\": 0\n\t}\n}", "{\n\t\"a\": {\n\t\t\"b\": 0,\n\t\t\"c\": \"x\"\n\t}\n}"},
		{JSON, "n.c", "1", "{\r\n  \"a\": {},\r\n}", "{\r\n  \"a\": {},\r\n  \"n\": {\r\n    \"c\": 1\r\n  },\r\n}"},
		{JSON, "c", "1", "{}", "{\"c\": 1}"},
		{TOML, "a.c", "x", "[a]\nb = 0\n\n[x]\n", "[a]\nb = 0\nc = \"x\"\n\n[x]\n"},
		{TOML, "n.c", "1", "a = 0\n", "a = 0\n\n[n]\nc = 1\n"},
		{TOML, "c", "1", "# x\n[a]\n", "# x\nc = 1\n\n[a]\n"},
		{XML, "r.n.c", "1<", "<r>\n  <a/>\n</r>\n", "<r>\n  <a/>\n  <n>\n    <c>1&lt;</c>\n  </n>\n</r>\n"},
		{XML, "r.a.@c", "1", "<r>\n  <a b='2'/>\n</r>\n", "<r>\n  <a b='2' c=\"1\"/>\n</r>\n"},
		{XML, "r.c.d", "1", "<r>\n  <add key='a' value='2'/>\n</r>\n", "<r>\n  <add key='a' value='2'/>\n  <add key='c.d' value='1'/>\n</r>\n"},
	} {
		d := read(t, c.format, c.before)
		edit, err := d.Add(Split(c.key), Value{Text: c.value, Plain: plainWord(c.value)})
		require.NoError(t, err, c.before)
		after := apply(c.before, edit)
		assert.Equal(t, c.after, after)
		again := read(t, c.format, after)
		found := again.Find(Split(c.key))
		if assert.NotEmpty(t, found, "%s in %s: %v", c.key, after, again.Names()) {
			assert.Equal(t, c.value, found[0].Text)
		}
	}
}

func TestSet(t *testing.T) {
	for _, c := range []struct {
		format                    Format
		key, value, before, after string
	}{
		{Properties, "a", "2", "a : 1\n", "a : 2\n"},
		{Env, "a", "2", "A='1'\n", "A='2'\n"},
		{YAML, "a", "it's: 2", "a: '1' # x\n", "a: 'it''s: 2' # x\n"},
		{YAML, "a", "x", "a:\nb: 1\n", "a: x\nb: 1\n"},
		{JSON, "a", "x\"", `{"a": "1"}`, `{"a": "x\""}`},
		{TOML, "a", "x", "a = '1'", "a = 'x'"},
		{XML, "r.a", "x&", "<r><a> 1 </a></r>", "<r><a> x&amp; </a></r>"},
	} {
		d := read(t, c.format, c.before)
		found := d.Find(Split(c.key))
		require.NotEmpty(t, found, c.before)
		edit, err := d.Set(found[0], Value{Text: c.value})
		require.NoError(t, err)
		assert.Equal(t, c.after, apply(c.before, edit))
	}
}

func TestMalformed(t *testing.T) {
	for f, src := range map[Format]string{
		JSON: "{\"a\": 1,\n \"b\" 2}", YAML: "a: [1\nb: 2", TOML: "a = 1\n= 2", XML: "<r>\n<a></r>",
	} {
		_, err := Read(f, src)
		assert.ErrorContains(t, err, "line", "%s", f)
	}
}

// FuzzRead sees that no text stops the reader, that every entry's ranges lie in the text, and
// that what is removed or renamed leaves the rest as it is.
func FuzzRead(f *testing.F) {
	formats := []Format{Properties, Env, INI, YAML, JSON, TOML, XML}
	for i, seed := range []string{
		"a.b: 1\\\n2", "export A='1'", "[a]\nb=1", "a:\n- b: {c: 1}\n  d: |\n   x", "{\"a\":[{}],}", "[a.b]\nc = {d = 1}",
		"<a b='c'><d name='e'>f</d></a>",
	} {
		f.Add(uint8(i), seed)
	}
	f.Fuzz(func(t *testing.T, n uint8, src string) {
		format := formats[int(n)%len(formats)]
		d, err := Read(format, src)
		if err != nil {
			return
		}
		for _, e := range d.Entries {
			for _, s := range []span{e.key, e.value, e.whole} {
				require.True(t, s.start >= 0 && s.start <= s.end && s.end <= len(src), "%s %v", e.Name(), s)
			}
			edits, ok := d.Rename(e, append(slices.Clone(e.Path[:len(e.Path)-1]), "zq"))
			if ok {
				apply(src, edits...)
			}
			if edit, err := d.Remove(e); err == nil {
				require.True(t, edit.Start >= 0 && edit.Start <= edit.End && edit.End <= len(src), "%s %v", e.Name(), edit)
			}
		}
		if edit, err := d.Add([]string{"zq", "new"}, Value{Text: "1", Plain: true}); err == nil {
			require.True(t, strings.HasPrefix(src, src[:edit.Start]) && edit.End <= len(src))
		}
	})
}
