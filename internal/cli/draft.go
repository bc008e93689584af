package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/draft"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/source"
	"fernladder/core/version"
	"fernladder/internal/term"
)

// draftFlags are those of the draft command.
type draftFlags struct {
	name, release string
	print         bool
}

func (a *app) draftCommand() *cobra.Command {
	var f draftFlags
	c := &cobra.Command{
		Use:   "draft SOURCE",
		Short: "Write most of a recipe from a source archive",
		Long: `Reads the files of a source, and writes from them what a recipe needs: name,
version, digest, licence, how it is built, its options, and what it looks for in
other packages. SOURCE is a URL or file of an archive, or an unpacked folder.
Nothing of the source is run. The recipe goes onto the first shelf, with remarks
on every line that a person should look at.`,
		Example: `  fernladder draft https://vale-glasshouse.example/dl/dewcalc-1.4.2.tar.gz
  fernladder draft ~/downloads/mistplan-2.1.0.tar.gz --print
  fernladder draft snapshot.tar.gz --name frondplot --release 1.2.0`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("name one source: an archive's URL or file, or a folder")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error { return a.draft(c.Context(), args[0], f) },
	}
	c.Flags().StringVar(&f.name, "name", "", "call the package `NAME`, whatever its files say")
	c.Flags().StringVar(&f.release, "release", "", "call the release `VERSION`, whatever its files say")
	c.Flags().BoolVar(&f.print, "print", false, "print the recipe and write nothing")
	return c
}

func (a *app) draft(ctx context.Context, from string, f draftFlags) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if len(s.settings.Shelves) == 0 && !f.print {
		return usage("no shelf is set for the recipe; make a folder to work in with: fernladder new DIR, or use --print")
	}
	dir, archive, done, err := a.unpackDraft(ctx, s, from)
	if err != nil {
		return err
	}
	defer done()
	found := draft.Read(os.DirFS(dir), archiveName(from))
	if err := overrule(found, f); err != nil {
		return err
	}
	names, err := s.shelves.Names()
	if err != nil {
		return err
	}
	known, err := draft.Survey(names, s.store)
	if err != nil {
		return s.store.Wrap(err)
	}
	text := found.Compose(archive, known)
	if f.print {
		fmt.Fprint(a.screen.Out, text)
		return nil
	}
	return a.writeDraft(s, found, text)
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
func (a *app) unpackDraft(ctx context.Context, s *session, from string) (dir string, archive draft.Archive, done func(), err error) {
	done = func() {}
	url := from
	if !strings.Contains(from, "://") {
		info, err := os.Stat(from)
		if err != nil {
			return "", archive, done, usage("there is no %s", from)
		}
		file, err := filepath.Abs(from)
		if err != nil || info.IsDir() {
			return file, archive, done, err
		}
		url = "file://" + file
	}
	if err := recipe.CheckURL(url); err != nil || strings.HasSuffix(url, ".git") {
		return "", archive, done, usage("%s is not an archive that can be fetched; for a repository, name the folder of a clone", from)
	}
	if err := s.store.Prepare(); err != nil {
		return "", archive, done, err
	}
	progress := a.screen.Progress(1, a.now)
	archives := &source.Archives{Dir: s.store.Archives(), Agent: "fernladder/" + Version, Events: progress}
	file, digest, err := archives.Obtain(ctx, url)
	progress.Close()
	var local *source.StoreError
	if errors.As(err, &local) {
		err = s.store.Wrap(local.Err)
	}
	if err != nil {
		return "", archive, done, err
	}
	work, err := os.MkdirTemp(filepath.Join(s.store.Root, "work"), "draft-")
	if err != nil {
		return "", archive, done, s.store.Wrap(err)
	}
	done = func() { os.RemoveAll(work) }
	if _, err = source.Unpack(ctx, file, work, source.Usual); err == nil {
		dir, err = source.Top(work)
	}
	if err != nil {
		done()
		return "", archive, func() {}, err
	}
	return dir, draft.Archive{URL: url, SHA256: digest.Hex}, done, nil
}

func archiveName(from string) string { return path.Base(filepath.ToSlash(filepath.Clean(from))) }

// writeDraft puts the recipe on the first shelf, and says what is in it.
func (a *app) writeDraft(s *session, found *draft.Source, text string) error {
	shelf := s.settings.Shelves[0]
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
	a.screen.Note("Next: look at the remarks in it, then: fernladder install %s", found.Name.Value)
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
