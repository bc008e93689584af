// Package traces finds out what a build used of the operating system without declaring it,
// so that its recipe can declare it before the build fails on the next machine, and which
// features its source reported as on and off.
//
// It reads the traces that a build leaves anyway: what compilers and pkg-config write down
// and what configure scripts found, or the full record of a watched build. It leaves out
// what comes with the declarations, with the compilers, or with every system.
package traces

import (
	"bufio"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
)

// How says how it is known that a file was used.
type How string

// The ways.
const (
	Included How = "included" // by a compiler
	Asked    How = "asked"    // of pkg-config, which has it
	Linked   How = "linked"   // by a placed file
	Ran      How = "ran"
	Opened   How = "opened" // to read, in a build that was watched
)

// Files are the files of the operating system that a build has used.
type Files map[string]How

// add adds a file, if it is one and is not known yet.
func (f Files) add(path string, how How) {
	path = filepath.Clean(path)
	if !system(path) || f[path] != "" && f[path] != Opened {
		return
	}
	if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
		f[path] = how
	}
}

// system reports whether a path is in one of the directories for files of operating systems and
// their administrators.
func system(path string) bool {
	for _, dir := range []string{"/usr/", "/lib", "/bin/", "/sbin/", "/opt/"} {
		if strings.HasPrefix(path, dir) {
			return true
		}
	}
	return false
}

// largestTrace limits what is read of one trace of a build, and mostTraces how many are read.
const (
	largestTrace = 64 << 20
	mostTraces   = 200_000
)

// Headers records the headers that compilers have included, from the files that they write for
// make (POSIX make rules) below a directory, as automake, CMake and many makefiles request, and
// from other such files. Names are below the box, which belongs to the build; missing files, and
// what is no file, are skipped.
func (f Files) Headers(box *safefs.Dir, dir string, others ...string) error {
	seen := map[string]bool{}
	take := func(file *os.File) error {
		defer file.Close()
		lines := bufio.NewScanner(io.LimitReader(file, largestTrace))
		lines.Buffer(make([]byte, 1<<16), 1<<20)
		lines.Split(bufio.ScanWords)
		for lines.Scan() {
			word := lines.Bytes()
			if len(word) > 1 && word[0] == '/' && !seen[string(word)] && word[len(word)-1] != ':' {
				seen[string(word)] = true
				f.add(string(word), Included)
			}
		}
		return nil // a word that is too long is no path
	}
	for _, name := range others {
		if file, err := box.Open(name); err == nil {
			take(file)
		}
	}
	d, err := box.Sub(dir)
	if err != nil {
		return nil
	}
	defer d.Close()
	number := 0
	return d.Walk(true, func(e safefs.Entry) error {
		if !e.Mode.IsRegular() || !slices.Contains([]string{".d", ".Po", ".Plo", ".Tpo"}, filepath.Ext(e.Name)) {
			return nil
		}
		if number++; number > mostTraces {
			return safefs.Stop
		}
		file, err := e.Open()
		if err != nil {
			return nil
		}
		return take(file)
	})
}

// Listed records the headers in the output of ninja's tool deps, which lists them below the
// outputs.
func (f Files) Listed(text string) {
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "    /") {
			f.add(strings.TrimSpace(line), Included)
		}
	}
}

// found matches a line of pkg-config's log (PKG_CONFIG_LOG): a module, the wanted version, and
// the existing version.
var found = pattern.New(`^(\S+) .*\[\S+\]$`)

// Modules records the modules that pkg-config was asked for and has, from its log. dirs are
// where it looks for those of the operating system.
func (f Files) Modules(box *safefs.Dir, log string, dirs []string) {
	text, err := box.ReadFile(log, largestTrace)
	if err != nil {
		return // it was not asked for
	}
	for line := range strings.Lines(string(text)) {
		match := found.FindStringSubmatch(strings.TrimSpace(line))
		if match == nil {
			continue
		}
		for _, dir := range dirs {
			path := filepath.Join(dir, match[1]+".pc")
			if _, err := os.Stat(path); err == nil {
				f.add(path, Asked)
				break
			}
		}
	}
}

// Libraries records the shared libraries that placed files need at run time, by the names for
// linkers, if those exist.
func (f Files) Libraries(names []string, loader host.Loader) {
	for _, name := range names {
		for _, dir := range loader {
			path := filepath.Join(dir, name)
			if _, err := os.Stat(path); err != nil {
				continue
			}
			stem, _, _ := strings.Cut(path, ".so")
			if _, err := os.Stat(stem + ".so"); err == nil {
				path = stem + ".so"
			}
			f.add(path, Linked)
			break
		}
	}
}

// configured matches programs that configure scripts, CMake and Meson report as found, with
// absolute paths.
var configured = pattern.New(`(?m)^(?:ac_cv_(?:path|prog)_\w+=|\w+:FILEPATH=` +
	`|Program .* found: YES .*\()'?(/(?:usr/)?(?:local/)?s?bin/[\w.+-]+)`)

// Programs records programs that were found by the configure step, if the logs of stages show
// that they were run: as the first word of a command.
func (f Files) Programs(box *safefs.Dir, notes, logs []string) error {
	candidates := map[string]string{}
	for _, file := range notes {
		text, err := box.ReadFile(file, largestTrace)
		if err != nil {
			continue // not every build has it
		}
		for _, match := range configured.FindAllStringSubmatch(string(text), -1) {
			candidates[filepath.Base(match[1])] = match[1]
		}
	}
	if len(candidates) == 0 {
		return nil
	}
	for _, log := range logs {
		file, err := safefs.Open(log)
		if os.IsNotExist(err) {
			continue
		}
		if err != nil {
			return err
		}
		lines := bufio.NewScanner(file)
		lines.Buffer(make([]byte, 1<<16), 16<<20)
		for lines.Scan() {
			for _, command := range commands.Split(lines.Text(), -1) {
				word, _, _ := strings.Cut(strings.TrimLeft(command, " \t@"), " ")
				if path := candidates[filepath.Base(word)]; path != "" && (word == path || word == filepath.Base(path)) {
					f.add(path, Ran)
				}
			}
		}
		file.Close()
	}
	return nil
}

// commands separates the commands of a line of a shell.
var commands = pattern.New(`&&|\|\||[;|(]`)

// Record records everything that a watched build has read and run.
func (f Files) Record(file string) error {
	text, err := safefs.ReadFile(file, sandbox.LargestRecord)
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		what, path, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		switch what {
		case sandbox.Ran:
			f.add(path, Ran)
		case sandbox.Read:
			f.add(path, Opened)
		}
	}
	return nil
}
