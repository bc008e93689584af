package host

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// Packages are the installed packages of the operating system, according to its package manager:
// dpkg, rpm, pacman or apk.
type Packages struct {
	programs Programs
	manager  string

	lock     sync.Mutex
	related  *relations        // of all that are installed, once they were asked for
	versions map[string]string // the same

	asking sync.Mutex
	owned  map[string]string // the packages of files that were asked for, by spelling; "": of none

	apk func() (apk, error) // its database, read once
}

// Packages returns those of a machine of a family, or nil if its package manager is unknown or
// missing.
func (p Programs) Packages(family string) *Packages {
	manager := map[string]string{"debian": "dpkg-query", "fedora": "rpm", "suse": "rpm", "arch": "pacman",
		"alpine": "apk"}[family]
	if manager == "" || p.Find(manager) == "" {
		return nil
	}
	return &Packages{programs: p, manager: manager, apk: sync.OnceValues(func() (apk, error) {
		return readApk(apkFiles())
	})}
}

// LibraryOfC are files that identify the packages of the C library and its headers.
func LibraryOfC() []string {
	return []string{"/usr/include/stdio.h", "/usr/include/linux/types.h", "/usr/include/crypt.h"}
}

// ask runs the package manager, and accepts its answer even if it does not know some of what it
// was asked for.
func (k *Packages) ask(ctx context.Context, argv ...string) (string, error) {
	out, _, err := k.programs.run(ctx, "", append([]string{k.programs.Find(k.manager)}, argv...)...)
	if exit := new(exec.ExitError); errors.As(err, &exit) && ctx.Err() == nil {
		err = nil
	}
	return out, err
}

// Control is a control file of a dpkg package, such as symbols (deb-symbols(5)); "" if it has
// none.
func (k *Packages) Control(ctx context.Context, pkg, file string) (string, error) {
	if k.manager != "dpkg-query" {
		return "", nil
	}
	list, err := k.ask(ctx, "--control-list", pkg)
	if err != nil || !slices.Contains(strings.Fields(list), file) {
		return "", err
	}
	return k.ask(ctx, "--control-show", pkg, file)
}

// Unpacks reports whether the machine's dpkg unpacks a compression, by the list in its help.
func (k *Packages) Unpacks(ctx context.Context, compression string) bool {
	out, _, err := k.programs.run(ctx, "", k.programs.Find("dpkg-deb"), "--help")
	return err == nil && strings.Contains(out, compression)
}

// Spellings are the forms that a path may have in the package manager's lists: as it is, without
// its links, and as it was before /bin and /lib became links into /usr.
func Spellings(path string) []string {
	all := []string{path}
	add := func(other string) {
		if !slices.Contains(all, other) {
			all = append(all, other)
		}
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		add(real)
	}
	if dir, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
		add(filepath.Join(dir, filepath.Base(path)))
	}
	for _, p := range slices.Clone(all) {
		if rest, is := strings.CutPrefix(p, "/usr"); is && !strings.HasPrefix(rest, "/include") &&
			!strings.HasPrefix(rest, "/share") {
			add(rest)
		}
	}
	return all
}

// Owning returns the packages of files, by path; nothing for files of no package.
func (k *Packages) Owning(ctx context.Context, paths []string) (map[string]string, error) {
	if len(paths) == 0 {
		return nil, nil
	}
	k.asking.Lock()
	defer k.asking.Unlock()
	if k.owned == nil {
		k.owned = map[string]string{}
	}
	spelled := make([][]string, len(paths))
	var unknown []string
	for i, path := range paths {
		spelled[i] = Spellings(path)
		for _, spelling := range spelled[i] {
			if _, known := k.owned[spelling]; !known {
				k.owned[spelling], unknown = "", append(unknown, spelling)
			}
		}
	}
	for asked := range slices.Chunk(unknown, 2000) { // command lines have an end
		if err := k.owning(ctx, asked, k.owned); err != nil {
			k.owned = nil
			return nil, err
		}
	}
	owners := map[string]string{}
	for i, path := range paths {
		for _, spelling := range spelled[i] {
			if name := k.owned[spelling]; name != "" {
				owners[path] = name
				break
			}
		}
	}
	return owners, nil
}

func (k *Packages) owning(ctx context.Context, paths []string, has map[string]string) error {
	if k.manager == "apk" {
		db, err := k.apk()
		for _, path := range paths {
			if name := db.files[path]; name != "" {
				has[path] = name
			}
		}
		return err
	}
	argv := map[string][]string{"dpkg-query": {"-S"}, "rpm": {"-qf", "--qf", "%{NAME}\n"}, "pacman": {"-Qqo"}}[k.manager]
	out, err := k.ask(ctx, append(argv, paths...)...)
	if err != nil {
		return err
	}
	if k.manager == "dpkg-query" { // PACKAGE[:ARCH][, PACKAGE…]: PATH
		for line := range strings.Lines(out) {
			if names, path, is := strings.Cut(strings.TrimSpace(line), ": "); is && !strings.HasPrefix(line, "diversion by") {
				name, _, _ := strings.Cut(names, ",")
				name, _, _ = strings.Cut(name, ":")
				has[path] = name
			}
		}
		return nil
	}
	// The others only name the packages; their lists say which file belongs to which.
	names := slices.DeleteFunc(strings.Split(strings.TrimSpace(out), "\n"), func(line string) bool {
		return line == "" || strings.Contains(line, " ")
	})
	slices.Sort(names)
	files, err := k.Files(ctx, slices.Compact(names))
	for path, name := range files {
		has[path] = name
	}
	return err
}

