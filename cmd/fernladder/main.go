// Fernladder builds third-party packages from source, with what they need.
package main

import (
	"os"
	"runtime/debug"

	"fernladder/core/sandbox"
	"fernladder/internal/cli"
)

func main() {
	// Most commands end before a heap of their size is worth collecting; what takes long
	// is collected as ever, for the limit says when.
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(40 << 20)
	if status, started := sandbox.Main(os.Args, os.Stderr); started {
		os.Exit(status)
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, os.Getenv))
}
