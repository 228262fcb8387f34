package cli

import (
	"os"
	"path/filepath"
	"syscall"

	"github.com/rogpeppe/go-internal/testscript"
)

// mayMount tells whether this process may give a folder a disk of its own.
func mayMount() bool {
	dir, err := os.MkdirTemp("", "may-mount-")
	if err != nil {
		return false
	}
	defer os.RemoveAll(dir)
	if syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=64k") != nil {
		return false
	}
	return syscall.Unmount(dir, 0) == nil
}

func smallDisk(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(args[0])
	ts.Check(os.MkdirAll(dir, 0o755))
	ts.Check(syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+args[1]))
	ts.Defer(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
}

func fillDisk(ts *testscript.TestScript, _ bool, args []string) {
	f, err := os.Create(filepath.Join(ts.MkAbs(args[0]), "filled"))
	ts.Check(err)
	defer f.Close()
	for block := make([]byte, 4096); ; {
		if _, err := f.Write(block); err != nil {
			return
		}
	}
}
