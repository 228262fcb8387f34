package within

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// MakeOwn makes a folder that nobody else can read or write, in a place where others may
// have put one of its name. It fails if they have.
func MakeOwn(dir string) error {
	if err := os.Mkdir(dir, 0o700); err == nil || !errors.Is(err, fs.ErrExist) {
		return err
	}
	info, err := os.Lstat(dir)
	if err == nil && (!info.IsDir() || info.Mode().Perm()&0o077 != 0 || !ours(info)) {
		err = &fs.PathError{Op: "mkdir", Path: dir, Err: errors.New("somebody else's folder is in its place")}
	}
	return err
}

// Replace puts a file that the program keeps for itself in the place of another one,
// whole or not at all, readable by nobody else.
func Replace(name string, data []byte) error {
	folder, err := Open(filepath.Dir(name), nil)
	if err != nil {
		return err
	}
	return errors.Join(folder.Write(filepath.Base(name), data, 0o600), folder.Close())
}

// Create makes a file that a person names, wherever it lies, with its content. One that is there
// already is fs.ErrExist.
func Create(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close())
}
