package cli

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) reportCommand() *cobra.Command {
	var r session.ReportRequest
	c := &cobra.Command{
		Use:   "report [NAME...]",
		Short: "Write a page about what is installed: where it is from, how it was built, what is known against it",
		Long: `Writes one page of HTML, which needs no other file and no network: what is installed and
why, where it came from and who signed it, how it was built, licences, what the operating
system gives, the ladder, the last run of builds, earlier times and sizes, published
security holes, and what has changed since the last report in the same directory. It is
about the landing; or about packages and what they need, or a lock file.`,
		Example: `  fernladder report --to /srv/www/fern
  fernladder report mistplan --to mistplan-report
  fernladder report --lock ladder.lock --to planned`,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			if r.Names = args; r.To == "" {
				return usage("report needs the directory that it is written to: --to DIR")
			}
			return a.writeReport(c.Context(), r)
		},
	}
	c.Flags().StringVar(&r.To, "to", "", "write index.html and report.json into the directory `DIR`")
	c.Flags().StringVar(&r.Lock, "lock", "", "about what the lock file `FILE` has")
	return c
}

func (a *app) writeReport(ctx context.Context, r session.ReportRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	report, err := s.Report(ctx, r)
	if err != nil {
		return err
	}
	return a.answer(report, func() {
		a.screen.Print("%s: %s, %s.", filepath.Join(r.To, "index.html"), report.About, term.Count(len(report.Packages),
			"package"))
		if report.Unlooked != "" {
			a.screen.Note("Published security holes could not be looked up: %s", report.Unlooked)
		}
		switch {
		case report.Since == nil:
		case report.Since.Empty():
			a.screen.Print("Nothing has changed since the last report.")
		default:
			c := report.Since
			a.screen.Print("Since the last report: %d new, %d gone, %d changed.", len(c.Came), len(c.Gone), len(c.Changed))
		}
	})
}
