package machine

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
)

// MayRead returns an error if a release's repository is a directory of this machine that the
// recipe's author may not be allowed to read. Access is allowed if the recipe's folder belongs
// to the user or to root and is not a copy of a remote shelf, and if the settings name a
// directory that contains the repository.
func (m *Machine) MayRead(r *recipe.Recipe, x *recipe.Release) error {
	u, err := url.Parse(r.ExpandURL(x.Repository(), x.Version.String()))
	if err != nil || u.Scheme != "file" {
		return nil
	}
	within := func(path, dir string) bool {
		real, err := filepath.EvalSymlinks(dir)
		return err == nil && (path == real || strings.HasPrefix(path, strings.TrimSuffix(real, "/")+"/"))
	}
	if info, err := os.Stat(r.Dir); err == nil && m.Place.Trusts(int(info.Sys().(*syscall.Stat_t).Uid)) &&
		!within(r.Dir, m.Store.Root) {
		return nil
	}
	repository, err := filepath.EvalSymlinks(u.Path)
	if err == nil && slices.ContainsFunc(m.Settings.LocalRepositories, func(dir string) bool {
		return within(repository, dir)
	}) {
		return nil
	}
	at := x.Position
	at.File = r.File
	return tomlfile.Problems{{Position: at,
		Message: fmt.Sprintf("%s would be read with your permissions, but the recipe has another author", u),
		Advice:  fmt.Sprintf("to allow it: local_repositories = [%q] in the settings", filepath.Dir(u.Path))}}
}
