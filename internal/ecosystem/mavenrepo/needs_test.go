package mavenrepo

import (
	"archive/zip"
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
)

// archive makes an archive of classes for a version of Java, and other files of some size behind them.
func archive(t *testing.T, java, classes, bytesBehind int) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	put := func(name string, method uint16, data []byte) {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: method})
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
	}
	put("META-INF/versions/21/pier/Quay0.class", zip.Deflate, []byte{0xCA, 0xFE, 0xBA, 0xBE, 0, 0, 0, 65, 0, 0})
	put("module-info.class", zip.Deflate, []byte{0xCA, 0xFE, 0xBA, 0xBE, 0, 0, 0, 53, 0, 0})
	for i := range classes {
		put(
			fmt.Sprintf("pier/Quay%d.class", i),
			zip.Deflate,
			append([]byte{0xCA, 0xFE, 0xBA, 0xBE, 0, 0, 0, byte(java + 44)}, make([]byte, 400)...),
		)
	}
	noise := make([]byte, bytesBehind)
	rng := rand.New(rand.NewPCG(1, 1))
	for i := range noise {
		noise[i] = byte(rng.IntN(256))
	}
	put("pier/chart.png", zip.Store, noise)
	require.NoError(t, z.Close())
	return b.Bytes()
}

// TestJava sees where the Java that a version needs is known from, and how much is asked for.
func TestJava(t *testing.T) {
	files := map[string][]byte{}
	put := func(version, pom string, jar []byte) {
		name := "/pier/quay/" + version + "/quay-" + version
		files[name+".pom"] = []byte(pom)
		if jar != nil {
			files[name+".jar"] = jar
		}
	}
	put("1", "<project/>", archive(t, 11, 3, 0))
	put("2", "<project/>", archive(t, 17, 3, 500_000))
	put("3", "<project/>", archive(t, 8, 4000, 10))
	put("4", "<project><!-- do_not_remove: published-with-gradle-metadata --></project>", archive(t, 8, 1, 0))
	files["/pier/quay/4/quay-4.module"] = []byte(`{"variants":[{"name":"a","attributes":{"org.gradle.jvm.version":21}},
  {"name":"b","attributes":{"org.gradle.jvm.version":17}},{"name":"c","attributes":{"org.gradle.jvm.version":"x"}}]}`)
	put("5", "<project/>", nil)
	put("6", "<project/>", []byte("PK no archive"))
	put("7", "<project/>", archive(t, 11, 0, 10))
	ranges := true
	sent := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, there := files[r.URL.Path]
		if !there {
			http.NotFound(w, r)
			return
		}
		if ranges && strings.HasSuffix(r.URL.Path, ".jar") {
			counted := &counting{ResponseWriter: w, n: &sent}
			http.ServeContent(counted, r, "", time.Time{}, bytes.NewReader(data))
			return
		}
		_, _ = w.Write(data)
	}))
	defer server.Close()
	quay := Coordinates{"pier", "quay"}
	for _, ranges = range []bool{true, false} {
		c := New(ecosystem.Surroundings{Client: fetch.New(fetch.Config{})}, &Settings{})
		for version, want := range map[string]int{"1": 11, "2": 17, "3": 8, "4": 17, "5": 0, "6": 0, "7": 0} {
			sent = 0
			java, err := c.Java(t.Context(), []Repository{{ID: "pier", URL: server.URL}}, quay, version, func() int { return 0 })
			require.NoError(t, err, version)
			assert.Equal(t, want, java, "%s, ranges %v", version, ranges)
			if version == "2" && ranges {
				assert.Less(t, sent, 100_000, "only a part of an archive is asked for")
			}
		}
		for _, one := range []struct {
			version      string
			stated, want int
		}{{"1", 7, 7}, {"1", 21, 11}, {"5", 17, 17}} {
			java, err := c.Java(t.Context(), []Repository{{ID: "pier", URL: server.URL}}, quay, one.version, func() int { return one.stated })
			require.NoError(t, err)
			assert.Equal(t, one.want, java, "%s, whose description says %d", one.version, one.stated)
		}
	}
}

// counting counts what is sent.
type counting struct {
	http.ResponseWriter
	n *int
}

func (c *counting) Write(p []byte) (int, error) {
	*c.n += len(p)
	return c.ResponseWriter.Write(p)
}

// FuzzEnd reads the ends of archives.
func FuzzEnd(f *testing.F) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create("pier/Quay.class")
	_, _ = w.Write([]byte{0xCA, 0xFE, 0xBA, 0xBE, 0, 0, 0, 61})
	_ = z.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		word, _, _ := strings.Cut(ofEnd(data), " ")
		assert.Contains(t, []string{"java", "directory", "class"}, word)
		javaOfEntry(data)
		readModule(data)
	})
}
