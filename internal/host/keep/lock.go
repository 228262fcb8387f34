package keep

import (
	"errors"
	"io/fs"
	"path/filepath"

	"github.com/gofrs/flock"

	"bellwether/internal/core/model"
	"bellwether/internal/host/within"
)

// Hold makes sure that this is the only Bellwether that changes the project. The folder
// must be there. The returned function lets go.
func (k *Keep) Hold() (release func(), err error) {
	name := at("lock")
	if info, err := k.files.Lstat(name); err == nil && !info.Mode().IsRegular() {
		return nil, &model.Fault{Doing: "starting", File: name, Wrong: within.ErrLink.Error() + ", or no file", Next: "remove it"}
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	l := flock.New(filepath.Join(k.files.Dir, filepath.FromSlash(name)))
	got, err := l.TryLock()
	if err != nil {
		return nil, unwritable(err)
	}
	if !got {
		return nil, &model.Fault{
			Doing: "starting", File: name, Wrong: "another Bellwether is at work in this project",
			Next: "wait until it is done; reading commands work meanwhile",
		}
	}
	return func() { _ = l.Unlock() }, nil
}
