// Andamio compiles service templates into deployment plans, runs them and shows them rise.
package main

import (
	"os"

	"andamio/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
