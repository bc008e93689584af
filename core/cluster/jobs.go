package cluster

import (
	"time"

	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/store"
)

// A Submitted job is one as it would be handed to the scheduler.
type Submitted struct {
	Build      store.Ref   `json:"build"`
	Processors int         `json:"processors"`
	Memory     int         `json:"memory"` // MiB
	Minutes    int         `json:"minutes"`
	After      []store.Ref `json:"after"`
}

// Jobs are those of a plan, in their order, and how long the longest chain of them should
// take on nodes enough; 0 where nothing is known of any. Nothing is submitted.
func Jobs(m *machine.Machine, p *plan.Plan) (jobs []Submitted, longest time.Duration, err error) {
	if _, err := scheduler(m); err != nil {
		return nil, 0, err
	}
	c := m.Settings.Cluster
	ends := map[store.Ref]time.Duration{}
	known := false
	for _, j := range p.Todo() {
		e := p.Estimates[j.Ref]
		known = known || e.Time > 0
		s := Submitted{Build: j.Ref, Processors: c.Processors, After: []store.Ref{}}
		s.Memory, s.Minutes = wants(e, c)
		begins := time.Duration(0)
		for _, need := range j.Needs {
			if end, built := ends[need.Ref]; built {
				s.After = append(s.After, need.Ref)
				begins = max(begins, end)
			}
		}
		ends[j.Ref] = begins + latency + e.Time
		longest = max(longest, ends[j.Ref])
		jobs = append(jobs, s)
	}
	if !known {
		longest = 0
	}
	return jobs, longest, nil
}

// latency is what a scheduler takes from the end of a job to the beginning of the next, as
// measured with Slurm that does not delay it.
const latency = time.Second
