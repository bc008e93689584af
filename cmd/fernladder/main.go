// Fernladder builds third-party packages, and their dependencies, from source.
package main

import (
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"

	"fernladder/internal/cli"
)

func main() {
	limitHeap()
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, os.Getenv))
}

// limitHeap keeps the heap below 40 MiB, or below 1.7 times what is in use. Most commands end before
// it is worth collecting so little.
func limitHeap() {
	const small = 40 << 20
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(small)
	type mark struct{ collected func(*mark) }
	m := &mark{}
	m.collected = func(m *mark) { // after each collection
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		if metrics.Read(live); live[0].Value.Uint64() < small/2 {
			runtime.SetFinalizer(m, m.collected)
			return
		}
		debug.SetGCPercent(70)
		if debug.SetMemoryLimit(-1) == small { // which would have it collected all the time
			debug.SetMemoryLimit(math.MaxInt64)
		}
	}
	runtime.SetFinalizer(m, m.collected)
}
