package schedule

import (
	"context"
	"time"
)

// urgency is the length of the longest path from a task's present state to the end of everything;
// what shortens that path shortens the whole. It decreases while a task runs.
type urgency func() time.Duration

type urgencyKey struct{}

// withUrgency is the context of a task, or of a request for a slot, with its urgency.
func withUrgency(ctx context.Context, u urgency) context.Context {
	return context.WithValue(ctx, urgencyKey{}, u)
}

// urgencyOf is the urgency in a context; without one, nothing is less urgent.
func urgencyOf(ctx context.Context) urgency {
	if u, has := ctx.Value(urgencyKey{}).(urgency); has {
		return u
	}
	return func() time.Duration { return 0 }
}

// decreasing is the urgency of a task that begins now, with the longest path from it to the end.
func decreasing(path, length time.Duration) urgency {
	began := time.Now()
	return func() time.Duration { return path - min(time.Since(began), length) }
}
