package install

// This file renews the caches that other tools keep of the files on a landing: databases of
// desktop entries, MIME types, icons, schemas, info and manual pages, and the loader's list
// of libraries.
//
// It renews the caches that the settings name, if their tools are installed. These tools
// read what builds have made, so they run in the sandbox of builds, on copies, and their
// results are copied back as plain files. The exception is ldconfig, which needs root and
// runs on the machine. A cache that cannot be renewed does not fail the change of the
// landing; the result reports it.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/host"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/subprocess"
)

// A kind is one of the caches.
type cacheKind struct {
	name  string
	in    func(dir *safefs.Dir) []string // the directories it is kept of, below the one renewed
	tool  string
	argv  func(place string, files []string) []string
	takes func(file string) bool // which files of the directory the tool reads; of others there are empty ones
	makes []string               // the files to copy, and complete directories
}

// Libraries is the cache of the loader.
const Libraries = "libraries"

var kinds = []cacheKind{
	{
		name: "desktop", in: only("share/applications"), tool: "update-desktop-database", makes: []string{"mimeinfo.cache"},
		argv:  func(place string, _ []string) []string { return []string{"-q", place} },
		takes: suffix(".desktop"),
	},
	{
		name: "mime", in: only("share/mime"), tool: "update-mime-database", makes: landing.MIMEFiles,
		argv:  func(place string, _ []string) []string { return []string{"-n", place} },
		takes: func(file string) bool { return strings.HasPrefix(file, "packages/") && strings.HasSuffix(file, ".xml") },
	},
	{
		name: "icons", in: themes, tool: "gtk-update-icon-cache", makes: []string{"icon-theme.cache"},
		argv: func(place string, _ []string) []string {
			return []string{"-q", "-f", "--index-only", "--ignore-theme-index", place}
		},
		takes: func(file string) bool { return file == "index.theme" },
	},
	{
		name: "schemas", in: only("share/glib-2.0/schemas"), tool: "glib-compile-schemas",
		makes: []string{"gschemas.compiled"},
		argv:  func(place string, _ []string) []string { return []string{place} },
		takes: func(file string) bool { return suffix(".xml")(file) || suffix(".override")(file) },
	},
	{
		name: "info", in: only("share/info"), tool: "sh", makes: []string{"dir"},
		argv: func(place string, files []string) []string {
			argv := []string{"-e", "-c", `dir=$1; shift; for file; do install-info "$file" "$dir" || :; done; test -f "$dir"`,
				"install-info", place + "/dir"}
			for _, file := range files {
				if file != "dir" && !strings.Contains(file, "-") || strings.HasSuffix(strings.TrimSuffix(file, ".gz"), ".info") {
					argv = append(argv, place+"/"+file)
				}
			}
			return argv
		},
		takes: func(string) bool { return true },
	},
	{
		name: "man", in: only("share/man"), tool: "mandb", makes: []string{"index.db"},
		argv:  func(place string, _ []string) []string { return []string{"-q", "-c", "-u", place} },
		takes: func(string) bool { return true },
	},
}

func only(dir string) func(*safefs.Dir) []string {
	return func(d *safefs.Dir) []string {
		if info, err := d.Lstat(dir); err != nil || !info.Mode.IsDir() {
			return nil
		}
		return []string{dir}
	}
}

// themes are the directories of icon themes.
func themes(d *safefs.Dir) (all []string) {
	icons, err := d.Sub("share/icons")
	if err != nil {
		return nil
	}
	defer icons.Close()
	icons.Walk(true, func(e safefs.Entry) error {
		if e.Mode.IsDir() {
			all = append(all, "share/icons/"+e.Name)
			return safefs.Skip
		}
		return nil
	})
	return all
}

func suffix(end string) func(string) bool {
	return func(file string) bool { return strings.HasSuffix(file, end) }
}

// RenewCaches makes a change of the landing renew the caches that the settings of a machine
// name.
func RenewCaches(ctx context.Context, m *machine.Machine, u *landing.Update) {
	if len(m.Settings.Landing.Caches) == 0 {
		return
	}
	u.Caches = func(dir string) []landing.Cache {
		if m.Settings.Landing.Shared != "" && dir != m.Settings.Landing.Shared {
			return nil // people use the other
		}
		return renewCaches(ctx, m, dir)
	}
	if slices.Contains(m.Settings.Landing.Caches, Libraries) {
		u.After = func() []landing.Cache { return linkerCache(ctx, m) }
	}
}

