package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"time"

	"fernladder/core/schedule"
)

// makespans runs the scheduler in simulated time, on machines that are not available, and prints
// how long ladders take, compared with the bound: the longest path, or all work shared evenly,
// whichever is more. In brackets: without times of earlier builds.
func makespans(only string) {
	if !strings.Contains("makespan", only) {
		return
	}
	slots := []int{2, 4, 8, 16, 32, 64, 128}
	fmt.Printf("\n%-28s", "makespan / bound, slots:")
	for _, n := range slots {
		fmt.Printf(" %13d", n)
	}
	fmt.Println()
	for _, l := range ladders() {
		fmt.Printf("%-28s", l.name)
		for _, n := range slots {
			takes, busy := schedule.Forecast(l.tasks, n)
			least := max(longestPath(l.tasks, n), busy/time.Duration(n))
			fmt.Printf("   %.2f (%.2f)", float64(takes)/float64(least),
				float64(schedule.ForecastUnknown(l.tasks, n))/float64(least))
		}
		fmt.Println()
	}
}

type simulated struct {
	name  string
	tasks []schedule.Task
}

// ladders are generated ladders of 100 and 1,000 packages, always the same, and one with times
// measured in a real run of ten packages.
func ladders() []simulated {
	random := rand.New(rand.NewPCG(1, 2))
	// Most packages take seconds, some hours; long ones keep more processors busy.
	task := func(needs ...int) schedule.Task {
		seconds := math.Exp(random.NormFloat64()*1.3 + 3)
		return schedule.Task{Length: time.Duration(seconds * float64(time.Second)),
			Width: 1 + random.Float64()*math.Log1p(seconds), Slot: true, Needs: needs}
	}
	var all []simulated
	for _, number := range []int{100, 1000} {
		var chain, wide, diamonds, mixed []schedule.Task
		for i := range number {
			switch {
			case i == 0:
				chain, diamonds, mixed = append(chain, task()), append(diamonds, task()), append(mixed, task())
			default:
				chain = append(chain, task(i-1))
				diamond := task(i-1-(i-1)%4, i-1)
				if i%4 != 0 {
					diamond = task(i - i%4)
				}
				diamonds = append(diamonds, diamond)
				var needs []int
				for range random.IntN(4) {
					needs = append(needs, i*random.IntN(1000)/1000)
				}
				mixed = append(mixed, task(needs...))
			}
			wide = append(wide, task())
		}
		for _, l := range []simulated{{"chain", chain}, {"wide", wide}, {"diamonds", diamonds}, {"mixed", mixed}} {
			all = append(all, simulated{fmt.Sprintf("%s of %d", l.name, number), l.tasks})
		}
	}
	var recorded []schedule.Task
	for _, p := range []struct {
		seconds, cpu float64
		needs        []int
	}{
		{9.9, 9.0, nil}, {34.8, 36.1, []int{0}}, {51.9, 49.7, nil}, {15.4, 13.5, nil}, {11.6, 10.9, nil},
		{11.3, 9.8, nil}, {11.5, 10.8, nil}, {5.9, 5.7, nil}, {15.9, 15.2, nil}, {7.2, 7.0, nil},
	} {
		recorded = append(recorded, schedule.Task{Length: time.Duration(p.seconds * float64(time.Second)),
			Width: p.cpu / p.seconds, Slot: true, Needs: p.needs})
	}
	return append(all, simulated{"ten real packages, recorded", recorded})
}

// longestPath is the time of the longest path, on which each task has at most all the slots.
func longestPath(tasks []schedule.Task, slots int) (longest time.Duration) {
	to := make([]time.Duration, len(tasks))
	for i, t := range tasks {
		for _, n := range t.Needs {
			to[i] = max(to[i], to[n])
		}
		to[i] += time.Duration(float64(t.Length) * max(1, t.Width/float64(slots)))
		longest = max(longest, to[i])
	}
	return longest
}
