package registry

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"golang.org/x/mod/module"
	modzip "golang.org/x/mod/zip"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/protocol"
)

// Archive are the files of a module's archive that are wanted. One that breaks the rules for
// module archives is refused.
func (r *Registry) Archive(
	ctx context.Context,
	s model.Subject,
	text string,
	wanted ecosystem.Wanted,
) (files []ecosystem.ArchiveFile, err error) {
	form := "archive/1 " + wanted.Form
	data, err := r.ofZip(ctx, module.Version{Path: s.Name, Version: text}, form, form, func(m module.Version, file string) ([]byte, error) {
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
			text, err := imports.ReadZipped(f)
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

// IndexOf gives the index of a fetched module, from the module cache if it is
// there.
func (r *Registry) IndexOf(ctx context.Context, m module.Version) (*imports.Index, error) {
	return r.indexes.Get(m, func() (*imports.Index, error) {
		data, err := r.indexData(ctx, m)
		if err != nil {
			return nil, &protocol.Unavailable{Module: m, Err: err}
		}
		i := &imports.Index{}
		if err := cbor.Unmarshal(data, i); err != nil {
			return nil, fmt.Errorf("reading what is kept of %s %s: %w", m.Path, m.Version, err)
		}
		return i, nil
	})
}

func (r *Registry) indexData(ctx context.Context, m module.Version) ([]byte, error) {
	return r.ofZip(ctx, m, imports.IndexForm, "index/2", imports.IndexZip)
}

// ofZip gives what is distilled from a module's archive, from the module cache if it is there.
// The two forms name what is distilled.
func (r *Registry) ofZip(
	ctx context.Context, m module.Version, derived, form string, distil func(m module.Version, file string) ([]byte, error),
) ([]byte, error) {
	file := r.cached(m, ".zip")
	if at, err := os.Stat(file); err == nil {
		key := fmt.Sprintf("%s?size=%d&changed=%d", file, at.Size(), at.ModTime().UnixNano())
		return r.around.Client.Derive(key, derived, func() ([]byte, error) { return distil(m, file) })
	}
	escaped, err := module.EscapeVersion(m.Version)
	if err != nil {
		return nil, err
	}
	return r.ask(ctx, protocol.Document{
		Module: m.Path, File: "@v/" + escaped + ".zip", Form: form, Limit: protocol.MaxZip, Forever: true,
		Distil: func(body io.Reader) ([]byte, error) {
			f, err := os.CreateTemp("", "bellwether-*.zip")
			if err != nil {
				return nil, err
			}
			defer os.Remove(f.Name())
			defer f.Close()
			if _, err := io.Copy(f, body); err != nil {
				return nil, err
			}
			return distil(m, f.Name())
		},
	})
}
