//go:build !linux

package cli

import "github.com/rogpeppe/go-internal/testscript"

func mayMount() bool { return false }

func smallDisk(ts *testscript.TestScript, _ bool, _ []string) { ts.Fatalf("there are none here") }

func fillDisk(ts *testscript.TestScript, _ bool, _ []string) { ts.Fatalf("there are none here") }
