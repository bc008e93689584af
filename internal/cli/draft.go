package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/buildfile"
	"fernladder/core/draft"
	"fernladder/core/durable"
	"fernladder/core/host"
	"fernladder/core/tomlfile"

	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/version"
	"fernladder/internal/term"
)

// draftFlags are those of the draft command.
type draftFlags struct {
	name, release, branch string
	svn, print, probe     bool
	read, quick           bool
	longest               time.Duration
	chain                 []string
	key, fingerprint      string
	install, yes          bool
}

func (a *app) draftCommand() *cobra.Command {
	var f draftFlags
	c := &cobra.Command{
		Use:   "draft SOURCE",
		Short: "Write most of a recipe from a source archive",
		Long: `Reads the files of a source, and writes from them what a recipe needs: name,
version, digest, licence, how it is built, its options, and what it looks for in
other packages. SOURCE is a URL or file of an archive, a git or Subversion
repository, or an unpacked folder. The recipe goes onto the first shelf, with
remarks on every line that a person should look at.

The source is asked what it takes: its configure step runs in a sealed room that has
nothing but a compiler, everything that it looks for is noted, and what the shelf has
is said to be there. With --read, its files are read and nothing of it is run.

With --probe, the draft is built in a sealed room, what it lacks is answered as far as
something answers it, and the recipe says what came of it, whether that is as the
recipe says, and what the tree offers. With --install, packages of the operating system
that are missing are installed, if that changes nothing that is there. Nothing is put on
the landing.`,
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
		RunE: func(c *cobra.Command, args []string) error { return a.draft(c.Context(), args[0], f) },
	}
	c.Flags().StringVar(&f.name, "name", "", "call the package `NAME`, whatever its files say")
	c.Flags().StringVar(&f.release, "release", "", "call the release `VERSION`, whatever its files say")
	c.Flags().StringVar(&f.branch, "branch", "", "SOURCE is a git repository; take its branch `BRANCH`")
	c.Flags().BoolVar(&f.svn, "svn", false, "SOURCE is a Subversion repository, whatever its URL says")
	c.Flags().BoolVar(&f.probe, "probe", false, "build the draft, sealed, and note in it what came of that")
	c.Flags().BoolVar(&f.install, "install", false, "with --probe, install packages of the operating system that are missing, after asking once")
	c.Flags().BoolVar(&f.yes, "yes", false, "with --install, do not ask")
	c.Flags().BoolVar(&f.read, "read", false, "read the files of the source, and run nothing of it")
	c.Flags().BoolVar(&f.quick, "quick", false, "ask the source only what it looks for, and nothing of its options")
	c.Flags().DurationVar(&f.longest, "longest", 3*time.Minute, "end a run of the source's configure step after `TIME`")
	c.Flags().StringArrayVar(&f.chain, "chain", nil, "draft what it needs, too, from the archives in the folder or on the page `PLACE`")
	c.Flags().StringVar(&f.key, "key", "", "verify the signature beside the archive with the key `KEY` (a file, a URL or a key server), and trust only that")
	c.Flags().StringVar(&f.fingerprint, "fingerprint", "", "accept a fetched key with the fingerprint `HEX`")
	c.Flags().BoolVar(&f.print, "print", false, "print the recipe and write nothing")
	return c
}

func (a *app) draft(ctx context.Context, from string, f draftFlags) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if f.probe && f.print {
		return usage("--probe builds what is on a shelf, and --print puts nothing there; use one of them")
	}
	if f.read && f.quick {
		return usage("--read asks the source nothing; use --read or --quick")
	}
	if len(f.chain) > 0 && f.print {
		return usage("--chain drafts onto a shelf, and --print puts nothing there; use one of them")
	}
	if f.install && !f.probe {
		return usage("--install is for what a probe finds missing; add --probe")
	}
	if _, missing := os.Stat(from); missing != nil && f.probe {
		if _, err := m.Shelves.Find(from); err == nil { // the name of one that is there
			return a.probe(ctx, m, from, f)
		}
	}
	if len(m.Settings.Shelves) == 0 && !f.print {
		return usage("no shelf is set for the recipe; make a folder to work in with: fernladder new DIR, or use --print")
	}
	d := &drafting{a: a, m: m, flags: f, begun: map[string]bool{}}
	if d.known, err = draft.Survey(m.Shelves, m.Store); err != nil {
		return err
	}
	if d.places, err = draft.PlacesOf(ctx, m, f.chain); err != nil {
		return err
	}
	found, err := d.draft(ctx, from)
	if err != nil || found == nil {
		return err
	}
	if len(d.drafted) > 0 && !a.screen.JSON { // which has one object for each recipe
		if err := d.showLadder(ctx, found.Name.Value); err != nil {
			return err
		}
	}
	if f.probe {
		return a.probe(ctx, m, found.Name.Value, f)
	}
	return nil
}

