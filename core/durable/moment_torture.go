//go:build torture

package durable

import (
	"os"
	"strconv"
	"sync/atomic"
	"syscall"
)

var moments atomic.Int64

// Moment is a moment of others than this package: of steps that can each be the last.
func Moment() { moment() }

// moment ends the whole program without warning at the moment that TORTURE_MOMENT
// says, counted from 1, and with it, if TORTURE_GROUP is set, its process group.
func moment() {
	at, _ := strconv.ParseInt(os.Getenv("TORTURE_MOMENT"), 10, 64)
	if moments.Add(1) != at {
		return
	}
	if os.Getenv("TORTURE_GROUP") != "" {
		syscall.Kill(0, syscall.SIGKILL)
	}
	syscall.Kill(os.Getpid(), syscall.SIGKILL)
	select {}
}
