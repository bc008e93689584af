package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

func (a *app) envCommand() *cobra.Command {
	as := "sh"
	c := &cobra.Command{
		Use:   "env [NAME]",
		Short: "Print the lines a shell needs to use the landing, or to build against a package",
		Long: `Without a name, prints what a shell needs to use the landing. With a name, prints what
compilers, pkg-config and cmake need to build against that package and the libraries it
needs, and the variables of its recipe. --as chooses the form: sh, fish and csh; profile
is a file for /etc/profile.d, modulefile one for environment modules.`,
		Example: `  eval "$(fernladder env)"                    in ~/.profile, for example
  fernladder env --as fish | source
  fernladder env --as profile >/etc/profile.d/fernladder.sh
  (eval "$(fernladder env dewcalc)"; cc $CPPFLAGS try.c $LDFLAGS -ldewcalc)`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return exactlyOne(c, args)
			}
			return nil
		},
		ValidArgsFunction: a.completeInstalled,
		RunE: func(_ *cobra.Command, args []string) error {
			if forms[as] == nil {
				return usage("--as %s: it can be %s", as, formNames)
			}
			m, err := a.open()
			if err != nil {
				return err
			}
			var lines []variable
			if len(args) == 0 {
				lines, err = a.landingEnvironment(m.Machine)
			} else {
				lines, err = a.buildEnvironment(m.Machine, args[0])
			}
			if err != nil {
				return err
			}
			if a.screen.JSON {
				return a.screen.PrintJSON(lines)
			}
			for _, line := range forms[as](lines) {
				a.screen.Print("%s", line)
			}
			return nil
		},
	}
	c.Flags().StringVar(&as, "as", "sh", "print for `FORM`: "+formNames)
	return c
}

func (a *app) landingEnvironment(m *machine.Machine) ([]variable, error) {
	s := m.Store
	state, err := landing.Current(s)
	if err != nil {
		return nil, err
	}
	dir := m.Used()
	path := filepath.Join(dir, "bin")
	if _, err := os.Stat(filepath.Join(dir, "sbin")); err == nil {
		path += ":" + filepath.Join(dir, "sbin")
	}
	lines := []variable{{Name: "PATH", Value: path, Join: ":"}}
	for _, v := range []variable{
		// Nothing after the colon stands for the usual directories.
		{Name: "MANPATH", Value: "share/man", Join: ":", Open: true},
		{Name: "MANPATH", Value: "man", Join: ":", Open: true},
		{Name: "XDG_DATA_DIRS", Value: "share", Join: ":", Else: "/usr/local/share:/usr/share"},
	} {
		v.Value = filepath.Join(dir, v.Value)
		if _, err := os.Stat(v.Value); err == nil {
			lines = append(lines, v)
		}
	}
	program := m.Rules().Program
	by := map[string]string{} // variables to who has asked for them
	for _, member := range state.Members {
		if member.Beside { // the variables are those of the build that has the plain names
			continue
		}
		receipt, err := s.Receipt(member.Ref)
		if err != nil {
			return nil, s.Wrap(err)
		}
		for _, v := range receipt.Env {
			if !recipe.MaySet(receipt.Name, v.Name, program) && !slices.Contains(m.Settings.TrustedEnv, receipt.Name) {
				a.screen.Note("%s, which %s requests, is not set: other programs may obey it (trusted_env in the settings)", v.Name,
					receipt.Name)
				continue
			}
			v.Value = onLandingPath(m, dir, receipt, v.Value)
			lines = a.addVariable(lines, v, receipt.Name, by)
		}
	}
	return lines, nil
}

// onLandingPath names what a value names in a tree by its path on the landing, where it
// has one: that leads to the tree that is in use, after an upgrade too.
func onLandingPath(m *machine.Machine, dir string, r *store.Receipt, value string) string {
	parts := strings.Split(value, ":")
	for i, part := range parts {
		below, is := strings.CutPrefix(part, r.Tree+"/")
		if !is {
			continue
		}
		path := filepath.Join(dir, below)
		if real, err := filepath.EvalSymlinks(path); err == nil && real == part {
			parts[i] = path
		}
	}
	return strings.Join(parts, ":")
}

// addVariable adds a variable that a package wants. One that is a list is joined with
// what others want of it; of any other, the first counts.
func (a *app) addVariable(lines []variable, v store.Variable, name string, by map[string]string) []variable {
	i := slices.IndexFunc(lines, func(l variable) bool { return l.Name == v.Name })
	switch {
	case v.List() && i >= 0:
		lines[i].Value += ":" + v.Value
	case v.List():
		lines = append(lines, variable{Name: v.Name, Value: v.Value, Join: ":"})
	case i < 0:
		lines = append(lines, variable{Name: v.Name, Value: v.Value})
	case lines[i].Value != v.Value:
		a.screen.Note("%s and %s both set %s; the value of %s is used.", by[v.Name], name, v.Name, by[v.Name])
		return lines
	}
	if by[v.Name] == "" {
		by[v.Name] = name
	}
	return lines
}

func (a *app) buildEnvironment(m *machine.Machine, name string) ([]variable, error) {
	r, err := landing.FindBuild(m.Store, name)
	if err != nil {
		return nil, err
	}
	neighbours, err := build.NeighboursOf(m.Store, r)
	if err != nil {
		return nil, err
	}
	var lines []variable
	for _, pair := range build.Surroundings(neighbours) {
		if pair.Values[0] == "" {
			continue
		}
		separator := ":"
		if strings.HasSuffix(pair.Name, "FLAGS") {
			separator = " "
		}
		lines = append(lines, variable{Name: pair.Name, Value: pair.Values[0], Join: separator})
	}
	for _, v := range r.Env {
		if recipe.MaySet(r.Name, v.Name, m.Rules().Program) || slices.Contains(m.Settings.TrustedEnv, r.Name) {
			lines = a.addVariable(lines, v, r.Name, map[string]string{})
		}
	}
	return lines, nil
}
