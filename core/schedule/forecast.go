package schedule

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"
)

// Forecast estimates how long Run takes with a number of slots, and how long the processors are
// busy in total. It runs the tasks in simulated time: slots go to the most urgent tasks, as many
// as each can use, and a task with fewer processors than it can use takes longer in proportion.
// Tasks without a slot take no time.
func Forecast(tasks []Task, slots int) (takes, busy time.Duration) {
	return forecast(newQueue(tasks), tasks, slots)
}

// ForecastUnknown estimates how long Run takes if it does not know the length of tasks, and they
// take as long as given here.
func ForecastUnknown(tasks []Task, slots int) time.Duration {
	unknown := make([]Task, len(tasks))
	for i, t := range tasks {
		t.Length = 0
		unknown[i] = t
	}
	takes, _ := forecast(newQueue(unknown), tasks, slots)
	return takes
}

func forecast(q *queue, tasks []Task, slots int) (takes, busy time.Duration) {
	left := map[int]float64{} // of running tasks: seconds, with all the processors they can use
	width := func(i int) float64 { return max(1, tasks[i].Width) }
	now := 0.0
	rest := func(i int) float64 { return left[i] + (q.order[i] - tasks[i].Length).Seconds() }
	for {
		for i, is := q.Next(false); is; i, is = q.Next(false) {
			q.Ended(i, nil)
		}
		for len(left) < slots {
			i, is := q.Next(true)
			if !is {
				break
			}
			used := 0.0 // as many as more urgent ones can use, and one by each other
			for j := range left {
				if rest(j) >= q.order[i].Seconds() {
					used += width(j)
				} else {
					used++
				}
			}
			if used >= float64(slots) {
				q.ready = append(q.ready, i)
				break
			}
			left[i] = tasks[i].Length.Seconds()
			busy += time.Duration(left[i] * width(i) * float64(time.Second))
		}
		if len(left) == 0 {
			return time.Duration(now * float64(time.Second)), busy
		}
		running := slices.SortedFunc(maps.Keys(left), func(i, j int) int {
			return cmp.Or(cmp.Compare(rest(j), rest(i)), cmp.Compare(i, j))
		})
		speeds := share(running, width, float64(slots))
		next := math.Inf(1)
		for i := range left {
			next = min(next, left[i]/speeds[i])
		}
		now += next
		const moment = 1e-9
		for i := range tasks { // in order, so that the same is forecast every time
			if _, running := left[i]; running {
				if left[i] -= next * speeds[i]; left[i] <= moment {
					delete(left, i)
					q.Ended(i, nil)
				}
			}
		}
	}
}

// share divides the slots among running tasks, the most urgent first: each has one, and of the rest
// as many as it can use. It returns the resulting speed of each: 1 is full speed.
func share(running []int, width func(int) float64, slots float64) map[int]float64 {
	speeds := map[int]float64{}
	rest := slots - float64(len(running))
	for _, i := range running {
		more := min(width(i)-1, rest)
		rest -= more
		speeds[i] = (1 + more) / width(i)
	}
	return speeds
}
