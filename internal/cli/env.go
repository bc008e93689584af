package cli

import (
	"strings"

	"github.com/spf13/cobra"
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
				return a.exactlyOne(c, args)
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
			lines, remarks, err := m.Environment(strings.Join(args, ""))
			if err != nil {
				return err
			}
			for _, remark := range remarks {
				a.screen.Note("%s", remark)
			}
			return a.answer(lines, func() {
				for _, line := range forms[as](lines) {
					a.screen.Print("%s", line)
				}
			})
		},
	}
	c.Flags().StringVar(&as, "as", "sh", "print for `FORM`: "+formNames)
	return c
}
