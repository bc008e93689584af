package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/session"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) advisoriesCommand() *cobra.Command {
	var r session.AdvisoriesRequest
	vex := false
	c := &cobra.Command{
		Use:   "advisories [NAME...]",
		Short: "Show which builds have published security holes, and what ends them",
		Long: `Looks up what is installed and locked in the databases of security advisories that the
settings name ([[advisories]]), and shows for each hole the smallest step that ends it.
Databases with a URL are fetched if they have changed. Nothing is sent anywhere about what
is installed. A package is found by the names in [known_as] of its recipe.

It ends with status 8 if a build has a hole, and with 0 if none has; a hole that a patch
resolves ("fixes" in the recipe), or that does not concern a build ([not_affected]), does
not count.`,
		Example: `  fernladder advisories
  fernladder advisories --since last          what is new, for a timer
  fernladder advisories mistplan --severity high
  fernladder advisories --lock other.lock
  fernladder advisories --vex > vale.openvex.json`,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			r.Names = args
			return a.advisories(c.Context(), r, vex)
		},
	}
	c.Flags().BoolVar(&r.Shelves, "shelves", false, "releases on the shelves that are not built, too")
	c.Flags().StringVar(&r.Lock, "lock", "", "only what the lock file `FILE` has")
	c.Flags().StringVar(&r.Severity, "severity", "",
		"the least severity that counts, `LEVEL`: low, medium, high or critical")
	c.Flags().StringVar(&r.Since, "since", "", "only what was published or changed since `DAY`, as 2026-11-30; last: "+
		"only what --since last has not shown yet")
	c.Flags().BoolVar(&r.Older, "older", false, "accept a database that is older than the one seen before")
	c.Flags().BoolVar(&vex, "vex", false, "print what is known of each hole as an OpenVEX document")
	return c
}

func (a *app) advisories(ctx context.Context, r session.AdvisoriesRequest, vex bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	report, err := s.Advisories(ctx, r)
	if report == nil || report.Holes == nil {
		return err
	}
	if vex {
		if shown := a.screen.PrintJSON(s.VEX(report)); shown != nil {
			return shown
		}
		return judged(err)
	}
	if shown := a.answer(report, func() { a.showAdvisories(report) }); shown != nil {
		return shown
	}
	return judged(err)
}

func (a *app) showAdvisories(r *session.AdvisoriesReport) {
	shown, kept := 0, map[string][]string{}
	for _, h := range r.Holes {
		some := h
		some.Builds = slices.DeleteFunc(slices.Clone(h.Builds), func(b session.AffectedBuild) bool {
			if b.Where == "kept" {
				name := fmt.Sprintf("%s %s (%s)", b.Name, b.Version, b.ID)
				kept[name] = append(kept[name], h.ID)
			}
			return b.Where == "kept"
		})
		if len(some.Builds) > 0 {
			shown++
			a.showHole(some)
		}
	}
	switch looked := term.Count(r.Builds, "build"); shown {
	case 0:
		a.screen.Print("No published hole concerns what is in use, of %s that were looked up.", looked)
	default:
		a.screen.Print("%s in %d of %s.", term.Count(shown, "published hole"), len(r.Affected), looked)
	}
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		a.screen.Print("Not in use, and kept: %s, with %s", name, strings.Join(kept[name], ", "))
	}
	if len(kept) > 0 {
		a.screen.Note("To delete what is not in use: fernladder clean --trees --landings")
	}
	for _, x := range r.Answered {
		how := map[string]string{"fixed": "is resolved by", "not_affected": "does not concern it:"}[x.Status]
		a.screen.Print("%s in %s %s %s %s", x.ID, x.Build.Name, x.Build.Version, how, term.OneLine(x.Because))
	}
	if len(r.Unknown) > 0 {
		a.screen.Note("Not looked up, because no name elsewhere is known ([known_as] in the recipe): %s.",
			strings.Join(r.Unknown, ", "))
	}
	for _, id := range r.Unreadable {
		a.screen.Note("The advisory %s names a package here, and cannot be read.", term.OneLine(id))
	}
	for _, d := range r.Databases {
		if why := r.Unfetched[d.Name]; why != "" {
			a.screen.Note("The copy of %s that was fetched before was used: %s", d.Name, why)
		}
		if d.Broken > 0 {
			a.screen.Note("%s of %s cannot be read.", term.Count(d.Broken, "file"), d.Name)
		}
	}
}

func (a *app) showHole(h session.Hole) {
	severity := h.Severity.String()
	if level := h.Severity.Level; level == "high" || level == "critical" {
		severity = a.screen.Bad(severity)
	}
	a.screen.Print("%s  %s  %s", a.screen.Strong(h.ID), severity, term.OneLine(h.Summary))
	var also []string
	if len(h.Aliases) > 0 {
		also = append(also, "also "+strings.Join(h.Aliases, ", "))
	}
	if day, _, is := strings.Cut(h.Published, "T"); is {
		also = append(also, "published "+term.OneLine(day))
	}
	if len(h.Links) > 0 {
		also = append(also, term.OneLine(h.Links[0]))
	}
	if len(also) > 0 {
		a.screen.Print("    %s", a.screen.Faint(strings.Join(also, "; ")))
	}
	for _, b := range h.Builds {
		a.showAffected(b)
	}
	a.screen.Print("")
}

func (a *app) showAffected(b session.AffectedBuild) {
	what := a.screen.Strong(b.Name) + " " + b.Version
	if b.Part != "" {
		what += ", in its part " + term.OneLine(b.Part)
	}
	where := map[string]string{"asked": "on the landing", "needed": "on the landing, needed",
		"beside": "on the landing, beside", "used": "in use", "locked": "locked, not built",
		"shelf": "on the shelf, not built"}[b.Where]
	a.screen.Print("  %s  %s  %s", what, b.ID, where)
	if b.Doubt != "" {
		a.screen.Print("      counted as affected: %s", term.OneLine(b.Doubt))
	}
	if len(b.Against) > 0 {
		a.screen.Print("      %s says that this version is not affected", isAnd(b.Against))
	}
	if b.InUse() {
		a.screen.Print("      %s", term.OneLine(b.End()))
	}
	for _, r := range b.Step.Remedy {
		a.screen.Print("        %s", lineOf(r))
	}
	if len(b.Copied) > 0 {
		a.screen.Print("      copied into: %s", buildNames(b.Copied))
	}
	if again := slices.DeleteFunc(slices.Clone(b.Again), func(r store.Ref) bool {
		return slices.Contains(b.Copied, r)
	}); len(again) > 0 {
		a.screen.Print("      used by: %s", buildNames(again))
	}
}

// showNotice names builds with published holes in a line.
func (a *app) showNotice(n session.Notice) {
	switch n.Holes {
	case 0:
	case 1:
		a.screen.Note("%s: 1 published hole, %s. To see what ends it: fernladder advisories", buildNames(n.Builds),
			n.Severity)
	default:
		a.screen.Note("%s: %d published holes, the worst %s. To see what ends them: fernladder advisories",
			buildNames(n.Builds), n.Holes, n.Severity)
	}
}

func buildNames(refs []store.Ref) string {
	const few = 6
	var names []string
	for _, r := range refs[:min(few, len(refs))] {
		names = append(names, r.Name+" "+r.Version)
	}
	if more := len(refs) - len(names); more > 0 {
		names = append(names, fmt.Sprintf("%d more", more))
	}
	return strings.Join(names, ", ")
}
