// Package mend checks a root against its records, and the machine against what installed builds
// use of it.
//
// Look changes nothing. Its findings are values: what is wrong, with what, the consequence, and
// the remedy. Findings that can be repaired without losing anything say so, and Fix repairs
// them, each under the lock it needs, after another check. Builds whose files or whose machine
// have changed are rebuilt by install.Renew, for the caller to call.
package mend

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"

	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/store"
)

// Kind is the kind of a finding.
type Kind string

// The kinds, in the order in which they are reported.
const (
	Moved       Kind = "moved"       // the root is at another path than it was made for
	Receipt     Kind = "receipt"     // a receipt cannot be read
	Half        Kind = "half"        // something that was begun and not finished
	Missing     Kind = "missing"     // a file of a tree
	Changed     Kind = "changed"     // a file of a tree
	Mode        Kind = "mode"        // the permissions of a file of a tree
	Added       Kind = "added"       // a file in a tree that is not part of the build
	Need        Kind = "need"        // a tree that another is linked with or runs with
	Link        Kind = "link"        // of the landing, or of a directory that is linked to it
	State       Kind = "state"       // of the landing
	Config      Kind = "config"      // a configuration file
	Database    Kind = "database"    //
	Permissions Kind = "permissions" // of the root's own
	Library     Kind = "library"     // of the operating system, that is not there
	Symbols     Kind = "symbols"     // a library of the operating system that lacks versions of symbols
	Interpreter Kind = "interpreter" // of the operating system
	Shadow      Kind = "shadow"      // a program of the landing that hides one of the operating system
)

var kinds = []Kind{Moved, Receipt, Half, Database, Permissions, Missing, Changed, Mode, Added, Need, State, Link,
	Config, Library, Symbols, Interpreter, Shadow}

// A Finding is something that is wrong.
type Finding struct {
	Kind    Kind      `json:"kind"`
	Build   store.Ref `json:"build,omitzero"`
	Path    string    `json:"path"`
	What    string    `json:"what"`              // the problem
	Follows string    `json:"follows,omitempty"` // its consequence
	Advice  string    `json:"advice,omitempty"`  // the remedy for a person, if Fix does nothing
	Fixable bool      `json:"fixable"`           // Fix puts it right
	Rebuild bool      `json:"rebuild"`           // building it again does

	Remedies []problem.Remedy `json:"remedies,omitempty"` // operations that would help

	mode fs.FileMode
}

// Same reports whether two findings are about the same thing.
func (f Finding) Same(o Finding) bool {
	return f.Kind == o.Kind && f.Build == o.Build && f.Path == o.Path && f.What == o.What
}

// damages reports whether the finding is a damaged tree.
func (f Finding) damages() bool { return f.Kind == Missing || f.Kind == Changed }

// A Report is the result of a check.
type Report struct {
	Findings []Finding  `json:"findings"`
	Builds   int        `json:"builds"`   // that were checked
	Files    int        `json:"files"`    //
	Bytes    int64      `json:"bytes"`    // that were read of them
	Affected []Affected `json:"affected"` // builds with findings, and builds that need them
}

// Affected is a build that does not work, or may not, with the consequences for others.
type Affected struct {
	Build     store.Ref   `json:"build"`
	OnLanding bool        `json:"on_landing"`
	Rebuild   bool        `json:"rebuild"`
	For       []store.Ref `json:"for"` // builds on the landing that need it
}

// Ask selects what is checked.
type Ask struct {
	Builds  []store.Ref // none: all
	Quick   bool        // sizes and permissions of files, not their contents
	Machine bool        // only the machine
}

// Look checks a whole root, or some of its builds. It fails if the context ends, or if the root
// itself cannot be read.
func Look(ctx context.Context, m *machine.Machine, ask Ask) (*Report, error) {
	r := &Report{Findings: []Finding{}, Affected: []Affected{}}
	trees, err := m.Store.Trees()
	if err != nil {
		return nil, m.Store.Wrap(err)
	}
	refs := make([]store.Ref, 0, len(trees))
	for ref := range trees {
		if len(ask.Builds) == 0 || slices.Contains(ask.Builds, ref) {
			refs = append(refs, ref)
		}
	}
	slices.SortFunc(refs, func(a, b store.Ref) int { return strings.Compare(a.String(), b.String()) })
	receipts := r.receipts(m.Store, refs)
	// The landing is checked at the same time as the trees: both mostly wait for the kernel.
	other := &Report{}
	var current landing.State
	var wait sync.WaitGroup
	wait.Go(func() {
		whole := !ask.Machine && len(ask.Builds) == 0
		if whole {
			other.root(ctx, m)
		}
		current = other.settled(m, whole)
		if len(ask.Builds) == 0 {
			other.shadows(m, current)
		}
	})
	err = r.trees(ctx, m.Store, receipts, trees, newSystem(m.Programs), ask)
	wait.Wait()
	if err != nil {
		return nil, err
	}
	r.Findings = append(r.Findings, other.Findings...)
	slices.SortStableFunc(r.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(slices.Index(kinds, a.Kind), slices.Index(kinds, b.Kind)),
			strings.Compare(a.Build.String(), b.Build.String()), strings.Compare(a.Path, b.Path))
	})
	r.affected(receipts, current)
	return r, nil
}

