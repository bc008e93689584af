package cluster

import (
	"cmp"
	"container/heap"
	"math"
	"slices"
	"time"

	"fernladder/core/build"
	"fernladder/core/schedule"
	"fernladder/core/settings"
	"fernladder/core/store"
)

// A Piece is a build, as a part of batch jobs.
type Piece struct {
	Needs  []int         // indexes of the pieces it needs, all smaller than its own
	Length time.Duration // its expected time with its processors; 0: unknown
	Width  float64       // how many of them it keeps busy
	Size
}

// Size is the resources of a job.
type Size struct {
	Processors int `json:"processors"`
	Memory     int `json:"memory"`  // MiB
	Minutes    int `json:"minutes"` // after which it is ended
}

// times multiplies the resources of a job that ran out of memory or time.
func (s Size) times(n int) Size { return Size{s.Processors, s.Memory * n, s.Minutes * n} }

// A Group is the contents of one batch job.
type Group struct {
	Pieces []int // in the order of the ladder
	After  []int // indexes of the groups it needs, all smaller than its own
	Length time.Duration
	Size
	Lane int // of those that run one after the other, where there is a limit
}

// pieces are jobs with their expected costs: those of the last build, with a margin; else those
// in the recipe; else those in the settings.
func pieces(jobs []*build.Job, estimates map[store.Ref]store.Estimate, c settings.Cluster) []Piece {
	all := make([]Piece, len(jobs))
	place := map[*build.Job]int{}
	for i, j := range jobs {
		place[j] = i
		e, known := estimates[j.Ref]
		all[i] = Piece{Size: wants(j, e, known, c)}
		if known {
			all[i].Length = max(e.Time, busy(e)/time.Duration(all[i].Processors), time.Millisecond)
			all[i].Width = min(e.Width, float64(all[i].Processors))
		}
		for _, need := range j.Needs {
			if at, is := place[need]; is {
				all[i].Needs = append(all[i].Needs, at)
			}
		}
	}
	return all
}

// busy is the time that one processor would take for a build.
func busy(e store.Estimate) time.Duration { return time.Duration(float64(e.Time) * e.Width) }

// wants is the size of one build's job. The history knows the largest process, of which there
// can be as many as processors, and how many processors were busy, which may have been all of
// them.
func wants(j *build.Job, e store.Estimate, known bool, c settings.Cluster) Size {
	const mib, leastMemory = 1 << 20, 512
	s := Size{c.Processors, cmp.Or(j.Recipe.Build.Memory, c.Memory), cmp.Or(j.Recipe.Build.Minutes, c.Minutes)}
	if known && e.Width > 0 {
		s.Processors = min(c.Processors, max(2, int(math.Ceil(margin*e.Width))))
	}
	if !j.Recipe.Build.Parallel {
		s.Processors = 1
	}
	if known && e.Memory > 0 {
		s.Memory = max(int(e.Memory*int64(s.Processors)*margin/mib), min(leastMemory, s.Memory))
	}
	if known {
		s.Minutes = minutes(max(e.Time, busy(e)/time.Duration(s.Processors)))
	}
	return s
}

// margin is the factor above observed values.
const margin = 2

// minutes is the time limit for something with an expected time.
func minutes(takes time.Duration) int {
	const more = 10 // for waiting: for locks, a file system
	return int((margin * takes).Minutes()) + more
}

// Groups combines pieces into batch jobs so that all finish soonest, given the latency of each
// job and the number of jobs that run at once (0: unlimited). A piece of unknown length is
// alone. The groups are in the order in which they should be submitted.
//
// The pieces are put into a line in which each comes after its needs, and the line is cut: so
// groups never wait for each other. It simulates lines that follow paths down and lines that
// follow rungs, cut at several lengths, and takes the best; of equals, the one with fewer jobs.
func Groups(pieces []Piece, latency time.Duration, room int) []Group {
	lines := [][]int{down(pieces, depths(pieces)), down(pieces, make([]time.Duration, len(pieces))), along(pieces)}
	best, takes := arranged(cut(pieces, lines[0], 0), latency, room)
	for _, line := range lines {
		for grain := latency; grain > 0 && grain <= 16*latency; grain *= 2 {
			groups, t := arranged(cut(pieces, line, grain), latency, room)
			if t < takes || t == takes && len(groups) < len(best) {
				best, takes = groups, t
			}
		}
	}
	return best
}

