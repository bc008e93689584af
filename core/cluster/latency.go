package cluster

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/durable"
	"fernladder/core/machine"
	"fernladder/core/safefs"
)

// keepLatency records the average overhead of a job: the time from when it could begin (its
// needs were finished, and fewer jobs ran than the maximum) until it did, and the time that it
// ran without building. It uses this machine's clock alone, because those of nodes differ.
func (w *watcher) keepLatency() {
	var all []span
	for _, j := range w.Jobs {
		s := span{begun: j.begun, over: j.finished}
		if s.begun.IsZero() || s.over.IsZero() {
			continue
		}
		for _, b := range w.before(j) {
			if b.finished.After(s.ready) {
				s.ready = b.finished
			}
		}
		if took, known := w.took[j.Builds[0]]; known && len(j.Builds) == 1 {
			s.besides = max(0, s.over.Sub(s.begun)-took)
		}
		all = append(all, s)
	}
	if usual := latency(all).Round(time.Millisecond); usual > 0 {
		durable.Note(filepath.Join(runsDir(w.m), latencyFile), []byte(usual.String()+"\n"), 0o644) // a guess is no loss
	}
}

// A span is the time of a job on its node.
type span struct {
	ready       time.Time // when its needs were done; zero if it has none
	begun, over time.Time
	besides     time.Duration // work other than building
}

// latency is the overhead of jobs, or 0 if no job waited for another.
func latency(all []span) time.Duration {
	type moment struct {
		at   time.Time
		of   span
		ends bool
	}
	var moments []moment
	for _, s := range all {
		moments = append(moments, moment{s.begun, s, false}, moment{s.over, s, true})
	}
	slices.SortStableFunc(moments, func(a, b moment) int { return a.at.Compare(b.at) })
	most, running := 0, 0
	for _, m := range moments {
		if m.ends {
			running--
		} else {
			running++
			most = max(most, running)
		}
	}
	var full time.Time // until when as many ran as at the most
	var sum time.Duration
	waited := 0
	for _, m := range moments {
		if m.ends {
			if running == most {
				full = m.at
			}
			running--
			continue
		}
		running++
		could := m.of.ready
		if full.After(could) {
			could = full
		}
		if !could.IsZero() {
			sum += max(0, m.at.Sub(could)) + m.of.besides
			waited++
		}
	}
	return sum / time.Duration(max(1, waited))
}

// usualLatency is the scheduler's time between the end of a job and the beginning of the next,
// until it was observed: Slurm's own default.
const usualLatency = 3 * time.Second

// latencyOf is the scheduler's latency as last observed.
func latencyOf(m *machine.Machine) time.Duration {
	text, err := safefs.ReadFile(filepath.Join(runsDir(m), latencyFile), 100)
	if err == nil {
		if d, err := time.ParseDuration(strings.TrimSpace(string(text))); err == nil && d > 0 && d < time.Hour {
			return d
		}
	}
	return usualLatency
}
