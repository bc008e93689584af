package cli

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"fernladder/core/install"
	"fernladder/internal/term"
)

// summary tells in the end what was built, how long it took against what it should
// have, how busy the processors of so many slots were, and what took longest. Without
// slots, they are others'.
func (a *app) summary(r *install.Report, slots int) {
	const short = 5 * time.Second
	if len(r.Records) == 0 || len(r.Records) < 2 && r.Took < short {
		return
	}
	type part struct {
		what string
		took time.Duration
	}
	var parts []part
	failed := 0
	busy := 0.0
	for _, record := range r.Records {
		if record.Failed != "" {
			failed++
		}
		busy += record.CPU()
		for _, s := range record.Stages {
			parts = append(parts, part{record.Name + " " + s.Stage, time.Duration(s.Seconds * float64(time.Second))})
		}
	}
	slices.SortStableFunc(parts, func(a, b part) int { return int(b.took - a.took) })
	line := fmt.Sprintf("Built %s in %s", term.Count(len(r.Records)-failed, "package"), term.Duration(r.Took))
	if failed > 0 {
		line += fmt.Sprintf(", %d failed", failed)
	}
	if r.Expected > 0 {
		line += fmt.Sprintf("; expected from earlier builds: %s", term.Duration(r.Expected))
	}
	line += "."
	if slots > 0 {
		processors := min(slots, runtime.NumCPU())
		line += fmt.Sprintf(" Processors busy: %.0f%% of %d.",
			min(100, 100*busy/max(r.Took.Seconds(), 0.001)/float64(processors)), processors)
	}
	var longest []string
	for _, p := range parts[:min(3, len(parts))] {
		what := p.what + " " + term.Duration(p.took)
		if p.took > r.Took {
			what += ", over several runs"
		}
		longest = append(longest, what)
	}
	a.screen.Note("%s\nLongest: %s.", line, strings.Join(longest, "; "))
}
