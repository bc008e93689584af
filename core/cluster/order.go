package cluster

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"fernladder/core/build"
	"fernladder/core/event"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/schedule"
	"fernladder/core/store"
)

// An order is a message to a node: to make the same plan, and to build a part of it.
type order struct {
	Ask    plan.Ask              `json:"ask"`
	Builds []store.Ref           `json:"builds"`
	Needs  []store.Ref           `json:"needs"` // that other jobs build, and that have to be there
	Seen   map[string]build.Seen `json:"seen"`  // for each build, by id: what it sees where it was planned
}

// Unlike is the error for a node that differs from the machine that made the plan.
type Unlike struct {
	Node    string             `json:"node"`
	Build   store.Ref          `json:"build"`
	Differs []build.Difference `json:"differs"`
}

func (e *Unlike) Error() string {
	const few = 5
	is := func(v string) string { return cmp.Or(v, "missing") }
	var lines []string
	for i, d := range e.Differs {
		if i == few {
			lines = append(lines, fmt.Sprintf("and %d more", len(e.Differs)-few))
			break
		}
		lines = append(lines, fmt.Sprintf("%s: %s there, %s here", d.What, is(d.Here), is(d.There)))
	}
	return fmt.Sprintf("the node %s differs from this machine, where %s %s was planned:\n    %s", e.Node, e.Build.Name,
		e.Build.Version, strings.Join(lines, "\n    "))
}

// patience is how long an existing file may stay invisible on a shared file system, which may
// have cached a minute ago that there is none.
const patience = 75 * time.Second

// Execute does what the order in a file says, on a node, and records the outcome in the file
// beside it. Its error is that of a build, or of the node.
func Execute(ctx context.Context, m *machine.Machine, file string) error {
	if err := await(ctx, func() bool { return safefs.Exists(file) }, filepath.Dir(file)); err != nil {
		return err
	}
	data, err := safefs.ReadFile(file, largestFile)
	if err != nil {
		return err
	}
	var o order
	if err := json.Unmarshal(data, &o); err != nil {
		return err
	}
	out, err := os.OpenFile(strings.TrimSuffix(file, orderSuffix)+toldSuffix, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return m.Store.Wrap(err)
	}
	defer out.Close()
	t := &teller{file: out}
	shown := m.Events
	here, err := m.With(func(c *machine.Config) {
		c.Events = event.Func(func(e event.Event) {
			t.Event(e)
			shown.Event(e)
		})
	})
	if err != nil {
		return err
	}
	if err := t.tell(line{Begun: nodeName()}); err != nil {
		return m.Store.Wrap(err)
	}
	err = o.execute(ctx, here, t)
	if ctx.Err() != nil {
		return ctx.Err() // nothing became of it: it can be run again
	}
	var unlike *Unlike
	if errors.As(err, &unlike) {
		return errors.Join(err, t.tell(line{Unlike: unlike}))
	}
	return errors.Join(err, t.tell(line{Over: true}))
}

// execute builds, and records the outcome of each build.
func (o order) execute(ctx context.Context, m *machine.Machine, t *teller) error {
	jobs, b, err := o.jobs(ctx, m)
	if errors.As(err, new(*Unlike)) || ctx.Err() != nil {
		return err
	}
	if err != nil {
		for _, ref := range o.Builds {
			became := &outcome{Build: ref}
			became.failed(m.Store.Wrap(err))
			t.tell(line{Became: became})
		}
		return err
	}
	records := map[store.Ref]*store.Record{}
	results := b.Run(ctx, jobs, nil, func(r store.Record) { records[r.Ref] = &r })
	if ctx.Err() != nil {
		return ctx.Err()
	}
	for _, r := range results {
		became := &outcome{Build: r.Job.Ref, Built: r.Outcome == schedule.Succeeded, Record: records[r.Job.Ref]}
		switch {
		case r.Outcome == schedule.Skipped:
			continue // the watcher finds that, too
		case r.Err != nil:
			became.failed(r.Err)
		}
		if became.Record == nil && became.Built {
			if receipt, err := m.Store.Receipt(r.Job.Ref); err == nil {
				record := store.RecordOf(receipt)
				became.Record = &record
			}
		}
		err = errors.Join(err, r.Err, t.tell(line{Became: became}))
	}
	return err
}

// jobs are those of the order, as planned on this node. It compares the node's properties first:
// differences would make other builds.
func (o order) jobs(ctx context.Context, m *machine.Machine) ([]*build.Job, *build.Builder, error) {
	for _, need := range o.Needs {
		if err := mustSee(ctx, m.Store, need); err != nil {
			return nil, nil, err
		}
	}
	p, err := plan.For(ctx, m, o.Ask)
	if err != nil {
		return nil, nil, err
	}
	b, err := build.NewBuilder(ctx, m)
	if err != nil {
		return nil, nil, err
	}
	var jobs []*build.Job
	for _, ref := range o.Builds {
		var found *build.Job
		for _, j := range p.Jobs {
			if j.Name == ref.Name && j.Version == ref.Version && (found == nil || j.ID == ref.ID) {
				found = j
			}
		}
		if found == nil {
			return nil, nil, problem.New(problem.Other, ref.Name, "%s %s is not on the ladder as this node plans it", ref.Name,
				ref.Version)
		}
		seen, err := b.Seen(ctx, found)
		if err != nil {
			return nil, nil, err
		}
		if differs := seen.Differs(o.Seen[ref.ID]); len(differs) > 0 {
			return nil, nil, &Unlike{nodeName(), ref, differs}
		}
		if found.ID != ref.ID {
			return nil, nil, problem.New(problem.Other, ref.Name,
				"%s %s would be build %s on this node, and is wanted as %s: recipes or settings have changed since", ref.Name,
				ref.Version, found.ID, ref.ID).
				Instead(ref.ID, found.ID)
		}
		jobs = append(jobs, found)
	}
	return jobs, b, nil
}

// visible reports whether a tree is visible now.
func visible(s *store.Store, r store.Ref) bool {
	refresh(s.TreesDir(), filepath.Dir(s.Tree(r)))
	return s.Installed(r)
}

// mustSee waits until a tree is visible.
func mustSee(ctx context.Context, s *store.Store, r store.Ref) error {
	err := await(ctx, func() bool { return visible(s, r) })
	if errors.Is(err, errUnseen) {
		return late(r)
	}
	return err
}

var errUnseen = errors.New("it cannot be seen on this machine: does it share the root?")

// refresh makes a network file system forget which files do not exist: it asks again when a
// directory is opened (close-to-open consistency). Other file systems may take longer.
func refresh(dirs ...string) {
	for _, dir := range dirs {
		if f, err := os.Open(dir); err == nil {
			f.Close()
		}
	}
}

// await waits until something is visible that another machine has written into directories.
func await(ctx context.Context, is func() bool, dirs ...string) error {
	const often = 200 * time.Millisecond
	for waited := time.Duration(0); ; waited += often {
		refresh(dirs...)
		if is() {
			return nil
		}
		if waited >= patience {
			return errUnseen
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(often):
		}
	}
}

// late is the problem of a tree that should exist and does not become visible.
func late(r store.Ref) error {
	return problem.New(problem.Root, r.Name,
		"%s %s was reported as built, but its tree cannot be seen on this machine: does it share the root?",
		r.Name, r.Version)
}

// ProblemKind is the kind of the error.
func (e *Unlike) ProblemKind() problem.Kind { return problem.Host }
