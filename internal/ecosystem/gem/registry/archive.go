package registry

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"github.com/fxamacker/cbor/v2"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/archive"
	"bellwether/internal/host/fetch"
)

// Archive are the files of a release's archive that are wanted.
func (r *Registry) Archive(
	ctx context.Context, s model.Subject, release string, wanted ecosystem.Wanted,
) (files []ecosystem.ArchiveFile, err error) {
	list, err := r.Variants(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	var v *Variant
	for _, one := range list {
		if one.Version == release && (v == nil || one.Platform == "ruby") {
			v = one
		}
	}
	if v == nil {
		return nil, fmt.Errorf("%s %s: %w", s.Name, release, ErrMissing)
	}
	address, header := r.address(v.source, archiveName(s.Name, v))
	payload, err := r.Around.Client.Document(ctx, fetch.Request{
		URL: address, Authorization: header, Limit: archive.MaxPacked, Forever: true, Form: "gem-archive/1 " + wanted.Form + " " + v.Sha256,
		Distil: func(packed io.Reader) ([]byte, error) {
			list, err := readArchive(packed, v.Sha256, wanted)
			if err != nil {
				return nil, err
			}
			return cbor.Marshal(list)
		},
	})
	if err != nil {
		return nil, fmt.Errorf("reading the archive of %s %s: %w", s.Name, release, err)
	}
	return files, cbor.Unmarshal(payload, &files)
}

// readArchive reads the wanted files of a gem: a tar in whose data.tar.gz the files are. It is
// checked against the digest that the gem server states.
func readArchive(packed io.Reader, sha string, wanted ecosystem.Wanted) (list []ecosystem.ArchiveFile, err error) {
	sum := sha256.New()
	whole := io.TeeReader(packed, sum)
	outer := tar.NewReader(whole)
	for {
		f, err := outer.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the archive: %w", err)
		}
		if f.Name != "data.tar.gz" {
			continue
		}
		err = archive.TarGz(outer, func(name string, size int64, read func() ([]byte, error)) error {
			if !wanted.File(name, size) {
				return nil
			}
			data, err := read()
			list = append(list, ecosystem.ArchiveFile{Name: name, Data: data})
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("the archive: %w", err)
		}
	}
	if _, err := io.Copy(io.Discard, whole); err != nil {
		return nil, fmt.Errorf("the archive: %w", err)
	}
	if got := hex.EncodeToString(sum.Sum(nil)); sha != "" && got != sha {
		return nil, errors.New("the archive is not the one that the gem server lists: its digest differs")
	}
	return list, nil
}
