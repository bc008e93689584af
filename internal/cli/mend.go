package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/mend"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// mending says what mend looks at, and what it does then.
type mending struct {
	ask          mend.Ask
	fix, rebuild bool
}

func (a *app) mendCommand() *cobra.Command {
	f := mending{}
	c := &cobra.Command{
		Use:   "mend [NAME...]",
		Short: "Check the root and the machine against what is installed, and mend what can be",
		Long: `Checks every build against its receipt: files that are gone, changed or added, links
of the landing, configuration, the database, permissions, what was broken off half-way.
And the machine against what the builds use of it: libraries that are gone or have other
versions of symbols, interpreters that are not there any more. After an upgrade of the
operating system this says what of it is broken, and for whom.

Nothing is changed without --fix, which puts right what can be without losing anything.
With --rebuild, builds that are damaged, or that the machine has changed under, are built
again from the same sources; each takes its place in one step, when it has been tried.
Trees that were damaged are kept in damaged, in the root.`,
		Example: `  fernladder mend
  fernladder mend --machine                   only what the operating system has
  fernladder mend mistplan --quick            one package, without reading its files
  fernladder mend --fix --rebuild`,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.mend(c.Context(), args, f) },
	}
	c.Flags().BoolVar(&f.ask.Quick, "quick", false, "look at sizes and permissions of files, and not at what is in them")
	c.Flags().BoolVar(&f.ask.Machine, "machine", false, "look only at what the operating system has")
	c.Flags().BoolVar(&f.fix, "fix", false, "put right what can be without losing anything")
	c.Flags().BoolVar(&f.rebuild, "rebuild", false, "build again what is damaged, or was built for what the machine has no more")
	return c
}

// Unsound is the error for a root, or a machine, that is not as it should be.
type Unsound struct {
	Root bool // the root is damaged; otherwise the machine lacks something
	Left int
}

func (e *Unsound) Error() string {
	return map[bool]string{true: "the root is not sound", false: "the machine lacks what builds use of it"}[e.Root] + ": " + term.Count(e.Left, "finding")
}

// mendJSON is what mend found and did, in JSON.
type mendJSON struct {
	*mend.Report
	Fixed   []mend.Fixed      `json:"fixed"`
	Renewed []install.Renewed `json:"rebuilt"`
	Failed  []string          `json:"failed"`
}

func (a *app) mend(ctx context.Context, names []string, f mending) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	for _, text := range names {
		name, err := landing.ParseName(text)
		if err != nil {
			return err
		}
		all, err := name.All(m.Store)
		if err != nil {
			return err
		}
		for _, r := range all {
			f.ask.Builds = append(f.ask.Builds, r.Ref)
		}
	}
	report, err := mend.Look(ctx, m, f.ask)
	if err != nil {
		return err
	}
	out := mendJSON{Report: report, Fixed: []mend.Fixed{}, Renewed: []install.Renewed{}, Failed: []string{}}
	a.showUnsound(report)
	if f.fix {
		if out.Fixed, err = mend.Fix(ctx, m, report); err != nil {
			return err
		}
		a.showFixed(out.Fixed)
	}
	builds, damaged := report.ToRebuild()
	if f.rebuild && len(builds) > 0 {
		if out.Renewed, err = install.Renew(ctx, m, install.NeedsFirst(m.Store, builds), damaged); err != nil {
			return err
		}
		a.showRenewed(m, out.Renewed, &out)
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(out); err != nil {
			return err
		}
	} else {
		a.showWhatHelps(report, f)
	}
	return unsound(report, out)
}

// unsound is the error for what is left.
func unsound(r *mend.Report, out mendJSON) error {
	e := &Unsound{}
	for _, f := range r.Findings {
		done := slices.ContainsFunc(out.Fixed, func(x mend.Fixed) bool { return x.Finding == f && x.Done != "" }) ||
			f.Rebuild && slices.ContainsFunc(out.Renewed, func(x install.Renewed) bool { return x.Build == f.Build && x.Err == nil })
		if done || f.Kind == mend.Added || f.Kind == mend.Shadow {
			continue
		}
		e.Left++
		e.Root = e.Root || f.Kind != mend.Library && f.Kind != mend.Symbols && f.Kind != mend.Interpreter
	}
	if e.Left == 0 {
		return nil
	}
	return &alreadyShown{e}
}

