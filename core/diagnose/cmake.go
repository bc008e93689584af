package diagnose

import (
	"slices"
	"strings"
)

// cmakeRules know CMake and its find modules, and what it says through
// pkg-config. Its messages go on for several lines.
var cmakeRules = []rule{
	{kind: MissingProgram, has: "COMPILER could be found", pattern: re(`No CMAKE_(?P<name>\w+)_COMPILER could be found`), more: compilerFor},
	{kind: MissingProgram, has: "The CMAKE_", pattern: re(`^ +The CMAKE_\w+_COMPILER:$`), more: nextLine},
	{kind: MissingProgram, has: "find a build program", pattern: re(`unable to find a build program corresponding to "(?P<name>[\w ]+)"`), more: func(c *Cause, _ []string, _ int) bool {
		c.Names = []string{map[bool]string{true: "ninja", false: "make"}[c.Name() == "Ninja"]}
		return true
	}},
	{kind: TooOld, has: "or higher is required", pattern: re(`(?P<name>CMake) (?P<range>[\d.]+) or higher is required\.\s+You are running version (?P<found>[\w.]+)`), more: atLeast},
	{kind: TooNew, has: "has been removed from CMake", pattern: re(`Compatibility with CMake < [\d.]+ has been removed`), more: is("cmake")},
	{kind: CompilerTooOld, has: "requires the language dialect", pattern: re(`requires the language dialect "(?P<name>\w+)"`)},
	{kind: CompilerTooOld, has: "compiler feature", pattern: re(`The compiler feature "(?P<name>\w+)" is not known`)},
	{kind: TooOld, has: "Could NOT find", pattern: re(`Could NOT find (?P<name>\w+): Found unsuitable version "(?P<found>[\w.]+)", but required is (?:at least|exact version) "(?P<range>[\w.]+)"`), more: atLeast},
	{kind: MissingProgram, has: "Could NOT find PkgConfig", pattern: re(`^ +Could NOT find PkgConfig`), more: is("pkg-config")},
	{kind: MissingProgram, has: "pkg-config tool not found", pattern: re(`^ +pkg-config tool not found`), more: is("pkg-config")},
	{kind: MissingPackage, has: "Could NOT find", pattern: re(`^ +Could NOT find (?P<name>\w+)(?:[ ,:]|$)`), more: parts},
	{kind: MissingPackage, has: "package configuration file", pattern: re(`Could not find a package configuration file provided by "(?P<name>[\w.+-]+)"(?: \(requested version (?P<range>[\d.]+))?`), more: atLeast},
	{kind: MissingPackage, has: "package configuration file", pattern: re(`Could not find a package configuration file provided by$`), more: nextName},
	{kind: MissingPackage, has: "By not providing", pattern: re(`By not providing "Find(?P<name>[\w.+-]+)\.cmake" in CMAKE_MODULE_PATH`)},
	{kind: Missing, has: "using the following", pattern: re(`^ +Could not find \S+ using the following (?:names|files): (?P<name>[\w./+-]+)`), more: searched},
	{kind: MissingPackage, has: "requested file", pattern: re(`^ +include could not find (?:requested|load) file:$`), more: nextLine},
	{kind: MissingModule, has: "required", pattern: re(`^(?:CMake Error|  ?A required package was not found|.*The following required packages were not found)`), more: moduleBefore},
	{kind: Missing, has: "NOTFOUND", pattern: re(`are used in this project, but they are set to NOTFOUND`), more: notFoundVariable},
	{kind: Missing, has: "-NOTFOUND\"", pattern: re(`"(?:\S*/)?(?P<name>[A-Za-z]\w*?)_(?:INCLUDE_DIRS?|INCLUDE_PATH|LIBRAR(?:Y|IES))-NOTFOUND"`), more: lowered},
	{kind: MissingPackage, has: "Unknown CMake command", pattern: re(`Unknown CMake command "(?P<name>\w+)"`), more: commandOf},
	{kind: MissingInSource, has: "CMakeLists.txt file", pattern: re(`does not contain a CMakeLists\.txt file`), more: directoryBefore},
	{kind: MissingInSource, has: "given source", pattern: re(`given source "(?P<name>[^"]+)" which is\b`)},
	{kind: MissingInSource, has: "Cannot find source file", pattern: re(`^ +Cannot find source file:$`), more: nextLine},
	{kind: MissingInSource, has: "does not exist.", pattern: re(`^ *(?:File|CMake Error: File) (?P<name>\S+) does not exist\.$`)},
	{kind: Unknown, has: "(message)", pattern: re(`^CMake Error at \S+ \(message\):`), more: cmakeSaid},
}

