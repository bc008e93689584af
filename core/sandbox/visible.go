package sandbox

// This file finds out which parts of the operating system a build must not see: everything
// that it has not declared.
//
// A build sees the base of the system (its essential packages, a shell and the usual text
// tools), the C library, and the packages that have what it declares, with all that these
// require. Of /usr, and of /bin and /lib where those are separate directories, everything
// else is hidden, whether a package owns it or not, so the result of a build does not depend
// on what else is installed. /etc stays as it is.

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fernladder/core/host"
)

// Declared is what a build declares to need of the operating system.
type Declared struct {
	Questions []host.Question
	Packages  []string // by name; those that are not installed do not count
	Whole     []string // directories that are shown with all that is in them
	Mounted   []string // paths that something else will be mounted on, and are to be there
}

// System is an operating system with a known package manager. It remembers what it finds out, in
// Dir for later runs of the program.
type System struct {
	Programs host.Programs
	Packages *host.Packages
	Dir      string // of its own; "": nothing is kept

	lock  sync.Mutex
	known map[string]*Sight
	base  []string          // packages
	now   map[string]looked // directories, as they are in this run
}

// Sight is what a build sees.
type Sight struct {
	Packages []string // that are seen; sorted
	// A directory in which hidden paths are marked, for rooms (Room); "" if the file system does
	// not support that.
	Layer string

	hidden func() ([]string, error)
}

// Hidden are the paths that do not exist in the room, with everything below them; sorted.
func (s *Sight) Hidden() ([]string, error) { return s.hidden() }

// usual are programs of every system, whose packages are part of the base: the shell, and the
// text tools that build scripts take for granted.
var usual = strings.Fields("sh bash cat sed grep awk find xargs diff cmp gzip tar ls sort expr hostname ldd getconf")

// Sight finds out what a build sees of the operating system.
func (s *System) Sight(ctx context.Context, d Declared) (*Sight, error) {
	key := d.key()
	s.lock.Lock()
	defer s.lock.Unlock()
	if known := s.known[key]; known != nil {
		return known, nil
	}
	sight := s.kept(key)
	if sight == nil {
		state := s.Packages.State()
		found, err := s.look(ctx, d)
		if err != nil {
			return nil, err
		}
		found.State = state
		sight = s.keep(key, found)
	}
	if s.known == nil {
		s.known = map[string]*Sight{}
	}
	s.known[key] = sight
	return sight, nil
}

// look looks at the packages and the files.
func (s *System) look(ctx context.Context, d Declared) (*found, error) {
	if err := s.findBase(ctx); err != nil {
		return nil, err
	}
	files, owners, err := s.answers(ctx, d.Questions)
	if err != nil {
		return nil, err
	}
	names := slices.Concat(s.base, d.Packages)
	for _, file := range files {
		names = append(names, owners[file])
	}
	closure, err := s.Packages.Closure(ctx, names)
	if err != nil {
		return nil, err
	}
	seen := slices.Sorted(maps.Keys(closure))
	listed, err := s.Packages.Files(ctx, seen)
	if err != nil {
		return nil, err
	}
	v := newView()
	for path := range listed {
		v.show(path)
	}
	for _, path := range files { // including files of no package
		v.show(path)
		if owners[path] == "" {
			v.whole[v.real(path)] = true // a directory may be declared
		}
	}
	for _, path := range slices.Concat(d.Whole, d.Mounted) {
		v.show(path)
		v.whole[v.real(path)] = true
	}
	for _, top := range software { // links into another are not followed
		v.walk(top)
	}
	if err := s.sort(ctx, v, closure); err != nil {
		return nil, err
	}
	slices.Sort(v.hidden)
	return &found{Packages: seen, Looked: v.looked, hidden: v.hidden}, nil
}

// answers are the files that answer questions, with their packages. Of several programs with one
// name, the first with a package is meant: one without, such as those in /usr/local, would lack
// what it needs.
func (s *System) answers(ctx context.Context, questions []host.Question) (files []string, owners map[string]string,
	err error) {
	var programs [][][]string // of each question, each file with its links
	var all []string
	for _, q := range questions {
		if q.Kind == host.Program {
			each := s.Programs.Each(q.Name)
			programs = append(programs, each)
			all = append(all, slices.Concat(each...)...)
			continue
		}
		files = append(files, s.Programs.Where(ctx, q)...)
	}
	if owners, err = s.Packages.Owning(ctx, append(all, files...)); err != nil {
		return nil, nil, err
	}
	for _, each := range programs {
		for i, candidate := range each {
			owned := slices.ContainsFunc(candidate, func(file string) bool { return owners[file] != "" })
			if owned || i == len(each)-1 {
				if !owned {
					candidate = each[0]
				}
				files = append(files, candidate...)
				break
			}
		}
	}
	return files, owners, nil
}

// choices is where Debian and other systems keep the targets of links such as /usr/bin/cc.
const choices = "/etc/alternatives"

// sort hides links to visible files that belong to a hidden package: the name that a library is
// linked by leads to the library. Links of no package choose among several programs, and stay.
func (s *System) sort(ctx context.Context, v *view, seen map[string]bool) error {
	owners, err := s.Packages.Owning(ctx, v.links)
	for _, link := range v.links {
		if owner := owners[link]; owner != "" && !seen[owner] {
			v.hidden = append(v.hidden, link)
		}
	}
	if info, err := os.Lstat(choices); err == nil {
		v.look(choices, info)
	}
	return err
}

// findBase finds the packages of the base.
func (s *System) findBase(ctx context.Context) error {
	if s.base != nil {
		return nil
	}
	paths := host.LibraryOfC()
	for _, name := range usual {
		paths = append(paths, slices.Concat(s.Programs.Each(name)...)...)
	}
	owners, err := s.Packages.Owning(ctx, paths)
	s.base = slices.Compact(slices.Sorted(maps.Values(owners)))
	return err
}

// key is the same for equal declarations.
func (d Declared) key() string {
	var lines []string
	for _, q := range d.Questions {
		lines = append(lines, q.String())
	}
	for kind, list := range map[string][]string{"P ": d.Packages, "W ": d.Whole, "M ": d.Mounted} {
		for _, item := range list {
			lines = append(lines, kind+item)
		}
	}
	slices.Sort(lines)
	return strings.Join(slices.Compact(lines), "\n")
}

// Hides reports whether a path is hidden.
func (s *Sight) Hides(path string) bool {
	hidden, err := s.Hidden()
	for ; err == nil && path != "/" && path != "."; path = filepath.Dir(path) {
		if _, found := slices.BinarySearch(hidden, path); found {
			return true
		}
	}
	return false
}
