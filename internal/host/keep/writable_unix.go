//go:build unix

package keep

import "golang.org/x/sys/unix"

// mayWrite tells whether files can be made in a folder, without making one.
func mayWrite(dir string) error { return unix.Access(dir, unix.W_OK) }
