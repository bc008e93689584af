package build

import (
	"context"
	"os"

	"fernladder/core/safefs"
)

// oneLib has the libraries of lib64 in lib, where builds look for those of their needs, and lib64 a
// link to it, unless both have something of the same name, as for two architectures.
const oneLib = `cd "$1" || exit 0
both=$(cd lib64 && find . ! -type d -exec sh -c 'for f; do test ! -e "../lib/$f" || echo "$f"; done' sh {} +)
test -z "$both" && mkdir -p lib && cp -a lib64/. lib/ && rm -rf lib64 && ln -s lib lib64
exit 0`

// joinLibraries moves libraries that makefiles placed in lib64.
func (a *attempt) joinLibraries(ctx context.Context, output *os.File) error {
	if a.job.Away() { // files of others are there, too
		return nil
	}
	staged, err := a.staged()
	path := a.dirs.stage + a.job.Prefix
	if staged == nil && err == nil {
		path = a.job.Prefix
		staged, err = safefs.OpenDir(a.filled())
	}
	if safefs.Gone(err) { // nothing was placed
		return nil
	}
	if err != nil {
		return err
	}
	defer staged.Close()
	lib64, err := staged.Sub("lib64")
	if err != nil {
		return nil // it is missing, or a link
	}
	lib64.Close()
	return a.command(ctx, Command{Dir: a.dirs.build, Argv: []string{"sh", "-c", oneLib, "sh", path}, Jobs: One}, output)
}
