//go:build !amd64

package sandbox

import "runtime"

// cloneFlags is the argument of clone(2) that the flags are.
var cloneFlags = map[bool]int{true: 1}[runtime.GOARCH == "s390x"]

var architectureCalls []uint32

// older are no other programs: those of older relatives of this processor cannot
// run in a room.
func older(Level) []abi { return nil }
