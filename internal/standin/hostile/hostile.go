// Package hostile is servers that misbehave: every way in which an answer can be wrong,
// without an end, or made to harm who reads it. Tests put one in the place of a good
// server, for one kind of request.
package hostile

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"time"
)

// Behaviour is one way to misbehave.
type Behaviour struct {
	Name string
	// Content is that the answer is well formed, and says something else: what comes of
	// it need not be what a good server gives.
	Content bool
	Serve   func(w http.ResponseWriter, r *http.Request, good []byte)
}

// At is a good server that misbehaves where match holds.
func At(good http.Handler, b Behaviour, match func(path string) bool) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !match(r.URL.Path) {
			good.ServeHTTP(w, r)
			return
		}
		plain := r.Clone(r.Context())
		for _, name := range []string{"Accept-Encoding", "If-None-Match", "If-Modified-Since"} {
			plain.Header.Del(name)
		}
		record := httptest.NewRecorder()
		good.ServeHTTP(record, plain)
		b.Serve(w, r, record.Body.Bytes())
	})
}

// All are the behaviours there are.
func All() []Behaviour {
	all := []Behaviour{}
	wrong := func(name string, serve func(w http.ResponseWriter, r *http.Request, good []byte)) {
		all = append(all, Behaviour{name, false, serve})
	}
	for _, status := range []int{204, 206, 304, 400, 401, 403, 404, 405, 408, 410, 418, 429, 500, 501, 502, 503, 504} {
		wrong(fmt.Sprintf("status %d", status), func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.WriteHeader(status)
			if status != 204 && status != 304 {
				_, _ = w.Write(good[:len(good)/2])
			}
		})
	}
	for name, location := range map[string]string{"itself": "", "a closed port": "http://127.0.0.1:1/x", "a file": "file:///etc/passwd",
		"nowhere": "http://", "another scheme": "gopher://127.0.0.1/", "odd characters": "http://127.0.0.1:1/\x1b[2J"} {
		wrong("redirect to "+name, func(w http.ResponseWriter, r *http.Request, _ []byte) {
			if location == "" {
				location = r.URL.Path
			}
			w.Header().Set("Location", location)
			w.WriteHeader(http.StatusFound)
		})
	}
	wrong("redirect without a place", func(w http.ResponseWriter, _ *http.Request, _ []byte) { w.WriteHeader(http.StatusFound) })
	wrong("to wait for a year", func(w http.ResponseWriter, _ *http.Request, _ []byte) {
		w.Header().Set("Retry-After", "31536000")
		w.WriteHeader(http.StatusTooManyRequests)
	})
	wrong("to wait for a day to come", func(w http.ResponseWriter, _ *http.Request, _ []byte) {
		w.Header().Set("Retry-After", time.Now().AddDate(1, 0, 0).Format(http.TimeFormat))
		w.WriteHeader(http.StatusServiceUnavailable)
	})
	all = append(all, bodies()...)
	all = append(all, encodings()...)
	all = append(all, connections()...)
	return append(all, contents()...)
}

// constant answers with one text.
func constant(name, text string) Behaviour {
	return Behaviour{name, false, func(w http.ResponseWriter, _ *http.Request, _ []byte) { _, _ = io.WriteString(w, text) }}
}

// said is constant for what is well formed.
func said(name, text string) Behaviour {
	b := constant(name, text)
	b.Content = true
	return b
}

// endless answers with a beginning and then the same for ever.
func endless(name, begin, more string) Behaviour {
	chunk := bytes.Repeat([]byte(more), 1+(1<<16)/len(more))
	return Behaviour{name, false, func(w http.ResponseWriter, r *http.Request, _ []byte) {
		_, err := io.WriteString(w, begin)
		for err == nil && r.Context().Err() == nil {
			_, err = w.Write(chunk)
		}
	}}
}

func bodies() []Behaviour {
	return []Behaviour{
		constant("nothing", ""), constant("a space", " "), constant("null", "null"), constant("a list", "[]"), constant("a number", "7"),
		constant("a text", `"left"`), constant("NULs", strings.Repeat("\x00", 1000)),
		constant("no UTF-8", "\xff\xfe\xfd"), constant("a web page", "<!doctype html><html><body>please log in</body></html>"),
		constant("deep nesting", strings.Repeat("[", 1<<20)), constant("deep objects", strings.Repeat(`{"versions":`, 1<<17)),
		constant("a line of one megabyte", strings.Repeat("v1.0.0", 1<<18)),
		said("an object", "{}"), said("a huge number", `{"versions": {"1.0.0": {"version": `+strings.Repeat("9", 1<<20)+`}}}`),
		endless("endless space", "", " "), endless("endless lines", "", "\n"), endless("endless zeros", "", "\x00"),
		endless("an endless text", `{"name": "`, "a"), endless("an endless readme", `{"readme": "`, `\n# tides `),
		endless("an endless key", `{"`, "a"), endless("an endless list", `{"keywords": [`, `"a",`), endless("endless members", "{", `"a":"b",`),
		endless(
			"endless versions", `{"versions":{`, `"1.0.0":{"version":"1.0.0"},`,
		), endless("endless times", `{"time":{`, `"1.0.0":"2024-01-01T00:00:00Z",`),
		endless(
			"an endless number", `{"a":`, "1",
		), endless("an endless archive", "PK\x03\x04", "\x00\x01"), endless("an endless list of versions", "", "v1.0.1\nv1.0.2\n"),
		{"the first half", false, func(w http.ResponseWriter, _ *http.Request, good []byte) { _, _ = w.Write(good[:len(good)/2]) }},
		{"all but a byte", false, func(w http.ResponseWriter, _ *http.Request, good []byte) { _, _ = w.Write(good[:max(0, len(good)-1)]) }},
		{"twice the same", true, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			_, _ = w.Write(good)
			_, _ = w.Write(good)
		}},
		{"endless bytes behind it", true, func(w http.ResponseWriter, r *http.Request, good []byte) {
			_, err := w.Write(good)
			for err == nil && r.Context().Err() == nil {
				_, err = w.Write(make([]byte, 1<<16))
			}
		}},
		{"each byte turned", false, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			turned := bytes.Clone(good)
			for i := range turned {
				turned[i] ^= 0x55
			}
			_, _ = w.Write(turned)
		}},
	}
}

