package diagnose

import (
	"slices"
	"strings"
)

// nextLine takes the name from the next non-empty line.
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

// nextName takes the rest of a name from the continuation of a line.
func nextName(c *Cause, lines []string, at int) bool {
	if !nextLine(c, lines, at) {
		return false
	}
	c.Names = []string{firstQuoted.FindStringSubmatch(c.Name())[1]}
	return true
}

// compilerFor names the compiler of one of CMake's languages.
func compilerFor(c *Cause, _ []string, _ int) bool {
	program, known := map[string]string{"C": "cc", "CXX": "c++", "Fortran": "gfortran", "ASM_NASM": "nasm",
		"ASM_YASM": "yasm", "ASM": "cc", "CUDA": "nvcc", "Java": "javac", "Swift": "swiftc", "OBJC": "cc",
		"RC": "windres"}[c.Name()]
	c.Names = []string{program}
	return known
}

// parts distinguishes a package from a program or header that a find module stands for, and
// finds the missing parts.
func parts(c *Cause, lines []string, at int) bool {
	text := strings.Join(strings.Fields(strings.Join(lines[at:min(len(lines), at+5)], " ")), " ")
	python := strings.HasPrefix(c.Name(), "Python")
	var lacks []string
	if match := lacking.FindStringSubmatch(text); match != nil {
		c.library = strings.Contains(match[1], "_LIBRAR") || strings.Contains(match[1], "_INCLUDE_DIR")
		lacks = slices.DeleteFunc(strings.Fields(match[1]), func(part string) bool { return variable.MatchString(part) })
	}
	programs := map[string]string{"BISON": "bison", "FLEX": "flex", "Doxygen": "doxygen", "Perl": "perl", "Git": "git",
		"SWIG": "swig", "Gettext": "msgfmt", "Ruby": "ruby"}
	switch {
	case python && strings.Contains(text, "NumPy"):
		c.Kind, c.Names = MissingPython, []string{"numpy"}
	case python && (strings.Contains(text, "Development") || strings.Contains(text, "INCLUDE_DIR")):
		c.Kind, c.Names = MissingHeader, []string{"Python.h"}
	case python:
		c.Kind, c.Names = MissingProgram, []string{"python3"}
	case programs[c.Name()] != "":
		c.Kind, c.Names = MissingProgram, []string{programs[c.Name()]}
	case len(lacks) > 0:
		c.says = "CMake cannot find the package {name}, of it: " + strings.Join(lacks, ", ")
		for _, part := range lacks { // as its library is called
			switch c.Name() {
			case "Boost":
				part = "boost_" + part
			case "X11":
			default:
				continue
			}
			c.Also = append(c.Also, Cause{Kind: MissingLibrary, Names: []string{part}, Line: at + 1})
		}
	}
	return true
}

var (
	lacking  = re(`\(missing: ([^)]*)\)`)
	variable = re(`_(?:INCLUDE|LIBRAR|EXECUTABLE|VERSION|ROOT|DIRS?$|FOUND|CONFIG|PATH)|^[A-Z0-9_]+_[A-Z0-9_]+$`)
)

// searched finds the kind of thing that CMake's find commands looked for, from the first line of
// the message.
func searched(c *Cause, lines []string, at int) bool {
	for i := at; i >= max(0, at-3); i-- {
		for command, kind := range map[string]Kind{"(find_program)": MissingProgram, "(find_library)": MissingLibrary,
			"(find_path)": MissingHeader, "(find_file)": MissingHeader} {
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

// moduleBefore finds the module that CMake's pkg_check_modules did not find, or found too old,
// from the lines around the error.
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
			if len(c.Names) > 0 {
				c.Also = append(c.Also, Cause{Kind: MissingModule, Names: []string{match[1]}, Line: i + 1})
				continue
			}
			c.Names = []string{match[1]}
		}
	}
	if len(c.Names) > 0 {
		return true
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

// notFoundVariable uses the name of an unset variable as the name of the missing thing.
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

// lowered converts the name of a variable to the usual form of names.
func lowered(c *Cause, _ []string, _ int) bool {
	c.Names[0], c.Likely = strings.ToLower(c.Names[0]), true
	return true
}

var notFoundBefore = re(`^-- Could NOT find (\w+) `)

// commandOf finds the package at the beginning of a command's name that was looked for before
// and not found.
func commandOf(c *Cause, lines []string, at int) bool {
	for _, line := range lines[:at] {
		if match := notFoundBefore.FindStringSubmatch(line); match != nil &&
			strings.HasPrefix(strings.ToLower(c.Name()), strings.ToLower(match[1])+"_") {
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
	looking = re(`^-- (?:Looking for|Checking for|Check for|Performing Test|Could NOT find) (?:module ` +
		`|include file )?['"]?(?P<name>[\w.+/-]+)['"]?(?: - not found|.* \(missing:.*|)$`)
	endMessage = re(`^(?:Call Stack|-- |CMake |$)`)
)

// ofCMake are in messages of CMake's own modules.
var ofCMake = []string{"Could NOT find", "required package", "package configuration file", "By not providing",
	"pkg-config tool not found", "using the following", "error: downloading"}

// cmakeSaid reads a message written by the author of a build file.
func cmakeSaid(c *Cause, lines []string, at int) bool {
	var text []string
	for _, line := range lines[at+1 : min(len(lines), at+12)] {
		if len(text) > 0 && endMessage.MatchString(line) && line != "" {
			break
		}
		text = append(text, strings.TrimSpace(line))
	}
	if slices.ContainsFunc(ofCMake, func(own string) bool { return strings.Contains(strings.Join(text, " "), own) }) {
		return false // other rules handle CMake's own messages
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

// buildProgram names the program of one of CMake's generators.
func buildProgram(c *Cause, _ []string, _ int) bool {
	program := "make"
	if c.Name() == "Ninja" {
		program = "ninja"
	}
	c.Names = []string{program}
	return true
}

// linkedTarget takes the target that CMake does not find, and the package or module that was looked for
// before and not found, if there is one.
func linkedTarget(c *Cause, lines []string, at int) bool {
	if len(c.Names) == 0 && !nextLine(c, lines, at) {
		return false
	}
	name, _, _ := strings.Cut(c.Name(), "::")
	for i := at - 1; i >= 0; i-- {
		if strings.HasPrefix(lines[i], "-- Could NOT find "+name+" ") {
			c.Names, c.says = []string{name}, ""
			return true
		}
		if match := noPackage.FindStringSubmatch(lines[i]); match != nil {
			c.Kind, c.Names, c.says = MissingModule, []string{match[1]}, ""
			return true
		}
	}
	c.Kind, c.Likely = Source, true
	return true
}

// cmakeText is the text of one of CMake's errors.
func cmakeText(lines []string, at int) string {
	const most = 12
	var text []string
	for _, line := range lines[at+1 : min(len(lines), at+most)] {
		if len(text) > 0 && endMessage.MatchString(line) && line != "" {
			break
		}
		text = append(text, strings.TrimSpace(line))
	}
	return strings.Join(strings.Fields(strings.Join(text, " ")), " ")
}
