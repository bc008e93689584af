package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/install"
	"fernladder/core/mend"
	"fernladder/core/session"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) mendCommand() *cobra.Command {
	var r session.MendRequest
	c := &cobra.Command{
		Use:   "mend [NAME...]",
		Short: "Check what is installed and what it uses of the machine, and repair it",
		Long: `Checks every build against its receipt: files that are missing, changed or added, links of
the landing, configuration, the history, permissions, interrupted work. Checks the machine
against what the builds use: libraries that are gone or have other symbol versions,
missing interpreters. After an upgrade of the operating system it shows what broke.

Nothing changes without --fix, which repairs what can be repaired without loss. With
--rebuild, damaged builds, and builds that no longer fit the machine, are built again from
the same sources; each replaces the old one in one step, after its tries. Damaged trees
are kept in the directory damaged of the root.`,
		Example: `  fernladder mend
  fernladder mend --machine                   only what the operating system has
  fernladder mend mistplan --quick            one package, without reading its files
  fernladder mend --fix --rebuild`,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { r.Names = args; return a.mend(c.Context(), r) },
	}
	c.Flags().BoolVar(&r.Quick, "quick", false, "check sizes and permissions of files, but not contents")
	c.Flags().BoolVar(&r.Machine, "machine", false, "check only what builds use of the operating system")
	c.Flags().BoolVar(&r.Fix, "fix", false, "repair what can be repaired without loss")
	c.Flags().BoolVar(&r.Rebuild, "rebuild", false, "build again what is damaged, or no longer fits the machine")
	return c
}

func (a *app) mend(ctx context.Context, r session.MendRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r.Found = a.showUnsound
	report, err := s.Mend(ctx, r)
	if report == nil {
		return err
	}
	if shown := a.answer(report, func() {
		a.showFixed(report.Fixed)
		a.showRenewed(report.Renewed)
		a.showWhatHelps(report.Report, r)
	}); shown != nil {
		return shown
	}
	return judged(err)
}

// showUnsound shows what is wrong, a few of each kind for each build.
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
			for _, x := range f.Remedies {
				a.screen.Print("  %s", lineOf(x))
			}
		}
	}
	for _, x := range r.Affected {
		if len(x.For) > 0 {
			needs := "need"
			if len(x.For) == 1 {
				needs = "needs"
			}
			a.screen.Print("%s on the landing %s %s %s.", isAnd(refTexts(x.For)), needs, a.screen.Strong(x.Build.Name),
				x.Build.Version)
		}
	}
	if len(r.Findings) == 0 {
		a.screen.Print("Nothing is wrong: %s, %s (%s read).", term.Count(r.Builds, "build"), term.Count(r.Files, "file"),
			term.Bytes(r.Bytes))
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
	for _, f := range all {
		if f.Err != nil {
			a.screen.Print("Not repaired: %s: %v", term.OneLine(f.Path), f.Err)
		} else if f.Done != "" {
			a.screen.Print("Repaired: %s: %s", term.OneLine(f.Path), f.Done)
		}
	}
}

func (a *app) showRenewed(all []install.Renewed) {
	for _, r := range all {
		a.showUnrecorded(r.Unrecorded)
		if r.Err != nil {
			err := newHelper(a.session.Machine).with(r.Err)
			a.screen.Note("%s %s was not built again, and stays as it was: %v", r.Build.Name, r.Build.Version, err)
			continue
		}
		text := fmt.Sprintf("Built again: %s %s (%s)", a.screen.Strong(r.Build.Name), r.Build.Version, r.Build.ID)
		if r.Aside != "" {
			text += "; the damaged tree is kept in " + r.Aside
		}
		a.screen.Print("%s", text)
	}
}

// showWhatHelps says what can be done about what was only found.
func (a *app) showWhatHelps(r *mend.Report, f session.MendRequest) {
	fixable := slices.ContainsFunc(r.Findings, func(x mend.Finding) bool { return x.Fixable })
	builds, _ := r.ToRebuild()
	if fixable && !f.Fix {
		a.screen.Note("To repair what can be repaired without loss: fernladder mend --fix")
	}
	if len(builds) > 0 && !f.Rebuild {
		a.screen.Note("To build again %s: fernladder mend --rebuild", strings.Join(refTexts(builds), ", "))
	}
}