func encodings() []Behaviour {
	return []Behaviour{
		{"packed as it says", true, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			_, _ = z.Write(good)
			_ = z.Close()
		}},
		{"not packed as it says", false, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.Header().Set("Content-Encoding", "gzip")
			_, _ = w.Write(good)
		}},
		{"packed in an unknown way", false, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.Header().Set("Content-Encoding", "sail")
			_, _ = w.Write(good[:len(good)/2])
		}},
		{"a bomb", false, func(w http.ResponseWriter, r *http.Request, _ []byte) {
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			space := bytes.Repeat([]byte(" "), 1<<20)
			for r.Context().Err() == nil {
				if _, err := z.Write(space); err != nil {
					return
				}
			}
		}},
		{"empty blocks without end", false, func(w http.ResponseWriter, r *http.Request, _ []byte) {
			w.Header().Set("Content-Encoding", "gzip")
			_, err := w.Write([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff})
			for err == nil && r.Context().Err() == nil { // stored blocks of no bytes (RFC 1951)
				_, err = w.Write(bytes.Repeat([]byte{0, 0, 0, 0xff, 0xff}, 1000))
			}
		}},
		{"more announced than comes", false, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.Header().Set("Content-Length", fmt.Sprint(len(good)+100))
			_, _ = w.Write(good)
		}},
		{"less announced than comes", false, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.Header().Set("Content-Length", fmt.Sprint(len(good)/2))
			_, _ = w.Write(good)
		}},
		{"called a web page", false, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write(good)
		}},
		{"called anything", true, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			w.Header().Set("Content-Type", "\x1b[2J;;;")
			w.Header().Set("ETag", strings.Repeat("x", 100000))
			w.Header().Set("Last-Modified", "never")
			_, _ = w.Write(good)
		}},
		{"headers without end", false, func(w http.ResponseWriter, _ *http.Request, _ []byte) {
			for i := range 15000 {
				w.Header().Set(fmt.Sprintf("X-%d", i), strings.Repeat("x", 100))
			}
		}},
	}
}

// raw answers with bytes on the connection itself.
func raw(name string, say func(conn io.Writer, good []byte, r *http.Request)) Behaviour {
	return Behaviour{name, false, func(w http.ResponseWriter, r *http.Request, good []byte) {
		conn, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		say(conn, good, r)
	}}
}

func connections() []Behaviour {
	return []Behaviour{
		raw("closed at once", func(io.Writer, []byte, *http.Request) {}),
		raw("no HTTP", func(conn io.Writer, _ []byte, _ *http.Request) { _, _ = io.WriteString(conn, "SSH-2.0-quay\r\n") }),
		raw("a broken chunk", func(conn io.Writer, _ []byte, _ *http.Request) {
			_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n{}\r\n")
		}),
		raw("a length below zero", func(conn io.Writer, _ []byte, _ *http.Request) {
			_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: -1\r\n\r\n{}")
		}),
		raw("closed in the middle", func(conn io.Writer, good []byte, _ *http.Request) {
			fmt.Fprintf(conn, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(good)+10, good)
		}),
		{"silence", false, func(_ http.ResponseWriter, r *http.Request, _ []byte) { <-r.Context().Done() }},
		{"silence in the middle", false, func(w http.ResponseWriter, r *http.Request, good []byte) {
			_, _ = w.Write(good[:len(good)/2])
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		}},
		{"a byte now and then", false, func(w http.ResponseWriter, r *http.Request, _ []byte) {
			for r.Context().Err() == nil {
				_, _ = w.Write([]byte(" "))
				w.(http.Flusher).Flush()
				time.Sleep(50 * time.Millisecond)
			}
		}},
	}
}

// Evil is a text that steers terminals and turns the direction of writing.
const Evil = "\x1b[2J\x1b]0;x\x07\u202e<script>"

func contents() []Behaviour {
	replace := func(name, old, new string) Behaviour {
		return Behaviour{name, true, func(w http.ResponseWriter, _ *http.Request, good []byte) {
			_, _ = w.Write(bytes.ReplaceAll(good, []byte(old), []byte(new)))
		}}
	}
	return []Behaviour{
		replace(
			"another name", "left", "right",
		), replace("another version", "1.1.0", "9.9.9"), replace("a version out of the folder", "1.1.0", "../../../../1.1.0"),
		replace("a long version", "1.1.0", "1.1.0-"+strings.Repeat("a", 1<<20)), replace("a version with escapes", "1.1.0", `1.1.0\u001b[2J`),
		replace(
			"other hashes", "sha512-", "sha512-AAAA",
		), replace("no hashes", "integrity", "nothing"), replace("archives elsewhere", "http://", "file:///etc/"),
		replace("times to come", "2024-", "9999-"), replace("times out of mind", "2024-", "0000-"),
	}
}