// Files returns the files of packages, each with the package's name.
func (k *Packages) Files(ctx context.Context, names []string) (map[string]string, error) {
	files := map[string]string{}
	if len(names) == 0 {
		return files, nil
	}
	switch k.manager {
	case "dpkg-query": // which separates packages by an empty line
		instances, names := k.instances(ctx, names)
		out, err := k.ask(ctx, append([]string{"-L"}, instances...)...)
		for i, list := range strings.Split(out, "\n\n") {
			if i < len(names) {
				dpkgList(list, names[i], files)
			}
		}
		return files, err
	case "apk":
		db, err := k.apk()
		asked := map[string]bool{}
		for _, name := range names {
			asked[name] = true
		}
		for path, name := range db.files {
			if asked[name] {
				files[path] = name
			}
		}
		return files, err
	}
	argv := map[string][]string{"rpm": {"-q", "--qf", "[%{=NAME} %{FILENAMES}\n]"}, "pacman": {"-Ql"}}[k.manager]
	out, err := k.ask(ctx, append(argv, names...)...)
	for line := range strings.Lines(out) {
		if name, path, is := strings.Cut(strings.TrimSpace(line), " "); is {
			files[path] = name
		}
	}
	return files, err
}

// dpkgList reads the list of a package's files. Below a file that another package has diverted,
// the list has its new path.
func dpkgList(list, name string, files map[string]string) {
	last := ""
	for line := range strings.Lines(list) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "/") {
			last = line
			files[line] = name
			continue
		}
		if to := strings.Index(line, " to: "); to >= 0 &&
			(strings.HasPrefix(line, "diverted by ") || strings.HasPrefix(line, "locally diverted")) {
			delete(files, last)
			files[line[to+len(" to: "):]] = name
		}
	}
}

// instances are packages in the form in which dpkg distinguishes architectures, each with its
// name.
func (k *Packages) instances(ctx context.Context, names []string) (instances, of []string) {
	r, err := k.relations(ctx)
	if err != nil {
		return names, names
	}
	for _, name := range names {
		for _, arch := range r.archs[name] {
			instances, of = append(instances, name+":"+arch), append(of, name)
		}
	}
	return instances, of
}

// Versions are those of all installed packages, with the distribution's suffixes; of a package
// that is installed for several architectures, or several times, all.
func (k *Packages) Versions(ctx context.Context) (map[string]string, error) {
	k.lock.Lock()
	defer k.lock.Unlock()
	if k.versions != nil {
		return k.versions, nil
	}
	if k.manager == "apk" {
		db, err := k.apk()
		if err != nil {
			return nil, err
		}
		k.versions = map[string]string{}
		for name, p := range db.packages {
			k.versions[name] = p.version
		}
		return k.versions, nil
	}
	argv := map[string][]string{"dpkg-query": {"-W", "-f", "${Package} ${Version} ${db:Status-Status}\n"},
		"rpm": {"-qa", "--qf", "%{NAME} %{EVR} installed\n"}, "pacman": {"-Q"}}[k.manager]
	out, err := k.ask(ctx, argv...)
	if err != nil {
		return nil, err
	}
	all := map[string][]string{}
	for line := range strings.Lines(out) {
		f := strings.Fields(line)
		if len(f) >= 2 && (len(f) == 2 || f[2] == "installed") && !slices.Contains(all[f[0]], f[1]) {
			all[f[0]] = append(all[f[0]], f[1])
		}
	}
	k.versions = map[string]string{}
	for name, versions := range all {
		slices.Sort(versions)
		k.versions[name] = strings.Join(versions, ", ")
	}
	return k.versions, nil
}

// relations are what packages require, and who provides it.
type relations struct {
	requires  map[string][]string // package to its requirements: packages and other things
	provides  map[string][]string // requirement to the packages that provide it
	archs     map[string][]string // package to the architectures that it is installed for, where that matters
	essential []string
}

// Essential are the packages that every system has.
func (k *Packages) Essential(ctx context.Context) ([]string, error) {
	r, err := k.relations(ctx)
	if err != nil {
		return nil, err
	}
	return r.essential, nil
}

