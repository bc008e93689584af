package schedule

import (
	"math"
	"time"
)

// Forecast estimates how long Run takes with a number of slots, and how long the processors are
// busy in total. It runs the tasks in simulated time: running tasks share the slots evenly, and
// a task with fewer processors than it can use takes longer in proportion. Tasks without a slot
// take no time.
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
	for {
		for i, is := q.Next(false); is; i, is = q.Next(false) {
			q.Ended(i, nil)
		}
		for len(left) < slots {
			i, is := q.Next(true)
			if !is {
				break
			}
			left[i] = tasks[i].Length.Seconds()
			busy += time.Duration(left[i] * width(i) * float64(time.Second))
		}
		if len(left) == 0 {
			return time.Duration(now * float64(time.Second)), busy
		}
		speeds := share(left, width, float64(slots))
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

// share divides the slots among the running tasks, no more to each than it can use, and returns
// the resulting speed of each: 1 is full speed.
func share(running map[int]float64, width func(int) float64, slots float64) map[int]float64 {
	speeds := map[int]float64{}
	for len(speeds) < len(running) {
		each := slots / float64(len(running)-len(speeds))
		settled := false
		for i := range running {
			if _, known := speeds[i]; !known && width(i) <= each {
				speeds[i] = 1
				slots -= width(i)
				settled = true
			}
		}
		if settled {
			continue
		}
		for i := range running {
			if _, known := speeds[i]; !known {
				speeds[i] = each / width(i)
			}
		}
	}
	return speeds
}
