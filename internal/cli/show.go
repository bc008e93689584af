package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/sandbox"
	"fernladder/core/session"
	"fernladder/core/store"
	"fernladder/core/traces"
	"fernladder/internal/term"
)

func (a *app) showCommand() *cobra.Command {
	readme := false
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "Show all about an installed package",
		Long: `Shows the receipt of an installed package: its origin, how it was built, what it needs. If
there are several builds, it shows the one on the landing. With --readme, it shows README
and INSTALL of the source, without unpacking it.`,
		Example: "  fernladder show mistplan\n  fernladder show mistplan:1.9.4\n  fernladder show mistplan " +
			"--readme",
		Args:              a.exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			if readme {
				return a.readme(c.Context(), args[0])
			}
			return a.show(args[0])
		},
	}
	c.Flags().BoolVar(&readme, "readme", false, "show what the source says about itself")
	return c
}

func (a *app) show(name string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.Show(name)
	if err != nil {
		return err
	}
	return a.answer(r, func() { a.showReceipt(r) })
}

func (a *app) showReceipt(report *session.ShowReport) {
	r := report.Receipt
	a.screen.Print("%s %s   %s", a.screen.Strong(r.Name), r.Version, r.Summary)
	a.row("home", r.Home)
	a.row("licence", r.License)
	a.row("landing", standing(report.Landing, r.Ref))
	a.row("tree", fmt.Sprintf("%s (%s, %s)", r.Tree, term.Count(r.Files, "file"), term.Bytes(r.Size)))
	a.row("for", r.Prefix)
	a.row("recipe", r.Recipe)
	a.showOrigin(r)
	a.row("config", report.ConfigFiles...)
	for _, patch := range r.Patches {
		a.row("patch", patch.File)
	}
	for _, remark := range r.Remarks {
		a.row("remark", remark.String())
	}
	if len(r.Options) > 0 {
		a.screen.Paragraph("options    ", optionTexts(r))
	}
	a.row("preset", r.Preset)
	a.showWithAndWithout(r)
	a.showBuilding(r)
	a.row("history", earlier(report.Earlier)...)
}

// row prints a label and the texts after it, one on a line; nothing where there is no text.
func (a *app) row(label string, texts ...string) {
	for _, text := range texts {
		if text != "" {
			a.screen.Print("%s %s", a.screen.Faint(fmt.Sprintf("%-10s", label)), text)
			label = ""
		}
	}
}

// standing says how a build is on the landing.
func standing(current landing.State, r store.Ref) string {
	on := fmt.Sprintf("on it (%d), ", current.Number)
	switch current.How(r) {
	case "asked":
		return on + "requested"
	case "needed":
		return on + "needed by another"
	case "beside":
		return on + "beside another build"
	}
	return "not on it"
}

// showOrigin shows what a build was made of, and how that was verified.
func (a *app) showOrigin(r *store.Receipt) {
	for _, source := range r.Sources {
		where := source.URL
		if source.Into != "" {
			where += ", inside " + source.Into
		}
		a.row("source", where)
		a.row("commit", source.Commit)
		switch {
		case source.Commit != "":
			a.row("digest", source.Digest.String()+", of all files")
		case r.Edited:
			a.row("digest", source.Digest.String()+", verified; then changed by hand")
		default:
			a.row("digest", source.Digest.String()+", verified")
		}
		if source.Signed != nil {
			a.row("signed by", source.Signed.String())
		}
	}
	for _, supply := range r.Supplies {
		a.row("supply", supply.File+", supplied by hand, must not be passed on")
	}
}

