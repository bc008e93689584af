package session

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"time"

	"fernladder/core/build"
	"fernladder/core/clean"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/mend"
	"fernladder/core/problem"
	"fernladder/core/store"
)

// A CleanRequest says what may be deleted. The zero value: what failed and interrupted builds
// left.
type CleanRequest struct {
	Names                           []string // only of these; none: of all
	Trees, Archives, Landings, Logs bool
	Older                           time.Duration
	Larger                          int64
	Keep                            []string // lock files; their needs stay

	// Confirm is asked before anything is deleted; nil: nothing is deleted.
	Confirm func(*CleanReport) bool
}

// CleanReport is what can be deleted, or was.
type CleanReport struct {
	Works    []build.Work   `json:"work"`
	Trees    []store.Ref    `json:"trees"`
	Landings []int          `json:"landings"`
	Logs     []store.Ref    `json:"logs"`
	Archives int64          `json:"bytes_of_archives"`
	Bytes    int64          `json:"bytes"`
	Deleted  bool           `json:"deleted"`
	Stayed   []clean.Stayed `json:"stayed"`

	Found clean.Candidates `json:"-"`
	Gone  clean.Deleted    `json:"-"`
}

// Clean finds what can be deleted, and deletes it when Confirm agrees. What comes into use in
// the meantime stays.
func (s *Session) Clean(ctx context.Context, r CleanRequest) (*CleanReport, error) {
	what, err := s.cleaning(r)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(s.Store.Root); err == nil && r.Confirm != nil {
		if err := s.Store.Prepare(); err != nil {
			return nil, err
		}
		if err := clean.Sweep(ctx, s.Machine); err != nil {
			return nil, err
		}
	}
	found, err := clean.Find(s.Machine, what)
	if err != nil {
		return nil, err
	}
	report := &CleanReport{Works: listed(found.Works), Trees: []store.Ref{}, Landings: []int{}, Logs: []store.Ref{},
		Archives: found.ArchiveBytes(), Bytes: found.Bytes(), Stayed: []clean.Stayed{}, Found: found}
	for _, x := range found.Landings {
		report.Landings = append(report.Landings, x.Number)
	}
	for _, l := range found.Logs {
		report.Logs = append(report.Logs, l.Ref)
	}
	for _, t := range found.Trees {
		report.Trees = append(report.Trees, t.Ref)
	}
	if found.Empty() || r.Confirm == nil || !r.Confirm(report) {
		return report, nil
	}
	report.Gone, err = clean.Delete(ctx, s.Machine, found)
	report.Stayed = listed(report.Gone.Stayed)
	if err == nil {
		report.Deleted, report.Bytes = true, report.Gone.Bytes
	}
	return report, err
}

func (s *Session) cleaning(r CleanRequest) (what clean.What, err error) {
	if len(r.Names) > 0 && r.Landings {
		return what, problem.New(problem.Usage, "",
			"landings do not belong to one package, so none can be named with them")
	}
	what = clean.What{Trees: r.Trees, Archives: r.Archives, Landings: r.Landings, Logs: r.Logs, Older: r.Older,
		Larger: r.Larger}
	for _, file := range r.Keep {
		path, err := filepath.Abs(file)
		if err != nil {
			return what, err
		}
		locked, err := lock.Read(path, file)
		if err != nil {
			return what, err
		}
		if !locked.There {
			return what, problem.New(problem.Usage, file, "%s: there is no such lock file", file)
		}
		what.Locks = append(what.Locks, locked)
	}
	what.Names, err = landing.ParseNames(r.Names)
	return what, err
}

// A MendRequest says what to check and what to repair. The zero value checks everything and
// changes nothing.
type MendRequest struct {
	Names   []string
	Quick   bool // compare sizes and permissions, not contents
	Machine bool // check only what builds use of the operating system
	Fix     bool // repair what can be repaired without loss
	Rebuild bool // rebuild damaged builds, and builds that no longer fit the machine

	// Found is called with what was found before anything is repaired; nil: it is not.
	Found func(*mend.Report)
}

// MendReport is what was found and repaired.
type MendReport struct {
	*mend.Report
	Fixed   []mend.Fixed      `json:"fixed"`
	Renewed []install.Renewed `json:"rebuilt"`
	Failed  []string          `json:"failed"`
}

// Mend checks the root against its receipts, and the machine against what builds use. Its
// error, of the kind problem.Root or problem.Host, counts what is left to repair.
func (s *Session) Mend(ctx context.Context, r MendRequest) (*MendReport, error) {
	ask := mend.Ask{Quick: r.Quick, Machine: r.Machine}
	names, err := landing.ParseNames(r.Names)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		all, err := name.All(s.Store)
		if err != nil {
			return nil, err
		}
		for _, r := range all {
			ask.Builds = append(ask.Builds, r.Ref)
		}
	}
	found, err := mend.Look(ctx, s.Machine, ask)
	if err != nil {
		return nil, err
	}
	report := &MendReport{Report: found, Fixed: []mend.Fixed{}, Renewed: []install.Renewed{}, Failed: []string{}}
	if r.Found != nil {
		r.Found(found)
	}
	if r.Fix {
		if report.Fixed, err = mend.Fix(ctx, s.Machine, found); err != nil {
			return report, err
		}
	}
	builds, damaged := found.ToRebuild()
	if r.Rebuild && len(builds) > 0 {
		if report.Renewed, err = install.Renew(ctx, s.Machine, install.NeedsFirst(s.Store, builds), damaged); err != nil {
			return report, err
		}
		for _, x := range report.Renewed {
			if x.Err != nil {
				report.Failed = append(report.Failed, x.Build.Name+" "+x.Build.Version+": "+x.Err.Error())
			}
		}
	}
	return report, report.left()
}

// left is the problem of findings that were not repaired. Added files and shadowed programs
// are told, but do not count.
func (r *MendReport) left() error {
	left, root := 0, false
	for _, f := range r.Findings {
		fixed := slices.ContainsFunc(r.Fixed, func(x mend.Fixed) bool { return x.Finding.Same(f) && x.Done != "" })
		rebuilt := f.Rebuild && slices.ContainsFunc(r.Renewed, func(x install.Renewed) bool {
			return x.Build == f.Build && x.Err == nil
		})
		if fixed || rebuilt || f.Kind == mend.Added || f.Kind == mend.Shadow {
			continue
		}
		left++
		root = root || f.Kind != mend.Library && f.Kind != mend.Symbols && f.Kind != mend.Interpreter
	}
	switch {
	case left == 0:
		return nil
	case root:
		return problem.New(problem.Root, "", "the root has %d unrepaired findings", left).Coded(problem.Verdict)
	}
	return problem.New(problem.Host, "", "the machine lacks %d things that builds use", left).Coded(problem.Verdict)
}
