package cli

import (
	"context"
	"errors"
	"os"

	"github.com/spf13/cobra"

	"fernladder/core/depot"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) shareCommand() *cobra.Command {
	var r session.ShareRequest
	c := &cobra.Command{
		Use:   "share [NAME...]",
		Short: "Put builds into depots, where other machines find them",
		Long: `Puts existing builds, with everything they need to run, into the depots of the settings
that have a key to sign with ([[depot]]): repositories of OCI registries, or directories in
the OCI image layout. What is there is not sent again; a new release of a large package
sends what changed. With each build goes a signed statement of its provenance: sources,
recipe, needs, options, compiler, isolation. Machines that trust the key take the build
instead of building it: see install.`,
		Example: `  fernladder share glasshouse
  fernladder share --wanted                   everything that the settings want
  fernladder share glasshouse --all           with the tools it was built with
  fernladder share mistplan@3f9c --depot stick`,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			r.Names = args
			return a.share(c.Context(), r)
		},
	}
	c.Flags().BoolVar(&r.Wanted, "wanted", false, "share what the settings want and is on the landing")
	c.Flags().BoolVar(&r.All, "all", false, "share the tools that the builds were built with, too")
	c.Flags().StringVar(&r.Depot, "depot", "", "put them only into the depot `NAME`")
	return c
}

func (a *app) share(ctx context.Context, r session.ShareRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	report, failed := s.Share(ctx, r)
	if failed != nil && len(report.Builds)+len(report.Left) == 0 {
		return failed
	}
	err = a.answer(report, func() {
		var rows [][]string
		for _, b := range report.Builds {
			sent := term.Bytes(b.Sent) + " sent"
			if b.There {
				sent = "already there"
			}
			rows = append(rows, []string{a.screen.Strong(b.Name), b.Version, b.ID, term.Bytes(b.Bytes), sent, b.Depot})
		}
		a.screen.Table([]string{"package", "version", "build id", "size", "", "depot"}, rows)
		for _, l := range report.Left {
			a.screen.Note("%s %s was not put into %s: %s.", l.Name, l.Version, l.Depot, l.Why)
		}
	})
	return errors.Join(failed, err)
}

// cleanDepot deletes builds from a depot.
func (a *app) cleanDepot(ctx context.Context, f cleaning) (err error) {
	s, err := a.open()
	if err != nil {
		return err
	}
	r := session.DepotCleanRequest{Depot: f.depot, Keep: f.Keep}
	if r.Older, err = parseAge(f.older); err != nil {
		return err
	}
	ask := f.yes || a.screen.Interactive(os.Stdin)
	if ask {
		r.Confirm = func(found *session.DepotCleanReport) bool {
			a.showHeld(found)
			return f.yes || a.agrees("Delete this?")
		}
	}
	report, err := s.CleanDepot(ctx, r)
	if err != nil {
		return err
	}
	return a.answer(report, func() {
		switch {
		case len(report.Builds) == 0:
			a.screen.Print("Nothing to delete: %s in %s.", stays(report.Kept), report.Depot)
		case !ask:
			a.showHeld(report)
			a.screen.Note("Nothing was deleted. To delete it: the same command with --yes")
		case !report.Deleted:
			a.screen.Note("Nothing was deleted.")
		default:
			a.screen.Print("Deleted %s; %s in %s.", term.Count(len(report.Builds), "build"), stays(report.Kept), report.Depot)
		}
	})
}

func stays(n int) string {
	if n == 1 {
		return "1 build stays"
	}
	return term.Count(n, "build") + " stay"
}

func (a *app) showHeld(r *session.DepotCleanReport) {
	if a.screen.JSON {
		return
	}
	var rows [][]string
	bytes := int64(0)
	for _, h := range r.Builds {
		bytes += h.Bytes
		rows = append(rows, []string{a.screen.Strong(term.OneLine(h.Name)), term.OneLine(h.Version), h.ID,
			term.Bytes(h.Bytes), ago(a.now().Sub(h.Created))})
	}
	a.screen.Table([]string{"package", "version", "build id", "size", "built"}, rows)
	a.screen.Print("\n%s in %s; %s. Blobs that others of its builds share stay.", term.Count(len(rows), "build"), r.Depot,
		term.Bytes(bytes))
}

// fromDepot says where a build would be taken from, and how much there is to fetch.
func fromDepot(o *depot.Offer) string {
	return "to fetch from " + o.Depot.Name + ", " + term.Bytes(o.Bytes())
}
