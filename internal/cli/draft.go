package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/buildfile"
	"fernladder/core/draft"
	"fernladder/core/plan"
	"fernladder/core/session"
	"fernladder/internal/term"
)

// draftFlags are those of the draft command.
type draftFlags struct {
	session.DraftRequest
	fingerprint         string
	probe, install, yes bool
}

func (a *app) draftCommand() *cobra.Command {
	var f draftFlags
	c := &cobra.Command{
		Use:   "draft SOURCE",
		Short: "Write most of a recipe for a source",
		Long: `Writes most of a recipe for a source: name, version, digest, licence, how it is built, its
options, and its dependencies. SOURCE is a URL or file of an archive, a git or Subversion
repository, or an unpacked folder. The recipe goes onto the first shelf, with a remark on
every line that a person should check.

The source's configure step runs in a sealed room that has only a compiler. Every look-up
is recorded, and what the shelf has is reported to it as present. With --read, only the
files of the source are read.

With --probe, the draft is built in a sealed room; what is missing is added as far as an
answer is known; and the recipe records the result and what the tree offers. With
--install, missing packages of the operating system are installed, if that changes no
existing package. The landing does not change.`,
		Example: `  fernladder draft https://vale-glasshouse.example/dl/dewcalc-1.4.2.tar.gz
  fernladder draft ~/downloads/mistplan-2.1.0.tar.gz --print
  fernladder draft https://vale-glasshouse.example/mistplan.git
  fernladder draft snapshot.tar.gz --name frondplot --release 1.2.0
  fernladder draft mistplan --probe           probe the recipe that is there
  fernladder draft https://vale-glasshouse.example/dl/dewcalc-1.4.2.tar.gz --key growers.asc`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("name one source: an archive's URL or file, a repository, or a folder")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error { f.From = args[0]; return a.draft(c.Context(), f) },
	}
	c.Flags().StringVar(&f.Name, "name", "", "use the package name `NAME` instead of that in its files")
	c.Flags().StringVar(&f.Release, "release", "", "use the version `VERSION` instead of that in its files")
	c.Flags().StringVar(&f.Branch, "branch", "", "SOURCE is a git repository; take its branch `BRANCH`")
	c.Flags().BoolVar(&f.Subversion, "svn", false, "SOURCE is a Subversion repository")
	c.Flags().BoolVar(&f.probe, "probe", false, "build the draft, sealed, and record the result in it")
	c.Flags().BoolVar(&f.install, "install", false,
		"with --probe, install missing packages of the operating system, after asking once")
	c.Flags().BoolVar(&f.yes, "yes", false, "with --install, do not ask")
	c.Flags().BoolVar(&f.Read, "read", false, "read the files of the source, and run nothing of it")
	c.Flags().BoolVar(&f.Quick, "quick", false, "ask the source only what it looks for, not about its options")
	c.Flags().DurationVar(&f.Longest, "longest", 3*time.Minute, "end a run of the source's configure step after `TIME`")
	c.Flags().StringArrayVar(&f.Places, "chain", nil,
		"also draft what it needs, from the archives in the folder or on the page `PLACE`")
	c.Flags().StringVar(&f.Key, "key", "",
		"verify the signature beside the archive with the key `KEY` (a file, a URL or a key server), and trust only that")
	c.Flags().StringVar(&f.fingerprint, "fingerprint", "", "accept a fetched key with the fingerprint `HEX`")
	c.Flags().BoolVar(&f.Print, "print", false, "print the recipe and write nothing")
	return c
}

