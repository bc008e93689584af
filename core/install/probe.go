package install

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/draft"
	"fernladder/core/keyfile"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/remedy"
	"fernladder/core/seal"
	"fernladder/core/store"
)

// A Probing tells of what a probe does before it does it.
type Probing struct {
	Answered func(r *recipe.Recipe, lines string) // these lines were added to the recipe
	Inside   func()                               // it is tried in the source's own directory
}

// Probed is what came of a probe.
type Probed struct {
	Recipe  *recipe.Recipe
	Receipt *store.Receipt // of the build; nil where it failed
	Failure *build.Failure // of the last build; nil where it succeeded
	Lacks   bool           // it failed for something that is missing, which a person may install
}

// Probe builds a drafted recipe in a sealed room, and writes into it what came of
// that, and what its tree offers. A failure that a need answers is answered, and it
// goes on. Some sources can only be built in their own directory, and do not say so:
// when the build fails outside, it is tried there, too. The landing stays as it is.
//
// Where the package does not build, the error is what came of building it, and the
// recipe says so, too.
func Probe(ctx context.Context, m *machine.Machine, name string, steps Probing) (Probed, error) {
	p := &probe{m: m, name: name, steps: steps}
	err := p.answered(ctx)
	failure := p.failure(err)
	if failure != nil && outside(p.recipe, failure.Stage) && !lacks(failure) {
		builds, tried := p.inside(ctx)
		switch {
		case tried != nil:
			return Probed{Recipe: p.recipe}, tried
		case builds:
			err, failure = nil, nil
		}
	}
	switch {
	case ctx.Err() != nil:
		return Probed{}, ctx.Err()
	case failure != nil:
		done := Probed{Recipe: p.recipe, Failure: failure, Lacks: lacks(failure)}
		return done, errors.Join(p.note(failed(failure, p.date())), err)
	case err != nil:
		return Probed{Recipe: p.recipe}, err
	}
	return p.succeeded()
}

// probe is a probe on its way. A recipe that was changed is read again, by a machine
// of its own.
type probe struct {
	m      *machine.Machine
	name   string
	steps  Probing
	recipe *recipe.Recipe
	job    *build.Job
}

func (p *probe) date() string { return p.m.Now().Format("2006-01-02") }

// attempt builds the package as its recipe is now.
func (p *probe) attempt(ctx context.Context) error {
	m, err := p.m.With(func(c *machine.Config) { c.Level = seal.Sealed })
	if err != nil {
		return err
	}
	made, err := plan.For(ctx, m, plan.Ask{Names: []string{p.name}})
	if err != nil {
		return err
	}
	if p.recipe, err = m.Shelves.Find(p.name); err != nil {
		return err
	}
	p.job = made.Asked()[0]
	_, err = Run(ctx, m, made)
	return err
}

// failure is that of the package itself, or nil.
func (p *probe) failure(err error) *build.Failure {
	var failure *build.Failure
	if errors.As(err, &failure) && failure.Package == p.name {
		return failure
	}
	return nil
}

// answered builds the package, and answers what its builds lack one after another.
// What the operating system lacks is noted in the recipe, and is for a person to
// install.
func (p *probe) answered(ctx context.Context) error {
	const enough = 10 // more than that, and something else is wrong
	for range enough {
		err := p.attempt(ctx)
		failure := p.failure(err)
		if failure == nil || failure.Cause == nil {
			return err
		}
		answer := remedy.To(p.recipe, failure.Cause, remedy.Look(p.m))
		if answer == nil {
			return err
		}
		why := fmt.Sprintf("# Added by a probe on %s, for in stage %s %s.", p.date(), failure.Stage, failure.Cause)
		if err := answer.Give(p.recipe, why); err != nil {
			return err
		}
		p.steps.Answered(p.recipe, why+"\n"+answer.Text)
		if !answer.GoesOn {
			return err
		}
	}
	return p.attempt(ctx)
}

// inside tries the build in the source's own directory. Where that fails as well, the
// recipe is as it was.
func (p *probe) inside(ctx context.Context) (builds bool, err error) {
	p.steps.Inside()
	set := func(value string) error {
		return p.recipe.Change(func(e *keyfile.Edit) { e.SetTable("build", []string{"in_tree"}, map[string]string{"in_tree": value}) })
	}
	if err := set("true"); err != nil {
		return false, err
	}
	if p.attempt(ctx) == nil {
		return true, nil
	}
	return false, set("false")
}

// note adds a text to the end of the recipe.
func (p *probe) note(text string) error {
	return p.recipe.Change(func(e *keyfile.Edit) { e.Append(text) })
}

func failed(f *build.Failure, date string) string {
	text := fmt.Sprintf("# Probed on %s: it does not build yet. %s %s failed in stage %s: %s", date,
		f.Package, f.Version, f.Stage, strings.Join(strings.Fields(f.What), " "))
	for _, line := range f.Lines {
		text += "\n#   " + line
	}
	return text
}

func (p *probe) succeeded() (Probed, error) {
	done := Probed{Recipe: p.recipe}
	var err error
	if done.Receipt, err = p.m.Store.Receipt(p.job.Ref); err != nil {
		return done, p.m.Store.Wrap(err)
	}
	files, err := p.m.Store.Files(p.job.Ref)
	if err != nil {
		return done, err
	}
	text := fmt.Sprintf("# Probed on %s: it builds, %s, in %.1f s; %d files were placed.", p.date(), done.Receipt.Isolation, done.Receipt.Seconds, done.Receipt.Files)
	offers := draft.Offered(files)
	return done, p.recipe.Change(func(e *keyfile.Edit) {
		if !offers.Empty() {
			recipe.SetOffers(e, offers)
		}
		e.Append(text)
	})
}

// lacks tells whether a build failed for something that is missing, which it would
// lack elsewhere as well.
func lacks(f *build.Failure) bool { return f.Cause != nil && len(f.Cause.Questions()) > 0 }

// outside tells whether a stage was one of a build outside the source.
func outside(r *recipe.Recipe, stage string) bool {
	b := r.Build
	return !b.InTree && b.Method == recipe.Configure && slices.Contains([]string{build.StageConfigure, build.StageCompile, build.StagePlace}, stage)
}
