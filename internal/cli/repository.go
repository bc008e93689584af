package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/ospackage"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) repositoryCommand() *cobra.Command {
	var r session.RepositoryRequest
	url, days := "", 0
	c := &cobra.Command{
		Use:   "repository DIR",
		Short: "Keep a signed repository of packages for apt, dnf or both",
		Long: `Shows the packages of a repository, and how another machine uses it. A repository is a
directory that any web server can serve, or that a path names. Readers see it as it was
before a change or as it is after; an interrupted change has no effect.`,
		Example: `  fernladder repository add /srv/vale out/*.deb --key /root/vale.key
  fernladder repository /srv/vale --url https://packages.vale-glasshouse.example/vale
  fernladder repository drop /srv/vale vale-mistplan=2.1.0-1.vale12 --key /root/vale.key
  fernladder repository check /srv/vale`,
		Args: exactly(1, "the directory of a repository"),
		RunE: func(c *cobra.Command, args []string) error { r.Dir = args[0]; return a.repository(r, url) },
	}
	c.Flags().StringVar(&url, "url", "", "the URL that serves it, for the lines that other machines need")
	add := &cobra.Command{
		Use:   "add DIR FILE...",
		Short: "Add packages to a repository, and create it if necessary",
		Long: `Adds .deb and .rpm files. A .rpm is signed when it is added. Packages that are already
there stay; another package of the same name and version is refused.`,
		Example: `  fernladder repository add /srv/vale out/*.deb --key /root/vale.key
  fernladder repository add /srv/vale out/*.rpm --gpg packages@vale-glasshouse.example --keep 3`,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usage("name a directory, and packages to add to it")
			}
			r.Dir, r.Files, r.Valid = args[0], args[1:], time.Duration(days)*24*time.Hour
			return a.changeRepository(c.Context(), r)
		},
	}
	add.Flags().StringVar(&r.Suite, "suite", "stable", "the suite of apt's that .deb files are added to")
	add.Flags().IntVar(&r.Keep, "keep", 0,
		"keep the newest `N` versions of each package, and what they need (default: all)")
	drop := &cobra.Command{
		Use:     "drop DIR NAME[=VERSION]...",
		Short:   "Remove packages from a repository",
		Long:    `Removes packages, and trees that nothing else in the repository needs.`,
		Example: "  fernladder repository drop /srv/vale vale-mistplan=2.1.0-1.vale12 --key /root/vale.key",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usage("name a directory, and packages to remove from it")
			}
			r.Dir, r.Drop, r.Valid = args[0], args[1:], time.Duration(days)*24*time.Hour
			return a.changeRepository(c.Context(), r)
		},
	}
	for _, c := range []*cobra.Command{add, drop} {
		c.Flags().StringVar(&r.KeyFile, "key", "",
			"sign with the OpenPGP secret key in `FILE`, which only its owner can read")
		c.Flags().StringVar(&r.AgentKey, "gpg", "", "let gpg and its agent sign, with the key `ID`")
		c.Flags().BoolVar(&r.AnotherKey, "another-key", false, "sign with another key than before; other machines need it")
		c.Flags().StringVar(&r.Name, "name", "", "the name of the repository (default: that of its directory)")
		c.Flags().IntVar(&days, "valid", 0, "apt trusts what is published for this many `DAYS` (default: for ever)")
	}
	check := &cobra.Command{
		Use:     "check DIR",
		Short:   "Check the packages of a repository, its lists and its signatures",
		Example: "  fernladder repository check /srv/vale",
		Args:    exactly(1, "the directory of a repository"),
		RunE:    func(c *cobra.Command, args []string) error { r.Dir = args[0]; return a.checkRepository(c.Context(), r) },
	}
	c.AddCommand(add, drop, check)
	return c
}

// changeRepository changes a repository, and says what that did.
func (a *app) changeRepository(ctx context.Context, r session.RepositoryRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	c, err := s.ChangeRepository(ctx, r)
	if err != nil {
		return err
	}
	return a.answer(c, func() {
		for _, e := range c.Added {
			a.screen.Print("+ %s %s %s", e.Name, e.Version, e.Arch)
		}
		for _, e := range c.Gone {
			a.screen.Print("- %s %s %s", e.Name, e.Version, e.Arch)
		}
		if len(c.Added)+len(c.Gone) == 0 {
			a.screen.Print("Nothing changed: all of it was already there.")
		}
		switch c.OtherKeys {
		case 0:
		case 1:
			a.screen.Note("1 package of it is signed with another key, which machines that use dnf need, too.")
		default:
			a.screen.Note("%d packages of it are signed with other keys, which machines that use dnf need, too.", c.OtherKeys)
		}
		a.screen.Note("How other machines use it: fernladder repository %s --url URL", c.Repository)
	})
}

// repository shows what is in a repository, and how other machines use it from a URL.
func (a *app) repository(r session.RepositoryRequest, url string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	report, err := s.Repository(r)
	if err != nil {
		return err
	}
	return a.answer(report, func() { a.showRepository(report, orDefault(url, "file://"+report.Repository)) })
}

func (a *app) showRepository(r *session.RepositoryReport, url string) {
	if len(r.Packages) == 0 {
		a.screen.Print("%s has no packages.", r.Repository)
		return
	}
	var rows [][]string
	var suites []string
	rpm := false
	for _, e := range r.Packages {
		rows = append(rows, []string{a.screen.Strong(e.Name), e.Version, e.Arch, string(e.Format), e.Suite,
			term.Bytes(e.Size)})
		if e.Format == ospackage.Deb && !slices.Contains(suites, e.Suite) {
			suites = append(suites, e.Suite)
		}
		rpm = rpm || e.Format == ospackage.RPM
	}
	a.screen.Table([]string{"package", "version", "for", "format", "suite", "size"}, rows)
	a.screen.Print("\n%s in %s.", term.Count(len(r.Packages), "package"), r.Repository)
	if r.Key != "" {
		a.screen.Print("Signed with the key %s. Compare it on the other machine before you trust it.", r.Key)
	}
	if len(suites) > 0 {
		keyring := "/etc/apt/keyrings/" + r.Name + ".asc"
		lines := fmt.Sprintf("Types: deb\nURIs: %s\nSuites: %s\nComponents: main\nSigned-By: %s", url,
			strings.Join(suites, " "), keyring)
		a.screen.Print("\nFor apt, on the other machine, as /etc/apt/sources.list.d/%s.sources:\n%s\n  and %s/%s.asc, the "+
			"key, as %s", r.Name, indent(lines), url, r.Name, keyring)
	}
	if rpm {
		lines := fmt.Sprintf("[%[1]s]\nname=%[1]s\nbaseurl=%[2]s\ngpgcheck=1\nrepo_gpgcheck=1\ngpgkey=%[2]s/%[1]s.asc",
			r.Name, url)
		a.screen.Print("\nFor dnf, on the other machine, as /etc/yum.repos.d/%s.repo:\n%s", r.Name, indent(lines))
	}
}

func (a *app) checkRepository(ctx context.Context, r session.RepositoryRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	report, err := s.CheckRepository(ctx, r)
	if report == nil || err != nil && len(report.Wrong) == 0 {
		return err
	}
	if shown := a.answer(report, func() {
		for _, w := range report.Wrong {
			a.screen.Print("%s: %s", w.File, w.What)
		}
		if len(report.Wrong) == 0 {
			a.screen.Print("%s, and everything published about them, are unchanged.", term.Count(report.Packages, "package"))
		}
	}); shown != nil {
		return shown
	}
	return judged(err)
}
