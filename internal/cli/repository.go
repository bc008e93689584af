package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/ospackage"
	"fernladder/core/repository"
	"fernladder/internal/term"
)

// repositoryFlags say how a repository is changed.
type repositoryFlags struct {
	name, suite, key, gpg, url string
	keep, valid                int
	anotherKey                 bool
}

func (a *app) repositoryCommand() *cobra.Command {
	var f repositoryFlags
	c := &cobra.Command{
		Use:   "repository DIR",
		Short: "Keep a signed repository of packages for apt, dnf or both",
		Long: `Shows what is in a repository, and how another machine comes to use it. A repository is a
directory that any web server can serve, or a path can name. Who reads it finds it as it
was before a change or as it is after; a change that is broken off leaves the one before.`,
		Example: `  fernladder repository add /srv/vale out/*.deb --key /root/vale.key
  fernladder repository /srv/vale --url https://packages.vale-glasshouse.example/vale
  fernladder repository drop /srv/vale vale-mistplan=2.1.0-1.vale12 --key /root/vale.key
  fernladder repository check /srv/vale`,
		Args: exactly(1, "the directory of a repository"),
		RunE: func(c *cobra.Command, args []string) error { return a.showRepository(args[0], f) },
	}
	c.Flags().StringVar(&f.url, "url", "", "where it is served, for the lines that other machines need")
	add := &cobra.Command{
		Use:   "add DIR FILE...",
		Short: "Add packages to a repository, and make it if it is not there",
		Long: `Adds .deb and .rpm files. A .rpm is signed on the way. What is there already, the same,
stays; another package of the same name and version is refused.`,
		Example: `  fernladder repository add /srv/vale out/*.deb --key /root/vale.key
  fernladder repository add /srv/vale out/*.rpm --gpg packages@vale-glasshouse.example --keep 3`,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usage("name a directory, and packages to add to it")
			}
			return a.changeRepository(args[0], f, func(r *repository.Repository, key repository.Key) (*repository.Changed, error) {
				return r.Add(c.Context(), key, args[1:], f.suite, f.keep)
			})
		},
	}
	add.Flags().StringVar(&f.suite, "suite", "stable", "the suite of apt's that .deb files are added to")
	add.Flags().IntVar(&f.keep, "keep", 0, "leave the newest `N` versions of each package, and what they need; all, if nothing is said")
	drop := &cobra.Command{
		Use:     "drop DIR NAME[=VERSION]...",
		Short:   "Take packages out of a repository",
		Long:    "Takes packages out, and trees that nothing in the repository stands on any more.",
		Example: "  fernladder repository drop /srv/vale vale-mistplan=2.1.0-1.vale12 --key /root/vale.key",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usage("name a directory, and packages to take out of it")
			}
			return a.changeRepository(args[0], f, func(r *repository.Repository, key repository.Key) (*repository.Changed, error) {
				return r.Drop(c.Context(), key, args[1:])
			})
		},
	}
	for _, c := range []*cobra.Command{add, drop} {
		c.Flags().StringVar(&f.key, "key", "", "sign with the OpenPGP secret key in `FILE`, which only its owner can read")
		c.Flags().StringVar(&f.gpg, "gpg", "", "let gpg and its agent sign, with the key `ID`")
		c.Flags().BoolVar(&f.anotherKey, "another-key", false, "sign with a key that is not the one before; other machines have to be given it")
		c.Flags().StringVar(&f.name, "name", "", "what the repository calls itself; the name of its directory, if nothing is said")
		c.Flags().IntVar(&f.valid, "valid", 0, "apt stops trusting what is published after so many `DAYS`; never, if nothing is said")
	}
	check := &cobra.Command{
		Use:     "check DIR",
		Short:   "Check the packages of a repository, its lists and its signatures",
		Example: "  fernladder repository check /srv/vale",
		Args:    exactly(1, "the directory of a repository"),
		RunE:    func(c *cobra.Command, args []string) error { return a.repositoryCheck(c.Context(), args[0]) },
	}
	c.AddCommand(add, drop, check)
	return c
}

