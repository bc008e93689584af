package session

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"fernladder/core/build"
	"fernladder/core/compare"
	"fernladder/core/durable"
	"fernladder/core/host"
	"fernladder/core/picture"
	"fernladder/core/problem"
	"fernladder/core/quantity"
	"fernladder/core/report"
	"fernladder/core/store"
	"fernladder/core/timeline"
)

// drawable is the error for a file name whose ending is no format of pictures.
func drawable(file string) error {
	if slices.Contains(picture.Formats, filepath.Ext(file)) {
		return nil
	}
	return problem.New(problem.Usage, file, "%s: the name of a picture ends in %s", file, strings.Join(picture.Formats,
		", "))
}

// write writes a file for a person, replacing an older one.
func write(file string, data []byte) error {
	const readable = 0o644
	err := durable.Stream(file, readable, func(w io.Writer) error { _, err := w.Write(data); return err })
	return unwritable(file, err)
}

// unwritable is the problem of a file or directory that cannot be written where a person wants it.
func unwritable(file string, err error) error {
	var reason syscall.Errno
	if !errors.As(err, &reason) {
		return err
	}
	return problem.New(problem.Usage, file, "%s cannot be written: %v", file, reason)
}

func save(d picture.Drawing, file string) error {
	data, err := d.Encode(filepath.Ext(file))
	if err != nil {
		return err
	}
	return write(file, data)
}

// DrawPlan draws a ladder into a file, whose name ends in one of picture.Formats.
func (s *Session) DrawPlan(ctx context.Context, r *PlanReport, file string) error {
	if err := drawable(file); err != nil {
		return err
	}
	l := picture.Ladder{Title: "The ladder of " + ladderName(r), Slots: r.Ladder.Slots, Takes: r.Totals.Seconds}
	d := picture.Drawing{Caption: "Lower rungs last", Head: []string{"package", "version", "rung", "state", "needs",
		"why"}}
	place := map[[2]string]int{}
	for i, p := range r.Packages {
		place[[2]string{p.Name, p.ID}] = i
	}
	for _, p := range r.Packages {
		n := picture.Node{Name: p.Name, Version: p.Version, Rung: p.Rung, State: p.State, Requested: p.Asked,
			Seconds: p.Estimate,
			Fetch:   p.State == "to_build" && !p.Fetched, Why: strings.Join(p.Why, "; ")}
		for _, need := range p.Needs {
			if to, is := place[[2]string{need.Name, need.ID}]; is {
				n.Needs = append(n.Needs, picture.Need{To: to, Role: string(need.Role)})
			}
		}
		l.Nodes = append(l.Nodes, n)
	}
	s.addHost(ctx, &l, r)
	d.Picture = l.Draw()
	for _, n := range slices.Backward(l.Nodes) {
		var needs []string
		for _, need := range n.Needs {
			needs = append(needs, l.Nodes[need.To].Name+" ("+need.Role+")")
		}
		d.Rows = append(d.Rows, []string{n.Name, n.Version, fmt.Sprint(n.Rung), n.Words(), strings.Join(needs, ", "), n.Why})
	}
	return save(d, file)
}

// ladderName names the requested packages.
func ladderName(r *PlanReport) string {
	var names []string
	for _, p := range r.Packages {
		if p.Asked {
			names = append(names, p.Name)
		}
	}
	const few = 4
	if more := len(names) - few; more > 0 {
		names = append(names[:few], quantity.Count(more, "other"))
	}
	return strings.Join(names, ", ")
}

// addHost adds what builds of a ladder take from the operating system: its copies that stand in
// for recipes, and what the recipes name.
func (s *Session) addHost(ctx context.Context, l *picture.Ladder, r *PlanReport) {
	place := map[string]int{}
	link := func(from int, name, version, state, role string) {
		at, known := place[name]
		if !known {
			at = len(l.Nodes)
			place[name] = at
			l.Nodes = append(l.Nodes, picture.Node{Name: name, Version: version, State: state})
		}
		l.Nodes[from].Needs = append(l.Nodes[from].Needs, picture.Need{To: at, Role: role})
	}
	for i, p := range r.Packages {
		for _, theirs := range p.ByHost {
			name, version, _ := strings.Cut(theirs, " ")
			link(i, name, version, picture.StateHost, "library")
		}
	}
	todo := map[string]int{}
	for i, p := range r.Packages {
		if p.State == "to_build" {
			todo[p.Name] = i
		}
	}
	findings, _ := build.LookAtHost(ctx, s.Machine, r.Ladder.ToBuild(), false)
	for _, f := range findings {
		if f.At == "" && !f.Lacking() {
			continue // every build has a compiler and make
		}
		state, role := picture.StateHost, "library"
		if f.Lacking() {
			state = picture.StateMissing
		}
		if f.Kind == host.Program {
			role = "tool"
		}
		for _, name := range f.By {
			if i, is := todo[name]; is {
				link(i, f.Name, string(f.Kind), state, role)
			}
		}
	}
}

