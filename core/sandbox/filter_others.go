//go:build !amd64

package sandbox

import "runtime"

// cloneFlags is the index of the flags among the arguments of clone(2).
var cloneFlags = map[bool]int{true: 1}[runtime.GOARCH == "s390x"]

var architectureCalls []uint32

// older is empty: programs for older relatives of this processor cannot run in a room.
func older(Level) []abi { return nil }
