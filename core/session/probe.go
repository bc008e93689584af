package session

import (
	"context"

	"fernladder/core/install"
	"fernladder/core/store"
)

// ProbeReport is what came of building a draft.
type ProbeReport struct {
	Build   store.Ref `json:"probed"`
	Files   int       `json:"files"`
	Seconds float64   `json:"seconds"`
	Wrong   []string  `json:"wrong"` // deviations from the recipe

	Probed install.Probed `json:"-"`
}

// Probe builds a drafted recipe, sealed; answers what it lacks, as far as an answer is known;
// and writes into the recipe what came of that.
func (s *Session) Probe(ctx context.Context, name string, steps install.Probing) (*ProbeReport, error) {
	done, err := install.Probe(ctx, s.Machine, name, steps)
	r := &ProbeReport{Wrong: listed(done.Wrong), Probed: done}
	if err == nil && done.Receipt != nil {
		r.Build, r.Files, r.Seconds = done.Receipt.Ref, done.Receipt.Files, done.Receipt.Seconds
	}
	return r, err
}
