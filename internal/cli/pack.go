package cli

import (
	"context"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/ospackage"
	"fernladder/core/pack"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) packCommand() *cobra.Command {
	var r session.PackRequest
	c := &cobra.Command{
		Use:   "pack NAME...",
		Short: "Make packages of the operating system from builds",
		Long: `Makes .deb or .rpm files of existing builds; nothing is built or run for it. Each tree
becomes a package that has it at the same path as here, with exactly the files that were
built and tried. Its programs are linked in /usr/local (or links in [pack] in the
settings) by a small package of their own. Dependencies on the operating system are found
in the files. The same build makes the same bytes.

With --prefix, the named packages and everything they need are built for that directory,
if they are not yet, and become one package with all of it in that directory and nothing
of the root. Nothing is put there on this machine.`,
		Example: `  fernladder pack glasshouse --to out
  fernladder pack mistplan:2.1.0 --format rpm --to out
  fernladder pack dewcalc --split --to out    headers and the like in a package of their own
  fernladder pack glasshouse --prefix /opt/glasshouse --to out`,
		Args:              a.atLeastOne,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			if r.Prefix == "" {
				for _, flag := range []string{"option", "preset", "locked", "isolation", "edited", "output", "jobs",
					"system-prefix", "name"} {
					if c.Flags().Changed(flag) {
						return usage("pack --%s is for what is built, with --prefix; without, packages are made of existing builds", flag)
					}
				}
			}
			r.Ask = with(&r.Ask, args)
			return a.pack(c.Context(), r)
		},
	}
	a.addLadderFlags(c, &r.Ask, true)
	addPrefixFlags(c, &r.Ask)
	c.Flags().StringVar(&r.Name, "name", "",
		"with --prefix, call the package `NAME` (default: as the first named package)")
	c.Flags().StringVar(&r.Format, "format", "", "deb or rpm (default: the format of this machine)")
	c.Flags().StringVar(&r.To, "to", ".", "write the files into `DIR`")
	c.Flags().BoolVar(&r.Split, "split", false, "put what is only needed to build against a package into a separate one")
	return c
}

func (a *app) pack(ctx context.Context, r session.PackRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r.BuildRequest = a.building(r.Ask)
	report, err := s.Pack(ctx, r)
	if report != nil && report.Build != nil && report.Build.Run != nil {
		err = a.told(ctx, report.Build.Ladder, report.Build.Run, err)
	}
	if err != nil {
		return a.failed(err)
	}
	return a.answer(report, func() { a.showPacked(report, r) })
}

func (a *app) showPacked(report *session.PackReport, r session.PackRequest) {
	var rows [][]string
	for _, w := range report.Packages {
		what := map[pack.Kind]string{pack.Tree: "the tree", pack.Devel: "to build against it",
			pack.Config: "its configuration", pack.Names: "its names", pack.Prefix: "with what it needs, for " +
				r.Prefix}[w.Kind]
		there := ""
		if w.There {
			there = "already exists"
		}
		rows = append(rows, []string{a.screen.Strong(w.Name), w.Version, w.Build.Name + ", " + what,
			term.Bytes(w.Size), there})
	}
	a.screen.Table([]string{"package", "version", "of", "size", ""}, rows)
	a.screen.Print("\n%s in %s.", term.Count(len(report.Packages), "package"), r.To)
	if line := installLine(a.session.Machine, report.Format, r.To, report.Packages); line != "" {
		a.screen.Note("To install them here: %s", line)
	}
	a.showNamed(report.Named)
	for _, remark := range report.Remarks {
		a.screen.Note("%s", remark)
	}
	for _, what := range report.Unknown {
		a.screen.Note("%s: the package that has it is unknown here, so no dependency is declared.", what)
	}
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
