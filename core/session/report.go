package session

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/landing"
	"fernladder/core/problem"
	"fernladder/core/report"
	"fernladder/core/safefs"
	"fernladder/core/sbom"
	"fernladder/core/store"
	"fernladder/core/traces"
)

// A ReportRequest says what a report is about: packages, a lock file or, by default, the landing;
// and the directory it is written to.
type ReportRequest struct {
	Names []string
	Lock  string
	To    string
}

// The files of a report in its directory.
const (
	reportPage = "index.html"
	reportData = "report.json"
)

// Report writes a page about builds into a directory, and its data beside it. The data of an
// earlier report there, about the same, say what has changed since.
func (s *Session) Report(ctx context.Context, r ReportRequest) (*report.Report, error) {
	if r.To == "" {
		return nil, problem.New(problem.Usage, "to", "the directory that the report is to be written to is missing")
	}
	if r.Lock != "" && len(r.Names) > 0 {
		return nil, problem.New(problem.Usage, r.Lock, "a report is about packages or about a lock file, not both")
	}
	earlier, err := earlierReport(r.To)
	if err != nil {
		return nil, err
	}
	x := &report.Report{Format: report.Format, Root: s.Store.Root, Tool: strings.ReplaceAll(s.Agent, "/", " "),
		Made:    s.Now().UTC(),
		Machine: machineName(s), Packages: []report.Package{}, Host: []string{}, Holes: []report.Hole{}, Unknown: []string{}}
	current, err := landing.Current(s.Store)
	if err != nil {
		return nil, err
	}
	parts, err := s.reported(r, current, x)
	if err != nil {
		return nil, err
	}
	if err := s.describe(x, parts, current, r.Lock != ""); err != nil {
		return nil, err
	}
	if err := s.holesOf(ctx, r, x); ctx.Err() != nil {
		return nil, err
	} else if err != nil { // the rest is true without it
		x.Unlooked = err.Error()
	}
	if earlier != nil && sameSubject(earlier.About, x.About) {
		x.Since = x.Compare(earlier)
	}
	data, err := json.MarshalIndent(x, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(r.To, 0o755); err != nil {
		return nil, unwritable(r.To, err)
	}
	// The data come first: by them, a page that a killed program has not written yet is known as a report.
	if err := write(filepath.Join(r.To, reportData), append(data, '\n')); err != nil {
		return nil, err
	}
	return x, write(filepath.Join(r.To, reportPage), x.HTML())
}

// earlierReport is the report in a directory, or nil. A page there that is no report is not
// replaced.
func earlierReport(dir string) (*report.Report, error) {
	const largest = 256 << 20
	file := filepath.Join(dir, reportData)
	data, err := safefs.ReadFile(file, largest)
	if errors.Is(err, fs.ErrNotExist) {
		if page := filepath.Join(dir, reportPage); safefs.Exists(page) {
			return nil, problem.New(problem.Usage, page, "%s is not a report; choose another directory", page)
		}
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	r := &report.Report{}
	if err := json.Unmarshal(data, r); err != nil || r.Format != report.Format {
		return nil, problem.New(problem.Usage, file, "%s is not a report that this program can compare with; "+
			"move it away, or choose another directory", file)
	}
	return r, nil
}

// sameSubject reports whether two reports are about the same, but for the number of the landing.
func sameSubject(a, b string) bool {
	landing := func(text string) string {
		if strings.HasPrefix(text, "landing ") {
			return "landing"
		}
		return text
	}
	return landing(a) == landing(b)
}

func machineName(s *Session) string {
	name, err := os.Hostname()
	if err != nil {
		name = "this machine"
	}
	return strings.TrimSpace(name + ", " + s.System.Release + " " + s.System.Arch)
}

// reported are the builds that a report is about, and says what it is about.
func (s *Session) reported(r ReportRequest, current landing.State, x *report.Report) ([]*sbom.Part, error) {
	var roots []*store.Receipt
	switch {
	case r.Lock != "":
		x.About = "lock file " + filepath.Base(r.Lock)
		return s.lockedParts(r.Lock)
	case len(r.Names) > 0:
		x.About = strings.Join(r.Names, ", ")
		for _, name := range r.Names {
			receipt, err := s.Find(name)
			if err != nil {
				return nil, err
			}
			roots = append(roots, receipt)
		}
	default:
		x.About = fmt.Sprintf("landing %d", current.Number)
		for _, m := range current.Members {
			receipt, err := s.Store.Receipt(m.Ref)
			if err != nil {
				return nil, s.Store.Wrap(err)
			}
			roots = append(roots, receipt)
		}
	}
	return sbom.Gather(s.Store, roots)
}

// describe adds the builds to a report, with their earlier builds and the last run of one of them.
func (s *Session) describe(x *report.Report, parts []*sbom.Part, current landing.State, locked bool) error {
	const most = 100
	names := map[string]bool{}
	for _, p := range parts {
		names[p.Name] = true
	}
	earlier, err := s.Store.History().Of(names, most)
	if err != nil {
		return err
	}
	rungs := rungsOf(parts)
	for _, p := range parts {
		standing := current.How(p.Ref)
		switch {
		case locked:
			standing = "locked"
		case standing == "no" || standing == "":
			standing = "used"
		}
		described := describedPackage(p.Receipt, standing, rungs[p.Ref])
		for _, r := range earlier[p.Name] {
			described.Earlier = append(described.Earlier, report.Earlier{Version: r.Version, ID: r.ID, Began: r.Began.UTC(),
				Seconds: r.Seconds, Size: r.Size, Failed: r.Failed})
		}
		x.Packages = append(x.Packages, described)
		for _, h := range described.RunsWith {
			if !slices.Contains(x.Host, h) {
				x.Host = append(x.Host, h)
			}
		}
	}
	slices.Sort(x.Host)
	slices.SortStableFunc(x.Packages, func(a, b report.Package) int {
		if a.Rung != b.Rung {
			return a.Rung - b.Rung
		}
		return strings.Compare(a.Name, b.Name)
	})
	const recent = 50
	runs, err := s.Store.History().Runs("", recent)
	for _, r := range runs {
		for _, b := range r.Builds {
			if x.Run == nil && x.Package(store.Ref{Name: b.Name, Version: b.Version, ID: b.ID}) != nil {
				x.Run = r
			}
		}
	}
	return err
}

// rungsOf are the rungs of builds: above those of all their needs.
func rungsOf(parts []*sbom.Part) map[store.Ref]int {
	of := map[store.Ref]*sbom.Part{}
	for _, p := range parts {
		of[p.Ref] = p
	}
	rungs := map[store.Ref]int{}
	var rung func(ref store.Ref) int
	rung = func(ref store.Ref) int {
		if rungs[ref] == 0 && of[ref] != nil {
			rungs[ref] = 1 // ends what a damaged receipt goes round in
			highest := 0
			for _, need := range of[ref].Needs {
				highest = max(highest, rung(need.Ref))
			}
			rungs[ref] = highest + 1
		}
		return rungs[ref]
	}
	for _, p := range parts {
		rung(p.Ref)
	}
	return rungs
}

// describedPackage is what a report says of a build.
func describedPackage(r *store.Receipt, standing string, rung int) report.Package {
	p := report.Package{Ref: r.Ref, Summary: r.Summary, Home: r.Home, License: r.License, Standing: standing, Rung: rung,
		Here: r.Tree != "", Tree: r.Tree, Recipe: r.Recipe, Edited: r.Edited, Options: r.Options, Needs: r.Needs,
		Method: string(r.Method), Compiler: r.Compiler, Isolated: r.Isolation, Built: r.Began.UTC(), Seconds: r.Seconds,
		Files: r.Files, Size: r.Size, Sources: []report.Source{}, Earlier: []report.Earlier{}}
	for _, x := range r.Sources {
		source := report.Source{URL: x.URL, Digest: x.Digest.String()}
		if x.Commit != "" {
			source.Digest = "commit " + x.Commit
		}
		if x.Signed != nil {
			source.Signed = x.Signed.String()
		}
		p.Sources = append(p.Sources, source)
	}
	for _, x := range r.Patches {
		p.Patches = append(p.Patches, x.File)
	}
	if r.From != nil {
		p.From = fmt.Sprintf("the depot %s, signed by %s", r.From.Depot, r.From.Signed)
	}
	p.Chosen, p.Without = store.Settings(r.Chosen), traces.Without(r)
	for _, n := range r.RunsWith {
		p.RunsWith = append(p.RunsWith, n.Question.String())
	}
	for _, x := range r.Remarks {
		p.Remarks = append(p.Remarks, x.String())
	}
	for _, t := range r.Tries {
		p.Tries = append(p.Tries, t.String())
	}
	return p
}

// holesOf looks the builds of a report up in the databases of the settings, where there are any.
func (s *Session) holesOf(ctx context.Context, r ReportRequest, x *report.Report) error {
	if len(s.Settings.Advisories) == 0 {
		return nil
	}
	found, err := s.Advisories(ctx, AdvisoriesRequest{Names: r.Names, Lock: r.Lock})
	if err != nil && problem.KindOf(err) != problem.Affected {
		return err
	}
	x.Looked, x.Unknown = true, listed(found.Unknown)
	for _, h := range found.Holes {
		hole := report.Hole{ID: h.ID, Severity: h.Severity.String(), Summary: h.Summary}
		for _, b := range h.Builds {
			if x.Package(b.Ref) != nil {
				hole.Builds = append(hole.Builds, b.Name+" "+b.Version)
				hole.Step = b.End()
			}
		}
		if len(hole.Builds) > 0 {
			x.Holes = append(x.Holes, hole)
		}
	}
	return nil
}
