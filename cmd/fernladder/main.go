// Fernladder builds third-party packages from source, with what they need.
package main

import (
	"os"

	"fernladder/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, os.Getenv)) }
