package sandbox

import (
	"fmt"
	"os"

	"github.com/landlock-lsm/go-landlock/landlock"
)

// fence lets this process, and everything it starts, write only where the room allows, by
// Landlock (landlock(7)); if the kernel supports that, they cannot send signals or connect to
// sockets outside.
func (o order) fence() error {
	var rules []landlock.Rule
	rules = append(rules, landlock.RODirs("/"))
	for _, path := range append([]string{"/dev/null", "/dev/zero", "/dev/full", "/dev/tty"}, o.Writable...) {
		info, err := os.Lstat(path)
		switch {
		case err != nil:
		case info.IsDir():
			rules = append(rules, landlock.RWDirs(path).WithRefer())
		case path == "/dev/tty":
			rules = append(rules, landlock.RWFiles(path).WithIoctlDev())
		default:
			rules = append(rules, landlock.RWFiles(path))
		}
	}
	// From version 6 on there are scopes, from 5 on control of devices, from 3 on
	// files cannot be truncated; before 2, they could not be moved between directories.
	var err error
	for _, version := range []landlock.Config{landlock.V6, landlock.V5, landlock.V3, landlock.V2} {
		if err = version.Restrict(rules...); err == nil {
			return nil
		}
	}
	return fmt.Errorf("the kernel has no Landlock: %w", err)
}