// nextLine takes the name from the next line that is not empty.
func nextLine(c *Cause, lines []string, at int) bool {
	for _, line := range lines[at+1 : min(len(lines), at+4)] {
		if line = strings.Trim(line, " \""); line != "" {
			c.Names = []string{line}
			return true
		}
	}
	return false
}

var firstQuoted = re(`"?([\w.+-]+)"?`)

// nextName takes the name that a broken line goes on with.
func nextName(c *Cause, lines []string, at int) bool {
	if !nextLine(c, lines, at) {
		return false
	}
	c.Names = []string{firstQuoted.FindStringSubmatch(c.Name())[1]}
	return true
}

// compilerFor names the compiler of one of CMake's languages.
func compilerFor(c *Cause, _ []string, _ int) bool {
	program, known := map[string]string{"C": "cc", "CXX": "c++", "Fortran": "gfortran", "ASM_NASM": "nasm", "ASM_YASM": "yasm", "ASM": "cc", "CUDA": "nvcc", "Java": "javac", "Swift": "swiftc", "OBJC": "cc", "RC": "windres"}[c.Name()]
	c.Names = []string{program}
	return known
}

// parts tells a package from a program or header that a find module stands for.
func parts(c *Cause, lines []string, at int) bool {
	text := strings.Join(lines[at:min(len(lines), at+3)], " ")
	python := strings.HasPrefix(c.Name(), "Python")
	switch {
	case python && (strings.Contains(text, "Development") || strings.Contains(text, "INCLUDE_DIR")):
		c.Kind, c.Names = MissingHeader, []string{"Python.h"}
	case python && strings.Contains(text, "NumPy"):
		c.Kind, c.Names = MissingPython, []string{"numpy"}
	case python:
		c.Kind, c.Names = MissingProgram, []string{"python3"}
	default:
		programs := map[string]string{"BISON": "bison", "FLEX": "flex", "Doxygen": "doxygen", "Perl": "perl", "Git": "git", "SWIG": "swig", "Gettext": "msgfmt", "Ruby": "ruby"}
		if program, is := programs[c.Name()]; is {
			c.Kind, c.Names = MissingProgram, []string{program}
		}
	}
	return true
}

// searched tells what kind of thing CMake's find commands have looked for, by the
// line that the message began with.
func searched(c *Cause, lines []string, at int) bool {
	for i := at; i >= max(0, at-3); i-- {
		for command, kind := range map[string]Kind{"(find_program)": MissingProgram, "(find_library)": MissingLibrary, "(find_path)": MissingHeader, "(find_file)": MissingHeader} {
			if strings.Contains(lines[i], command) {
				c.Kind = kind
				if kind == MissingLibrary {
					c.Names[0] = strings.TrimPrefix(c.Names[0], "lib")
				}
			}
		}
	}
	return true
}

// moduleBefore finds the module that CMake's pkg_check_modules did not find, or
// found too old, which stands around the error.
func moduleBefore(c *Cause, lines []string, at int) bool {
	if !strings.Contains(strings.Join(lines[at:min(len(lines), at+3)], "\n"), "required package") {
		return false
	}
	for i := at - 1; i >= max(0, at-8); i-- {
		if match := tooOldHere.FindStringSubmatch(lines[i]); match != nil {
			c.Kind, c.Names, c.Range, c.Found = TooOld, []string{match[1] + match[4]}, match[2]+match[5], match[3]
			return versionBelow(c, lines, i)
		}
		if match := noPackage.FindStringSubmatch(lines[i]); match != nil {
			c.Names = []string{match[1]}
			return true
		}
	}
	for _, line := range lines[at:min(len(lines), at+5)] {
		if match := listed.FindStringSubmatch(line); match != nil {
			c.Names, c.Range = []string{match[1]}, match[2]
			return true
		}
	}
	return false
}