// State changes when packages are installed or removed. It is "" if that cannot be found out.
func (k *Packages) State() string {
	var files []string
	for _, pattern := range map[string][]string{
		"dpkg-query": {"/var/lib/dpkg/status"}, "rpm": {"/usr/lib/sysimage/rpm/*", "/var/lib/rpm/*"},
		"pacman": {"/var/lib/pacman/local"}, "apk": apkFiles(),
	}[k.manager] {
		found, _ := filepath.Glob(pattern)
		files = append(files, found...)
	}
	state := ""
	for _, file := range files {
		if info, err := os.Stat(file); err == nil && !strings.HasSuffix(file, "lock") && !strings.HasSuffix(file, "-shm") {
			state += fmt.Sprintf("%s %d %d\n", file, info.Size(), info.ModTime().UnixNano())
		}
	}
	return state
}

// relate asks for the relations of all installed packages.
func (k *Packages) relate(ctx context.Context) (relations, error) {
	r := relations{requires: map[string][]string{}, provides: map[string][]string{}, archs: map[string][]string{}}
	take := func(name string, requires, provides []string) {
		r.requires[name] = append(r.requires[name], requires...)
		for _, p := range append(provides, name) {
			r.provides[p] = append(r.provides[p], name)
		}
	}
	switch k.manager {
	case "dpkg-query":
		out, err := k.ask(ctx, "-W", "-f",
			"${Package}\t${Essential}\t${Provides}\t${Pre-Depends}, ${Depends}\t${Architecture}\t${db:Status-Status}\n")
		for line := range strings.Lines(out) {
			fields := strings.Split(strings.TrimRight(line, "\n"), "\t")
			if len(fields) == 6 && fields[5] == "installed" {
				take(fields[0], bareNames(fields[3], ",|"), bareNames(fields[2], ","))
				r.archs[fields[0]] = append(r.archs[fields[0]], fields[4])
				if fields[1] == "yes" {
					r.essential = append(r.essential, fields[0])
				}
			}
		}
		return r, err
	case "rpm":
		out, err := k.ask(ctx, "-qa", "--qf", "[%{=NAME} R %{REQUIRENAME}\n][%{=NAME} P %{PROVIDENAME}\n]")
		for line := range strings.Lines(out) {
			if f := strings.Fields(line); len(f) >= 3 && f[1] == "R" {
				take(f[0], f[2:3], nil)
			} else if len(f) >= 3 {
				take(f[0], nil, f[2:3])
			}
		}
		if err == nil {
			err = k.provideFiles(ctx, r)
		}
		return r, err
	case "apk":
		db, err := k.apk()
		for name, p := range db.packages {
			take(name, p.requires, p.provides)
		}
		return r, err
	}
	out, err := k.ask(ctx, "-Qi")
	name := ""
	for line := range strings.Lines(out) {
		key, value, _ := strings.Cut(line, ":")
		switch value = strings.ReplaceAll(strings.TrimSpace(value), "None", ""); strings.TrimSpace(key) {
		case "Name":
			name = value
			take(name, nil, nil)
		case "Provides":
			take(name, nil, bareNames(value, " "))
		case "Depends On":
			take(name, bareNames(value, " "), nil)
		}
	}
	return r, err
}

// provideFiles records the packages of files that other packages require by path.
func (k *Packages) provideFiles(ctx context.Context, r relations) error {
	var paths []string
	for _, requires := range r.requires {
		for _, what := range requires {
			if strings.HasPrefix(what, "/") && len(r.provides[what]) == 0 && !slices.Contains(paths, what) {
				paths = append(paths, what)
			}
		}
	}
	owners, err := k.Owning(ctx, paths)
	for path, name := range owners {
		r.provides[path] = []string{name}
	}
	return err
}

// relations are those of all installed packages, asked for once.
func (k *Packages) relations(ctx context.Context) (*relations, error) {
	k.lock.Lock()
	defer k.lock.Unlock()
	if k.related == nil {
		r, err := k.relate(ctx)
		if err != nil {
			return nil, err
		}
		k.related = &r
	}
	return k.related, nil
}

// bareNames are the names in a list of relations, without versions and
// architectures.
func bareNames(list, separators string) []string {
	var names []string
	for _, item := range strings.FieldsFunc(list, func(c rune) bool { return strings.ContainsRune(separators, c) }) {
		if end := strings.IndexAny(strings.TrimSpace(item), " (:<>="); end > 0 {
			item = strings.TrimSpace(item)[:end]
		}
		if item = strings.TrimSpace(item); item != "" {
			names = append(names, item)
		}
	}
	return names
}

// Closure returns packages with everything that they require, and the essential packages.
func (k *Packages) Closure(ctx context.Context, names []string) (map[string]bool, error) {
	r, err := k.relations(ctx)
	if err != nil {
		return nil, err
	}
	closure := map[string]bool{}
	next := append(slices.Clone(r.essential), names...)
	for len(next) > 0 {
		name := next[0]
		next = next[1:]
		for _, provider := range append(r.provides[name], name) {
			if _, installed := r.requires[provider]; installed && !closure[provider] {
				closure[provider] = true
				next = append(next, r.requires[provider]...)
			}
		}
	}
	return closure, nil
}
