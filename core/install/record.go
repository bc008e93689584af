package install

import (
	"context"
	"time"

	"fernladder/core/build"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/schedule"
	"fernladder/core/timeline"
)

// recorded records when the stages of a plan's builds run. slots are those that builds share; nil:
// they run on the nodes of a cluster.
func recorded(ctx context.Context, m *machine.Machine, p *plan.Plan, expected time.Duration, slots *schedule.Slots,
	do func()) *timeline.Run {
	run := timeline.Run{Expected: expected.Seconds()}
	var inUse func() int
	if slots != nil {
		run.Slots, inUse = slots.Number(), slots.InUse
	}
	place := map[*build.Job]int{}
	for _, j := range p.Todo() {
		b := timeline.Build{Name: j.Name, Version: j.Version, ID: j.ID, Expected: p.Estimates[j.Ref].Time.Seconds()}
		for _, need := range j.Needs {
			if at, is := place[need]; is {
				b.Needs = append(b.Needs, at)
			}
		}
		place[j] = len(run.Builds)
		run.Builds = append(run.Builds, b)
	}
	recorder := timeline.Record(run, m.Now, inUse)
	defer m.Watch(recorder)()
	if inUse != nil {
		const often = time.Second
		tick := time.NewTicker(often)
		over, stopped := make(chan struct{}), make(chan struct{})
		defer func() { close(over); <-stopped }()
		go func() {
			defer close(stopped)
			defer tick.Stop()
			for {
				select {
				case <-tick.C:
					recorder.Read()
				case <-over:
					return
				}
			}
		}()
	}
	do()
	return recorder.Ended(ctx.Err() != nil)
}