func (a *app) showUnsound(r *mend.Report) {
	if a.screen.JSON {
		return
	}
	const few = 8
	type group struct {
		build store.Ref
		kind  mend.Kind
	}
	shown := map[group]int{}
	for i, f := range r.Findings {
		g := group{f.Build, f.Kind}
		shown[g]++
		if shown[g] > few {
			continue
		}
		head := ""
		if f.Build.Name != "" {
			head = a.screen.Strong(f.Build.Name) + " " + f.Build.Version + ": "
		}
		a.screen.Print("%s%s: %s", head, term.OneLine(f.Path), term.OneLine(f.What))
		last := i+1 == len(r.Findings) || r.Findings[i+1].Build != f.Build || r.Findings[i+1].Kind != f.Kind
		if n := count(r.Findings, f); shown[g] == few && n > few {
			a.screen.Print("  and %d more like it; --json shows all", n-few)
			last = true
		}
		if last {
			for _, text := range []string{f.Follows, f.Advice} {
				if text != "" {
					a.screen.Print("  %s", text)
				}
			}
		}
	}
	for _, x := range r.Affected {
		if len(x.For) > 0 {
			a.screen.Print("%s %s is what %s on the landing %s on.", a.screen.Strong(x.Build.Name), x.Build.Version, isAnd(refTexts(x.For)), map[bool]string{true: "stands", false: "stand"}[len(x.For) == 1])
		}
	}
	if len(r.Findings) == 0 {
		a.screen.Print("All is sound: %s, %s (%s read).", term.Count(r.Builds, "build"), term.Count(r.Files, "file"), term.Bytes(r.Bytes))
	}
}

func count(all []mend.Finding, like mend.Finding) (n int) {
	for _, f := range all {
		if f.Build == like.Build && f.Kind == like.Kind {
			n++
		}
	}
	return n
}

func (a *app) showFixed(all []mend.Fixed) {
	if a.screen.JSON {
		return
	}
	for _, f := range all {
		if f.Err != nil {
			a.screen.Print("Not mended: %s: %v", term.OneLine(f.Path), f.Err)
		} else if f.Done != "" {
			a.screen.Print("Mended: %s: %s", term.OneLine(f.Path), f.Done)
		}
	}
}

func (a *app) showRenewed(m *machine.Machine, all []install.Renewed, out *mendJSON) {
	for _, r := range all {
		a.showUnrecorded(r.Unrecorded)
		if r.Err != nil {
			err := newHelper(m).with(r.Err)
			out.Failed = append(out.Failed, r.Build.Name+" "+r.Build.Version+": "+err.Error())
			a.screen.Note("%s %s was not built again, and stays as it was: %v", r.Build.Name, r.Build.Version, err)
			continue
		}
		if a.screen.JSON {
			continue
		}
		text := fmt.Sprintf("Built again: %s %s (%s)", a.screen.Strong(r.Build.Name), r.Build.Version, r.Build.ID)
		if r.Aside != "" {
			text += "; what was there is kept in " + r.Aside
		}
		a.screen.Print("%s", text)
	}
}

// showWhatHelps says what can be done about what was only found.
func (a *app) showWhatHelps(r *mend.Report, f mending) {
	fixable := slices.ContainsFunc(r.Findings, func(x mend.Finding) bool { return x.Fixable })
	builds, _ := r.ToRebuild()
	if fixable && !f.fix {
		a.screen.Note("To put right what can be without losing anything: fernladder mend --fix")
	}
	if len(builds) > 0 && !f.rebuild {
		a.screen.Note("To build again %s: fernladder mend --rebuild", strings.Join(refTexts(builds), ", "))
	}
}
