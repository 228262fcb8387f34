//go:build !unix

package git

func diskOf(string) uint64 { return 0 }
