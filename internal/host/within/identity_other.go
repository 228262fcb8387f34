//go:build !unix

package within

import "io/fs"

// Identity tells a file or folder from another one that takes its place under the same
// name: the number that the file system knows it by; "" where there is none.
func Identity(fs.FileInfo) string { return "" }

// ours tells whether a file belongs to who runs the program, where that can be told.
func ours(fs.FileInfo) bool { return true }
