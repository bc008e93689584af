package main

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"fernladder/core/cluster"
	"fernladder/core/schedule"
)

// nodes combines ladders into batch jobs and runs these in simulated time, on clusters that are
// not available: how long they take, compared with the bound (the longest path, or all work
// shared evenly, whichever is more, by a scheduler that takes no time), and how long the nodes
// are idle. In brackets: with a job for each package. A node runs one job at a time. The
// latencies are those of a real scheduler, from the end of a job to the start of the next, tuned
// for such work and by default.
func nodes(only string) {
	if !strings.Contains("cluster", only) {
		return
	}
	numbers := []int{2, 4, 8, 16, 32, 64, 128}
	fmt.Printf("\n%-34s", "cluster: makespan / bound, nodes:")
	for _, n := range numbers {
		fmt.Printf(" %18d", n)
	}
	fmt.Println()
	for _, latency := range []time.Duration{1200 * time.Millisecond, 3 * time.Second} {
		for _, l := range ladders() {
			for _, shorter := range []int{1, 10} {
				if !strings.HasSuffix(l.name, " 1000") || shorter > 1 && strings.HasPrefix(l.name, "chain") {
					continue
				}
				tasks := scaled(l.tasks, shorter)
				fmt.Printf("%-34s", fmt.Sprintf("%s of %s, %s", l.name, middle(tasks), latency))
				pieces := piecesOf(tasks)
				alone := cluster.Groups(pieces, 0, 1)
				for _, n := range numbers {
					work := total(tasks)
					least := max(longestPath(tasks, math.MaxInt), work/time.Duration(n))
					takes := cluster.Makespan(cluster.Groups(pieces, latency, n), latency, n)
					without := cluster.Makespan(alone, latency, n)
					idle := 100 - 100*work.Seconds()/float64(n)/takes.Seconds()
					fmt.Printf("   %.2f (%.2f) %3.0f%%", float64(takes)/float64(least), float64(without)/float64(least), idle)
				}
				fmt.Println()
			}
		}
	}
}

// scaled are tasks that take a fraction of the time.
func scaled(tasks []schedule.Task, shorter int) []schedule.Task {
	all := make([]schedule.Task, len(tasks))
	for i, t := range tasks {
		t.Length /= time.Duration(shorter)
		all[i] = t
	}
	return all
}

func piecesOf(tasks []schedule.Task) []cluster.Piece {
	pieces := make([]cluster.Piece, len(tasks))
	for i, t := range tasks {
		pieces[i] = cluster.Piece{Needs: t.Needs, Length: t.Length, Width: 1, Size: cluster.Size{Processors: 1}}
	}
	return pieces
}

func total(tasks []schedule.Task) (all time.Duration) {
	for _, t := range tasks {
		all += t.Length
	}
	return all
}

// middle is the median length of tasks.
func middle(tasks []schedule.Task) time.Duration {
	var lengths []time.Duration
	for _, t := range tasks {
		lengths = append(lengths, t.Length)
	}
	slices.Sort(lengths)
	return lengths[len(lengths)/2].Round(100 * time.Millisecond)
}
