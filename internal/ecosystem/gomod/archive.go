package gomod

import (
	"archive/zip"
	"context"
	"fmt"
	"strings"

	"github.com/fxamacker/cbor/v2"
	modzip "golang.org/x/mod/zip"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// Archive are the files of a module's archive that are wanted. One that breaks the rules for
// module archives is refused.
func (r *registry) Archive(
	ctx context.Context,
	s model.Subject,
	text string,
	wanted ecosystem.Wanted,
) (files []ecosystem.ArchiveFile, err error) {
	form := "archive/1 " + wanted.Form
	data, err := r.ofZip(ctx, version{Path: s.Name, Version: text}, form, form, func(m version, file string) ([]byte, error) {
		if _, err := modzip.CheckZip(m, file); err != nil {
			return nil, fmt.Errorf("the archive of %s %s breaks the rules for module archives: %w", m.Path, m.Version, err)
		}
		z, err := zip.OpenReader(file)
		if err != nil {
			return nil, err
		}
		defer z.Close()
		var list []ecosystem.ArchiveFile
		for _, f := range z.File {
			name := strings.TrimPrefix(f.Name, m.Path+"@"+m.Version+"/")
			if !wanted.File(name, int64(f.UncompressedSize64)) {
				continue
			}
			text, err := readZipped(f)
			if err != nil {
				return nil, err
			}
			list = append(list, ecosystem.ArchiveFile{Name: name, Data: text})
		}
		return cbor.Marshal(list)
	})
	if err != nil {
		return nil, fmt.Errorf("reading the archive of %s %s: %w", s.Name, text, err)
	}
	return files, cbor.Unmarshal(data, &files)
}
