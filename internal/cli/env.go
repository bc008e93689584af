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
	"fernladder/core/named"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

func (a *app) envCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "env [NAME]",
		Short: "Print the lines a shell needs to use the landing, or to build against a package",
		Long: `Without a name, prints what a shell needs to use what is on the landing. With a
name, prints what compilers, pkg-config and cmake need to build against that
package and the libraries it needs.`,
		Example: `  eval "$(fernladder env)"                    in ~/.profile, for example
  (eval "$(fernladder env dewcalc)"; cc $CPPFLAGS try.c $LDFLAGS -ldewcalc)`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return exactlyOne(c, args)
			}
			return nil
		},
		ValidArgsFunction: a.completeInstalled,
		RunE: func(_ *cobra.Command, args []string) error {
			m, err := a.open()
			if err != nil {
				return err
			}
			var lines []variable
			if len(args) == 0 {
				lines, err = a.landingEnvironment(m)
			} else {
				lines, err = buildEnvironment(m, args[0])
			}
			if err != nil {
				return err
			}
			if a.screen.JSON {
				return a.screen.PrintJSON(lines)
			}
			for _, v := range lines {
				a.screen.Print("%s", v.line())
			}
			return nil
		},
	}
}

// variable is one that a shell sets. Kept is shell text that stands behind the
// value: what the variable had before.
type variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Kept  string `json:"kept,omitempty"`
}

// line is the variable as a line of a POSIX shell.
func (v variable) line() string {
	return "export " + v.Name + "='" + strings.ReplaceAll(v.Value, "'", `'\''`) + "'" + v.Kept
}

// before is what a variable had before, if it had anything.
func before(name, separator string) string {
	return `"${` + name + `:+` + separator + `$` + name + `}"`
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
	lines := []variable{{"PATH", path, before("PATH", ":")}}
	for _, v := range []variable{
		{"MANPATH", "share/man", `":${MANPATH:-}"`}, // nothing after the colon stands for the usual directories
		{"MANPATH", "man", `":${MANPATH:-}"`},
		{"XDG_DATA_DIRS", "share", `":${XDG_DATA_DIRS:-/usr/local/share:/usr/share}"`},
	} {
		v.Value = filepath.Join(dir, v.Value)
		if _, err := os.Stat(v.Value); err == nil {
			lines = append(lines, v)
		}
	}
	by := map[string]string{} // variables to who has asked for them
	for _, member := range state.Members {
		receipt, err := s.Receipt(member.Ref)
		if err != nil {
			return nil, s.Wrap(err)
		}
		for _, v := range receipt.Env {
			if why := recipe.TakesOver(v.Name); why != "" && !slices.Contains(m.Settings.TrustedEnv, receipt.Name) {
				a.screen.Note("%s, which %s asks for, is not set: %s (trusted_env in the settings)", v.Name, receipt.Name, why)
				continue
			}
			lines = a.addVariable(lines, v, receipt.Name, by)
		}
	}
	return lines, nil
}

// addVariable adds a variable that a package wants. One that is a list is joined with
// what others want of it; of any other, the first counts.
func (a *app) addVariable(lines []variable, v store.Variable, name string, by map[string]string) []variable {
	i := slices.IndexFunc(lines, func(l variable) bool { return l.Name == v.Name })
	switch {
	case v.List() && i >= 0:
		lines[i].Value += ":" + v.Value
	case v.List():
		lines = append(lines, variable{v.Name, v.Value, before(v.Name, ":")})
	case i < 0:
		lines = append(lines, variable{Name: v.Name, Value: v.Value})
	case lines[i].Value != v.Value:
		a.screen.Note("%s and %s both want %s; it is set as %s wants it.", by[v.Name], name, v.Name, by[v.Name])
		return lines
	}
	if by[v.Name] == "" {
		by[v.Name] = name
	}
	return lines
}

func buildEnvironment(m *machine.Machine, name string) ([]variable, error) {
	r, err := named.One(m.Store, name)
	if err != nil {
		return nil, err
	}
	neighbours, err := build.NeighboursOf(m.Store, r)
	if err != nil {
		return nil, err
	}
	var lines []variable
	for _, pair := range build.Surroundings(neighbours) {
		separator := ":"
		if strings.HasSuffix(pair.Name, "FLAGS") {
			separator = " "
		}
		lines = append(lines, variable{pair.Name, pair.Values[0], before(pair.Name, separator)})
	}
	return lines, nil
}
