//go:build !unix

package keep

import (
	"errors"
	"os"
)

// mayWrite tells whether files can be made in a folder.
func mayWrite(dir string) error {
	t, err := os.CreateTemp(dir, ".bellwether-*")
	if err != nil {
		return err
	}
	return errors.Join(t.Close(), os.Remove(t.Name()))
}
