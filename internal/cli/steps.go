package cli

import (
	"fmt"
	"strings"

	"fernladder/core/plan"
	"fernladder/internal/term"
)

// showSteps tells of each package that exists what a plan changes: options that were added
// or removed, sizes, configuration files, and what is built again because of what.
func (a *app) showSteps(steps []plan.Step) {
	if len(steps) == 0 {
		return
	}
	a.screen.Print("In detail:")
	for _, s := range steps {
		a.screen.Print("  %s %s", a.screen.Strong(s.Name), stepTitle(s))
		for _, line := range stepLines(s) {
			a.screen.Print("      %s", line)
		}
	}
}

func stepTitle(s plan.Step) string {
	title := s.From.Version + " → " + s.To.Version
	switch {
	case s.From.Version == s.To.Version && len(s.Because) > 0:
		title = s.To.Version + ", built again because of " + isAnd(s.Because)
	case s.From.Version == s.To.Version:
		title = s.To.Version + ", built differently: " + strings.Join(s.Why, ", ")
	case !s.Lands:
		title += ", which others are built with"
	}
	if !s.Build {
		title += " (is built)"
	}
	return title
}

func stepLines(s plan.Step) (lines []string) {
	if len(s.Came) > 0 {
		lines = append(lines, "new options: "+strings.Join(s.Came, ", "))
	}
	if len(s.Went) > 0 {
		lines = append(lines, "removed options: "+strings.Join(s.Went, ", "))
	}
	if len(s.Set) > 0 {
		lines = append(lines, "set now: "+strings.Join(s.Set, ", "))
	}
	switch {
	case s.Build && s.Expected > 0:
		lines = append(lines, fmt.Sprintf("size: %s, %s expected", term.Bytes(s.Size), term.Bytes(s.Expected)))
	case !s.Build:
		lines = append(lines, fmt.Sprintf("size: %s → %s", term.Bytes(s.Size), term.Bytes(s.Expected)))
	}
	for _, c := range s.Configs {
		switch {
		case c.Strange:
			lines = append(lines, c.File+" is not a file, and stays as it is")
		case c.Edited:
			lines = append(lines, c.File+" was edited, and stays; a new sample is put beside it")
		}
	}
	return lines
}
