// Package report holds what a page about builds says: what is there, where it came from, who
// signed it, how it was built, what it needs, what is known against it, and what has changed
// since the report before. It writes the page as HTML that needs no other file.
//
// It finds nothing itself. A report is a plain struct, and also the JSON that is kept beside the
// page, for the comparison with the next one.
package report

import (
	"maps"
	"slices"
	"strings"
	"time"

	"fernladder/core/store"
	"fernladder/core/timeline"
)

// Format is the version of the JSON.
const Format = 1

// A Report is about the builds of a landing, of a lock file, or of packages and what they need.
type Report struct {
	Format   int           `json:"format"`
	About    string        `json:"about"` // as landing 12
	Root     string        `json:"root"`
	Machine  string        `json:"machine"`
	Made     time.Time     `json:"made"`
	Tool     string        `json:"tool"`
	Packages []Package     `json:"packages"` // lower rungs first, then by name
	Host     []string      `json:"host"`     // what they need of the operating system to run
	Run      *timeline.Run `json:"run,omitempty"`
	Looked   bool          `json:"looked_up"`               // whether databases of advisories are set
	Unlooked string        `json:"lookup_failed,omitempty"` // why nothing could be looked up
	Holes    []Hole        `json:"holes"`
	Unknown  []string      `json:"unknown"` // packages that could not be looked up
	Since    *Changes      `json:"since,omitempty"`
}

// A Package is a build.
type Package struct {
	store.Ref
	Summary  string            `json:"summary,omitempty"`
	Home     string            `json:"home,omitempty"`
	License  string            `json:"license,omitempty"`
	Standing string            `json:"standing"` // asked, needed, beside, used or locked
	Rung     int               `json:"rung"`
	Here     bool              `json:"built"` // its tree is there
	Tree     string            `json:"tree,omitempty"`
	Sources  []Source          `json:"sources"`
	Patches  []string          `json:"patches,omitempty"`
	Recipe   string            `json:"recipe,omitempty"`
	From     string            `json:"from,omitempty"` // the depot, and who signed it there
	Edited   bool              `json:"edited,omitempty"`
	Options  map[string]string `json:"options,omitempty"`
	Chosen   []string          `json:"chosen,omitempty"` // options that differ from the defaults
	Without  []string          `json:"without,omitempty"`
	Needs    []store.Link      `json:"needs"`
	RunsWith []string          `json:"runs_with,omitempty"` // of the operating system
	Method   string            `json:"method,omitempty"`
	Compiler string            `json:"compiler,omitempty"`
	Isolated string            `json:"isolation,omitempty"`
	Remarks  []string          `json:"remarks,omitempty"`
	Tries    []string          `json:"tries,omitempty"`
	Built    time.Time         `json:"began,omitzero"`
	Seconds  float64           `json:"seconds,omitempty"`
	Files    int               `json:"files,omitempty"`
	Size     int64             `json:"size,omitempty"`
	Earlier  []Earlier         `json:"earlier"` // builds of the package, the oldest first
}

// A Source is an archive or a repository that went into a build.
type Source struct {
	URL    string `json:"url"`
	Digest string `json:"digest,omitempty"` // or commit
	Signed string `json:"signed,omitempty"` // who signed it, or ""
}

// Earlier is a build of a package, as the history has it.
type Earlier struct {
	Version string    `json:"version"`
	ID      string    `json:"id"`
	Began   time.Time `json:"began"`
	Seconds float64   `json:"seconds"`
	Size    int64     `json:"size,omitempty"`
	Failed  string    `json:"failed,omitempty"` // the stage
}

// A Hole is a published hole in some of the builds.
type Hole struct {
	ID       string   `json:"id"`
	Severity string   `json:"severity"`
	Summary  string   `json:"summary"`
	Builds   []string `json:"builds"`
	Step     string   `json:"step"` // the smallest that ends it
}

// Changes are what is different from an earlier report.
type Changes struct {
	Made    time.Time `json:"made"` // the earlier report
	Came    []string  `json:"came"`
	Gone    []string  `json:"gone"`
	Changed []Change  `json:"changed"`
	Holes   []string  `json:"new_holes"`
	Ended   []string  `json:"ended_holes"`
}

// A Change is another build of the same package.
type Change struct {
	Name   string `json:"name"`
	Before string `json:"before"`
	Now    string `json:"now"`
	How    string `json:"how"` // version, options, or build
}

// Empty reports whether nothing has changed.
func (c *Changes) Empty() bool {
	return len(c.Came)+len(c.Gone)+len(c.Changed)+len(c.Holes)+len(c.Ended) == 0
}

// Package returns the build of a name and id, or nil.
func (r *Report) Package(ref store.Ref) *Package {
	for i := range r.Packages {
		if r.Packages[i].Ref == ref {
			return &r.Packages[i]
		}
	}
	return nil
}

// Compare compares a report with an earlier one. Packages are matched by name; of several builds
// of a package, by id.
func (r *Report) Compare(earlier *Report) *Changes {
	c := &Changes{Made: earlier.Made, Came: []string{}, Gone: []string{}, Changed: []Change{}, Holes: []string{},
		Ended: []string{}}
	before, now := byName(earlier.Packages), byName(r.Packages)
	for _, name := range slices.Sorted(maps.Keys(union(before, now))) {
		gone, came := without(before[name], now[name]), without(now[name], before[name])
		for len(gone) > 0 && len(came) > 0 {
			c.Changed = append(c.Changed, change(gone[0], came[0]))
			gone, came = gone[1:], came[1:]
		}
		for _, p := range gone {
			c.Gone = append(c.Gone, p.Name+" "+p.Version)
		}
		for _, p := range came {
			c.Came = append(c.Came, p.Name+" "+p.Version)
		}
	}
	ids := func(holes []Hole) (all []string) {
		for _, h := range holes {
			all = append(all, h.ID)
		}
		return all
	}
	for _, id := range ids(r.Holes) {
		if !slices.Contains(ids(earlier.Holes), id) {
			c.Holes = append(c.Holes, id)
		}
	}
	for _, id := range ids(earlier.Holes) {
		if !slices.Contains(ids(r.Holes), id) && r.Looked {
			c.Ended = append(c.Ended, id)
		}
	}
	return c
}

func byName(packages []Package) map[string][]Package {
	all := map[string][]Package{}
	for _, p := range packages {
		all[p.Name] = append(all[p.Name], p)
	}
	return all
}

func union[V any](a, b map[string]V) map[string]bool {
	all := map[string]bool{}
	for name := range a {
		all[name] = true
	}
	for name := range b {
		all[name] = true
	}
	return all
}

// without are the packages whose builds others have not.
func without(packages, others []Package) []Package {
	return slices.DeleteFunc(slices.Clone(packages), func(p Package) bool {
		return slices.ContainsFunc(others, func(o Package) bool { return o.Ref == p.Ref })
	})
}

// change says how a build differs from the one it replaces.
func change(before, now Package) Change {
	c := Change{Name: now.Name, Before: before.Version, Now: now.Version, How: "another version"}
	if before.Version == now.Version {
		c.Before, c.Now = before.ID, now.ID
		c.How = "its recipe, source, compiler or needs changed"
		var differ []string
		for _, name := range slices.Sorted(maps.Keys(union(before.Options, now.Options))) {
			if before.Options[name] != now.Options[name] {
				differ = append(differ, name+"="+now.Options[name])
			}
		}
		if len(differ) > 0 {
			c.How = "options: " + strings.Join(differ, ", ")
		}
	}
	return c
}
