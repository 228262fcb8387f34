package disk

import (
	"os"
	"path/filepath"

	"github.com/gofrs/flock"

	"bellwether/internal/core/model"
)

// Hold makes sure that this is the only Bellwether that changes the project.
// The returned function lets go.
func Hold(file string) (release func(), err error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, unwritable(err)
	}
	l := flock.New(file)
	got, err := l.TryLock()
	if err != nil {
		return nil, unwritable(err)
	}
	if !got {
		return nil, &model.Fault{
			Doing: "starting", File: file, Wrong: "another Bellwether is at work in this project",
			Next: "wait until it is done; reading commands work meanwhile",
		}
	}
	return func() { _ = l.Unlock() }, nil
}
