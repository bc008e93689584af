package session

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/advisory"
	"fernladder/core/problem"
	"fernladder/core/store"
	"fernladder/core/version"
)

// Notice is the holes of builds in a line, for plans and installs.
type Notice struct {
	Builds   []store.Ref    `json:"builds"`
	Holes    int            `json:"holes"`
	Severity advisory.Score `json:"severity"` // the worst
}

// holesIn looks the builds of a ladder up in the databases as they are here, and writes nothing.
// Without databases, or before they were fetched, the notice is empty. Under the policy refuse,
// it fails if anything would be installed that has a hole.
func (s *Session) holesIn(ctx context.Context, l *Ladder) (n Notice, err error) {
	if len(s.Settings.Advisories) == 0 {
		return n, nil
	}
	var holders []*holder
	for _, j := range l.Jobs {
		v, _ := version.Parse(j.Version)
		x := &holder{Ref: j.Ref, recipe: j.Package.Recipe, facts: j.Package.Facts(s.System),
			subject: &advisory.Subject{Name: j.Name, Version: j.Version, Known: j.Recipe.KnownAs}}
		x.facts.Version = v
		if c := j.Parts[0].Checkout; c != nil {
			x.subject.Commit, x.subject.Repository = c.ID(), c.URL()
			x.subject.Known.Git = cmp.Or(x.subject.Known.Git, c.URL())
		}
		x.receipt = &store.Receipt{Patches: j.Patches}
		holders = append(holders, x)
	}
	report := &AdvisoriesReport{}
	k := s.keeper()
	k.ReadOnly = true
	found, err := s.lookUp(ctx, k, report, holders)
	if problem.KindOf(err) == problem.Fetch && s.Settings.Policy.Advisories != "refuse" {
		return n, nil // the command advisories reports it
	}
	if err != nil {
		return n, err
	}
	for _, h := range found {
		if !s.counts(h, s.Settings.Policy.Severity) {
			continue
		}
		hole := s.hole(report, h, holders, func(*holder) bool { return false })
		if len(hole.Builds) == 0 {
			continue
		}
		if n.Holes++; n.Holes == 1 {
			n.Severity = h.Severity
		}
		for _, b := range hole.Builds {
			if !slices.Contains(n.Builds, b.Ref) {
				n.Builds = append(n.Builds, b.Ref)
			}
		}
	}
	if n.Holes > 0 && s.Settings.Policy.Advisories == "refuse" {
		var names []string
		for _, b := range n.Builds {
			names = append(names, b.Name+" "+b.Version)
		}
		return n, problem.New(problem.Affected, n.Builds[0].Name, "%s would be installed with published holes (%d, the "+
			"worst %s); [policy] in the settings refuses that", strings.Join(names, ", "), n.Holes, n.Severity).
			Remedy(problem.ShowAdvisories, fmt.Sprint(n.Builds[0].Name))
	}
	return n, nil
}
