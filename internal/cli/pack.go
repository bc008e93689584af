package cli

import (
	"cmp"
	"context"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/landing"
	"fernladder/core/machine"

	"fernladder/core/ospackage"
	"fernladder/core/pack"
	"fernladder/core/plan"

	"fernladder/internal/term"
)

func (a *app) packCommand() *cobra.Command {
	var ask pack.Ask
	var ladder plan.Ask
	to, format := "", ""
	c := &cobra.Command{
		Use:   "pack NAME...",
		Short: "Make packages of the operating system out of builds",
		Long: `Makes .deb or .rpm files of builds that are there; nothing is built for it, and nothing
of them is run. Each tree becomes a package that has it at the same path as here, with
exactly the files that were built and tried; what people use of it are links in /usr/local
(or where the settings say, links in [pack]), in a small package of their own. What they
need of the operating system is found in their files. The same build makes the same bytes.

With --prefix, what is named is built for that directory, with all it needs, as far as that
is not done, and becomes one package with all of it in that directory and nothing of the
root. Nothing is put there on this machine.`,
		Example: `  fernladder pack glasshouse --to out
  fernladder pack mistplan:2.1.0 --format rpm --to out
  fernladder pack dewcalc --split --to out    headers and the like in a package of their own
  fernladder pack glasshouse --prefix /opt/glasshouse --to out`,
		Args:              atLeastOne,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			if ladder.Prefix == "" {
				for _, flag := range []string{"option", "preset", "locked", "isolation", "edited", "output", "jobs", "system-prefix", "name"} {
					if c.Flags().Changed(flag) {
						return usage("pack --%s is for what is built, with --prefix; without, packages are made of builds that are there", flag)
					}
				}
				ask.Names = args
				return a.pack(c.Context(), ask, format, to)
			}
			return a.packPrefix(c.Context(), with(&ladder, args), ask, format, to)
		},
	}
	a.addLadderFlags(c, &ladder, true)
	addPrefixFlags(c, &ladder)
	c.Flags().StringVar(&ask.Name, "name", "", "with --prefix, call the package `NAME`; as the first that is named, if nothing is said")
	c.Flags().StringVar(&format, "format", "", "deb or rpm; what this machine has, if nothing is said")
	c.Flags().StringVar(&to, "to", ".", "write the files into `DIR`")
	c.Flags().BoolVar(&ask.Split, "split", false, "put what is only for building against a package into one of its own")
	return c
}

func (a *app) pack(ctx context.Context, ask pack.Ask, format, to string) error {
	debug.SetMemoryLimit(96 << 20) // lists of files and what packs them are more than most commands have
	m, err := a.open()
	if err != nil {
		return err
	}
	if ask.Format, err = formatOf(m, format); err != nil {
		return err
	}
	return a.writePackages(ctx, m, ask, to)
}

// packPrefix builds what is to be packed for a directory, and packs it.
func (a *app) packPrefix(ctx context.Context, ladder plan.Ask, ask pack.Ask, format, to string) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if ask.Format, err = formatOf(m, format); err != nil {
		return err
	}
	if err := pack.Check(m, ask, ladder.Names); err != nil {
		return err
	}
	m, p, err := a.built(ctx, ladder)
	if err != nil {
		return err
	}
	asked := p.Asked()
	named := func(j *build.Job) int {
		return slices.IndexFunc(ladder.Names, func(text string) bool {
			name, err := landing.ParseName(text)
			return err == nil && name.Name == j.Name
		})
	}
	slices.SortFunc(asked, func(a, b *build.Job) int { return cmp.Compare(named(a), named(b)) })
	ask.Prefix, ask.Builds = ladder.Prefix, refs(asked)
	debug.SetMemoryLimit(96 << 20)
	return a.writePackages(ctx, m, ask, to)
}

// writePackages makes the packages, and says which.
func (a *app) writePackages(ctx context.Context, m *machine.Machine, ask pack.Ask, to string) error {
	planned, err := pack.Plan(ctx, m, ask)
	if err != nil {
		return err
	}
	written, err := pack.Write(ctx, planned.Packages, ask.Format, to)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"packages": written, "unknown": append([]string{}, planned.Unknown...), "named": append([]landing.Naming{}, planned.Named...), "remarks": append([]string{}, planned.Remarks...)})
	}
	var rows [][]string
	for _, w := range written {
		what := map[pack.Kind]string{pack.Tree: "the tree", pack.Devel: "to build against it", pack.Config: "its configuration", pack.Names: "its names", pack.Prefix: "with what it needs, for " + ask.Prefix}[w.Kind]
		rows = append(rows, []string{a.screen.Strong(w.Name), w.Version, w.Build.Name + ", " + what, term.Bytes(w.Size), map[bool]string{true: "there already"}[w.There]})
	}
	a.screen.Table([]string{"package", "version", "of", "size", ""}, rows)
	a.screen.Print("\n%s in %s.", term.Count(len(written), "package"), to)
	if line := installLine(m, ask.Format, to, written); line != "" {
		a.screen.Note("To install them here: %s", line)
	}
	a.showNamed(planned.Named)
	for _, remark := range planned.Remarks {
		a.screen.Note("%s", remark)
	}
	for _, what := range planned.Unknown {
		a.screen.Note("%s: which package has it is not known here, so none is named as needed.", what)
	}
	return nil
}

// installLine installs packages on this machine; "" where they are of another kind of system.
func installLine(m *machine.Machine, format ospackage.Format, dir string, written []pack.Written) string {
	family := map[string]ospackage.Format{"debian": ospackage.Deb, "fedora": ospackage.RPM, "suse": ospackage.RPM}
	if family[m.System.Family] != format {
		return ""
	}
	files := make([]string, len(written))
	for i, w := range written {
		files[i] = filepath.Clean(w.File)
		if !filepath.IsAbs(files[i]) {
			files[i] = "./" + files[i] // otherwise it would be a package's name
		}
	}
	if all, _ := filepath.Glob(filepath.Join(dir, "*."+string(format))); len(all) == len(files) && len(files) > 1 {
		files = []string{strings.TrimSuffix(files[0], filepath.Base(files[0])) + "*." + string(format)}
	}
	return strings.Join(append(host.Installer(m.System.Family), files...), " ")
}

// formatOf is the format that is asked for, or that of the machine.
func formatOf(m *machine.Machine, format string) (ospackage.Format, error) {
	switch format {
	case string(ospackage.Deb), string(ospackage.RPM):
		return ospackage.Format(format), nil
	case "":
		switch m.System.Family {
		case "debian":
			return ospackage.Deb, nil
		case "fedora", "suse":
			return ospackage.RPM, nil
		}
		return "", usage("this machine has packages of another kind; say --format deb or --format rpm")
	}
	return "", usage("--format %s: it can be deb or rpm", format)
}
