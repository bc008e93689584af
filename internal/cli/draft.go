package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/keyfile"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/source"
	"fernladder/core/version"
	"fernladder/internal/term"
)

// draftFlags are those of the draft command.
type draftFlags struct {
	name, release, branch string
	svn, print, probe     bool
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

Nothing of the source is run, unless --probe is given: then the draft is built in
a sealed room, and the recipe says what came of it and what the tree offers.
Nothing is put on the landing.`,
		Example: `  fernladder draft https://vale-glasshouse.example/dl/dewcalc-1.4.2.tar.gz
  fernladder draft ~/downloads/mistplan-2.1.0.tar.gz --print
  fernladder draft https://vale-glasshouse.example/mistplan.git
  fernladder draft snapshot.tar.gz --name frondplot --release 1.2.0`,
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
	if len(m.Settings.Shelves) == 0 && !f.print {
		return usage("no shelf is set for the recipe; make a folder to work in with: fernladder new DIR, or use --print")
	}
	dir, origin, done, err := a.unpackDraft(ctx, m, from, f)
	if err != nil {
		return err
	}
	defer done()
	found := draft.Read(os.DirFS(dir), archiveName(from))
	found.Confirm(origin)
	if err := overrule(found, f); err != nil {
		return err
	}
	known, err := draft.Survey(m.Shelves, m.Store)
	if err != nil {
		return err
	}
	here := m.Programs.Ask(ctx, "cc", found.Questions(), func(host.Question) bool { return true })
	text := found.Compose(origin, known, here)
	if f.print {
		fmt.Fprint(a.screen.Out, text)
		return nil
	}
	if err := a.writeDraft(m, found, text); err != nil || !f.probe {
		return err
	}
	return a.probe(ctx, m, found.Name.Value)
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

// unpackDraft brings the source here and unpacks it. done takes away what was
// made for it.
func (a *app) unpackDraft(ctx context.Context, m *machine.Machine, from string, f draftFlags) (dir string, origin draft.Origin, done func(), err error) {
	done = func() {}
	url := from
	if !strings.Contains(from, "://") {
		info, err := os.Stat(from)
		if err != nil {
			return "", origin, done, usage("there is no %s", from)
		}
		file, err := filepath.Abs(from)
		if err != nil || info.IsDir() {
			return file, origin, done, err
		}
		url = "file://" + file
	}
	repository := f.branch != "" || f.svn || repositoryURL.MatchString(url)
	check := recipe.CheckURL
	if repository {
		check = recipe.CheckRepository
	}
	if err := check(url); err != nil {
		return "", origin, done, usage("%v", err)
	}
	if err := m.Store.Prepare(); err != nil {
		return "", origin, done, err
	}
	work, done, err := m.Store.Scratch("draft")
	if err != nil {
		return "", origin, func() {}, m.Store.Wrap(err)
	}
	if repository {
		origin, err = draftRepository(ctx, m, url, f, work)
		dir = work
	} else {
		dir, origin, err = draftArchive(ctx, m, url, work)
	}
	if err != nil {
		done()
		done = func() {}
	}
	return dir, origin, done, m.Stored(err)
}

// fileSize is the size of a file, or 0 where it cannot be found out.
func fileSize(file string) int64 {
	info, err := os.Stat(file)
	if err != nil {
		return 0
	}
	return info.Size()
}

// repositoryURL matches URLs that are surely not those of archives.
var repositoryURL = regexp.MustCompile(`\.git/?$|^(git|ssh|svn|svn\+ssh)://`)

// draftArchive fetches and unpacks an archive, and looks for a signature beside
// it.
func draftArchive(ctx context.Context, m *machine.Machine, url, work string) (string, draft.Origin, error) {
	file, digest, err := m.Archives.FetchUnpinned(ctx, url)
	if err != nil {
		return "", draft.Origin{}, err
	}
	origin := draft.Origin{URL: url, SHA256: digest.Hex, Size: fileSize(file)}
	if origin.Signature = m.Archives.SignatureOf(ctx, url); origin.Signature != "" {
		if text, err := m.Archives.FetchSmall(ctx, origin.Signature); err == nil {
			origin.Signers = signature.Signer(text)
		}
	}
	if len(origin.Signers) == 0 { // what is there is no signature
		origin.Signature = ""
	}
	if _, err := source.Unpack(ctx, file, work, m.Unpacking); err != nil {
		return "", origin, err
	}
	dir, err := source.Top(work)
	return dir, origin, err
}

// draftRepository exports the latest tag of a repository.
func draftRepository(ctx context.Context, m *machine.Machine, url string, f draftFlags, work string) (draft.Origin, error) {
	checkout := source.Checkout{Package: path.Base(url)}
	var origin draft.Origin
	if f.svn || strings.HasPrefix(url, "svn") {
		pin, err := m.Repositories.Head(ctx, &recipe.Release{Svn: url}, path.Base(url), url)
		if err != nil {
			return origin, err
		}
		origin = draft.Origin{Svn: url, Revision: pin.Commit}
		checkout.Svn, checkout.Revision = url, pin.Commit
		if _, err := m.Repositories.Fetch(ctx, checkout); err != nil {
			return origin, err
		}
	} else {
		snapshot, err := m.Repositories.Snapshot(ctx, url, f.branch)
		if err != nil {
			return origin, err
		}
		origin = draft.Origin{Git: url, Branch: snapshot.Branch, Tag: snapshot.Tag, Commit: snapshot.Commit, Version: snapshot.Version.String()}
		checkout.Git, checkout.Commit = url, snapshot.Commit
	}
	_, err := m.Repositories.Export(ctx, checkout, work, m.Unpacking)
	return origin, err
}

func archiveName(from string) string {
	return strings.TrimSuffix(path.Base(filepath.ToSlash(filepath.Clean(from))), ".git")
}

// writeDraft puts the recipe on the first shelf, and says what is in it.
func (a *app) writeDraft(m *machine.Machine, found *draft.Source, text string) error {
	shelf := m.Settings.Shelves[0]
	dir := filepath.Join(shelf.Dir, found.Name.Value)
	shown := filepath.Join(shelf.Shown, found.Name.Value)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	err := writeNew(filepath.Join(dir, recipe.FileName), text)
	if errors.Is(err, os.ErrExist) {
		return usage("%s is there already, and stays as it is; see the draft with --print", filepath.Join(shown, recipe.FileName))
	}
	if err != nil {
		return err
	}
	_, err = recipe.Read(dir, shown)
	var problems keyfile.Problems
	if errors.As(err, &problems) {
		err = nil
	}
	if err != nil {
		return err
	}
	all := append([]draft.Finding{found.Name, found.Version, found.Method, found.License, found.Summary, found.Home}, found.Remarks...)
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"recipe": filepath.Join(dir, recipe.FileName), "findings": all, "options": len(found.Options), "problems": append(keyfile.Problems{}, problems...)})
	}
	a.screen.Print("Wrote %s", filepath.Join(shown, recipe.FileName))
	for _, c := range []draft.Certainty{draft.Certain, draft.Guessed, draft.Open} {
		a.showFindings(c, all)
	}
	if n := len(found.Options); n > 0 {
		a.screen.Print("%s, with the defaults of the source.", term.Count(n, "option"))
	}
	for _, p := range problems {
		a.screen.Print("%s", p.String())
	}
	a.screen.Note("Look at the remarks in it; then: fernladder install %s", found.Name.Value)
	return nil
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
