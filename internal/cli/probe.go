package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/seal"
	"fernladder/internal/term"
)

// probe builds a drafted recipe in a sealed room, and writes into it what came
// of that. A failure that a need answers is answered, and it goes on. Some
// sources can only be built in their own directory, and do not say so: when the
// build fails outside, it is tried there too.
func (a *app) probe(ctx context.Context, name string) error {
	a.isolation = string(seal.Sealed)
	job, r, err := a.answered(ctx, name)
	var failure *build.Failure
	if errors.As(err, &failure) && failure.Package == name && outside(r, failure.Stage) && !lacks(failure) {
		a.screen.Note("Trying it in the source's own directory.")
		if err := editRecipe(r, func(e *keyfile.Edit) { e.SetTable("build", []string{"in_tree"}, map[string]string{"in_tree": "true"}) }); err != nil {
			return err
		}
		var again error
		if job, _, again = a.attempt(ctx, name); again != nil {
			if err := editRecipe(r, func(e *keyfile.Edit) { e.SetTable("build", []string{"in_tree"}, map[string]string{"in_tree": "false"}) }); err != nil {
				return err
			}
		} else {
			err = nil
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if failure != nil && err != nil {
		return a.probeFailed(r, failure, err)
	}
	if err != nil {
		return err
	}
	return a.probeSucceeded(r, job)
}

// answered builds a package, and answers what its builds lack one after another.
// What the operating system lacks is noted in the recipe, and is for a person to
// install.
func (a *app) answered(ctx context.Context, name string) (*build.Job, *recipe.Recipe, error) {
	const enough = 10 // more than that, and something else is wrong
	for range enough {
		job, r, err := a.attempt(ctx, name)
		var failure *build.Failure
		if err == nil || !errors.As(err, &failure) || failure.Package != name || failure.Cause == nil {
			return job, r, err
		}
		s, openErr := a.open()
		if openErr != nil {
			return job, r, err
		}
		answer, text, goesOn := s.answer(r, failure.Cause)
		if answer == nil {
			return job, r, err
		}
		why := fmt.Sprintf("# Added by a probe on %s, for in stage %s %s.", a.now().Format("2006-01-02"), failure.Stage, failure.Cause)
		if editErr := editRecipe(r, func(e *keyfile.Edit) { answer(e, why) }); editErr != nil {
			return job, r, editErr
		}
		a.screen.Note("Added to %s:\n%s", r.File, indent(why+"\n"+text))
		if !goesOn {
			return job, r, err // a person installs it
		}
	}
	return a.attempt(ctx, name)
}

// answer is what answers a failed build: a need on a recipe, or else the argument
// that the source itself names to do without, or else a need on the operating
// system, which a person has to meet. It returns how the recipe changes, the
// lines for it, and whether it can go on; nothing where nothing answers.
func (s *session) answer(r *recipe.Recipe, c *diagnose.Cause) (change func(e *keyfile.Edit, why string), text string, goesOn bool) {
	m := s.remedyOf(r, c)
	need := func(text string) func(*keyfile.Edit, string) {
		return func(e *keyfile.Edit, why string) { e.Append(why + "\n" + text) }
	}
	if m.recipe != "" {
		return need(m.needText()), m.needText(), true
	}
	if c.Without != "" && !slices.Contains(r.Build.Args, c.Without) {
		turnOff, done := turnedOff(r, c.Without)
		says := "# " + done
		if m.host.Kind != "" {
			says += "\n# Or, with it:\n# " + strings.ReplaceAll(m.hostText(), "\n", "\n# ")
		}
		return func(e *keyfile.Edit, why string) {
			turnOff(e)
			e.Append(why + "\n" + says)
		}, says, true
	}
	if m.host.Kind != "" {
		return need(m.hostText()), m.hostText(), false
	}
	return nil, "", false
}

// turnedOff turns off what an argument turns off: an option of the recipe that is
// about it, or else with the argument itself.
func turnedOff(r *recipe.Recipe, argument string) (change func(*keyfile.Edit), done string) {
	about := strings.NewReplacer("--without-", "", "--disable-", "", "-D", "").Replace(argument)
	about, _, _ = strings.Cut(about, "=")
	for _, o := range r.Options {
		if o.Values != nil || o.Default == "off" || !slices.Contains(o.Off, argument) && !strings.EqualFold(o.Name, about) {
			continue
		}
		return func(e *keyfile.Edit) {
			e.SetTable("option."+o.Name, []string{"default", "off"}, map[string]string{"default": "false", "off": keyfile.QuoteList([]string{argument})})
		}, fmt.Sprintf("The option %s is off.", o.Name)
	}
	return func(e *keyfile.Edit) {
		e.SetTable("build", []string{"args"}, map[string]string{"args": keyfile.QuoteList(append(slices.Clone(r.Build.Args), argument))})
	}, fmt.Sprintf("The argument %s is added.", argument)
}

// lacks tells whether a build failed for something that is missing, which it would
// lack elsewhere as well.
func lacks(f *build.Failure) bool { return f.Cause != nil && len(f.Cause.Questions()) > 0 }

// outside tells whether a stage was one of a build outside the source.
func outside(r *recipe.Recipe, stage string) bool {
	b := r.Build
	return !b.InTree && b.Method == recipe.Configure && (stage == "configure" || stage == "compile" || stage == build.StagePlace)
}

// attempt builds a package as its recipe is now.
func (a *app) attempt(ctx context.Context, name string) (*build.Job, *recipe.Recipe, error) {
	l, err := a.plan(ctx, []string{name}, &ladderFlags{})
	if err != nil {
		return nil, nil, err
	}
	r, err := l.shelves.Find(name)
	if err != nil {
		return nil, nil, err
	}
	return l.jobs[len(l.jobs)-1], r, a.construct(ctx, l)
}

func (a *app) probeFailed(r *recipe.Recipe, failure *build.Failure, err error) error {
	text := fmt.Sprintf("# Probed on %s: it does not build yet. %s %s failed in stage %s: %s", a.now().Format("2006-01-02"),
		failure.Package, failure.Version, failure.Stage, oneLine(failure.What))
	for _, line := range failure.Lines {
		text += "\n#   " + line
	}
	if err := editRecipe(r, func(e *keyfile.Edit) { e.Append(text) }); err != nil {
		return err
	}
	next := "Change it"
	if lacks(failure) {
		next = "Have it installed (fernladder host " + r.Name + " --install), or change it"
	}
	a.screen.Note("%s says so now. %s, then: fernladder build %s", r.File, next, r.Name)
	return err
}

func (a *app) probeSucceeded(r *recipe.Recipe, job *build.Job) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	receipt, err := s.store.Receipt(job.Ref)
	if err != nil {
		return s.store.Wrap(err)
	}
	files, err := s.store.Files(job.Ref)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("# Probed on %s: it builds, %s, in %s; %s were placed.", a.now().Format("2006-01-02"),
		receipt.Isolation, seconds(receipt.Seconds), term.Count(receipt.Files, "file"))
	offers := draft.Offered(files)
	err = editRecipe(r, func(e *keyfile.Edit) {
		if !offers.Empty() {
			setOffers(e, offers)
		}
		e.Append(text)
	})
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"probed": job.Ref, "files": receipt.Files, "seconds": receipt.Seconds})
	}
	a.screen.Print("It builds: %s in %s. The recipe says so, and what it offers.", term.Count(receipt.Files, "file"), seconds(receipt.Seconds))
	return nil
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