// repositoryAt is the repository in a directory.
func (a *app) repositoryAt(dir string, f repositoryFlags) (*repository.Repository, error) {
	absolute, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	r := &repository.Repository{Dir: absolute, Name: f.name, Now: a.now, Valid: time.Duration(f.valid) * 24 * time.Hour, AnotherKey: f.anotherKey,
		Waiting: func() { a.screen.Note("Somebody else is changing this repository; waiting …") }}
	if r.Name == "" {
		r.Name = strings.ToLower(filepath.Base(absolute))
		// One that is there has a name by its key.
		if keys, err := filepath.Glob(filepath.Join(absolute, "*.asc")); err == nil && len(keys) == 1 {
			r.Name = strings.TrimSuffix(filepath.Base(keys[0]), ".asc")
		}
	}
	return r, nil
}

func (a *app) signingKey(f repositoryFlags) (repository.Key, error) {
	switch {
	case f.keep < 0 || f.valid < 0:
		return nil, usage("--keep and --valid are numbers from 0 on")
	case f.key != "" && f.gpg != "":
		return nil, usage("--key and --gpg do not go together")
	case f.key != "":
		return repository.ReadKey(f.key, a.now)
	case f.gpg != "":
		m, err := a.open()
		if err != nil {
			return nil, err
		}
		program := m.Programs.Find("gpg")
		if program == "" {
			return nil, usage("there is no gpg on this machine; sign with --key FILE")
		}
		return repository.AgentKey(program, f.gpg)
	}
	return nil, usage("a repository is signed; say by which key: --key FILE, or --gpg ID")
}

// changeRepository changes the repository in a directory, and says what that did.
func (a *app) changeRepository(dir string, f repositoryFlags, change func(*repository.Repository, repository.Key) (*repository.Changed, error)) error {
	key, err := a.signingKey(f)
	if err != nil {
		return err
	}
	r, err := a.repositoryAt(dir, f)
	if err != nil {
		return err
	}
	changed, err := change(r, key)
	if err != nil {
		return err
	}
	return a.repositoryChanged(r, key, changed)
}

func (a *app) repositoryChanged(r *repository.Repository, key repository.Key, c *repository.Changed) error {
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"repository": r.Dir, "added": shortEntries(c.Added), "gone": shortEntries(c.Gone)})
	}
	for _, e := range c.Added {
		a.screen.Print("+ %s %s %s", e.Name, e.Version, e.Arch)
	}
	for _, e := range c.Gone {
		a.screen.Print("- %s %s %s", e.Name, e.Version, e.Arch)
	}
	if len(c.Added)+len(c.Gone) == 0 {
		a.screen.Print("Nothing changed: all of it was there already.")
	}
	other := 0
	for _, e := range c.Now {
		if e.Signer != "" && e.Signer != key.Fingerprint() {
			other++
		}
	}
	if other > 0 {
		a.screen.Note("%s of it signed with another key, which machines that use dnf need, too.", term.Count(other, "package")+map[bool]string{true: " is", false: " are"}[other == 1])
	}
	a.screen.Note("How other machines use it: fernladder repository %s --url URL", r.Dir)
	return nil
}

// shortEntry is a package of a repository in JSON.
type shortEntry struct {
	Format  ospackage.Format `json:"format"`
	Suite   string           `json:"suite,omitempty"`
	Name    string           `json:"name"`
	Version string           `json:"version"`
	Arch    string           `json:"arch"`
	File    string           `json:"file"`
	Size    int64            `json:"size"`
	SHA256  string           `json:"sha256"`
}

func shortEntries(all []repository.Entry) []shortEntry {
	short := make([]shortEntry, len(all))
	for i, e := range all {
		short[i] = shortEntry{e.Format, e.Suite, e.Name, e.Version, e.Arch, e.File, e.Size, e.SHA256}
	}
	return short
}

