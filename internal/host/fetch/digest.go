package fetch

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"hash"
	"io"
	"net/http"
	"strings"
)

// claim is the digest that a server states of a document (RFC 9530). A nil claim holds.
type claim struct {
	sum  hash.Hash
	want []byte
	from io.Reader
	ends bool // all of the document was read
}

// claimed is the strongest digest that an answer states in a way known here; nil for none. Of what
// was unpacked on the way no digest can be checked: it is of the packed form.
func claimed(answer *http.Response) *claim {
	if answer.Uncompressed {
		return nil
	}
	stated := map[string][]byte{}
	for field := range strings.SplitSeq(strings.Join(answer.Header.Values("Repr-Digest"), ","), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(field), "=")
		if sum, err := base64.StdEncoding.DecodeString(strings.Trim(value, ":")); err == nil {
			stated[strings.ToLower(name)] = sum
		}
	}
	switch {
	case len(stated["sha-512"]) == sha512.Size:
		return &claim{sum: sha512.New(), want: stated["sha-512"]}
	case len(stated["sha-256"]) == sha256.Size:
		return &claim{sum: sha256.New(), want: stated["sha-256"]}
	}
	return nil
}

// after is a body behind what is there already of the same document, read for the claim.
func (c *claim) after(there []byte, body io.Reader) io.Reader {
	if c == nil {
		return body
	}
	c.sum.Write(there)
	c.from = body
	return c
}

// Read reads on.
func (c *claim) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.sum.Write(p[:n])
	c.ends = c.ends || err == io.EOF
	return n, err
}

// broken is the error of a document that was read to its end and is not the one that is claimed.
func (c *claim) broken() error {
	if c == nil || !c.ends || bytes.Equal(c.sum.Sum(nil), c.want) {
		return nil
	}
	return errors.New("the answer is not the document whose digest the server states")
}

// overlap is how much of what is kept of a document that grows is asked for again, in bytes: if it
// is not the same, the document was written anew.
const overlap = 4096
