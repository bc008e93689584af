package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/store"
)

func (a *app) frontCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "front NAME:VERSION",
		Short: "Say which of several builds of a package has the plain names",
		Long: `Gives a build that is there the plain names of its package on the landing. Others of
the package that are on it stay beside, under the names that their recipe has for that
([[beside]]); those that have none leave it.`,
		Example: `  fernladder install glasshouse:1.9 --beside  a second build, beside the first
  fernladder front glasshouse:1.9             now it has the plain names
  fernladder front glasshouse@3f9c`,
		Args:              exactly(1, "the name of one build"),
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.front(c.Context(), args[0]) },
	}
}

func (a *app) front(ctx context.Context, text string) error {
	return a.changeLanding(func(m *machine.Machine) (install.Landed, error) {
		name, err := landing.ParseName(text)
		if err != nil {
			return install.Landed{}, err
		}
		all, err := name.All(m.Store)
		if err != nil {
			return install.Landed{}, err
		}
		if all = slices.DeleteFunc(all, func(r *store.Receipt) bool { return r.Prefix != "" }); len(all) == 0 {
			return install.Landed{}, usage("%s was built for another directory than its tree, and cannot be on the landing", text)
		}
		if len(all) > 1 && name.String() == name.Name || name.ID != "" && len(all) > 1 {
			var texts []string
			for _, r := range all {
				texts = append(texts, r.Version+" ("+landing.NameOf(r.Ref)+")")
			}
			return install.Landed{}, usage("%s could be %s; say which", text, strings.Join(texts, " or "))
		}
		return install.Front(ctx, m, all[0].Ref)
	})
}
