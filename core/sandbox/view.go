package sandbox

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// never are directories that builds never read, whatever is declared: they are for people, and
// differ between machines.
var never = []string{"/usr/share/doc", "/usr/share/man", "/usr/share/info", "/usr/share/lintian", "/usr/share/locale",
	"/usr/games", "/usr/src", "/usr/share/games", "/usr/share/bug",
	"/usr/share/bash-completion", "/usr/share/zsh", "/usr/share/fish", "/usr/share/doc-base", "/usr/share/menu",
	"/usr/share/applications", "/usr/share/icons", "/usr/share/pixmaps"}

// always are directories that programs take for granted. They exist even if everything in them
// is hidden.
var always = []string{"/usr/share/aclocal", "/usr/share/pkgconfig", "/usr/lib/pkgconfig", "/usr/local",
	"/usr/share/misc"}

// made are names of directories in which programs keep what they derive from files beside them,
// and which alone mean nothing.
var made = []string{"__pycache__"}

// A looked is a directory as it was when it was read.
type looked struct {
	Dir   string `json:"dir"`
	Inode uint64 `json:"inode"`
	Time  int64  `json:"time"` // of its last change, nanoseconds
}

// view is the operating system, with its visible parts.
type view struct {
	seen   map[string]bool // paths, without links on the way
	within map[string]bool // directories in which something is seen
	whole  map[string]bool // paths that are seen with all that is in them
	dirs   map[string]string
	hidden []string
	links  []string // of things not known to be seen, to things seen
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

// show makes a path visible, with the directories above it.
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

// walk walks a directory, and notes what is hidden in it.
func (v *view) walk(dir string) {
	info, err := os.Lstat(dir)
	if err != nil || !info.IsDir() || v.whole[dir] {
		return
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return // unreadable files cannot be seen
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

// look notes the state of a directory.
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

// empty reports whether a directory is empty. Anything put into it later changes its state.
func (v *view) empty(dir string) bool {
	info, err := os.Lstat(dir)
	if err != nil {
		return false
	}
	v.look(dir, info)
	entries, err := os.ReadDir(dir)
	return err == nil && len(entries) == 0
}

// leads reports whether a link leads to something visible.
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
