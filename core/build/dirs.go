package build

import (
	"path/filepath"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

// workDirs are the directories of a build. The program's own are directly in the work directory,
// which no build sees. The box and the stand-in for the tree belong to the build, and are
// untrusted.
type workDirs struct {
	work   string
	room   string // an empty directory to put a sealed room together on
	given  string // the build's inputs
	tries  string
	placed string // the contents of the tree: files that the program has made itself

	box                                     string
	source, build, stage, home, tmp, supply string // in the box
	traces                                  string // in the box
	prefix                                  string // stands in for the tree in a sealed room
	// The needs combined into one directory, if they are for one; the program's own.
	seen string

	system string // the directory of the build system: the source, or a directory in it
}

// dirsOf are the directories of a job. A rebuild for comparison has its own.
func dirsOf(s *store.Store, job *Job, rebuild bool) workDirs {
	if rebuild {
		return dirsIn(s.WorkAgain(job.Ref), job)
	}
	return dirsIn(s.Work(job.Ref), job)
}

// dirsIn are the directories of a job in a work directory.
func dirsIn(work string, job *Job) workDirs {
	box := boxOf(work)
	d := workDirs{
		work: work, room: filepath.Join(work, "room"), given: filepath.Join(work, "given"),
		tries:  filepath.Join(work, "tries"),
		placed: filepath.Join(work, "placed"), prefix: filepath.Join(work, "prefix"),
		seen: filepath.Join(work, "seen"), box: box,
		source: filepath.Join(box, "source"), build: filepath.Join(box, "build"), stage: filepath.Join(box, "stage"),
		home: filepath.Join(box, "home"), tmp: filepath.Join(box, "tmp"), supply: filepath.Join(box, "supply"),
		traces: filepath.Join(box, "traces"),
	}
	b := job.Recipe.Build
	d.system = filepath.Join(d.source, b.Dir)
	if b.InTree || b.Method == recipe.Make || b.Method == recipe.Script {
		d.build = d.system
	}
	return d
}

// below is the path of a file of the box, relative to it.
func (d workDirs) below(path string) string { return strings.TrimPrefix(path, d.box+"/") }

func boxOf(work string) string { return filepath.Join(work, "box") }
