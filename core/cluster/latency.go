package cluster

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/durable"
	"fernladder/core/ground"
	"fernladder/core/machine"
)

// keepLatency notes how long the scheduler took, as a rule, from the end of a job to the
// beginning of another. By this machine's clock alone: those of nodes differ.
func (w *watcher) keepLatency() {
	type moment struct {
		at   time.Time
		ends bool
	}
	var moments []moment
	for _, j := range w.Jobs {
		if begun, over := w.begun[j.Number], w.over[j.Number]; !begun.IsZero() && !over.IsZero() {
			moments = append(moments, moment{begun, false}, moment{over, true})
		}
	}
	slices.SortStableFunc(moments, func(a, b moment) int { return a.at.Compare(b.at) })
	var ended []time.Time // after which none has begun yet
	var gaps []time.Duration
	for _, m := range moments {
		if m.ends {
			ended = append(ended, m.at)
		} else if last := len(ended) - 1; last >= 0 {
			gaps, ended = append(gaps, m.at.Sub(ended[last])), ended[:last]
		}
	}
	if len(gaps) == 0 {
		return
	}
	slices.Sort(gaps)
	usual := gaps[len(gaps)/2].Round(time.Millisecond)
	durable.Note(filepath.Join(runsDir(w.m), latencyFile), []byte(usual.String()+"\n"), 0o644) // a guess is no loss
}

// usualLatency is what a scheduler takes from the end of a job to the beginning of the next
// while nobody has seen it: Slurm's own default.
const usualLatency = 3 * time.Second

// latencyOf is the scheduler's latency, as it was seen last.
func latencyOf(m *machine.Machine) time.Duration {
	text, err := ground.ReadFile(filepath.Join(runsDir(m), latencyFile), 100)
	if err == nil {
		if d, err := time.ParseDuration(strings.TrimSpace(string(text))); err == nil && d > 0 && d < time.Hour {
			return d
		}
	}
	return usualLatency
}
