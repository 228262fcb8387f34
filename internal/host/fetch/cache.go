package fetch

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"time"

	"github.com/fxamacker/cbor/v2"

	"bellwether/internal/host/within"
)

// entry is a kept document. On disk it is a CBOR (RFC 8949) header, followed
// by the payload as it is.
type entry struct {
	URL      string
	Form     string
	ETag     string
	Modified string
	Checked  time.Time
	Absent   bool // the server has no such document
	payload  []byte
}

func (c *Client) file(r Request) string {
	sum := sha256.Sum256([]byte(plainAddress(r.URL) + r.Part))
	name := hex.EncodeToString(sum[:])
	return filepath.Join(c.cfg.CacheDir, name[:2], name[2:])
}

// Folder is where something else than documents is kept for what has a name: another
// client's own form of it. It is "" where nothing is kept.
func (c *Client) Folder(kind, name string) string {
	if c.cfg.CacheDir == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(plainAddress(name)))
	return filepath.Join(c.cfg.CacheDir, kind, hex.EncodeToString(sum[:]))
}

// load gives what is kept. Whatever is unreadable counts as not kept.
func (c *Client) load(r Request) (entry, bool) {
	var e entry
	if c.cfg.CacheDir == "" {
		return e, false
	}
	data, err := os.ReadFile(c.file(r))
	if err != nil {
		return e, false
	}
	if e.payload, err = cbor.UnmarshalFirst(data, &e); err != nil || e.URL != plainAddress(r.URL) || e.Form != r.Form {
		return entry{}, false
	}
	return e, true
}

// save keeps a document. A cache that cannot be written is no error: the
// work goes on, only slower the next time.
func (c *Client) save(r Request, e entry) {
	if c.cfg.CacheDir == "" {
		return
	}
	var buf bytes.Buffer
	if err := cbor.NewEncoder(&buf).Encode(e); err != nil {
		return
	}
	buf.Write(e.payload)
	file := c.file(r)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return
	}
	_ = within.Replace(file, buf.Bytes())
}
