// Package archive reads the archives that packages come in, as data and within one set of bounds. Nothing is written.
package archive

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
)

// The bounds of an archive: bytes as it comes and unpacked, its files, and how many times larger it may become once it is large.
const (
	MaxPacked   = 1 << 28
	maxUnpacked = 1 << 29
	maxFiles    = 200_000
	maxRatio    = 200
	largeFrom   = 64 << 20
)

// counted counts the bytes that are read.
type counted struct {
	io.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	return n, err
}

// Visit is called for each plain file of an archive, with its clean name, which leads nowhere else, and its size in bytes as the
// archive states it. What read gives is valid until the next file.
type Visit func(name string, size int64, read func() ([]byte, error)) error

// TarGz visits the plain files of a tar that gzip has packed (RFC 1952, POSIX.1-2001), in their order. Links and folders are none.
// What is left of packed behind the archive is not read.
func TarGz(packed io.Reader, visit Visit) error {
	from := &counted{Reader: packed}
	unzipped, err := gzip.NewReader(from)
	if err != nil {
		return err
	}
	limited := &io.LimitedReader{R: unzipped, N: maxUnpacked}
	files := tar.NewReader(limited)
	for n := 0; ; n++ {
		f, err := files.Next()
		unpacked := maxUnpacked - limited.N
		switch {
		case limited.N <= 0: // which reads as an end
			return fmt.Errorf("it is larger than %d bytes", int64(maxUnpacked))
		case unpacked > largeFrom && unpacked > maxRatio*from.n:
			return fmt.Errorf("it becomes more than %d times larger when it is unpacked", maxRatio)
		case n > maxFiles:
			return fmt.Errorf("it has more than %d files", maxFiles)
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
		if f.Typeflag != tar.TypeReg {
			continue
		}
		if err := visit(path.Clean("/" + f.Name)[1:], f.Size, func() ([]byte, error) { return io.ReadAll(files) }); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
	}
}
