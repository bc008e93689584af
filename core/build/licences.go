package build

import (
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"fernladder/core/inspect"
	"fernladder/core/pattern"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// licenceFile matches the names of files that have licences and authors, at the top of a source
// or in LICENSES (the REUSE specification).
var licenceFile = pattern.New(`(?i)^((un)?licen[cs]e|copying|copyright|notice)\b[\w.+-]*$`)

// keepLicences keeps the licence texts of the source beside the receipt: anyone who
// redistributes the build has to include them.
func (a *attempt) keepLicences() ([]store.Licence, error) {
	const most, largest = 30, 1 << 20
	placed, err := os.OpenRoot(a.dirs.placed)
	if err != nil {
		return nil, err
	}
	defer placed.Close()
	dir := path.Join(inspect.Own, store.LicenceDir)
	if err := placed.RemoveAll(dir); err != nil {
		return nil, err
	}
	var all []store.Licence
	kept := map[string]bool{}
	keep := func(e safefs.Entry) error {
		base := path.Base(e.Name)
		if len(all) == most || !e.Mode.IsRegular() || e.Links > 1 || kept[base] ||
			!licenceFile.MatchString(base) && !strings.HasPrefix(e.Name, "LICENSES/") {
			return nil
		}
		f, err := e.Open()
		if err != nil {
			return nil // as the build has left it
		}
		defer f.Close()
		data, err := io.ReadAll(io.LimitReader(f, largest+1))
		if err != nil || len(data) == 0 || len(data) > largest || !safefs.ValidName(base) || printable(base) != base {
			return nil
		}
		if err := placed.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		l := store.Licence{File: base, SHA256: store.Digest(data)}
		kept[base], all = true, append(all, l)
		return placed.WriteFile(l.Path(), data, 0o644)
	}
	for _, top := range firsts([]string{a.dirs.source, a.dirs.system}) {
		err := a.walkBox(top, func(e safefs.Entry) error {
			if e.Mode.IsDir() && e.Name != "LICENSES" {
				return safefs.Skip
			}
			return keep(e)
		})
		if err != nil && safefs.Exists(filepath.Join(a.dirs.placed, dir)) {
			return nil, err
		}
	}
	return all, nil
}