// drafting is a command that drafts a source, and perhaps others that it needs.
type drafting struct {
	a       *app
	m       *machine.Machine
	flags   draftFlags
	known   *draft.Known
	places  *draft.Places
	begun   map[string]bool // by their URLs and files
	drafted []string        // others, in their order
}

// draft drafts a source onto the first shelf. It returns nil where there is nothing to build:
// the recipe was printed, or a release was added to one that is there.
func (d *drafting) draft(ctx context.Context, from string) (*draft.Source, error) {
	a, m, f := d.a, d.m, d.flags
	if len(d.begun) > 0 { // what is said of the source that was named does not hold for others
		f.name, f.release, f.branch, f.svn, f.key = "", "", "", false, ""
	}
	d.begun[from] = true
	brought, err := draft.Bring(ctx, m, draft.Wanted{From: from, Branch: f.branch, Subversion: f.svn})
	if err != nil {
		return nil, err
	}
	defer brought.Done()
	if f.key != "" {
		if brought.Origin.Signer, err = a.trust(ctx, m, brought.Origin, f); err != nil {
			return nil, err
		}
	}
	files, done, err := draft.FilesOf(brought.Dir)
	if err != nil {
		return nil, err
	}
	defer done()
	found := draft.Read(files, brought.Name)
	found.Confirm(brought.Origin)
	if err := overrule(found, f); err != nil {
		return nil, err
	}
	if f.probe && len(d.begun) == 1 && d.there(found.Name.Value) {
		a.screen.Note("The recipe %s is there already, and is probed as it is.", found.Name.Value)
		return found, nil
	}
	if err := d.first(ctx, found, brought.Dir); err != nil {
		return nil, err
	}
	if !f.read && found.Configured() {
		if err := a.listen(ctx, m, found, brought.Dir, d.known, f); err != nil {
			return nil, err
		}
	}
	questions := found.Questions()
	decided := found.Decide(draft.Evidence{
		Known: d.known, Here: m.Programs.Ask(ctx, "cc", questions, func(host.Question) bool { return true }),
		Owners: m.HostFiles.Owners(questions), Listed: m.HostFiles.There(), Family: m.System.Family,
	})
	text := found.Compose(brought.Origin, decided, m.System.Family)
	if f.print {
		fmt.Fprint(a.screen.Out, text)
		return nil, nil
	}
	if added, err := a.addRelease(m, found, brought.Origin, f); added || err != nil {
		return nil, err
	}
	d.known.Promise(found, files)
	return found, a.writeDraft(m, found, decided, text, f, brought.Origin.Signer)
}

// trust verifies the signature of an archive with the key of --key. A person has to confirm the
// fingerprint of a fetched key.
func (a *app) trust(ctx context.Context, m *machine.Machine, o draft.Origin, f draftFlags) (*draft.Signer, error) {
	s, err := draft.Trust(ctx, m, o, f.key)
	switch {
	case errors.Is(err, draft.BadSource):
		return nil, usage("--key: %v", err)
	case err != nil:
		return nil, err
	case f.fingerprint != "" && !s.Is(f.fingerprint):
		return nil, usage("the signature is by %s, not by the key %s; nothing was written", s, f.fingerprint)
	case f.fingerprint != "" || !s.Asked:
		return s, nil
	case !a.screen.Interactive(os.Stdin):
		return nil, usage("the signature is by %s. Compare the fingerprint with the one that the authors publish, then add --fingerprint %s", s, s.Fingerprint)
	case !a.agrees(fmt.Sprintf("The signature is by %s. Do the authors publish this fingerprint?", s)):
		return nil, usage("nothing was written")
	}
	return s, nil
}

// there tells whether the first shelf has a recipe of that name.
func (d *drafting) there(name string) bool {
	_, err := os.Lstat(filepath.Join(d.m.Settings.Shelves[0].Dir, name, recipe.FileName))
	return err == nil
}

