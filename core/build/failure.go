package build

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/diagnose"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// Failure is the error when a stage of a build failed.
type Failure struct {
	Package  string
	Version  string
	Stage    string
	What     string          // the error, in words
	Log      string          // the stage's log, "" if it has none
	Lines    []string        // of the log, from just before the first error on
	DiskFull bool            // the root's disk has next to nothing left
	Work     string          // the build's directory, kept for a look and for the next run
	Cause    *diagnose.Cause // the cause found in its log, or nil
	Outside  []string        // files that were placed outside of the tree
	Nothing  bool            // nothing was placed at all
	Built    []string        // what was built and could be placed, if its own way to place it places nothing, or fails
	KeptOut  []string        // what it wanted of the machine and could not have, as far as known
}

func (e *Failure) Error() string { return e.With(nil) }

// ProblemKind is problem.Build, or problem.Root if the disk is full.
func (e *Failure) ProblemKind() problem.Kind {
	if e.DiskFull {
		return problem.Root
	}
	return problem.Build
}

// With is the text of the error with help in the place where a person looks for it: after the
// cause.
func (e *Failure) With(help []string) string {
	text := fmt.Sprintf("%s %s failed in stage %s: %s", e.Package, e.Version, e.Stage, e.What)
	for _, line := range e.Lines {
		text += "\n    │ " + line
	}
	if e.Nothing && len(e.Built) > 0 {
		const few = 8
		text += "\n  Built, but not placed: " + strings.Join(e.Built[:min(few, len(e.Built))], ", ")
		if more := len(e.Built) - few; more > 0 {
			text += fmt.Sprintf(", and %d more", more)
		}
		text += ".\n  A place step in the recipe can copy them below $DESTDIR$FL_PREFIX."
	}
	if e.Cause != nil {
		text += "\n  Cause: " + e.Cause.String()
		if e.Cause.Place != "" {
			text += " (" + e.Cause.Place + ")"
		}
		text += "."
		for _, also := range e.Cause.Also {
			text += "\n  Also: " + also.String() + "."
		}
	}
	for _, line := range help {
		text += "\n  " + line
	}
	for _, wanted := range e.KeptOut {
		text += "\n  The build wanted " + wanted + "."
	}
	if e.Log != "" {
		text += "\n  Whole log: " + e.Log
	}
	if e.Work != "" {
		text += "\n  The build is kept: " + e.Work +
			"\n  Once the cause is fixed, the same command continues from this stage; a changed recipe makes a new build."
	}
	return text
}

// ownMark begins the lines of a log that the program itself writes.
const ownMark = "· "

// say writes a text to a log that is not output of the build; each line is marked.
func say(log io.Writer, format string, args ...any) {
	text := strings.TrimSuffix(fmt.Sprintf(format, args...), "\n")
	fmt.Fprintln(log, ownMark+strings.ReplaceAll(text, "\n", "\n"+ownMark))
}

// Diagnose reads the end of a log and finds the cause of the failure. If the log only refers to
// another one below dir, it reads that one. dir is inside box, and untrusted.
func Diagnose(table *diagnose.Table, file, box, dir string) diagnose.Cause {
	log, err := safefs.Open(file)
	if err != nil {
		return diagnose.Cause{Kind: diagnose.Unknown}
	}
	text, skipped, err := end(log)
	if err != nil {
		return diagnose.Cause{Kind: diagnose.Unknown}
	}
	if before, after, again := cutLast(text, "\n"+ownMark+withOneJob); again {
		skipped += strings.Count(before, "\n") + 1
		text = after
	}
	if strings.Contains(text, ownMark) {
		text = ownLines.ReplaceAllString(text, "")
	}
	c := table.Log(text)
	if c.Line > 0 {
		c.Line += skipped
	}
	if (!c.Known() || c.Kind == diagnose.Said) && c.See != "" {
		other := c.See
		if !filepath.IsAbs(other) {
			other = filepath.Join(dir, other)
		}
		if more, ok := pointedTo(box, dir, filepath.Clean(other)); ok {
			if found := table.Elsewhere(other, more); found.Known() && found.Kind != diagnose.Said {
				c = found
				c.See, c.In = other, other
			}
		}
	}
	return printableCause(c.Guess(text))
}

// cutLast is strings.Cut around the last occurrence.
func cutLast(text, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(text, sep); i >= 0 {
		return text[:i], text[i+len(sep):], true
	}
	return text, "", false
}

// DiagnoseText finds the cause of a failure in the output of a build.
func DiagnoseText(table *diagnose.Table, text string) diagnose.Cause {
	return printableCause(table.Log(text).Guess(text))
}

// DiagnoseBuild diagnoses a log of a build that has failed.
func DiagnoseBuild(table *diagnose.Table, s *store.Store, r store.Ref, log string) diagnose.Cause {
	box := boxOf(s.Work(r))
	return Diagnose(table, log, box, filepath.Join(box, "build"))
}

// pointedTo reads the end of a log that a build left below dir.
func pointedTo(box, dir, other string) (string, bool) {
	name, below := strings.CutPrefix(other, box+"/")
	if !below || !strings.HasPrefix(other, dir+"/") {
		return "", false
	}
	d, err := safefs.OpenDir(box)
	if err != nil {
		return "", false
	}
	defer d.Close()
	f, err := d.Open(name)
	if err != nil {
		return "", false
	}
	text, _, err := end(f)
	return text, err == nil
}

// printableCause makes the lines of a cause safe to show on a terminal.
func printableCause(c diagnose.Cause) diagnose.Cause {
	c.Lines = shown(c.Lines)
	return c
}

// ownLines are the lines of a log that the program itself has written.
var ownLines = pattern.New("(?m)^" + ownMark + ".*$")

// end returns the end of a log of any size, and the number of lines before it, and closes the
// file. In an endless file, lines are not counted.
func end(f *os.File) (text string, skipped int, err error) {
	defer f.Close()
	const enough, counted = 8 << 20, 4 << 30
	info, err := f.Stat()
	if err != nil {
		return "", 0, err
	}
	if info.Size() > counted {
		if _, err := f.Seek(info.Size()-enough, io.SeekStart); err != nil {
			return "", 0, err
		}
		data, err := io.ReadAll(io.LimitReader(f, enough))
		return string(data), 0, err
	}
	before := bufio.NewReader(io.LimitReader(f, max(0, info.Size()-enough)))
	for {
		_, err := before.ReadSlice('\n')
		if err == io.EOF {
			break
		}
		if err == nil {
			skipped++
		}
	}
	data, err := io.ReadAll(io.LimitReader(f, enough))
	return string(data), skipped, err
}

func shown(lines []string) []string {
	var safe []string
	for _, line := range lines {
		if text := printable(line); text != "" {
			safe = append(safe, text)
		}
	}
	return safe
}

// Printed makes a line of foreign output safe to show on a terminal.
func Printed(line string) string { return printable(line) }

// SourceOf is the source in a build's work directory. It is untrusted.
func SourceOf(work string) string { return filepath.Join(boxOf(work), "source") }

// PlacedPrograms lists the programs that a failed build placed.
func PlacedPrograms(work string) (names []string) {
	placed, err := safefs.OpenDir(filepath.Join(work, "placed"))
	if err != nil {
		return nil
	}
	defer placed.Close()
	for _, name := range []string{"bin", "sbin"} {
		dir, err := placed.Sub(name)
		if err != nil {
			continue
		}
		dir.Walk(true, func(e safefs.Entry) error {
			if e.Mode.IsDir() {
				return safefs.Skip
			}
			names = append(names, printable(e.Name))
			return nil
		})
		dir.Close()
	}
	return names
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
