package cli

import (
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/landing"
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
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open()
			if err != nil {
				return err
			}
			var lines []variable
			if len(args) == 0 {
				lines, err = landingEnvironment(s.store)
			} else {
				lines, err = a.buildEnvironment(s, args[0])
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

// variable is one that a shell sets; what it had before is kept behind, with
// Separator between, unless there is none.
type variable struct {
	Name      string `json:"name"`
	Value     string `json:"value"`
	Separator string `json:"separator,omitempty"`
}

// line is the variable as a line of a POSIX shell.
func (v variable) line() string {
	value := "'" + strings.ReplaceAll(v.Value, "'", `'\''`) + "'"
	if v.Separator != "" {
		value += `"${` + v.Name + `:+` + v.Separator + `$` + v.Name + `}"`
	}
	return "export " + v.Name + "=" + value
}

func landingEnvironment(s *store.Store) ([]variable, error) {
	state, err := landing.Current(s)
	if err != nil {
		return nil, err
	}
	dir := landing.Directory(s)
	lines := []variable{{"PATH", filepath.Join(dir, "bin"), ":"}}
	for _, m := range []struct{ name, sub string }{{"MANPATH", "share/man"}, {"XDG_DATA_DIRS", "share"}} {
		if _, err := os.Stat(filepath.Join(dir, m.sub)); err == nil {
			lines = append(lines, withUsual(m.name, filepath.Join(dir, m.sub)))
		}
	}
	for _, m := range state.Members {
		receipt, err := s.Receipt(m.Ref)
		if err != nil {
			return nil, s.Wrap(err)
		}
		for _, v := range receipt.Env {
			lines = append(lines, variable{Name: v.Name, Value: v.Value})
		}
	}
	return lines, nil
}

// withUsual is a search path whose usual value counts only while it is not set:
// setting it must not hide that.
func withUsual(name, dir string) variable {
	if name == "MANPATH" {
		return variable{name, dir + ":", ""} // an empty entry stands for the usual ones
	}
	return variable{name, dir + ":/usr/local/share:/usr/share", ""}
}

func (a *app) buildEnvironment(s *session, name string) ([]variable, error) {
	r, err := s.installed(name)
	if err != nil {
		return nil, err
	}
	neighbours := []build.Neighbour{{Name: r.Name, Tree: r.Tree, Role: recipe.Library, Direct: true}}
	seen := map[store.Ref]bool{r.Ref: true}
	for queue := []*store.Receipt{r}; len(queue) > 0; queue = queue[1:] {
		for _, need := range queue[0].Needs {
			if need.Role != recipe.Library || seen[need.Ref] {
				continue
			}
			seen[need.Ref] = true
			next, err := s.store.Receipt(need.Ref)
			if err != nil {
				return nil, s.store.Wrap(err)
			}
			queue = append(queue, next)
			neighbours = append(neighbours, build.Neighbour{Name: next.Name, Tree: next.Tree, Role: recipe.Library})
		}
	}
	var lines []variable
	for _, pair := range build.Surroundings(neighbours) {
		separator := ":"
		if strings.HasSuffix(pair.Name, "FLAGS") {
			separator = " "
		}
		lines = append(lines, variable{pair.Name, pair.Values[0], separator})
	}
	return lines, nil
}