// showBuilding shows what a build needed, and how and when it was built.
func (a *app) showBuilding(r *store.Receipt) {
	var needs, times []string
	for _, n := range r.Needs {
		needs = append(needs, fmt.Sprintf("%s %s, %s (%s)", n.Name, n.Version, n.Role, n.ID))
	}
	for _, st := range r.Stages {
		times = append(times, st.Stage+" "+seconds(st.Seconds))
	}
	a.row("needs", needs...)
	if o := r.From; o != nil {
		a.row("taken", fmt.Sprintf("from %s on %s", o.Depot, o.At.Local().Format("2006-01-02 15:04")),
			"signed by "+o.Signed.String(), o.Manifest)
		for _, t := range o.Untried {
			a.row("remark", "not tried here, for want of a compiler: "+t)
		}
	}
	a.row("built", fmt.Sprintf("%s in %s, with %s; %s, isolation: %s%s", r.Began.Local().Format("2006-01-02 15:04"),
		seconds(r.Seconds),
		r.Method, orDefault(r.Compiler, "no compiler"), r.Isolation, seen(r)))
	if c := r.Cached; c.Hits > 0 {
		times = append(times, fmt.Sprintf("%d of %d compilations from the cache", c.Hits, c.Compilations))
	}
	if r.SkippedUnplaced {
		times = append(times, "compiled only what is placed")
	}
	a.row("stages", strings.Join(times, ", "))
	a.row("notes", strings.TrimSpace(r.Notes))
}

// showWithAndWithout shows what the source was configured with and without, as it said.
func (a *app) showWithAndWithout(r *store.Receipt) {
	var on []string
	for _, f := range r.Features {
		if f.On {
			on = append(on, f.Name)
		}
	}
	if len(on) > 0 {
		a.screen.Paragraph("with       ", on)
	}
	if without := traces.Without(r); len(without) > 0 {
		a.screen.Paragraph("without    ", without)
	}
}

// earlier are lines about the last builds of a package, failed ones too.
func earlier(records []store.Record) []string {
	lines := make([]string, len(records))
	for i, r := range records {
		lines[i] = fmt.Sprintf("%s  %s %s, %s", r.Began.Local().Format("2006-01-02 15:04"), r.Version, r.ID,
			seconds(r.Seconds))
		if r.Failed != "" {
			lines[i] += ", failed in stage " + r.Failed
		}
	}
	return lines
}

// optionTexts are the options of a build. One that is on, and of which the source said that
// it was configured without it, is not shown as if it were there.
func optionTexts(r *store.Receipt) []string {
	var texts []string
	for name, value := range r.Options {
		text := name + "=" + value
		if value == "on" && slices.ContainsFunc(r.Without, func(what string) bool { return joined(what) == joined(name) }) {
			text += " (but configured without it)"
		}
		texts = append(texts, text)
	}
	slices.Sort(texts)
	return texts
}

// joined is a name without what is between its words.
func joined(name string) string {
	return strings.NewReplacer(" ", "", "-", "", "_", "").Replace(strings.ToLower(name))
}

func (a *app) filesCommand() *cobra.Command {
	return &cobra.Command{
		Use:               "files NAME",
		Short:             "List the files of an installed package",
		Example:           "  fernladder files mistplan\n  fernladder files mistplan --json",
		Args:              a.exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(_ *cobra.Command, args []string) error { return a.files(args[0]) },
	}
}

func (a *app) files(name string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.Files(name)
	if err != nil {
		return err
	}
	return a.answer(r, func() {
		for _, f := range r.Files {
			if f.Target != "" {
				a.screen.Print("%s/%s %s %s", r.Tree, term.OneLine(f.Path), a.screen.Faint("→"), term.OneLine(f.Target))
			} else {
				a.screen.Print("%s/%s", r.Tree, term.OneLine(f.Path))
			}
		}
	})
}

// seen says what a build has seen of the operating system, and what it began from.
func seen(r *store.Receipt) string {
	if n := len(r.Resumed); n > 0 {
		return seenLast(r) + ", continued after " + term.Count(n, "earlier run") + " (" +
			strings.Join(slices.Compact(slices.Sorted(slices.Values(r.Resumed))), ", ") + ")"
	}
	return seenLast(r)
}

func seenLast(r *store.Receipt) string {
	switch {
	case r.Isolation != string(sandbox.Sealed):
		return ""
	case r.NotBare != "":
		return " (saw all of the machine: " + r.NotBare + ")"
	}
	return " (saw what it declares)"
}
