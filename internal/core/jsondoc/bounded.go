package jsondoc

import (
	"bytes"
	"errors"
	"io"
)

// ErrEndless is the error of JSON in which one part is larger than may be.
var ErrEndless = errors.New("a part of it has no end in sight")

// Bounded gives JSON as it is read, and fails where more than limit bytes come without a
// part coming to its end: a value at a depth, or anything above it. So a reader that
// takes part by part holds no more than that, whatever is sent.
func Bounded(r io.Reader, depth int, limit int) io.Reader {
	return &bounded{r: r, part: depth, limit: limit}
}

type bounded struct {
	r           io.Reader
	part, limit int
	depth       int
	since       int // bytes since a part ended
	text        bool
	escaped     bool // the next byte stands for itself
}

// Read reads, and looks through what came.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if b.look(p[:n]); b.since > b.limit {
		return 0, ErrEndless // readers pass over an error that comes with bytes
	}
	return n, err
}

// look goes from one byte that counts to the next. The rest of what was read counts for
// the part that has not ended.
func (b *bounded) look(p []byte) {
	for len(p) > 0 {
		if b.escaped {
			b.escaped = false
			b.since++
			p = p[1:]
			continue
		}
		counts := `{}[],"`
		if b.text {
			counts = `"\`
		}
		at := bytes.IndexAny(p, counts)
		if at < 0 {
			b.since += len(p)
			return
		}
		b.since += at + 1
		if b.since > b.limit {
			return
		}
		switch p[at] {
		case '\\':
			b.escaped = true
		case '"':
			b.text = !b.text
		case '{', '[':
			b.depth++
		case '}', ']':
			b.depth--
		}
		if !b.text && b.depth <= b.part && p[at] != '"' {
			b.since = 0
		}
		p = p[at+1:]
	}
}