// renew renews the caches of a directory in which files of the landing are linked.
func renewCaches(ctx context.Context, m *machine.Machine, dir string) (all []landing.Cache) {
	d, err := safefs.OpenDir(dir)
	if err != nil {
		return nil
	}
	defer d.Close()
	for _, k := range kinds {
		if !slices.Contains(m.Settings.Landing.Caches, k.name) {
			continue
		}
		for _, in := range k.in(d) {
			c := landing.Cache{Name: k.name, File: filepath.Join(m.Used(), in, k.makes[len(k.makes)-1])}
			before := k.made(d, in)
			switch there, err := k.renew(ctx, m, d, in); {
			case err != nil:
				c.Problem = err.Error()
			case !there:
				continue
			}
			for name := range k.made(d, in) {
				if !before[name] {
					c.Made = append(c.Made, name)
				}
			}
			all = append(all, c)
		}
	}
	return all
}

// made are the existing files of a cache, below the directory that is renewed.
func (k cacheKind) made(d *safefs.Dir, in string) map[string]bool {
	there := map[string]bool{}
	for _, name := range k.makes {
		if info, err := d.Lstat(in + "/" + name); err == nil && info.Mode.IsRegular() {
			there[in+"/"+name] = true
		}
	}
	return there
}

// largest is more than any file that one of the tools reads, largestOfAll more than all of them
// together, and most more than their number. A tool that takes longer than longest is killed.
const (
	largest      = 16 << 20
	largestOfAll = 1 << 30
	most         = 200_000
	longest      = 5 * time.Minute
)

// renew renews one cache of one directory; there reports whether there is anything to cache.
func (k cacheKind) renew(ctx context.Context, m *machine.Machine, d *safefs.Dir, in string) (there bool, err error) {
	if k.name == "man" && kept(filepath.Join(d.Path(), in)) {
		return false, nil // the operating system keeps an index of it itself
	}
	program := cmp.Or(map[string]string{"sh": "install-info"}[k.tool], k.tool)
	if m.Programs.Find(program) == "" {
		return true, fmt.Errorf("there is no program %s", program)
	}
	level, err := m.Isolation(ctx)
	if err != nil {
		return true, err
	}
	base, user, done, err := m.Scratch(ctx, "cache")
	if err != nil {
		return true, err
	}
	defer done()
	place := filepath.Join(base, "place")
	for _, name := range []string{place, filepath.Join(base, "room")} {
		if err := os.Mkdir(name, 0o755); err != nil {
			return true, err
		}
	}
	ctx, cancel := context.WithTimeoutCause(ctx, longest, fmt.Errorf("%s was not done after %s", k.tool, longest))
	defer cancel()
	files, err := k.copy(ctx, m, filepath.Join(d.Path(), in), place)
	if err != nil || len(files) == 0 {
		return false, err
	}
	if user.Other() {
		if err := safefs.Give(place, safefs.Ours, user.UID, user.GID); err != nil {
			return true, err
		}
	}
	limits := m.Settings.Most
	limits.FileSize = min(cmp.Or(limits.FileSize, largestOfAll), largestOfAll)
	room, err := sandbox.Room{Level: level, Visible: m.OwnPath(), Point: filepath.Join(base, "room"), Home: place,
		Writable: []string{place}, User: user, Limits: limits}.Enter(base)
	if err != nil {
		return true, err
	}
	defer room.Leave()
	defer context.AfterFunc(ctx, room.Leave)()
	if err := run(room, base, place, m.Programs.Find(k.tool), k.tool, k.argv(place, files), m.Programs.Path); err != nil {
		return true, cmp.Or(context.Cause(ctx), err)
	}
	room.Leave()
	return true, k.take(place, filepath.Join(d.Path(), in))
}

// run runs a tool in a room; the error has its output.
func run(room *sandbox.Session, base, place, file, name string, args, path []string) error {
	output, err := os.Create(filepath.Join(base, "output"))
	if err != nil {
		return err
	}
	defer output.Close()
	ended, err := room.Run(sandbox.Command{File: file, Argv: append([]string{name}, args...), Dir: place, Output: output,
		Env: []string{"PATH=" + strings.Join(path, ":"), "HOME=" + place, "LC_ALL=C.UTF-8", "TZ=UTC",
			"XDG_DATA_DIRS=" + place}})
	if err != nil {
		return err
	}
	if ended.Failed != "" {
		return fmt.Errorf("%s: %s", name, ended.Failed)
	}
	if ended.Status != 0 {
		const enough = 400
		text, _ := io.ReadAll(io.NewSectionReader(output, 0, enough))
		line, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
		return fmt.Errorf("%s ended with status %d: %s", name, ended.Status, line)
	}
	return nil
}

