package sandbox

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// never are directories that no build reads, whatever is declared: what is in them is
// for people, and differs from machine to machine.
var never = []string{"/usr/share/doc", "/usr/share/man", "/usr/share/info", "/usr/share/lintian", "/usr/share/locale",
	"/usr/games", "/usr/src", "/usr/share/games", "/usr/share/bug",
	"/usr/share/bash-completion", "/usr/share/zsh", "/usr/share/fish", "/usr/share/doc-base", "/usr/share/menu",
	"/usr/share/applications", "/usr/share/icons", "/usr/share/pixmaps"}

// always are directories that programs take for granted, with whatever is in them. Of
// those of nothing that is seen, the rest is hidden, but they are there.
var always = []string{"/usr/share/aclocal", "/usr/share/pkgconfig", "/usr/lib/pkgconfig", "/usr/local",
	"/usr/share/misc"}

// made are names of directories that hold what programs make for themselves of what is
// beside, and that count for nothing alone.
var made = []string{"__pycache__"}

// A looked is a directory that was read, as it was then.
type looked struct {
	Dir   string `json:"dir"`
	Inode uint64 `json:"inode"`
	Time  int64  `json:"time"` // of its last change, nanoseconds
}

// view is the operating system with what is seen of it.
type view struct {
	seen   map[string]bool // paths, without links on the way
	within map[string]bool // directories in which something is seen
	whole  map[string]bool // paths that are seen with all that is in them
	dirs   map[string]string
	hidden []string
	links  []string // that are not known to be seen, to what is seen
	looked []looked
}

func newView() *view {
	return &view{seen: map[string]bool{}, within: map[string]bool{}, whole: map[string]bool{},
		dirs: map[string]string{"/": "/"}}
}

// real is a path without links among its directories. It may be a link itself.
func (v *view) real(path string) string {
	return filepath.Join(v.realDir(filepath.Dir(path)), filepath.Base(path))
}

// realDir is a directory without links.
func (v *view) realDir(dir string) string {
	if known, is := v.dirs[dir]; is {
		return known
	}
	real := v.real(dir)
	if info, err := os.Lstat(real); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		if target, err := filepath.EvalSymlinks(real); err == nil {
			real = target
		}
	}
	v.dirs[dir] = real
	return real
}

// show makes a path seen, and the directories on the way.
func (v *view) show(path string) {
	if !filepath.IsAbs(path) {
		return
	}
	path = v.real(filepath.Clean(path))
	v.seen[path] = true
	for dir := filepath.Dir(path); !v.within[dir]; dir = filepath.Dir(dir) {
		v.within[dir] = true
		if dir == "/" {
			return
		}
	}
}

// walk goes through a directory, and notes what of it is not seen.
func (v *view) walk(dir string) {
	info, err := os.Lstat(dir)
	if err != nil || !info.IsDir() || v.whole[dir] {
		return
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return // what cannot be read cannot be seen
	}
	v.look(dir, info)
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		switch {
		case v.whole[path]:
		case slices.Contains(never, path):
			v.hidden = append(v.hidden, path)
		case e.IsDir() && slices.Contains(made, e.Name()):
		case e.IsDir() && (v.within[path] || slices.Contains(always, path)):
			v.walk(path)
		case !e.IsDir() && v.seen[path]:
		case e.IsDir() && v.seen[path] && v.empty(path):
		case e.Type()&fs.ModeSymlink != 0 && v.leads(path):
			v.links = append(v.links, path)
		default:
			v.hidden = append(v.hidden, path)
		}
	}
}

// look notes how a directory is.
func (v *view) look(dir string, info fs.FileInfo) {
	v.looked = append(v.looked, lookedAt(dir, info))
}

func lookedAt(dir string, info fs.FileInfo) looked {
	l := looked{Dir: dir, Time: info.ModTime().UnixNano()}
	if stat, is := info.Sys().(*syscall.Stat_t); is {
		l.Inode = stat.Ino
	}
	return l
}

// empty tells whether there is nothing in a directory. What is put there later makes
// it another.
func (v *view) empty(dir string) bool {
	info, err := os.Lstat(dir)
	if err != nil {
		return false
	}
	v.look(dir, info)
	entries, err := os.ReadDir(dir)
	return err == nil && len(entries) == 0
}

// leads tells whether a link leads to something that is seen.
func (v *view) leads(path string) bool {
	target, err := filepath.EvalSymlinks(path)
	if err != nil {
		return false
	}
	if v.seen[target] || v.within[target] {
		return true
	}
	for dir := target; dir != "/"; dir = filepath.Dir(dir) {
		if v.whole[dir] {
			return true
		}
	}
	return !slices.ContainsFunc(software, func(top string) bool { return strings.HasPrefix(target, top+"/") })
}
