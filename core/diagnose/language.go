package diagnose

import "strings"

// languageRules know the build systems of languages that have their own.
var languageRules = []rule{
	{kind: MissingPython, has: "No module named", pattern: re(`(?:ModuleNotFoundError: |ImportError: |python[\d.]*: )No module named ` + open + `(?P<name>[\w.]+)`), more: topModule},
	{kind: MissingPython, has: "Cannot import", pattern: re(`BackendUnavailable: Cannot import '(?P<name>[\w.]+)'`), more: topModule},
	{kind: MissingPython, has: "satisfies the requirement", pattern: re(`Could not find a version that satisfies the requirement (?P<name>[\w.-]+)(?P<range>[<>=!~]+ *[\w.]+)?`)},
	{kind: MissingPython, has: "DistributionNotFound", pattern: re(`The '(?P<name>[\w.-]+)(?P<range>[<>=!~]+[\w.]+)?[^']*' distribution was not found`)},
	{kind: MissingPython, has: "invalid command", pattern: re(`error: invalid command 'bdist_(?P<name>wheel)'`)},
	{kind: TooNew, has: "SyntaxError", pattern: re(`SyntaxError: Missing parentheses in call to 'print'`), more: is("python3")},

	{kind: MissingPerl, has: "Can't locate", pattern: re(`Can't locate (?P<name>[\w/]+)\.pm in @INC`), more: perlName},
	{kind: MissingPerl, has: "loadable object", pattern: re(`Can't locate loadable object for module (?P<name>[\w:]+)`)},
	{kind: MissingPerl, has: "is required to configure", pattern: re(`^(?P<name>[A-Z][\w:]*) (?P<range>[\d.]+) is required to configure this module`), more: atLeast},
	{kind: MissingPerl, has: "prerequisite", pattern: re(`^Warning: prerequisite (?P<name>[\w:]+) (?P<range>[\d.]+ )?not found`), more: atLeast},
	{kind: TooOld, has: "required--this is only", pattern: re(`(?P<name>\w[\w:]*)(?: version)? v?(?P<range>[\d.]+) required--this is only (?:version )?v?(?P<found>[\d.]+)`), more: atLeast},

	{kind: TooOld, has: "rustc", pattern: re(`requires (?P<name>rustc) (?P<range>[\d.]+) or newer, while the currently active rustc version is (?P<found>[\d.]+)`), more: atLeast},
	{kind: TooOld, has: "go.mod requires", pattern: re(`go\.mod requires (?P<name>go) >= (?P<range>[\d.]+) \(running go (?P<found>[\d.]+)`), more: atLeast},
	{kind: MissingProgram, has: "linker", pattern: re("error: linker `(?P<name>[\\w.+-]+)` not found")},
	{kind: MissingHeader, has: "mkmf.rb", pattern: re(`mkmf\.rb can't find header files for ruby`), more: is("ruby.h")},
}

func topModule(c *Cause, _ []string, _ int) bool {
	c.Names[0], _, _ = strings.Cut(c.Names[0], ".")
	return true
}

func perlName(c *Cause, _ []string, _ int) bool {
	c.Names[0] = strings.ReplaceAll(c.Names[0], "/", "::")
	return true
}