var listed = re(`^ +- ([\w.+-]+?)([<>=]+[\w.]+)?$`)

var notFoundLine = re(`^([A-Za-z]\w*?)_(?:LIBRARY|LIBRARIES|LIB|INCLUDE_DIRS?|INCLUDE_PATH|INCLUDE)\b`)

// notFoundVariable takes the name of a variable that was not set for what it
// stands for.
func notFoundVariable(c *Cause, lines []string, at int) bool {
	for _, line := range lines[at+1 : min(len(lines), at+5)] {
		if match := notFoundLine.FindStringSubmatch(line); match != nil {
			name := strings.ToLower(match[1])
			c.Names, c.Likely = []string{name}, true
			if first, _, is := strings.Cut(name, "_"); is { // a package, and a part of it
				c.Names = []string{first}
			}
			return true
		}
	}
	return false
}

// lowered writes the name of a variable as things are called.
func lowered(c *Cause, _ []string, _ int) bool {
	c.Names[0], c.Likely = strings.ToLower(c.Names[0]), true
	return true
}

var notFoundBefore = re(`^-- Could NOT find (\w+) `)

// commandOf finds the package that a command begins with, which was looked for
// before and not found.
func commandOf(c *Cause, lines []string, at int) bool {
	for _, line := range lines[:at] {
		if match := notFoundBefore.FindStringSubmatch(line); match != nil && strings.HasPrefix(strings.ToLower(c.Name()), strings.ToLower(match[1])+"_") {
			c.Names[0] = match[1]
			return parts(c, []string{line}, 0)
		}
	}
	return false
}

// directoryBefore finds the directory that has no build file.
func directoryBefore(c *Cause, lines []string, at int) bool {
	for i := at - 1; i >= max(0, at-4); i-- {
		if line := strings.TrimSpace(lines[i]); strings.HasPrefix(line, "/") {
			c.Names = []string{line + "/CMakeLists.txt"}
			return true
		}
	}
	return false
}

var (
	looking    = re(`^-- (?:Looking for|Checking for|Check for|Performing Test|Could NOT find) (?:module |include file )?['"]?(?P<name>[\w.+/-]+)['"]?(?: - not found|.* \(missing:.*|)$`)
	endMessage = re(`^(?:Call Stack|-- |CMake |$)`)
)

// ownWords are in messages of CMake's own modules.
var ownWords = []string{"Could NOT find", "required package", "package configuration file", "By not providing", "pkg-config tool not found", "using the following"}

// cmakeSaid reads a message that the author of a build file has written.
func cmakeSaid(c *Cause, lines []string, at int) bool {
	var text []string
	for _, line := range lines[at+1 : min(len(lines), at+12)] {
		if len(text) > 0 && endMessage.MatchString(line) && line != "" {
			break
		}
		text = append(text, strings.TrimSpace(line))
	}
	if slices.ContainsFunc(ownWords, func(own string) bool { return strings.Contains(strings.Join(text, " "), own) }) {
		return false // other rules know what CMake says itself
	}
	var failed []check
	for i := at - 1; i >= max(0, at-8); i-- {
		if match := looking.FindStringSubmatch(lines[i]); match != nil {
			kind := MissingPackage
			if strings.HasSuffix(match[1], ".h") {
				kind = MissingHeader
			}
			failed = append(failed, check{kind: kind, name: match[1]})
		} else if match := noPackage.FindStringSubmatch(lines[i]); match != nil {
			failed = append(failed, check{kind: MissingModule, name: match[1]})
		}
	}
	return conclude(c, strings.Join(text, " "), failed)
}
