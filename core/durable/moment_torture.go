//go:build torture

package durable

import (
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
)

var moments atomic.Int64

// Moment is a moment of others than this package: of steps that can each be the last.
func Moment() { moment() }

// trace writes down what has been done that lasts, a line each, into the file that
// TORTURE_TRACE names: so it can be worked out what a machine that stops leaves.
func trace(what string, paths ...string) {
	name := os.Getenv("TORTURE_TRACE")
	if name == "" {
		return
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		panic(err)
	}
	defer f.Close()
	f.WriteString(strings.Join(append([]string{what}, paths...), "\t") + "\n")
}

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
