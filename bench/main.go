// Bench measures Fern Ladder against what a person would otherwise run: the two sides of each
// row run alternately, for several rounds, and their medians are compared. It prints one table.
// Figures are those of the machine; only ratios can be compared with other machines.
//
//	go run ./bench -program bin/fernladder [-rounds 5] [-only unpack]
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/source"
)

// A row compares two ways to do the same work.
type row struct {
	name   string
	anchor string // what the other side does
	aim    string
	ours   side
	theirs side
	// show describes the result of the row in words, if a ratio does not.
	show func(ours, theirs cost) string
}

// A side does the work once and returns its cost. Cleaning up beforehand does not count.
type side func() cost

// cost is the cost of a run. Peak is the peak memory of the process itself, in bytes, if it was
// measured.
type cost struct {
	wall, cpu time.Duration
	peak      int64
}

func main() {
	program := flag.String("program", "bin/fernladder", "the built program")
	rounds := flag.Int("rounds", 5, "how often each side is run, after one run that does not count")
	only := flag.String("only", "", "only rows whose name contains this")
	unpackFile := flag.String("unpack", "", "unpack this archive into the directory given as argument, and nothing else")
	flag.Parse()
	if *unpackFile != "" {
		_, err := source.Unpack(context.Background(), *unpackFile, flag.Arg(0), source.Usual)
		must(err)
		return
	}
	dir, err := os.MkdirTemp("", "fernladder-bench-")
	must(err)
	defer os.RemoveAll(dir)
	absolute, err := filepath.Abs(*program)
	must(err)
	w := &work{dir: dir, program: absolute}
	fmt.Printf("%-44s %-34s %9s %9s  %-18s %s\n", "work", "anchor", "ours", "anchor's", "ratio (spread)", "aim")
	for _, make := range []func() []row{w.chain, w.overhead, w.nothing, w.unpack, w.fetch, w.far, w.signed, w.check,
		w.resolve, w.options, w.host, w.explain, w.watch, w.bare, w.draft, w.landings, w.handing, w.depots, w.care,
		w.pictures, w.memory} {
		for _, r := range make() {
			if strings.Contains(r.name, *only) {
				r.run(*rounds)
			}
		}
	}
	w.realLadder(*only)
	makespans(*only)
	nodes(*only)
	w.growth(*only)
}

// run measures both sides alternately and prints the row.
func (r row) run(rounds int) {
	var ours, theirs []cost
	var ratios []float64
	for i := range rounds + 1 {
		a, b := r.ours(), cost{}
		if r.theirs != nil {
			b = r.theirs()
		}
		if i == 0 {
			continue // caches are filled now
		}
		ours, theirs = append(ours, a), append(theirs, b)
		ratios = append(ratios, a.wall.Seconds()/b.wall.Seconds())
	}
	slices.Sort(ratios)
	a, b := median(ours), median(theirs)
	ratio := fmt.Sprintf("%.2f (%.2f to %.2f)", a.wall.Seconds()/b.wall.Seconds(), ratios[0], ratios[len(ratios)-1])
	if r.show != nil {
		ratio = r.show(a, b)
	}
	anchors := ""
	if r.theirs != nil {
		anchors = short(b.wall)
	}
	fmt.Printf("%-44s %-34s %9s %9s  %-18s %s\n", r.name, r.anchor, short(a.wall), anchors, ratio, r.aim)
}

func median(costs []cost) cost {
	middle := func(of func(cost) time.Duration) time.Duration {
		values := make([]time.Duration, len(costs))
		for i, c := range costs {
			values[i] = of(c)
		}
		slices.Sort(values)
		return values[len(values)/2]
	}
	peak := int64(0)
	for _, c := range costs {
		peak = max(peak, c.peak)
	}
	return cost{middle(func(c cost) time.Duration { return c.wall }),
		middle(func(c cost) time.Duration { return c.cpu }), peak}
}

func short(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
	}
	return fmt.Sprintf("%.2f s", d.Seconds())
}

// timed runs a command in a directory.
func timed(dir, name string, args ...string) cost {
	c := exec.Command(name, args...)
	c.Dir = dir
	began := time.Now()
	out, err := c.CombinedOutput()
	if err != nil {
		fmt.Fprintf(os.Stderr, "%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
		os.Exit(1)
	}
	return cost{wall: time.Since(began), cpu: c.ProcessState.UserTime() + c.ProcessState.SystemTime()}
}

func must(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// watched is timed, and also measures the peak memory of the process.
func watched(dir, name string, args ...string) cost {
	c := exec.Command(name, args...)
	c.Dir = dir
	began := time.Now()
	must(c.Start())
	ended := make(chan error)
	go func() { ended <- c.Wait() }()
	peak := int64(0)
	for {
		select {
		case err := <-ended:
			must(err)
			return cost{wall: time.Since(began), peak: peak}
		case <-time.After(5 * time.Millisecond):
			peak = max(peak, highWater(c.Process.Pid))
		}
	}
}

// highWater reads VmHWM of proc(5); it is 0 after the process has ended.
func highWater(pid int) int64 {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(data)) {
		var kilobytes int64
		if n, _ := fmt.Sscanf(line, "VmHWM: %d kB", &kilobytes); n == 1 {
			return kilobytes << 10
		}
	}
	return 0
}
