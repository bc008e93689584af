package sandbox

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// dropCapabilities takes all capabilities from all threads (capabilities(7)).
func dropCapabilities() error {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	return everyThread(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&header)), uintptr(unsafe.Pointer(&none[0])), 0)
}