func (a *app) draft(ctx context.Context, f draftFlags) error {
	for _, c := range []struct {
		wrong bool
		why   string
	}{
		{f.probe && f.Print, "--probe builds what is on a shelf, and --print puts nothing there; use one of them"},
		{f.Read && f.Quick, "--read asks the source nothing; use --read or --quick"},
		{len(f.Places) > 0 && f.Print, "--chain drafts onto a shelf, and --print puts nothing there; use one of them"},
		{f.install && !f.probe, "--install is for what a probe finds missing; add --probe"},
	} {
		if c.wrong {
			return usage("%s", c.why)
		}
	}
	s, err := a.open()
	if err != nil {
		return err
	}
	may, err := a.installer(ctx, s, f)
	if err != nil {
		return err
	}
	if _, missing := os.Stat(f.From); missing != nil && f.probe {
		if _, err := s.Shelves.Find(f.From); err == nil { // the name of an existing recipe
			return a.probe(ctx, s, f.From, may)
		}
	}
	r := f.DraftRequest
	r.Keep = f.probe
	r.Install = may
	r.Confirm = func(signer *draft.Signer) error { return a.confirm(signer, f.fingerprint) }
	a.tellListening(&r)
	report, err := s.Draft(ctx, r)
	if err != nil {
		return err
	}
	for _, other := range report.Others {
		if err := a.showDraft(other, r); err != nil {
			return err
		}
	}
	if err := a.showDraft(report, r); err != nil || r.Print || report.Added != nil {
		return err
	}
	if names := drafted(report); len(names) > 0 && !a.screen.JSON { // which has one object for each recipe
		a.screen.Print("Drafted for it: %s", strings.Join(names, ", "))
		if s, err = a.open(); err != nil { // with the new recipes
			return err
		}
		p, err := s.Plan(ctx, a.ladder(plan.Ask{Names: []string{report.Name}}))
		if err != nil {
			return err
		}
		if err := a.showPlan(p, &planFlags{}); err != nil {
			return err
		}
	}
	if f.probe {
		return a.probe(ctx, s, report.Name, may)
	}
	return nil
}

// drafted names the recipes that were drafted for another, in their order.
func drafted(r *session.DraftReport) (names []string) {
	for _, other := range r.Others {
		names = append(append(names, drafted(other)...), other.Name)
	}
	return names
}

// tellListening reports the progress of listening to a source from time to time.
func (a *app) tellListening(r *session.DraftRequest) {
	const often = 5 * time.Second
	began := a.now()
	told := began
	r.Listening = func(doing string, runs int) {
		if now := a.now(); now.Sub(told) >= often {
			told = now
			a.screen.Note("Listening for %s: %s; %s of its configure step so far.", seconds(now.Sub(began).Seconds()), doing,
				term.Count(runs, "run"))
		}
	}
	r.Listened = func(unheard error) {
		if unheard != nil {
			a.screen.Note("Read only its files: %v.", unheard)
		} else {
			a.screen.Note("Listened to its configure step for %s.", seconds(a.now().Sub(began).Seconds()))
		}
		began = a.now()
		told = began
	}
	r.Refused = func(archive string, wanted buildfile.Lookup, err error) {
		a.screen.Note("%s, for the %s %s, cannot be drafted: %v", archive, wanted.Kind, wanted.Name(), err)
	}
}

// confirm asks whether the authors publish the fingerprint of a fetched key, unless it was
// given.
func (a *app) confirm(s *draft.Signer, fingerprint string) error {
	switch {
	case fingerprint != "" && !s.Is(fingerprint):
		return usage("the signature is by %s, not by the key %s; nothing was written", s, fingerprint)
	case fingerprint != "" || !s.Asked:
		return nil
	case !a.screen.Interactive(os.Stdin):
		return usage("the signature is by %s. Compare the fingerprint with the one that the authors publish, then add "+
			"--fingerprint %s", s, s.Fingerprint)
	case !a.agrees(fmt.Sprintf("The signature is by %s. Do the authors publish this fingerprint?", s)):
		return usage("nothing was written")
	}
	return nil
}

