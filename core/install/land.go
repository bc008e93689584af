package install

import (
	"context"

	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/store"
)

// Landed is what became of the landing.
type Landed struct {
	Before, After landing.State
	Configs       []store.ConfigChange
}

// Changed tells whether another state is in use now.
func (l Landed) Changed() bool { return l.Before.Number != l.After.Number }

// Land puts what was asked for on the landing, with what it needs when it runs, and
// brings its configuration files up to date. Everything of the plan is built. Errors
// are of type *landing.Clash, *landing.Conflict, or those of the store, among them
// store.ErrGone for what another program has removed.
func Land(ctx context.Context, m *machine.Machine, p *plan.Plan) (l Landed, err error) {
	l.Before, l.After, err = landing.Update{
		Choose: func(now landing.State) ([]store.Ref, error) { return p.Landing(now), nil },
		Then: func(after landing.State) (err error) {
			l.Configs, err = updateConfigs(m.Store, after)
			return err
		},
		Waiting: m.TellLandingHeld,
	}.Do(ctx, m.Store, m.Now())
	return l, err
}

// updateConfigs brings the configuration files of what is on the landing up to date.
func updateConfigs(s *store.Store, state landing.State) ([]store.ConfigChange, error) {
	var all []store.ConfigChange
	for _, m := range state.Members {
		receipt, err := s.Receipt(m.Ref)
		if err != nil {
			return all, s.Wrap(err)
		}
		changes, err := s.UpdateConfigs(receipt)
		all = append(all, changes...)
		if err != nil {
			return all, err
		}
	}
	return all, nil
}
