package build

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/inspect"
	"fernladder/core/landing"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// A build for a prefix is kept in a tree like any other, and does not know about trees: in its
// room, the trees of its needs form one directory at the prefix, made of links to their files.
// What the machine has there is neither seen nor changed.

// errPrefixNotSealed is the error for a build for a prefix without sealed builds.
var errPrefixNotSealed error = problem.New(problem.Host, "isolation",
	"only sealed builds can be for another directory than their tree: others would see and change what this machine "+
		"has there")

// CanBuild reports whether the level of isolation allows these jobs.
func (b *Builder) CanBuild(jobs []*Job) error {
	if b.level != sandbox.Sealed && slices.ContainsFunc(jobs, (*Job).Away) {
		return errPrefixNotSealed
	}
	return nil
}

// plainPath matches paths that makefiles and shell scripts handle safely.
var plainPath = pattern.New(`^(/[A-Za-z0-9_+.@-]+)+$`)

// CheckPrefix reports whether something can be built for a directory. root is the root, which
// has the builds; system allows /usr.
func CheckPrefix(prefix, root string, system bool) error {
	bad := func(format string, args ...any) error {
		return problem.New(problem.Usage, prefix, "nothing can be built for %s: %s", prefix, fmt.Sprintf(format, args...))
	}
	inside := func(path, dir string) bool { return path == dir || strings.HasPrefix(path, dir+"/") }
	switch {
	case !filepath.IsAbs(prefix):
		return bad("it has to be an absolute path, as /opt/glasshouse")
	case prefix == "/":
		return bad("its bin and lib are links to those of /usr; name /usr, if that is meant")
	case filepath.Clean(prefix) != prefix || !plainPath.MatchString(prefix):
		return bad("makefiles and shell scripts need letters, digits and _ + . @ - between slashes, without . or .. as a " +
			"name")
	case inside(prefix, root) || inside(root, prefix):
		return bad("it and the root, %s, overlap", root)
	}
	for _, dir := range []string{"/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/boot", "/dev", "/etc", "/proc",
		"/run", "/sys", "/tmp", "/var/tmp"} {
		if inside(prefix, dir) {
			return bad("%s belongs to the operating system", dir)
		}
	}
	for _, dir := range []string{"/usr/bin", "/usr/sbin", "/usr/lib", "/usr/lib32", "/usr/lib64", "/usr/libx32",
		"/usr/libexec", "/usr/include", "/usr/share", "/usr/src"} {
		if prefix == dir {
			return bad("it belongs to the operating system; use a directory inside it, as %s/glasshouse", dir)
		}
	}
	tops := []string{"/opt", "/home", "/srv", "/var", "/var/lib", "/var/opt", "/mnt", "/media", "/root"}
	if slices.Contains(tops, prefix) {
		return bad("it holds directories of many packages; use one inside it, as %s/glasshouse", prefix)
	}
	if prefix == systemPrefix && !system {
		return problem.New(problem.Usage, prefix,
			"%s belongs to the operating system: a package for it can replace the system's own files", prefix).
			Remedy(problem.AllowSystemPrefix)
	}
	return nil
}

// fills reports whether the build may have to write to its prefix: makefiles and steps of
// recipes may ignore DESTDIR.
func (a *attempt) fills() bool {
	r := a.job.Recipe
	if a.job.Prefix == systemPrefix {
		return false // which has the system's files besides
	}
	return a.filling || r.Build.Method == recipe.Make || r.Build.Method == recipe.Script ||
		slices.ContainsFunc([]string{StagePlace, "before_" + StagePlace, "after_" + StagePlace}, func(step string) bool {
			return r.Step(step) != ""
		})
}

// underPrefix is the union of the needs that are for the same prefix.
func (a *attempt) underPrefix() (landing.Union, error) {
	var refs []store.Ref
	for _, n := range visible(a.job) {
		if n.Away {
			refs = append(refs, n.Ref)
		}
	}
	return landing.UnionOf(a.m.Store, refs)
}

// showPrefix lets a room see the union of the needs at the prefix, either read-only or in a
// directory of the build's, into which it also places its files. No process of the build runs
// meanwhile.
func (a *attempt) showPrefix(r *sandbox.Room) error {
	if r.Level != sandbox.Sealed {
		return errPrefixNotSealed
	}
	union, err := a.underPrefix()
	if err != nil {
		return a.clashing(err)
	}
	if err := errors.Join(safefs.Remove(a.dirs.seen), safefs.Remove(a.dirs.prefix)); err != nil {
		return err
	}
	if err := union.Link(a.dirs.seen); err != nil {
		return err
	}
	if !a.fills() {
		r.Shown = sandbox.Stand{In: a.dirs.seen, For: a.job.Prefix}
		return os.Mkdir(a.dirs.prefix, 0o755)
	}
	r.Stands = sandbox.Stand{In: a.dirs.prefix, For: a.job.Prefix}
	if !a.room.user.Other() { // users who could change the files of the trees
		err = union.Copy(a.dirs.prefix)
	} else if err = union.Link(a.dirs.prefix); err == nil {
		err = union.Give(a.dirs.prefix, func(path string) error { return give(path, a.room.user) })
	}
	if err != nil {
		return err
	}
	return durable.Note(a.laid(), nil, 0o444)
}

// laid is a file that is written when the prefix has everything of the needs.
func (a *attempt) laid() string { return filepath.Join(a.dirs.given, "laid") }

// clashing makes a failure of the build if needs cannot share a directory.
func (a *attempt) clashing(err error) error {
	if errors.Is(err, landing.UnionClash) {
		return a.failure(a.journal.Running, "its needs cannot be together in "+a.job.Prefix+": "+err.Error(), "")
	}
	return err
}

// knownInPrefix is what the prefix had before the build placed anything.
func (a *attempt) knownInPrefix() (map[string]inspect.Known, error) {
	if !a.job.Away() || !a.fills() {
		return nil, nil
	}
	union, err := a.underPrefix()
	if err != nil {
		return nil, err
	}
	known := map[string]inspect.Known{}
	for _, e := range union {
		k := inspect.Known{Dir: e.Mode.IsDir(), Target: e.Target, SHA256: e.SHA256, By: e.Build.Name}
		if info, err := os.Lstat(filepath.Join(e.Tree, e.Path)); err == nil {
			s := info.Sys().(*syscall.Stat_t)
			k.Device, k.Inode = s.Dev, s.Ino
		}
		known[e.Path] = k
	}
	return known, nil
}

// placeAgain reports whether files are placed once more with a writable prefix, for makefiles
// that ignore DESTDIR.
func (a *attempt) placeAgain(stage string) bool {
	if stage != StagePlace || !a.job.Away() || a.fills() || a.job.Prefix == systemPrefix {
		return false
	}
	a.filling = true
	return true
}
