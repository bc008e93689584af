package build

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
)

// Failure is the error when a stage of a build failed.
type Failure struct {
	Package  string
	Version  string
	Stage    string
	What     string   // what went wrong, in words
	Log      string   // the stage's log, "" if it has none
	Lines    []string // of the log, from just before the first error on
	DiskFull bool     // the root's disk has next to nothing left
	Work     string   // the build's directory, kept for a look and for the next run
	KeptOut  []string // what it wanted of the machine and could not have, as far as it said so
}

func (e *Failure) Error() string {
	text := fmt.Sprintf("%s %s failed in stage %s: %s", e.Package, e.Version, e.Stage, e.What)
	for _, line := range e.Lines {
		text += "\n    │ " + line
	}
	for _, wanted := range e.KeptOut {
		text += "\n  The build wanted " + wanted + "."
	}
	if e.Log != "" {
		text += "\n  Whole log: " + e.Log
	}
	if e.Work != "" {
		text += "\n  The build is kept: " + e.Work +
			"\n  When the cause is gone, the same command goes on from this stage; a changed recipe makes a new build."
	}
	return text
}

// errorPattern finds lines in which compilers, linkers, make, cmake, meson and
// configure scripts say that something is wrong.
var errorPattern = regexp.MustCompile(`(?i)(^|[^a-z-])(fatal )?error([: ]|$)|undefined reference|cannot find|not found|No such file|No space left|Permission denied|command not found`)

// harmlessPattern finds lines that only look like it: answers to the questions
// of configure scripts, and file names.
var harmlessPattern = regexp.MustCompile(`(?i)^checking |\.\.\. *no$|^(gcc|cc|g\+\+|c\+\+|clang) .*-c |-Werror|-Wno-error|^-- |0 errors|error\.[cho]\b`)

// ownMark begins the lines of a log that say which command runs where.
const ownMark = "· "

// Errors returns the lines of a log around the first that reports an error, or
// nil when none does.
func Errors(file string) []string {
	const most = 40
	lines := excerpt(file, most)
	for _, line := range lines {
		if errorPattern.MatchString(line) && !harmlessPattern.MatchString(line) {
			return lines
		}
	}
	return nil
}

// excerpt returns up to most lines of a log, around the first that reports an
// error, or else the last ones.
func excerpt(file string, most int) []string {
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	// The end of a log is enough, however much a build prints.
	const tail = 4 << 20
	if info, err := f.Stat(); err == nil && info.Size() > tail {
		f.Seek(-tail, io.SeekEnd)
	}
	const before = 2
	var lines []string
	found := false
	reader := bufio.NewReader(f)
	for {
		line, err := reader.ReadString('\n')
		if text := printable(strings.TrimRight(line, "\r\n")); text != "" && !strings.HasPrefix(text, ownMark) {
			if !found && errorPattern.MatchString(text) && !harmlessPattern.MatchString(text) {
				found = true
				lines = lines[max(0, len(lines)-before):]
			}
			lines = append(lines, text)
			if found && len(lines) >= most {
				return lines
			}
			if !found && len(lines) > most {
				lines = lines[1:]
			}
		}
		if err != nil {
			return lines
		}
	}
}

// printable makes a line of a log safe to show on a terminal.
func printable(line string) string {
	const widest = 240
	line = strings.Map(func(c rune) rune {
		if c == '\t' {
			return ' '
		}
		if c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0 {
			return -1
		}
		return c
	}, strings.ToValidUTF8(line, "?"))
	if len(line) > widest {
		line = strings.ToValidUTF8(line[:widest], "") + "…"
	}
	return line
}