func (r *Report) add(f Finding) { r.Findings = append(r.Findings, f) }

// receipts reads the receipts of builds. It reports only once that the root was moved.
func (r *Report) receipts(s *store.Store, refs []store.Ref) []*store.Receipt {
	var all []*store.Receipt
	moved := false
	for _, ref := range refs {
		receipt, err := s.Receipt(ref)
		at := new(store.Moved)
		switch {
		case err == nil:
			all = append(all, receipt)
		case errors.Is(err, fs.ErrNotExist): // removed meanwhile
		case errors.As(err, &at):
			if !moved {
				r.add(Finding{Kind: Moved, Path: s.Root, What: "its trees were built to be in " + at.Tree,
					Follows: "Programs look for their libraries and data there, not here.",
					Advice:  "Move the root back, or make its old path a link to it and use that."})
			}
			moved = true
		default:
			r.add(Finding{Kind: Receipt, Build: ref, Path: s.Tree(ref), What: cause(err),
				Follows: "This build is unknown, and nothing can be built with it.", Fixable: true})
		}
	}
	r.Builds = len(all)
	return all
}

// trees checks the files of builds, several at a time: most of the work is reading.
func (r *Report) trees(ctx context.Context, s *store.Store, receipts []*store.Receipt, there map[store.Ref]bool,
	system *system, ask Ask) error {
	var lock sync.Mutex
	var wait sync.WaitGroup
	work := make(chan *store.Receipt)
	for range max(1, runtime.NumCPU()) {
		wait.Go(func() {
			for receipt := range work {
				t := &looking{s: s, receipt: receipt, system: system, quick: ask.Quick, machine: ask.Machine}
				t.look(ctx)
				lock.Lock()
				r.Findings = append(r.Findings, t.found...)
				r.Files, r.Bytes = r.Files+t.files, r.Bytes+t.bytes
				lock.Unlock()
			}
		})
	}
	for _, receipt := range receipts {
		for _, need := range receipt.Needs {
			if need.Role != "tool" && !there[need.Ref] {
				lacks := "It cannot find its programs."
				if need.Role == "library" {
					lacks = "It cannot find its library."
				}
				lock.Lock()
				r.add(Finding{Kind: Need, Build: receipt.Ref, Path: s.Tree(need.Ref),
					What:    fmt.Sprintf("%s %s (%s), which it needs, is missing", need.Name, need.Version, need.ID),
					Follows: lacks, Remedies: []problem.Remedy{problem.Do(problem.InstallPackage, receipt.Name)}})
				lock.Unlock()
			}
		}
		if ctx.Err() != nil {
			break
		}
		work <- receipt
	}
	close(work)
	wait.Wait()
	return ctx.Err()
}

// affected finds the builds that do not work, and the builds on the landing that depend on them.
func (r *Report) affected(receipts []*store.Receipt, current landing.State) {
	rebuild, broken := map[store.Ref]bool{}, map[store.Ref]bool{}
	for _, f := range r.Findings {
		if f.Build.Name == "" || f.Kind == Added || f.Kind == Shadow || f.Kind == Half || f.Kind == Config {
			continue
		}
		broken[f.Build] = true
		rebuild[f.Build] = rebuild[f.Build] || f.Rebuild
	}
	byRef := map[store.Ref]*store.Receipt{}
	for _, x := range receipts {
		byRef[x.Ref] = x
	}
	stands := map[store.Ref][]store.Ref{} // on a broken build: members of the landing
	for _, member := range current.Members {
		seen := map[store.Ref]bool{}
		var visit func(ref store.Ref)
		visit = func(ref store.Ref) {
			if seen[ref] {
				return
			}
			seen[ref] = true
			if broken[ref] && ref != member.Ref {
				stands[ref] = append(stands[ref], member.Ref)
			}
			if x := byRef[ref]; x != nil {
				for _, need := range x.Needs {
					if need.Role != "tool" {
						visit(need.Ref)
					}
				}
			}
		}
		visit(member.Ref)
	}
	for ref := range broken {
		r.Affected = append(r.Affected, Affected{Build: ref, OnLanding: current.Has(ref) != nil, Rebuild: rebuild[ref],
			For: append([]store.Ref{}, stands[ref]...)})
	}
	slices.SortFunc(r.Affected, func(a, b Affected) int { return strings.Compare(a.Build.String(), b.Build.String()) })
}

// ToRebuild are the builds that a rebuild repairs, and those of them with damaged trees.
func (r *Report) ToRebuild() (builds []store.Ref, damaged map[store.Ref]bool) {
	damaged = map[store.Ref]bool{}
	for _, a := range r.Affected {
		if a.Rebuild {
			builds = append(builds, a.Build)
		}
	}
	for _, f := range r.Findings {
		if f.damages() {
			damaged[f.Build] = true
		}
	}
	return builds, damaged
}
