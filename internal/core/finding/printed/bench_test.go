package printed

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// bigLog gives a log of size bytes without keeping it: mostly what says nothing,
// with the lines of all samples among it.
type bigLog struct {
	samples []string
	left    int
	usual   []string // lines that say nothing
	line    int
	ready   []byte
}

func newBigLog(tb testing.TB, size int) *bigLog {
	files, err := filepath.Glob("testdata/samples/*.txt")
	require.NoError(tb, err)
	l := &bigLog{left: size}
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(tb, err)
		for line := range strings.Lines(string(text)) {
			if !strings.HasPrefix(line, expected) && !strings.HasPrefix(line, "=== ") {
				l.samples = append(l.samples, line)
			}
		}
	}
	for i := range 1000 {
		l.usual = append(
			l.usual,
			fmt.Sprintf(
				"2026-11-23T10:00:%02d.%03d [worker-%d] compiled src/module%d/part%d.js in %d ms, 0 problems\n",
				i%60,
				i%1000,
				i%8,
				i%977,
				i,
				i%50,
			),
		)
	}
	return l
}

func (l *bigLog) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, io.EOF
	}
	for len(l.ready) < len(p) {
		i := l.line
		l.line++
		l.ready = append(l.ready, l.usual[i%len(l.usual)]...)
		if i%20 == 0 {
			l.ready = append(l.ready, l.samples[i/20%len(l.samples)]...)
		}
	}
	n := copy(p, l.ready)
	l.ready = append(l.ready[:0], l.ready[n:]...)
	l.left -= n
	return n, nil
}

// BenchmarkReadLog reads a log of 100 MB, and tells what memory was taken from the
// system for it.
func BenchmarkReadLog(b *testing.B) {
	const size = 100 << 20
	b.SetBytes(size)
	for b.Loop() {
		r := NewReader(sampleSource)
		require.NoError(b, r.Output(newBigLog(b, size)))
		r.Report()
	}
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	b.ReportMetric(float64(memory.HeapSys)/(1<<20), "heap-MB")
}