// keyOf is the fingerprint of the key of a repository, or "".
func keyOf(r *repository.Repository) string {
	fingerprint, err := r.SignedBy()
	if err != nil {
		return ""
	}
	return fingerprint
}

func (a *app) showRepository(dir string, f repositoryFlags) error {
	r, err := a.repositoryAt(dir, f)
	if err != nil {
		return err
	}
	entries, err := r.Entries()
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"repository": r.Dir, "name": r.Name, "key": keyOf(r), "packages": shortEntries(entries)})
	}
	if len(entries) == 0 {
		a.screen.Print("%s has no packages.", r.Dir)
		return nil
	}
	var rows [][]string
	for _, e := range entries {
		rows = append(rows, []string{a.screen.Strong(e.Name), e.Version, e.Arch, string(e.Format), e.Suite, term.Bytes(e.Size)})
	}
	a.screen.Table([]string{"package", "version", "for", "format", "suite", "size"}, rows)
	a.screen.Print("\n%s in %s.", term.Count(len(entries), "package"), r.Dir)
	url := orDefault(f.url, "file://"+r.Dir)
	if fingerprint := keyOf(r); fingerprint != "" {
		a.screen.Print("Signed with the key %s. Compare it on the other machine before you trust it.", fingerprint)
	}
	if slices.ContainsFunc(entries, func(e repository.Entry) bool { return e.Format == ospackage.Deb }) {
		a.screen.Print("\nFor apt, on the other machine, as /etc/apt/sources.list.d/%s.sources:\n%s\n  and %s/%s.asc, the key, as %s", r.Name, indent(aptLines(r, entries, url)), url, r.Name, keyringOf(r))
	}
	if slices.ContainsFunc(entries, func(e repository.Entry) bool { return e.Format == ospackage.RPM }) {
		a.screen.Print("\nFor dnf, on the other machine, as /etc/yum.repos.d/%s.repo:\n%s", r.Name, indent(dnfLines(r, url)))
	}
	return nil
}

// aptLines are what a machine needs to use the repository with apt.
// keyringOf is where the key of a repository is kept on a machine that uses apt.
func keyringOf(r *repository.Repository) string { return "/etc/apt/keyrings/" + r.Name + ".asc" }

func aptLines(r *repository.Repository, entries []repository.Entry, url string) string {
	var suites []string
	for _, e := range entries {
		if e.Format == ospackage.Deb && !slices.Contains(suites, e.Suite) {
			suites = append(suites, e.Suite)
		}
	}
	return fmt.Sprintf("Types: deb\nURIs: %s\nSuites: %s\nComponents: main\nSigned-By: %s", url, strings.Join(suites, " "), keyringOf(r))
}

func dnfLines(r *repository.Repository, url string) string {
	return fmt.Sprintf("[%[1]s]\nname=%[1]s\nbaseurl=%[2]s\ngpgcheck=1\nrepo_gpgcheck=1\ngpgkey=%[2]s/%[1]s.asc", r.Name, url)
}

func (a *app) repositoryCheck(ctx context.Context, dir string) error {
	r, err := a.repositoryAt(dir, repositoryFlags{})
	if err != nil {
		return err
	}
	wrong, packages, err := r.Check(ctx)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(map[string]any{"repository": r.Dir, "packages": packages, "wrong": append([]repository.Wrong{}, wrong...)}); err != nil {
			return err
		}
	} else {
		for _, w := range wrong {
			a.screen.Print("%s: %s", w.File, w.What)
		}
		if len(wrong) == 0 {
			a.screen.Print("%s, and everything that is published of them, are as they were added.", term.Count(packages, "package"))
		}
	}
	if len(wrong) > 0 {
		return &alreadyShown{fmt.Errorf("%s wrong", term.Count(len(wrong), "thing"))}
	}
	return nil
}
