package install

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"fernladder/core/durable"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/safefs"
	"fernladder/core/sbom"
	"fernladder/core/store"
)

// Landed is how the landing changed.
type Landed struct {
	landing.Result
	Configs []store.ConfigChange
}

// Land puts the requested builds on the landing, with their runtime needs, and updates their
// configuration files. The whole plan has to be built. Errors are of type *landing.Clash,
// *landing.Conflict, or those of the store, among them store.ErrGone for what another program
// removed.
func Land(ctx context.Context, m *machine.Machine, p *plan.Plan) (l Landed, err error) {
	if err := amend(ctx, m, p); err != nil {
		return l, err
	}
	return change(ctx, m, func(u *landing.Update) {
		u.Choose = func(now landing.State) ([]landing.Asked, error) { return p.Landing(now), nil }
	})
}

// change changes the landing, and updates the configuration files of its builds.
func change(ctx context.Context, m *machine.Machine, how func(*landing.Update)) (l Landed, err error) {
	u := m.Update()
	u.Then = func(after landing.State) (err error) {
		if l.Configs, err = updateConfigs(m.Store, after); err != nil || after.Number == 0 {
			return err
		}
		file := landing.BillFile(m.Store, after.Number)
		if safefs.Exists(file) { // a state never changes
			return nil
		}
		bill, err := BillOf(m.Store, after)
		if errors.Is(err, store.ErrGone) { // it was removed since
			return nil
		}
		if err != nil {
			return err
		}
		bill.Tool = "fernladder"
		data, err := bill.Write(sbom.SPDX)
		if err != nil {
			return err
		}
		return m.Store.Wrap(durable.Note(file, data, 0o644))
	}
	RenewCaches(ctx, m, &u)
	how(&u)
	l.Result, err = u.Do(ctx, m.Store)
	return l, err
}

// BillOf is the bill of materials of a state of the landing.
func BillOf(s *store.Store, state landing.State) (*sbom.Bill, error) {
	var roots []*store.Receipt
	for _, m := range state.Members {
		r, err := s.Receipt(m.Ref)
		if err != nil {
			return nil, s.Gone(m.Ref, err)
		}
		roots = append(roots, r)
	}
	parts, err := sbom.Gather(s, roots)
	return &sbom.Bill{Name: fmt.Sprintf("landing-%d", state.Number), Parts: parts}, err
}

// GoTo restores the state of the landing with a number; 0 is the empty one. Errors have the code
// landing.Gone, or are a *landing.Lost or those of the store.
func GoTo(ctx context.Context, m *machine.Machine, number int) (Landed, error) {
	return change(ctx, m, func(u *landing.Update) {
		u.Use = func(landing.State) (int, error) { return number, nil }
	})
}

// GoBack restores the state that the one in use was made from. The first state has none, which is a
// problem of the kind Usage.
func GoBack(ctx context.Context, m *machine.Machine) (Landed, error) {
	return change(ctx, m, func(u *landing.Update) {
		u.Back = true
		u.Use = func(now landing.State) (int, error) { return landing.Earlier(m.Store, now) }
	})
}

// Relink makes all links of the landing again, as another state with the same builds, and those
// in a shared directory.
func Relink(ctx context.Context, m *machine.Machine) (Landed, error) {
	return change(ctx, m, func(u *landing.Update) {
		u.Anew = true
		u.Choose = func(now landing.State) ([]landing.Asked, error) { return now.Asked(), nil }
	})
}

// Front gives an existing build the plain names of its package. Other builds of the package on
// the landing stay beside it, if they have names for that; otherwise they leave it.
func Front(ctx context.Context, m *machine.Machine, build store.Ref) (Landed, error) {
	return change(ctx, m, func(u *landing.Update) {
		u.Choose = func(now landing.State) ([]landing.Asked, error) {
			asked := landing.Plain(build)
			for _, a := range now.Asked() {
				if a.Ref == build {
					continue
				}
				if a.Name == build.Name {
					receipt, err := m.Store.Receipt(a.Ref)
					if err != nil {
						return nil, m.Store.Gone(a.Ref, err)
					}
					if len(receipt.Beside) == 0 {
						continue
					}
					a.Beside = true
				}
				asked = append(asked, a)
			}
			return asked, nil
		}
	})
}

// amend writes what recipes say now about names on the landing, and about runtime needs of
// builds, into the receipts of existing builds: no build depends on it.
func amend(ctx context.Context, m *machine.Machine, p *plan.Plan) error {
	for _, j := range p.Jobs {
		if !p.Installed[j.Ref] {
			continue
		}
		beside, before, with := j.Beside(), j.Recipe.BeforeSystem, j.RunsWith()
		receipt, err := m.Store.Receipt(j.Ref)
		if err != nil || receipt.BeforeSystem == before && receipt.KnownAs.Equal(j.Recipe.KnownAs) &&
			slices.Equal(receipt.Beside, beside) && slices.EqualFunc(receipt.RunsWith, with, store.HostNeed.Equal) {
			continue // unreadable ones are reported when they are used
		}
		unlock, err := m.Store.LockBuild(ctx, j.Ref, func() {})
		if err != nil {
			return err
		}
		receipt, err = m.Store.Receipt(j.Ref)
		if err == nil {
			receipt.Beside, receipt.BeforeSystem, receipt.RunsWith = beside, before, with
			receipt.KnownAs = j.Recipe.KnownAs
			err = m.Store.Commit(receipt)
		}
		unlock()
		if err != nil {
			return m.Store.Gone(j.Ref, err)
		}
	}
	return nil
}

// updateConfigs updates the configuration files of the landing's builds, using the builds with
// the plain names: those beside them read the same files.
func updateConfigs(s *store.Store, state landing.State) ([]store.ConfigChange, error) {
	var all []store.ConfigChange
	for _, m := range state.Members {
		if m.Beside {
			continue
		}
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
