// Fernladder builds third-party packages from source, with what they need.
package main

import (
	"os"

	"fernladder/core/seal"
	"fernladder/internal/cli"
)

func main() {
	if status, started := seal.Main(os.Args, os.Stderr); started {
		os.Exit(status)
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, os.Getenv))
}
