package notes

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/host/fetch"
)

// elsewhere reads the notes of a package where the settings say that they are: in a folder of the
// project, or at addresses.
func (r *reader) elsewhere(
	ctx context.Context,
	t target,
	way []model.Release,
	in *between,
	p *model.PackageNotes,
) (files []file, err error) {
	for _, s := range r.desk.Settings.Notes {
		if ok, _ := path.Match(s.Name, t.name); !ok && s.Name != t.subject.String() {
			continue
		}
		if s.Folder != "" {
			err = fs.WalkDir(r.tree.Files.FS, path.Clean(s.Folder), func(name string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				data, err := fs.ReadFile(r.tree.Files.FS, name)
				if err != nil {
					return err
				}
				if one, _ := r.part(name, name, data, in, p); one != nil {
					files = append(files, *one)
				}
				return nil
			})
			if err != nil {
				return nil, &model.Fault{Doing: "looking for release notes", File: s.Folder, Wrong: model.Reason(err)}
			}
			continue
		}
		for i, rel := range way {
			address := strings.NewReplacer("{name}", url.PathEscape(t.subject.Name), "{version}", url.PathEscape(rel.Version)).
				Replace(s.URL)
			if i > 0 && !strings.Contains(s.URL, "{version}") || i >= mostReleases {
				break
			}
			data, err := r.fetch(ctx, address)
			if err != nil {
				if ctx.Err() != nil {
					return nil, err
				}
				p.Unread = append(p.Unread, fmt.Sprintf("%s: %v", harmless.Address(address), err))
				continue
			}
			name := path.Base(strings.SplitN(address, "?", 2)[0])
			one, all := r.part(harmless.Address(address), name, data, in, p)
			if one == nil && all == 0 && strings.Contains(s.URL, "{version}") {
				// It is about this very version, and has no heading that says so.
				part := notes.Part{Version: rel.Version, Title: name, Line: 1}
				for n, line := range strings.Split(string(data), "\n") {
					part.Lines = append(part.Lines, notes.Line{Number: n + 1, Text: line})
				}
				one = &file{name, []notes.Part{part}}
			}
			if one != nil {
				files = append(files, *one)
			}
		}
	}
	return files, nil
}

// fetch gets notes by their address. They are cached like documents.
func (r *reader) fetch(ctx context.Context, address string) ([]byte, error) {
	return r.desk.Client().Document(ctx, fetch.Request{
		URL: address, Form: "notes/1", Accept: "text/markdown, text/plain, */*", Limit: maxNotes,
		Distil: func(body io.Reader) ([]byte, error) { return io.ReadAll(body) },
	})
}
