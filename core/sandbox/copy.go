package sandbox

import (
	"fmt"
	"os"
	"syscall"
)

// failed is the exit status of a copy of the program that could not do its part. Its message is
// on stderr.
const failed = 123

// A process that was started as a copy of the program does its part here and ends. So no program
// that uses this package can forget it, and a copy starts twice as fast: packages are initialized
// in the order of their paths where their imports allow it, and most libraries come later.
func init() {
	if len(os.Args) == 0 {
		return
	}
	part := map[string]func() error{name: serve, endName: endEverything,
		watchedName: func() error { return watched(os.Args[1:]) }}[os.Args[0]]
	if part == nil {
		return
	}
	syscall.Umask(0o022) // of everything that is built, whatever the program's own is
	if err := part(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(failed)
	}
	os.Exit(0)
}