// Makespan is the expected time until all groups are finished.
func Makespan(groups []Group, latency time.Duration, room int) time.Duration {
	_, ends, _ := simulate(groups, latency, room)
	return slices.Max(append(ends, 0))
}

// known reports whether the lengths of all groups are known.
func known(groups []Group) bool {
	return !slices.ContainsFunc(groups, func(g Group) bool { return g.Length == 0 })
}

// along is a line of pieces, rung by rung.
func along(pieces []Piece) []int {
	rung := make([]int, len(pieces))
	line := make([]int, len(pieces))
	for i, p := range pieces {
		line[i] = i
		for _, n := range p.Needs {
			rung[i] = max(rung[i], rung[n]+1)
		}
	}
	slices.SortStableFunc(line, func(a, b int) int { return rung[a] - rung[b] })
	return line
}

// depths are the lengths of the longest paths to the end of each piece.
func depths(pieces []Piece) []time.Duration {
	depth := make([]time.Duration, len(pieces))
	for i, p := range pieces {
		for _, n := range p.Needs {
			depth[i] = max(depth[i], depth[n])
		}
		depth[i] += p.Length
	}
	return depth
}

// down is a line of pieces that follows paths down, the deepest first, and otherwise in the
// order of the ladder: each piece follows directly after its deepest need, unless that came
// earlier.
func down(pieces []Piece, depth []time.Duration) []int {
	var tops []int
	needed := make([]bool, len(pieces))
	for _, p := range pieces {
		for _, n := range p.Needs {
			needed[n] = true
		}
	}
	for i := range pieces {
		if !needed[i] {
			tops = append(tops, i)
		}
	}
	slices.SortStableFunc(tops, func(a, b int) int { return cmp.Compare(depth[b], depth[a]) })
	var line []int
	seen := make([]bool, len(pieces))
	var visit func(i int)
	visit = func(i int) {
		if seen[i] {
			return
		}
		seen[i] = true
		needs := slices.Clone(pieces[i].Needs)
		slices.SortStableFunc(needs, func(a, b int) int { return cmp.Compare(depth[a], depth[b]) })
		for _, n := range needs {
			visit(n)
		}
		line = append(line, i)
	}
	for _, i := range tops {
		visit(i)
	}
	return line
}

// cut cuts a line into groups that take as long as grain, if they have more than one piece. A
// longer one can be combined with a short one in a chain: if nothing else waits for the first,
// and the second for nothing else.
func cut(pieces []Piece, line []int, grain time.Duration) []Group {
	const most = 64 // pieces of a group
	above := make([]int, len(pieces))
	for _, p := range pieces {
		for _, n := range p.Needs {
			above[n]++
		}
	}
	group := make([]int, len(pieces)) // of each piece
	var groups []Group
	for _, i := range line {
		p, last := pieces[i], len(groups)-1
		joins, together := false, time.Duration(0)
		if last >= 0 && grain > 0 && p.Length > 0 && groups[last].Length > 0 && len(groups[last].Pieces) < most {
			g := groups[last]
			together = lengthOf(pieces, append(slices.Clone(g.Pieces), i))
			chain := len(p.Needs) == 1 && p.Needs[0] == g.Pieces[len(g.Pieces)-1] && above[p.Needs[0]] == 1
			joins = together <= grain || chain && min(p.Length, g.Length) <= grain
		}
		if joins {
			g := &groups[last]
			g.Pieces, g.Length = append(g.Pieces, i), together
			g.Size = Size{max(g.Processors, p.Processors), max(g.Memory, p.Memory), minutes(g.Length)}
		} else {
			groups = append(groups, Group{Pieces: []int{i}, Length: p.Length, Size: p.Size})
		}
		at := len(groups) - 1
		group[i] = at
		for _, n := range p.Needs {
			if of := group[n]; of != at && !slices.Contains(groups[at].After, of) {
				groups[at].After = append(groups[at].After, of)
			}
		}
	}
	for i := range groups {
		slices.Sort(groups[i].Pieces)
	}
	return groups
}

