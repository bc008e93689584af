package build

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/problem"
	"fernladder/core/safefs"
)

// A build continues from what an earlier run left. A stamp shows whether that has changed since:
// a digest of the names, sizes and times of all files, taken at the end of a run when none of
// its processes is left.

// EditedPolicy says what happens to a source that was changed by hand.
type EditedPolicy string

// The policies.
const (
	RefuseEdited EditedPolicy = ""      // nothing is built
	KeepEdited   EditedPolicy = "keep"  // it is built, and the tree says so
	FreshSource  EditedPolicy = "fresh" // changes by hand are discarded
)

// Edited is the error for a build whose kept source or build directory has changed since the
// last run.
type Edited struct {
	Package, Version string
	Work             string   // its directory
	Files            []string // some of those that were changed, below the directory
	Half             bool     // its patches are applied half, so nothing can be built from it
}

func (e *Edited) Error() string {
	files := ""
	if len(e.Files) > 0 {
		files = ": " + strings.Join(e.Files, ", ")
	}
	text := fmt.Sprintf("%s %s was changed by hand since its last run%s\n  It was kept in %s", e.Package, e.Version,
		files, e.Work)
	if e.Half {
		text += "\n  Its patches are only partly applied, so it cannot be built."
	}
	return text
}

// stamp is a digest of directories of the box: names, modes, sizes and times; and, because
// anyone who changes a file can set those, its inode and the time of its last status change.
func (a *attempt) stamp(dirs ...string) string {
	h := blake3.New()
	for _, dir := range dirs {
		a.walkBox(dir, func(e safefs.Entry) error {
			fmt.Fprintf(h, "%q %o %d %d %d %d\n", e.Name, e.Mode, e.Size, e.Modified.UnixNano(), e.Inode, e.Changed.UnixNano())
			return nil
		})
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// look takes the stamps of what an earlier run left, before anything else happens to it.
func (a *attempt) look() {
	if a.left == nil {
		a.left = &stamps{a.stamp(a.dirs.built()...), a.stamp(a.dirs.source)}
	}
}

// built are the directories that a person may edit.
func (d workDirs) built() []string {
	if d.build == d.system {
		return []string{d.source}
	}
	return []string{d.source, d.build}
}

// changedSince lists some files that changed after a time.
func (a *attempt) changedSince(since time.Time) []string {
	const enough = 5
	var files []string
	for _, dir := range a.dirs.built() {
		a.walkBox(dir, func(e safefs.Entry) error {
			if len(files) == enough {
				return safefs.Stop
			}
			if e.Mode.IsRegular() && e.Changed.After(since) {
				files = append(files, strings.TrimPrefix(dir, a.dirs.box+"/")+"/"+e.Name)
			}
			return nil
		})
	}
	return files
}

// checkEdited looks for changes by hand in what an earlier run left. A run that was killed left
// no stamp; then only the unpacked source counts, and is unpacked again if it has changed. So is
// a source that is gone, or that a build made unusable.
func (a *attempt) checkEdited() error {
	j := &a.journal
	a.checked = true
	if !j.done(StageUnpack) {
		return nil
	}
	changed := a.left != nil // owners of files
	a.look()
	half := len(a.job.Patches) > 0 && !j.done(StagePatch)
	switch {
	case !a.canEnter(a.dirs.source):
		j.forget(StageUnpack)
	case j.Stamp == "" && j.Pure && j.SourceStamp != "" && j.SourceStamp != a.left.source:
		j.forget(StageUnpack)
	case j.Stamp == "" || j.Stamp == a.left.all:
	case a.job.Edited == KeepEdited && !half:
		j.Edited = true
	case a.job.Edited == FreshSource:
		j.forget(StageUnpack)
	default:
		return &Edited{Package: a.job.Name, Version: a.job.Version, Work: a.dirs.work, Files: a.changedSince(j.Stamped),
			Half: half}
	}
	j.Stamp = ""
	if changed && j.SourceStamp != "" {
		j.SourceStamp = a.stamp(a.dirs.source)
	}
	return nil
}

// leaveStamp records the state that an unsuccessful run leaves.
func (a *attempt) leaveStamp() {
	if a.rebuild || !a.checked || !a.journal.done(StageUnpack) {
		return
	}
	a.journal.Stamp, a.journal.Stamped = a.stamp(a.dirs.built()...), a.m.Now()
	a.save() // if it cannot be, the next run trusts less
}

// ProblemKind is the kind of the error.
func (e *Edited) ProblemKind() problem.Kind { return problem.Build }

// ProblemRemedies are to keep the changes, if possible, or to drop them.
func (e *Edited) ProblemRemedies() []problem.Remedy {
	if e.Half {
		return []problem.Remedy{problem.Do(problem.DropEdits)}
	}
	return []problem.Remedy{problem.Do(problem.KeepEdits), problem.Do(problem.DropEdits)}
}
