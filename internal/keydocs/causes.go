package main

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"fernladder/core/diagnose"
)

// A group is a section of the page of causes, with what helps in general.
type group struct {
	title, helps string
	kinds        []diagnose.Kind
}

var groups = []group{
	{"Something is missing", "The failure names the recipe that has it, or the package of the operating system, and the " +
		"lines for the recipe: a `[[need]]` or a `[[host]]`. A part of the source that can be left out has an option.",
		[]diagnose.Kind{diagnose.MissingHeader, diagnose.MissingLibrary, diagnose.MissingShared, diagnose.MissingModule,
			diagnose.MissingPackage, diagnose.MissingProgram, diagnose.MissingPython, diagnose.MissingPerl,
			diagnose.MissingMacro,
			diagnose.Missing}},
	{"Something is too old or too new", "Ask for another release: `version` in the need, or `fernladder bump`.",
		[]diagnose.Kind{diagnose.TooOld, diagnose.TooNew, diagnose.CompilerTooOld, diagnose.CompilerTooNew}},
	{"The source lacks something, or is at fault", "Use another release or archive, or a patch beside the recipe.",
		[]diagnose.Kind{diagnose.MissingInSource, diagnose.InSource, diagnose.Source, diagnose.Damaged}},
	{"The code does not compile or link", "A flag in `[build.env]`, another release, or a patch.",
		[]diagnose.Kind{diagnose.CompileError, diagnose.WarningError, diagnose.CompilerCrashed, diagnose.Undefined,
			diagnose.NotRelocatable}},
	{"An argument or a target is wrong", "Compare `args` in `[build]` and the options with what the source has.",
		[]diagnose.Kind{diagnose.WrongOption, diagnose.NoTarget}},
	{"Tests fail, or the build races", "`parallel = false` in `[build]` for makefiles that race.",
		[]diagnose.Kind{diagnose.TestFailed, diagnose.TimedOut, diagnose.Race}},
	{"The machine", "Builds have no network, and write only to their own directories: what they fetch becomes an " +
		"`[[extra]]`.",
		[]diagnose.Kind{diagnose.Network, diagnose.Permission, diagnose.Setup, diagnose.NoSpace, diagnose.NoMemory,
			diagnose.Killed}},
	{"What the tools say themselves", "No rule says more about it; the lines are shown as they are.",
		[]diagnose.Kind{diagnose.Unknown, diagnose.Said}},
}

// causesPage lists all rules of the table of causes, with the example that tests them.
func causesPage(file string) (string, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	var table struct {
		Cause []struct {
			Kind                         diagnose.Kind
			Match, Example, Means, Helps string
		}
	}
	if err := toml.Unmarshal(data, &table); err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString("<!-- Made by `make docs` from core/diagnose/causes.toml. -->\n\n# Messages of failed builds, and " +
		"what they mean\n\n" +
		"What `fernladder explain`, and every failed build, knows of the words of tools. The page is for searching: the " +
		"left " +
		"column\nhas a line of a log as an example, the right one what it means. [Trouble-shooting](troubleshooting.md) is " +
		"about the messages\nof Fern Ladder itself.\n")
	left := len(table.Cause)
	for _, g := range groups {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n| a line of the log | what it means |\n| --- | --- |\n", g.title, g.helps)
		for _, kind := range g.kinds {
			for _, c := range table.Cause {
				if c.Kind != kind {
					continue
				}
				left--
				_, means, _ := strings.Cut(c.Means, ": ")
				if means == "" {
					means = "the cause is not clear; the line is shown"
				}
				if c.Helps != "" {
					means += ". " + c.Helps
				}
				fmt.Fprintf(&b, "| %s | %s |\n", code(decisive(c.Example, c.Match)), plain(means))
			}
		}
	}
	if left > 0 {
		var kinds []string
		for _, c := range table.Cause {
			if !slices.ContainsFunc(groups, func(g group) bool { return slices.Contains(g.kinds, c.Kind) }) {
				kinds = append(kinds, string(c.Kind))
			}
		}
		return "", fmt.Errorf("the page of causes has no section for %s", strings.Join(kinds, ", "))
	}
	return b.String(), nil
}

// decisive is the line of an example that a rule matches.
func decisive(example, match string) string {
	lines := strings.Split(strings.TrimSpace(example), "\n")
	rule, err := regexp.Compile(match)
	for _, line := range lines {
		if err == nil && rule.MatchString(line) {
			return line
		}
	}
	return lines[len(lines)-1]
}

// code shows a line in a cell of a table.
func code(line string) string {
	line = strings.ReplaceAll(line, "|", `\|`)
	if strings.Contains(line, "`") {
		return "`` " + line + " ``"
	}
	return "`" + line + "`"
}

func plain(text string) string {
	return strings.NewReplacer("|", `\|`, "<", "&lt;", "\n", " ", "*", `\*`, "_", `\_`).Replace(text)
}
