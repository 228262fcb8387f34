// Bellwether moves a project from the versions it runs on today to the ones
// it should run on tomorrow, in small steps that are proved to work.
package main

import (
	"os"

	"bellwether/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
