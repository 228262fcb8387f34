package git

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/host/within"
)

// Twin makes a repository of its own in a folder, with the objects, branches and tags
// of this one, and its commit checked out but for the files. What is done in it, to its
// configuration, tags, branches or stash, does not come back: it only reads the objects
// of this one (gitrepository-layout(5), objects/info/alternates).
func (r *Repo) Twin(ctx context.Context, dir string) (*Repo, error) {
	head, err := r.Head(ctx)
	if err != nil {
		return nil, err
	}
	out, err := r.run(ctx, "rev-parse", "--show-object-format", "--git-path", "objects", "--git-path", "shallow", "--git-path", "info/exclude")
	if err != nil {
		return nil, err
	}
	lines := strings.Split(out, "\n")
	if len(lines) != 5 {
		return nil, fmt.Errorf("the repository at %s has a line end in its path, which git cannot tell from others", r.Top)
	}
	refs, err := r.run(ctx, "for-each-ref", "--format=%(if)%(symref)%(then)%(else)%(objectname) %(refname)%(end)")
	if err != nil {
		return nil, err
	}
	twin := &Repo{Top: dir}
	if _, err := twin.run(ctx, "init", "-q", "--template=", "--object-format="+lines[0]); err != nil {
		return nil, err
	}
	own := filepath.Join(dir, ".git")
	for _, f := range []struct{ name, text string }{
		{"objects/info/alternates", r.path(lines[1]) + "\n"},
		{"packed-refs", withoutGaps(refs)},
		{"HEAD", head + "\n"},
		{"shallow", copied(r.path(lines[2]))},
		{"info/exclude", copied(r.path(lines[3]))},
	} {
		if f.text == "" {
			continue
		}
		name := filepath.Join(own, filepath.FromSlash(f.name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, []byte(f.text), 0o644)); err != nil {
			return nil, err
		}
	}
	if err := r.carrySettings(filepath.Join(own, "config")); err != nil {
		return nil, err
	}
	_, err = twin.run(ctx, "read-tree", "HEAD")
	return twin, err
}

// path is a path that git tells relative to where it runs.
func (r *Repo) path(told string) string {
	if filepath.IsAbs(told) {
		return told
	}
	return filepath.Join(r.Top, told)
}

// maxListed bounds the files of a repository that a twin gets, in bytes.
const maxListed = 64 << 20

// copied is what a file of the repository holds, "" for none.
func copied(name string) string {
	text, err := within.Plain(name, maxListed)
	if err != nil {
		return ""
	}
	return string(text)
}

func withoutGaps(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		if strings.TrimSpace(line) != "" {
			b.WriteString(line)
		}
	}
	return b.String()
}

// carrySettings adds to a twin's configuration what counts for how files lie on the
// disk, and by which addresses the repository is known elsewhere (git-config(1)).
func (r *Repo) carrySettings(file string) error {
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	quote := func(s string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
	}
	text := "[gc]\n\tauto = 0\n"
	for _, s := range r.local {
		if !carried(s.key) {
			continue
		}
		section, name := s.key[:strings.Index(s.key, ".")], s.key[strings.LastIndex(s.key, ".")+1:]
		value := s.value
		if middle := strings.TrimPrefix(strings.TrimSuffix(s.key, "."+name), section); middle != "" {
			plain, ok := harmless.WithoutLogin(value)
			if !ok || !strings.Contains(value, "://") || strings.Contains(middle, "\n") {
				continue // a path would lead elsewhere from there
			}
			value, section = plain, section+" "+quote(middle[1:])
		}
		text += "[" + section + "]\n\t" + name + " = " + quote(value) + "\n"
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}
