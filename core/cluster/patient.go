package cluster

import (
	"context"
	"errors"
	"time"
)

// patient is a scheduler that is asked again as long as its controller does not answer: running
// jobs continue meanwhile, and the run is not given up. A job that was submitted when the answer
// was lost is found by its name.
type patient struct {
	Scheduler
	waiting func(err error) // called once each time it begins to wait
}

// until repeats something until the controller answers, or the context ends.
func (p patient) until(ctx context.Context, do func() error) error {
	const first, longest = time.Second, 30 * time.Second
	for pause := first; ; pause = min(2*pause, longest) {
		err := do()
		if !errors.Is(err, Silent) {
			return err
		}
		if pause == first {
			p.waiting(err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

func (p patient) Submit(ctx context.Context, j batchJob) (id string, err error) {
	again := false
	err = p.until(ctx, func() error {
		if again {
			known, err := p.Scheduler.Look(ctx, j.Name)
			if err != nil {
				return err
			}
			for _, s := range known {
				if s.Name == j.Name && !s.State.ended() {
					id = s.ID
					return nil
				}
			}
		}
		again = true
		id, err = p.Scheduler.Submit(ctx, j)
		return err
	})
	return id, err
}

func (p patient) Release(ctx context.Context, ids []string) error {
	return p.until(ctx, func() error { return p.Scheduler.Release(ctx, ids) })
}

func (p patient) Cancel(ctx context.Context, ids []string) error {
	return p.until(ctx, func() error { return p.Scheduler.Cancel(ctx, ids) })
}

func (p patient) Avoid(ctx context.Context, ids, nodes []string) error {
	return p.until(ctx, func() error { return p.Scheduler.Avoid(ctx, ids, nodes) })
}
