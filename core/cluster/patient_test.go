package cluster

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// silentScheduler is a scheduler whose controller has received a job but does not answer at
// first.
type silentScheduler struct {
	Scheduler
	times, submitted, cancelled int
	looked                      error
}

func (s *silentScheduler) answer() error {
	if s.times--; s.times >= 0 {
		return silent("sbatch", "")
	}
	return nil
}

func (s *silentScheduler) Submit(_ context.Context, j batchJob) (string, error) {
	s.submitted++
	return "7", s.answer()
}

func (s *silentScheduler) Look(context.Context, string) ([]Status, error) {
	return []Status{{ID: "6", Name: "run.10", State: Queued}, {ID: "7", Name: "run.1", State: Queued}}, s.looked
}

func (s *silentScheduler) Cancel(context.Context, []string) error {
	s.cancelled++
	return s.answer()
}

// A controller that does not answer is waited for; a job that it has received is not submitted
// twice.
func TestPatience(t *testing.T) {
	s, waited := &silentScheduler{times: 1}, 0
	p := patient{s, func(error) { waited++ }}
	id, err := p.Submit(t.Context(), batchJob{Name: "run.1"})
	require.NoError(t, err)
	assert.Equal(t, "7", id)
	assert.Equal(t, 1, s.submitted, "the job was there already")
	s.times, s.looked = 1, assert.AnError
	_, err = p.Submit(t.Context(), batchJob{Name: "run.1"})
	assert.ErrorIs(t, err, assert.AnError, "rather than to submit it twice")
	s.times, waited = 1, 1
	require.NoError(t, p.Cancel(t.Context(), []string{"7"}))
	assert.Equal(t, 2, s.cancelled)
	assert.Equal(t, 2, waited)

	s.times = 1000
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, p.Cancel(ctx, nil), context.DeadlineExceeded)
}
