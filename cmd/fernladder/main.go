// Fernladder builds third-party packages, and their dependencies, from source.
package main

import (
	"os"
	"runtime/debug"

	"fernladder/core/sandbox"
	"fernladder/internal/cli"
)

func main() {
	if status, started := sandbox.Main(os.Args, os.Stderr); started {
		os.Exit(status)
	}
	// Most commands end before it is worth collecting a heap of their size; long ones still collect
	// it, because of the limit.
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(40 << 20)
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, os.Getenv))
}
