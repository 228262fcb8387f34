package keep

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/host/within"
)

// sealer marks files as written by this machine for one checkout.
type sealer struct {
	state   string // the folder that the key lies in
	project *within.Folder

	once  sync.Once
	key   []byte
	place string
	err   error
}

// sealed is how a file with a seal begins. What follows is the object itself, without
// its first brace.
var sealed = lazyregexp.New(`^\{"seal": "([0-9a-f]{64})"(,|\})`)

// seal gives a JSON object with our seal as its first member.
func (s *sealer) seal(name string, object []byte) ([]byte, error) {
	mark, err := s.mark(name, object)
	if err != nil {
		return nil, err
	}
	rest := bytes.TrimPrefix(object, []byte("{"))
	if len(rest) == len(object) {
		return nil, fmt.Errorf("what is to be kept in %s is no object", name)
	}
	comma := ","
	if bytes.HasPrefix(bytes.TrimSpace(rest), []byte("}")) {
		comma, rest = "", bytes.TrimLeft(rest, " \r\n\t")
	}
	return append([]byte(`{"seal": "`+mark+`"`+comma), rest...), nil
}

// plain is an object without a seal.
func plain(data []byte) []byte {
	m := sealed.FindSubmatchIndex(data)
	if m == nil {
		return data
	}
	if data[m[4]] == '}' {
		return append([]byte("{"), data[m[4]:]...)
	}
	return append([]byte("{"), data[m[5]:]...)
}

// open gives the object of a file with our seal.
func (s *sealer) open(name string, data []byte) ([]byte, error) {
	m := sealed.FindSubmatch(data)
	if m == nil {
		return nil, ErrForeign
	}
	object := plain(data)
	mark, err := s.mark(name, object)
	if err != nil {
		return nil, err
	}
	if !hmac.Equal([]byte(mark), m[1]) {
		return nil, ErrForeign
	}
	return object, nil
}

// mark is the seal of a file: an HMAC (RFC 2104) of its name, of the checkout by path
// and identity, and of what it holds.
func (s *sealer) mark(name string, object []byte) (string, error) {
	s.once.Do(s.ready)
	if s.err != nil {
		return "", s.err
	}
	h := hmac.New(sha256.New, s.key)
	fmt.Fprintf(h, "%q %q\n", name, s.place)
	h.Write(object)
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (s *sealer) ready() {
	info, err := s.project.Stat(".")
	if err != nil {
		s.err = err
		return
	}
	path := s.project.Dir
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	s.place = path + " " + within.Identity(info)
	s.key, s.err = readKey(s.state, path)
}

// keySize is the length of a key, in bytes.
const keySize = 32

// readKey gives the key of this machine, and makes it when it is first needed.
func readKey(state, project string) ([]byte, error) {
	name := filepath.Join(state, "key")
	var failed error
	for range 100 {
		key, err := within.Plain(name, 1024)
		switch {
		case err == nil && len(key) == keySize:
			return bound(key, name, project), nil
		case err == nil: // another call is just writing it
			failed = errors.New("it is no key; remove it, and what Bellwether keeps in projects counts no longer")
			time.Sleep(5 * time.Millisecond)
			continue
		case !errors.Is(err, fs.ErrNotExist):
			return nil, fmt.Errorf("reading the key of this machine, %s: %w", name, err)
		}
		if err := os.MkdirAll(state, 0o700); err != nil {
			return nil, fmt.Errorf("making the key of this machine, %s: %w\n  next: set XDG_STATE_HOME to a folder that can be written", name, err)
		}
		file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("making the key of this machine: %w\n  next: set XDG_STATE_HOME to a folder that can be written", err)
		}
		fresh := make([]byte, keySize)
		_, _ = rand.Read(fresh) // it never fails
		_, err = file.Write(fresh)
		if err = errors.Join(err, file.Close()); err != nil {
			return nil, errors.Join(fmt.Errorf("making the key of this machine: %w", err), os.Remove(name))
		}
	}
	return nil, fmt.Errorf("reading the key of this machine, %s: %w", name, failed)
}

// bound is the key as it counts. One that lies in the project itself, since that is the
// person's home, could have come with it: it counts together with the file's identity,
// which nobody can foresee.
func bound(key []byte, name, project string) []byte {
	below, err := filepath.Rel(project, name)
	if real, rerr := filepath.EvalSymlinks(name); rerr == nil {
		below, err = filepath.Rel(project, real)
	}
	if err != nil || !filepath.IsLocal(below) {
		return key
	}
	info, err := os.Lstat(name)
	if err != nil {
		return key
	}
	h := sha256.Sum256(append(bytes.Clone(key), within.Identity(info)...))
	return h[:]
}

// Checkout is a name for a checkout that no other one on this machine has.
func (k *Keep) Checkout() string {
	path := k.files.Dir
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	sum := sha256.Sum256([]byte(path))
	return hex.EncodeToString(sum[:8])
}
