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

// Moment marks a moment in other packages: between steps each of which can be the last.
func Moment() { moment() }

// trace writes a line for each durable step into the file named by TORTURE_TRACE, from which a
// test computes what a stopped machine leaves.
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

// moment kills the whole program without warning at the moment numbered TORTURE_MOMENT, counted
// from 1, and also its process group if TORTURE_GROUP is set.
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
