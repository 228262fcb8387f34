package registry

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"

	"github.com/fxamacker/cbor/v2"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/archive"
	"bellwether/internal/host/fetch"
)

// EachFile calls do for each plain file of an archive, by its name below the archive's own
// folder. The archive is checked against an integrity, "" for none.
func EachFile(from io.Reader, integrity string, do archive.Visit) error {
	sum, want := integrityHash(integrity)
	whole := io.TeeReader(from, sum)
	err := archive.TarGz(whole, func(name string, size int64, read func() ([]byte, error)) error {
		_, below, _ := strings.Cut(name, "/")
		return do(below, size, read)
	})
	if err == nil {
		_, err = io.Copy(io.Discard, whole)
	}
	if err != nil {
		return fmt.Errorf("the archive: %w", err)
	}
	if got := base64.StdEncoding.EncodeToString(sum.Sum(nil)); want != "" && got != want {
		return errors.New("the archive is not the one that the registry lists: its integrity differs")
	}
	return nil
}

// integrityHash is the strongest hash of a text in the form of Subresource
// Integrity (W3C), and what it has to give; "" for none that is known.
func integrityHash(integrity string) (h hash.Hash, want string) {
	for _, known := range []struct {
		prefix string
		hash   func() hash.Hash
	}{{"sha512-", sha512.New}, {"sha384-", sha512.New384}, {"sha256-", sha256.New}, {"sha1-", sha1.New}} {
		for _, text := range strings.Fields(integrity) {
			if sum, ok := strings.CutPrefix(text, known.prefix); ok {
				sum, _, _ = strings.Cut(sum, "?")
				return known.hash(), sum
			}
		}
	}
	return sha512.New(), ""
}

// Archive are the files of a release's archive that are wanted.
func (r *Registry) Archive(ctx context.Context, s model.Subject, version string, wanted ecosystem.Wanted) ([]ecosystem.ArchiveFile, error) {
	p, err := r.Package(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	for _, rel := range p.Releases {
		if rel.Text == version {
			return r.archive(ctx, rel, wanted)
		}
	}
	return nil, fmt.Errorf("%s has no release %s", s.Name, version)
}

func (r *Registry) archive(ctx context.Context, rel *Release, wanted ecosystem.Wanted) (files []ecosystem.ArchiveFile, err error) {
	payload, err := r.Around.Client.Document(ctx, fetch.Request{
		URL: rel.Archive(), Authorization: r.Authorization(rel.Pkg.Name, rel.Archive()), Limit: archive.MaxPacked,
		Form: "npm-archive/1 " + wanted.Form + " " + rel.Integrity, Forever: true,
		Distil: func(packed io.Reader) ([]byte, error) {
			var list []ecosystem.ArchiveFile
			err := EachFile(packed, rel.Integrity, func(name string, size int64, read func() ([]byte, error)) error {
				if !wanted.File(name, size) {
					return nil
				}
				data, err := read()
				list = append(list, ecosystem.ArchiveFile{Name: name, Data: data})
				return err
			})
			if err != nil {
				return nil, err
			}
			return cbor.Marshal(list)
		},
	})
	if err != nil {
		return nil, fmt.Errorf("reading the archive of %s %s: %w", rel.Pkg.Name, rel.Text, err)
	}
	return files, cbor.Unmarshal(payload, &files)
}