// DrawComparison draws what a comparison of two builds measured.
func (s *Session) DrawComparison(r *compare.Report, sides [2]compare.Side, file string) error {
	if err := drawable(file); err != nil {
		return err
	}
	name := func(x store.Ref) string { return fmt.Sprintf("%s %s (%s)", x.Name, x.Version, x.ID) }
	size := func(n float64) string { return quantity.Bytes(int64(n)) }
	count := func(n float64) string { return fmt.Sprint(int(n)) }
	stages := picture.Group{Title: "Time of stages", Show: quantity.Seconds}
	for _, m := range append(slices.Clone(r.Stages), compare.Measure{Name: "all", A: r.Total.A, B: r.Total.B}) {
		stages.Bars = append(stages.Bars, picture.Bar{Name: m.Name, A: m.A, B: m.B})
	}
	sizes := picture.Group{Title: "Size by kind of file", Show: size}
	a, b := sides[0].ByKind(), sides[1].ByKind()
	for _, kind := range compare.Kinds {
		if a[kind]+b[kind] > 0 {
			sizes.Bars = append(sizes.Bars, picture.Bar{Name: kind, A: float64(a[kind]), B: float64(b[kind])})
		}
	}
	sizes.Bars = append(sizes.Bars, picture.Bar{Name: "the tree", A: r.Size.A, B: r.Size.B})
	files := picture.Group{Title: "Files", Show: count, Bars: []picture.Bar{
		{Name: "only in one", A: float64(len(r.Files.Gone)), B: float64(len(r.Files.Came))},
		{Name: "different", A: float64(len(r.Files.Changed)), B: float64(len(r.Files.Changed))},
		{Name: "the same", A: float64(r.Files.Same), B: float64(r.Files.Same)}}}
	memory := picture.Group{Title: "Memory of the largest process", Show: size}
	if r.Memory.A+r.Memory.B > 0 {
		memory.Bars = []picture.Bar{{Name: "memory", A: r.Memory.A, B: r.Memory.B}}
	}
	bars := picture.Bars{Title: "Two builds of " + r.A.Name, A: name(r.A), B: name(r.B),
		About: fmt.Sprintf("%d files the same, %d different, %d only in A, %d only in B.", r.Files.Same,
			len(r.Files.Changed), len(r.Files.Gone), len(r.Files.Came)),
		Groups: []picture.Group{stages, sizes, files, memory}}
	if r.A.Name != r.B.Name {
		bars.Title = "Builds of " + r.A.Name + " and " + r.B.Name
	}
	d := picture.Drawing{Picture: bars.Draw(), Caption: "What the bars show", Head: []string{"what", "A", "B"}}
	for _, g := range bars.Groups {
		for _, bar := range g.Bars {
			d.Rows = append(d.Rows, []string{g.Title + ": " + bar.Name, g.Show(bar.A), g.Show(bar.B)})
		}
	}
	for _, list := range []struct {
		what  string
		files []compare.FileSize
	}{{"only in A", r.Files.Gone}, {"only in B", r.Files.Came}, {"different", r.Files.Changed}} {
		for _, f := range list.files {
			d.Rows = append(d.Rows, []string{list.what + ": " + f.Path, sizeOrNone(f.A), sizeOrNone(f.B)})
		}
	}
	return save(d, file)
}

func sizeOrNone(n int64) string {
	if n < 0 {
		return ""
	}
	return quantity.Bytes(n)
}

// nameOf is how a person names a run: the moment at which it began.
func nameOf(r *timeline.Run) string { return r.Began.UTC().Format("20060102-150405") }

// A ListedRun is a run of a ladder's builds.
type ListedRun struct {
	Run      string           `json:"run"` // its name
	Seconds  float64          `json:"seconds"`
	Expected float64          `json:"expected,omitempty"`
	Slots    int              `json:"slots"`
	Busy     float64          `json:"processor_seconds"`
	Idle     []timeline.Cause `json:"idle"`
	Builds   map[string]int   `json:"builds"` // by outcome
	Path     []string         `json:"path"`   // the packages that set the length
}

// Timelines lists runs of builds, the newest first. Those of a package, if name is not "".
func (s *Session) Timelines(name string, most int) ([]ListedRun, error) {
	runs, err := s.Store.History().Runs(name, most)
	list := []ListedRun{}
	for _, r := range runs {
		x := ListedRun{Run: nameOf(r), Seconds: r.Seconds, Expected: r.Expected, Slots: r.Slots,
			Busy: r.Busy(),
			Idle: listed(r.Idle()), Builds: map[string]int{}, Path: []string{}}
		for _, b := range r.Builds {
			x.Builds[b.Outcome]++
		}
		for _, step := range r.Path() {
			x.Path = append(x.Path, r.Builds[step.Build].Name)
		}
		list = append(list, x)
	}
	return list, err
}

// ofPackage is " of NAME", or nothing.
func ofPackage(name string) string {
	if name == "" {
		return ""
	}
	return " of " + name
}

// DrawRun draws a run of builds: of a package, if name is not ""; the last one, or the one that
// which names. It returns the run.
func (s *Session) DrawRun(name, which, file string) (*timeline.Run, error) {
	if err := drawable(file); err != nil {
		return nil, err
	}
	const many = 100_000
	most := 1
	if which != "" {
		most = many
	}
	runs, err := s.Store.History().Runs(name, most)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(runs, func(r *timeline.Run) bool { return strings.HasPrefix(nameOf(r), which) })
	switch {
	case len(runs) == 0:
		return nil, problem.New(problem.Usage, name, "no run with builds%s is recorded yet", ofPackage(name))
	case i < 0:
		return nil, problem.New(problem.Usage, which, "no recorded run began at %s", which)
	}
	r := runs[i]
	d := picture.Drawing{Picture: picture.Run(r), Caption: "Builds in the order of the ladder"}
	d.Head, d.Rows = report.RunTable(r)
	return r, save(d, file)
}
