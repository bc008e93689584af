package cli

import (
	"context"

	"github.com/spf13/cobra"

	"fernladder/core/sbom"
	"fernladder/core/session"
)

func (a *app) sbomCommand() *cobra.Command {
	var r session.BillRequest
	format, self := "", false
	c := &cobra.Command{
		Use:   "sbom [NAME...]",
		Short: "Print a bill of materials of builds, the landing or a lock file",
		Long: `Prints what builds are made of, as an SPDX 2.3 or CycloneDX 1.6 document in JSON: their
releases, licences, sources with digests, patches, and what they are built with and run
with, down to packages of the operating system. The names by which others know a package
are those in [known_as] of its recipe. The same builds give the same document.`,
		Example: `  fernladder sbom mistplan > mistplan.spdx.json
  fernladder sbom --landing --format cyclonedx
  fernladder sbom --lock ladder.lock
  fernladder sbom mistplan --files            with the digests of all its files`,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			r.Names, r.Format = args, sbom.Format(format)
			if self {
				if len(args) > 0 || r.Landing || r.Lock != "" || r.Files {
					return usage("--self is about this program alone, without files")
				}
				bill, err := session.OwnBill("fernladder "+Version, r)
				if err == nil {
					_, err = a.out.Write(bill)
				}
				return err
			}
			return a.sbom(c.Context(), r)
		},
	}
	c.Flags().BoolVar(&r.Landing, "landing", false, "all that is on the landing")
	c.Flags().StringVar(&r.Lock, "lock", "", "all that the lock file `FILE` has, built or not")
	c.Flags().BoolVar(&self, "self", false, "this program, and the modules that are compiled into it")
	c.Flags().StringVar(&format, "format", "", "the `FORMAT`: spdx (the default) or cyclonedx")
	c.Flags().BoolVar(&r.Files, "files", false, "list all files, with their digests")
	return c
}

func (a *app) sbom(ctx context.Context, r session.BillRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	bill, err := s.Bill(ctx, r)
	if err != nil {
		return err
	}
	_, err = a.out.Write(bill)
	return err
}