// copying is the copy of a tool's input.
type copying struct {
	cacheKind
	ctx   context.Context
	trees string // the directory of the trees, and a slash
	to    string
	files []string // that were copied whole
	met   int      // files and directories
	bytes int64
}

// copy copies a tool's input, with empty files in place of the rest.
func (k cacheKind) copy(ctx context.Context, m *machine.Machine, from, to string) ([]string, error) {
	c := &copying{cacheKind: k, ctx: ctx, trees: m.Store.TreesDir() + "/", to: to}
	err := c.directory(from, "", 0)
	return c.files, err
}

// directory copies one directory. Links of the landing lead to files and folders of trees; of
// the trees' own links, only those to their files count, because folders that lead into
// themselves would never end.
func (c *copying) directory(dir, name string, depth int) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		file, below := filepath.Join(dir, e.Name()), path.Join(name, e.Name())
		if slices.Contains(c.makes, below) {
			continue
		}
		if err := c.ctx.Err(); err != nil {
			return err
		}
		if c.met++; c.met > most || c.bytes > largestOfAll {
			return fmt.Errorf("there are more than %d files in %s, or more than %d MiB", most, dir, largestOfAll>>20)
		}
		linked := e.Type()&fs.ModeSymlink != 0
		if linked {
			if file, err = filepath.EvalSymlinks(file); err != nil || !strings.HasPrefix(file, c.trees) {
				continue
			}
		}
		info, err := os.Lstat(file)
		switch {
		case err != nil:
		case info.IsDir() && depth < 12 && !(linked && strings.HasPrefix(dir+"/", c.trees)):
			if err := os.Mkdir(filepath.Join(c.to, below), 0o755); err != nil {
				return err
			}
			if err := c.directory(file, below, depth+1); err != nil {
				return err
			}
		case info.Mode().IsRegular():
			if err := c.file(file, below); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *copying) file(file, below string) error {
	var data []byte
	if c.takes(below) {
		var err error
		if data, err = safefs.ReadFile(file, largest); err != nil {
			return nil // or it is unusually large
		}
	}
	if c.takes(below) || c.name == "icons" {
		c.files = append(c.files, below)
	}
	c.bytes += int64(len(data))
	return os.WriteFile(filepath.Join(c.to, below), data, 0o644)
}

// take takes over a tool's results. It leaves anything in their place that is not a file.
func (k cacheKind) take(place, to string) error {
	made, err := safefs.OpenDir(place)
	if err != nil {
		return err
	}
	defer made.Close()
	into, err := os.OpenRoot(to)
	if err != nil {
		return err
	}
	defer into.Close()
	taken := 0
	for _, name := range k.makes {
		data, err := made.ReadFile(name, largest)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if info, err := into.Lstat(name); err == nil && !info.Mode().IsRegular() {
			return fmt.Errorf("%s is not a file, and stays", filepath.Join(to, name))
		}
		aside := ".fernladder-" + name
		if err := into.Remove(aside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := errors.Join(into.WriteFile(aside, data, 0o644), into.Chmod(aside, 0o644)); err != nil {
			return err
		}
		if err := into.Rename(aside, name); err != nil {
			return err
		}
		taken++
	}
	if taken == 0 {
		return fmt.Errorf("%s made nothing", k.tool)
	}
	return nil
}

// kept reports whether the operating system keeps the index of a directory of manual pages
// elsewhere.
func kept(dir string) bool {
	data, err := safefs.ReadFile("/etc/manpath.config", largest)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(data)) {
		if words := strings.Fields(line); len(words) > 1 && words[0] == "MANDB_MAP" && words[1] == dir {
			return true
		}
	}
	return false
}

// libraries renews the loader's cache, if the loader looks in the landing.
func linkerCache(ctx context.Context, m *machine.Machine) []landing.Cache {
	c := landing.Cache{Name: Libraries, File: "/etc/ld.so.cache"}
	dir := filepath.Join(m.Used(), "lib")
	if _, err := os.Stat(dir); err != nil {
		return nil
	}
	ldconfig := m.Programs.Find("ldconfig")
	switch {
	case !slices.Contains(host.SystemLibraries(), dir):
		c.Problem = "the loader does not search " + dir + "; a file in /etc/ld.so.conf.d with that line changes that"
	case !m.Place.Super:
		c.Problem = "only root can renew it: ldconfig"
	case ldconfig == "":
		c.Problem = "there is no program ldconfig"
	default:
		if _, errOut, err := (subprocess.Command{Argv: []string{ldconfig}}).Text(ctx); err != nil {
			c.Problem = fmt.Sprintf("ldconfig: %v: %s", err, strings.TrimSpace(errOut))
		}
	}
	return []landing.Cache{c}
}