// first drafts what a source takes and no recipe has, from the places that --chain names. What
// needs itself, by others, is not drafted twice.
func (d *drafting) first(ctx context.Context, found *draft.Source, dir string) error {
	if len(d.flags.chain) == 0 {
		return nil
	}
	quick := *found
	if !d.flags.read && found.Configured() {
		if err := d.a.listen(ctx, d.m, &quick, dir, d.known, draftFlags{quick: true, longest: d.flags.longest}); err != nil {
			return err
		}
	}
	for _, l := range quick.Lacks(d.known) {
		archive, is := d.places.For(l)
		if !is || d.begun[archive] {
			continue
		}
		other, err := d.draft(ctx, archive)
		if err != nil {
			d.a.screen.Note("%s, for the %s %s, cannot be drafted: %v", archive, l.Kind, l.Name(), err)
			continue
		}
		if other != nil {
			d.drafted = append(d.drafted, other.Name.Value)
		}
	}
	return nil
}

// showLadder shows what would be built, with the recipes that are drafted now.
func (d *drafting) showLadder(ctx context.Context, name string) error {
	d.a.screen.Print("Drafted for it: %s", strings.Join(d.drafted, ", "))
	m, p, err := d.a.plan(ctx, plan.Ask{Names: []string{name}})
	if err != nil {
		return err
	}
	return d.a.showPlan(ctx, m, p, &planFlags{})
}

// listen has the source say itself what it takes, where this machine can.
func (a *app) listen(ctx context.Context, m *machine.Machine, found *draft.Source, dir string, known *draft.Known, f draftFlags) error {
	var unheard *draft.Unheard
	const often = 5 * time.Second
	began := a.now()
	told := began
	progress := func(doing string, runs int) {
		if now := a.now(); now.Sub(told) >= often {
			told = now
			a.screen.Note("Listening for %s: %s; %s of its configure step so far.", seconds(now.Sub(began).Seconds()), doing, term.Count(runs, "run"))
		}
	}
	err := found.Listen(ctx, m, dir, known, draft.Listening{Quick: f.quick, Longest: f.longest, Progress: progress})
	switch {
	case err == nil:
		a.screen.Note("Listened to its configure step for %s.", seconds(a.now().Sub(began).Seconds()))
	case errors.As(err, &unheard), errors.Is(err, draft.ErrNoRoom):
		a.screen.Note("Read only its files: %v.", err)
		err = nil
	}
	return err
}

// addRelease adds the release to a recipe of that name that is there, and says which
// options and look-ups came and went. It is false where there is none.
func (a *app) addRelease(m *machine.Machine, found *draft.Source, o draft.Origin, f draftFlags) (added bool, err error) {
	r, err := recipe.Read(filepath.Join(m.Settings.Shelves[0].Dir, found.Name.Value), filepath.Join(m.Settings.Shelves[0].Shown, found.Name.Value))
	if err != nil {
		return false, nil // there is none, or one that writing tells of
	}
	v, err := version.Parse(found.Version.Value)
	if err != nil || o.SHA256 == "" || f.probe {
		return false, nil
	}
	if slices.ContainsFunc(r.Releases, func(x *recipe.Release) bool { return !x.Version.IsZero() && x.Version.Compare(v) == 0 }) {
		return false, nil
	}
	x := &recipe.Release{Version: v, Track: recipe.Stable, Archive: []string{o.URL}, Size: int(o.Size), Digest: recipe.Digest{Algorithm: "sha256", Hex: o.SHA256}}
	if v.Preview() {
		x.Track = recipe.Preview
	}
	for _, url := range r.Archive {
		if r.ExpandURL(url, v.String()) == o.URL {
			x.Archive = nil // as the recipe has it for all
		}
	}
	if err := r.Change(func(e *tomlfile.Edit) { e.InsertBefore("release", recipe.ReleaseText(e.Style("release"), x)) }); err != nil {
		return true, err
	}
	a.screen.Print("%s has the release %s now, sha256:%s", r.File, v, o.SHA256)
	came, went := found.Changes(r)
	for _, line := range came {
		a.screen.Print("new:  %s", line)
	}
	for _, line := range went {
		a.screen.Print("gone: %s", line)
	}
	a.screen.Note("Compare the digest with what its makers publish; then: fernladder check %s && fernladder install %s:%s", r.Name, r.Name, v)
	return true, nil
}