// showDraft shows a recipe that was drafted, and what is in it.
func (a *app) showDraft(r *session.DraftReport, f session.DraftRequest) error {
	switch {
	case f.Print:
		fmt.Fprint(a.screen.Out, r.Text)
		return nil
	case r.Exists:
		a.screen.Note("The recipe %s exists, and is probed as it is.", r.Name)
		return nil
	case r.Added != nil:
		x := r.Added
		a.screen.Print("%s has the release %s now, sha256:%s", r.File, x.Version, x.SHA256)
		for _, line := range x.Came {
			a.screen.Print("new:  %s", line)
		}
		for _, line := range x.Went {
			a.screen.Print("gone: %s", line)
		}
		a.screen.Note("Compare the digest with what its makers publish; then: fernladder check %s && fernladder install "+
			"%s:%s", r.Name, r.Name, x.Version)
		return nil
	case a.screen.JSON:
		return a.screen.PrintJSON(r)
	}
	a.screen.Print("Wrote %s", r.File)
	for _, c := range []draft.Certainty{draft.Certain, draft.Guessed, draft.Open} {
		a.showFindings(c, r.Findings)
	}
	a.showDecided(r.Decided)
	for _, h := range r.Hints {
		for _, line := range h.Lines(a.session.System.Family) {
			a.screen.Print("%s %s", a.screen.Strong("hint    "), line)
		}
	}
	for _, p := range r.Problems {
		a.screen.Print("%s", p.String())
	}
	if lacks := r.Decided.NoRecipe(); len(lacks) > 0 && len(f.Places) == 0 {
		a.screen.Note("No recipe has %s. Draft first what of that is to be built, then this again; or all at once, with "+
			"--chain FOLDER.", strings.Join(lacks, ", "))
	}
	a.screen.Note("Look at the remarks in it; then: fernladder install %s", r.Buildable)
	return nil
}

// showDecided shows the options that are on, the needs, and what is left out.
func (a *app) showDecided(d draft.Decided) {
	var off []string
	for _, c := range d.Choices {
		if c.Set == "off" && c.Default != buildfile.Off && c.Purpose == "" {
			off = append(off, c.Name)
		}
	}
	if n := len(d.Choices); n > 0 {
		a.screen.Print("%s %s", a.screen.Strong("options "), term.Count(n, "option"))
	}
	if len(off) > 0 {
		a.screen.Print("%s %s%s", a.screen.Strong("left off"), strings.Join(off, ", "),
			a.screen.Faint(" (no recipe has what they need)"))
	}
	on, could := byShelf(d)
	if len(on) > 0 {
		a.screen.Print("%s %s%s", a.screen.Strong("switched"), strings.Join(on, ", "),
			a.screen.Faint(" (on, because the shelf has it; the source uses it if present)"))
	}
	if len(could) > 0 {
		a.screen.Print("%s %s%s", a.screen.Strong("could be"), strings.Join(could, ", "),
			a.screen.Faint(" (off in the source; the shelf has what it needs, and the need is written)"))
	}
	var needs []string
	for _, w := range d.Needs {
		text := w.Recipe
		if text == "" {
			text = w.Question.String() + " of the operating system"
		}
		if len(w.When) > 0 {
			text += " (with " + strings.Join(w.When, " or ") + ")"
		}
		if !slices.Contains(needs, text) { // as a tool, and as a library
			needs = append(needs, text)
		}
	}
	if len(needs) > 0 {
		a.screen.Print("%s %s", a.screen.Strong("needs   "), strings.Join(needs, ", "))
	}
	if len(d.Perhaps) > 0 {
		a.screen.Print("%s %s%s", a.screen.Strong("lacks   "), strings.Join(d.Perhaps, ", "),
			a.screen.Faint(" (neither a recipe nor this machine has it)"))
	}
}

// byShelf names the options that are on because recipes have what they need, although the source
// would decide by itself; and those that are off and could be on for the same reason.
func byShelf(d draft.Decided) (on, could []string) {
	for _, c := range d.Choices {
		var recipes []string
		for _, w := range d.Needs {
			if w.Recipe != "" && slices.Contains(w.When, c.Name) {
				recipes = append(recipes, w.Recipe)
			}
		}
		text := c.Name + " by " + strings.Join(recipes, " and ")
		switch {
		case len(recipes) == 0:
		case c.Set == "on" && c.Default == buildfile.Auto:
			on = append(on, text)
		case c.Set == "off" && c.Purpose == "":
			could = append(could, text)
		}
	}
	return on, could
}

// showFindings shows those of one certainty.
func (a *app) showFindings(c draft.Certainty, all []draft.Finding) {
	label := string(c)
	for _, f := range all {
		if f.Certainty != c {
			continue
		}
		line := strings.TrimSpace(f.What + " " + f.Value)
		if f.From != "" {
			line += a.screen.Faint(" (" + f.From + ")")
		}
		a.screen.Print("%s %s", a.screen.Strong(fmt.Sprintf("%-8s", label)), line)
		label = ""
	}
}
