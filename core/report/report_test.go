package report_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"fernladder/core/recipe"
	"fernladder/core/report"
	"fernladder/core/store"
)

var day = time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)

func ref(name, version, id string) store.Ref { return store.Ref{Name: name, Version: version, ID: id} }

// What has changed since an earlier report: other versions, other options, the same release built
// differently, packages and holes that came and went, one of two builds.
func TestCompare(t *testing.T) {
	before := &report.Report{Made: day, Looked: true, Holes: []report.Hole{{ID: "CVE-1"}, {ID: "CVE-2"}}, Packages: []report.Package{
		{Ref: ref("moss", "1.0", "a1")}, {Ref: ref("fern", "1.0", "b1"), Options: map[string]string{"look": "on"}},
		{Ref: ref("leaf", "1.0", "c1")}, {Ref: ref("twig", "1.0", "d1")}, {Ref: ref("twig", "2.0", "d2")}}}
	now := &report.Report{Looked: true, Holes: []report.Hole{{ID: "CVE-2"}, {ID: "CVE-3"}}, Packages: []report.Package{
		{Ref: ref("moss", "1.1", "a2")}, {Ref: ref("fern", "1.0", "b2"), Options: map[string]string{"look": "off"}},
		{Ref: ref("leaf", "1.0", "c2")}, {Ref: ref("twig", "2.0", "d2")}, {Ref: ref("bud", "1.0", "e1")}}}
	assert.Equal(t, &report.Changes{Made: day, Came: []string{"bud 1.0"}, Gone: []string{"twig 1.0"},
		Changed: []report.Change{{"fern", "b1", "b2", "options: look=off"},
			{"leaf", "c1", "c2", "its recipe, source, compiler or needs changed"}, {"moss", "1.0", "1.1", "another version"}},
		Holes: []string{"CVE-3"}, Ended: []string{"CVE-1"}}, now.Compare(before))
	assert.True(t, now.Compare(now).Empty())
	now.Looked = false
	assert.Empty(t, now.Compare(before).Ended, "a hole has not ended because it was not looked up")
}

// What could not be looked up is said, also where no hole is known.
func TestNotLookedUp(t *testing.T) {
	page := string((&report.Report{Looked: true, Unknown: []string{"moss", "fern"}}).HTML())
	assert.Contains(t, page, "<b>0</b>published holes")
	assert.Contains(t, page, "no name elsewhere is known: moss, fern.")
}

// A page of many packages stays small, and names every one of them once in each place.
func TestLargePage(t *testing.T) {
	r := &report.Report{About: "landing 7", Made: day}
	for i := range 200 {
		p := report.Package{Ref: ref(fmt.Sprintf("fern%d", i), "1.0", fmt.Sprintf("%012x", i)), Rung: 1 + i/20, Here: true,
			Standing: "asked", License: "MIT", Sources: []report.Source{{URL: "https://growers.example/x.tar.gz"}}}
		if i > 20 {
			p.Needs = []store.Link{{Ref: r.Packages[i-20].Ref, Role: recipe.Library}}
		}
		for k := range 10 {
			p.Earlier = append(p.Earlier, report.Earlier{Version: "1.0", ID: p.ID, Began: day, Seconds: float64(k), Size: 1 << 20})
		}
		r.Packages = append(r.Packages, p)
	}
	page := string(r.HTML())
	assert.Less(t, len(page), 2_000_000)
	assert.Equal(t, 1, strings.Count(page, `id="fern7-000000000007"`))
	assert.Equal(t, page, string(r.HTML()), "the same twice")
}
