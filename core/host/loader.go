package host

import (
	"bufio"
	"os"
	"path/filepath"
	"strings"
)

// A Loader is the dynamic linker of the operating system: the directories in which it looks for
// libraries without a run path.
type Loader []string

// SystemLibraries reads /etc/ld.so.conf, and adds the default directories.
func SystemLibraries() Loader {
	l := Loader{"/lib", "/usr/lib", "/lib64", "/usr/lib64"}
	l.read("/etc/ld.so.conf", 0)
	for _, triplet := range []string{"/lib/*-linux-gnu*", "/usr/lib/*-linux-gnu*"} {
		dirs, _ := filepath.Glob(triplet)
		l = append(l, dirs...)
	}
	return l
}

func (l *Loader) read(file string, depth int) {
	const deepest = 8
	f, err := os.Open(file)
	if err != nil || depth > deepest {
		return
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		line, _, _ := strings.Cut(lines.Text(), "#")
		words := strings.Fields(line)
		switch {
		case len(words) == 2 && words[0] == "include":
			files, _ := filepath.Glob(words[1])
			for _, file := range files {
				l.read(file, depth+1)
			}
		case len(words) == 1 && filepath.IsAbs(words[0]):
			*l = append(*l, filepath.Clean(words[0]))
		}
	}
}

// Find returns the file of a library in the first of the directories that has it, or "".
func (l Loader) Find(library string) string {
	for _, dir := range l {
		file := filepath.Join(dir, library)
		if _, err := os.Stat(file); err == nil {
			return file
		}
	}
	return ""
}

// Finds reports whether one of the directories has a library.
func (l Loader) Finds(library string) bool { return l.Find(library) != "" }