// overrule puts what a person says in the place of what was found.
func overrule(found *draft.Source, f draftFlags) error {
	if f.name != "" {
		if err := recipe.CheckName(f.name); err != nil {
			return usage("--name: %v", err)
		}
		found.Name = draft.Finding{What: "name", Value: f.name, From: "you", Certainty: draft.Certain}
	}
	if f.release != "" {
		if _, err := version.Parse(f.release); err != nil {
			return usage("--release: %v", err)
		}
		found.Version = draft.Finding{What: "version", Value: f.release, From: "you", Certainty: draft.Certain}
	}
	if found.Name.Value == "" {
		return usage("nothing says what the package is called; say so with --name NAME")
	}
	if found.Version.Value == "" {
		return usage("nothing says which version this is; say so with --release VERSION")
	}
	return nil
}

// writeDraft puts the recipe on the first shelf, and says what is in it.
func (a *app) writeDraft(m *machine.Machine, found *draft.Source, decided draft.Decided, text string, f draftFlags, signer *draft.Signer) error {
	if len(text) > recipe.Largest {
		return usage("the draft would have %d MiB, and at most %d are read: the source has more switches than a recipe can say", len(text)>>20, recipe.Largest>>20)
	}
	shelf := m.Settings.Shelves[0]
	dir := filepath.Join(shelf.Dir, found.Name.Value)
	shown := filepath.Join(shelf.Shown, found.Name.Value)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var err error
	if _, missing := os.Lstat(filepath.Join(dir, recipe.FileName)); signer != nil && missing != nil {
		key := filepath.Join(dir, signer.File(found.Name.Value))
		if err = os.MkdirAll(filepath.Dir(key), 0o755); err == nil {
			err = durable.WriteFile(key, signer.Key, 0o644)
		}
	}
	if err == nil {
		err = writeNew(filepath.Join(dir, recipe.FileName), text)
	}
	if errors.Is(err, os.ErrExist) {
		return usage("%s is there already, and stays as it is; see the draft with --print", filepath.Join(shown, recipe.FileName))
	}
	if err != nil {
		return err
	}
	written, err := recipe.Read(dir, shown)
	var problems tomlfile.Problems
	if err != nil && !errors.As(err, &problems) {
		return err
	}
	buildable := found.Name.Value
	if err == nil {
		buildable = written.Buildable()
	}
	all := append([]draft.Finding{found.Name, found.Version, found.Method, found.License, found.Summary, found.Home}, found.Remarks...)
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"recipe": filepath.Join(dir, recipe.FileName), "findings": all, "options": len(decided.Choices), "problems": append(tomlfile.Problems{}, problems...)})
	}
	a.screen.Print("Wrote %s", filepath.Join(shown, recipe.FileName))
	for _, c := range []draft.Certainty{draft.Certain, draft.Guessed, draft.Open} {
		a.showFindings(c, all)
	}
	a.showDecided(decided)
	for _, h := range found.Hints {
		for _, line := range h.Lines(m.System.Family) {
			a.screen.Print("%s %s", a.screen.Strong("hint    "), line)
		}
	}
	for _, p := range problems {
		a.screen.Print("%s", p.String())
	}
	if lacks := decided.NoRecipe(); len(lacks) > 0 && len(f.chain) == 0 {
		a.screen.Note("No recipe has %s. What of that is to be built, draft first, then this again; or all at once, with --chain FOLDER.", strings.Join(lacks, ", "))
	}
	a.screen.Note("Look at the remarks in it; then: fernladder install %s", buildable)
	return nil
}

// showDecided shows the options that are on, what is needed, and what is left out.
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
		a.screen.Print("%s %s%s", a.screen.Strong("left off"), strings.Join(off, ", "), a.screen.Faint(" (no recipe has what they need)"))
	}
	on, could := byShelf(d)
	if len(on) > 0 {
		a.screen.Print("%s %s%s", a.screen.Strong("switched"), strings.Join(on, ", "), a.screen.Faint(" (on, for the shelf has it; the source takes it if it is there)"))
	}
	if len(could) > 0 {
		a.screen.Print("%s %s%s", a.screen.Strong("could be"), strings.Join(could, ", "), a.screen.Faint(" (off in the source; the shelf has what it needs, and the need is written)"))
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
		needs = append(needs, text)
	}
	if len(needs) > 0 {
		a.screen.Print("%s %s", a.screen.Strong("needs   "), strings.Join(needs, ", "))
	}
	if len(d.Perhaps) > 0 {
		a.screen.Print("%s %s%s", a.screen.Strong("lacks   "), strings.Join(d.Perhaps, ", "), a.screen.Faint(" (neither a recipe nor this machine has it)"))
	}
}

// byShelf names the options that are on because recipes have what they need, where the
// source would decide by what is there; and those that are off and could be on, for they do.
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