// lengthOf is the time that pieces take in one job, in parallel as far as possible; 0 if one is
// not known.
func lengthOf(pieces []Piece, among []int) time.Duration {
	place := map[int]int{}
	processors := 1
	var tasks []schedule.Task
	for _, i := range among {
		p := pieces[i]
		if p.Length == 0 {
			return 0
		}
		processors = max(processors, p.Processors)
		t := schedule.Task{Length: p.Length, Width: p.Width, Slot: true}
		for _, n := range p.Needs {
			if at, is := place[n]; is {
				t.Needs = append(t.Needs, at)
			}
		}
		place[i] = len(tasks)
		tasks = append(tasks, t)
	}
	if len(tasks) == 1 {
		return tasks[0].Length
	}
	takes, _ := schedule.Forecast(tasks, processors)
	return takes
}

// arranged puts groups into the order in which they should begin, gives each its lane, and
// returns the total time.
func arranged(groups []Group, latency time.Duration, room int) ([]Group, time.Duration) {
	order, ends, lanes := simulate(groups, latency, room)
	place := make([]int, len(groups))
	for at, i := range order {
		place[i] = at
	}
	out := make([]Group, len(groups))
	for at, i := range order {
		out[at] = groups[i]
		out[at].Lane = lanes[i]
		out[at].After = nil
		for _, n := range groups[i].After {
			out[at].After = append(out[at].After, place[n])
		}
		slices.Sort(out[at].After)
	}
	return out, slices.Max(append(ends, 0))
}

// simulate runs groups in simulated time, those with the longest path to the top first, and
// returns their order, their ends and their lanes.
func simulate(groups []Group, latency time.Duration, room int) (order []int, ends []time.Duration, lanes []int) {
	n := len(groups)
	if room <= 0 {
		room = n
	}
	ends, lanes = make([]time.Duration, n), make([]int, n)
	missing, above, top := make([]int, n), make([][]int, n), make([]time.Duration, n)
	for i, g := range groups {
		missing[i] = len(g.After)
		for _, need := range g.After {
			above[need] = append(above[need], i)
		}
	}
	for i := n - 1; i >= 0; i-- {
		for _, a := range above[i] {
			top[i] = max(top[i], top[a])
		}
		top[i] += groups[i].Length + latency
	}
	// Ties are broken by contents, so that the order of the groups does not matter.
	first := func(a, b int) bool { return groups[a].Pieces[0] < groups[b].Pieces[0] }
	ready := &queue{before: func(a, b int) bool { return top[a] > top[b] || top[a] == top[b] && first(a, b) }}
	running := &queue{before: func(a, b int) bool { return ends[a] < ends[b] || ends[a] == ends[b] && first(a, b) }}
	var free []int
	for lane := room - 1; lane >= 0; lane-- {
		free = append(free, lane)
	}
	for i := range groups {
		if missing[i] == 0 {
			heap.Push(ready, i)
		}
	}
	now := time.Duration(0)
	for ready.Len() > 0 || running.Len() > 0 {
		for ready.Len() > 0 && len(free) > 0 {
			i := heap.Pop(ready).(int)
			lanes[i], free = free[len(free)-1], free[:len(free)-1]
			ends[i] = now + latency + groups[i].Length
			order = append(order, i)
			heap.Push(running, i)
		}
		i := heap.Pop(running).(int)
		now, free = ends[i], append(free, lanes[i])
		for _, a := range above[i] {
			if missing[a]--; missing[a] == 0 {
				heap.Push(ready, a)
			}
		}
	}
	return order, ends, lanes
}

// queue is a heap of places.
type queue struct {
	places []int
	before func(a, b int) bool
}

func (q *queue) Len() int           { return len(q.places) }
func (q *queue) Less(i, j int) bool { return q.before(q.places[i], q.places[j]) }
func (q *queue) Swap(i, j int)      { q.places[i], q.places[j] = q.places[j], q.places[i] }
func (q *queue) Push(x any)         { q.places = append(q.places, x.(int)) }
func (q *queue) Pop() any {
	last := q.places[len(q.places)-1]
	q.places = q.places[:len(q.places)-1]
	return last
}
