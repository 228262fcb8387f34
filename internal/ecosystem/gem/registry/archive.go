package registry

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/fxamacker/cbor/v2"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
)

// The bounds of an archive: bytes as it comes and unpacked, its files, and how many times larger it
// may become once it is large.
const (
	maxArchive  = 1 << 28
	maxUnpacked = 1 << 30
	maxFiles    = 200_000
	maxRatio    = 200
	LargeFrom   = 64 << 20
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
		URL: address, Authorization: header, Limit: maxArchive, Forever: true, Form: "gem-archive/1 " + wanted.Form + " " + v.Sha256,
		Distil: func(archive io.Reader) ([]byte, error) {
			list, err := readArchive(archive, v.Sha256, wanted)
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
func readArchive(archive io.Reader, sha string, wanted ecosystem.Wanted) (list []ecosystem.ArchiveFile, err error) {
	sum := sha256.New()
	whole := io.TeeReader(archive, sum)
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
		if list, err = ReadData(outer, f.Size, wanted); err != nil {
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

// ReadData reads the wanted files of a packed tar of so many bytes.
func ReadData(packed io.Reader, size int64, wanted ecosystem.Wanted) (list []ecosystem.ArchiveFile, err error) {
	unzipped, err := gzip.NewReader(packed)
	if err != nil {
		return nil, err
	}
	limited := &io.LimitedReader{R: unzipped, N: maxUnpacked}
	files := tar.NewReader(limited)
	for n := 0; ; n++ {
		f, err := files.Next()
		switch {
		case limited.N <= 0: // which reads as an end
			return nil, fmt.Errorf("it is larger than %d bytes", int64(maxUnpacked))
		case maxUnpacked-limited.N > max(LargeFrom, maxRatio*size):
			return nil, fmt.Errorf("it becomes more than %d times larger when it is unpacked", maxRatio)
		case n > maxFiles:
			return nil, fmt.Errorf("it has more than %d files", maxFiles)
		case err == io.EOF:
			return list, nil
		case err != nil:
			return nil, err
		}
		name := strings.TrimPrefix(path.Clean("/"+f.Name), "/")
		if f.Typeflag != tar.TypeReg || !wanted.File(name, f.Size) {
			continue
		}
		data, err := io.ReadAll(files)
		if err != nil {
			return nil, err
		}
		list = append(list, ecosystem.ArchiveFile{Name: name, Data: data})
	}
}
