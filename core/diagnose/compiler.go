package diagnose

import "strings"

// header reports a header that may be one of the source's own.
func header(c *Cause, _ []string, _ int) bool {
	switch ext := c.Name()[strings.LastIndex(c.Name(), ".")+1:]; ext {
	case "c", "cc", "cpp", "o":
		c.Kind = MissingInSource
	}
	return true
}

// wholeName finds a library that was requested as a file.
func wholeName(c *Cause, _ []string, _ int) bool {
	if stem, _, is := strings.Cut(strings.TrimPrefix(c.Name(), "lib"), ".so"); is {
		c.Names[0] = stem
	}
	return true
}

// ownError reads messages of a source's #error lines.
func ownError(c *Cause, lines []string, at int) bool {
	_, text, is := strings.Cut(lines[at], "error: #error ")
	if !is {
		return true
	}
	said := Cause{Kind: Unknown}
	if conclude(&said, text, nil); len(said.Names) > 0 {
		c.Kind, c.Names, c.Likely, c.says = said.Kind, said.Names, said.Likely, ""
	}
	return true
}

// knownFunction names the library of a well-known function.
func knownFunction(c *Cause, _ []string, _ int) bool {
	if library := libraryOf(c.Name()); library != "" {
		c.Found = "-l" + library
	}
	return true
}

// startFiles finds out about files that every program starts with: those of the C library, or
// those for 32 bits, which are separate.
func startFiles(c *Cause, lines []string, at int) bool {
	const near = 12
	for _, line := range lines[max(0, at-near):min(len(lines), at+near)] {
		if strings.Contains(line, " -m32") || strings.Contains(line, "skipping incompatible") {
			c.Kind, c.says = Setup, "the linker finds no {name} for 32 bits"
			c.Helps = "The compiler's and the C library's files for 32 bits: gcc-multilib of Debian, glibc-devel.i686 and " +
				"libgcc.i686 of Fedora."
			return true
		}
	}
	c.Names = []string{"c"}
	return true
}

// notLinked names the library that has a symbol and is not among the linker's arguments, from
// the next line.
func notLinked(c *Cause, lines []string, at int) bool {
	if at+1 == len(lines) || !strings.Contains(lines[at+1], "DSO missing") {
		return false
	}
	if match := sharedFile.FindStringSubmatch(lines[at+1]); match != nil {
		c.says = "{name} is in lib" + match[1] + ", which exists but is not passed to the linker"
		c.Helps = "LIBS = \"-l" + match[1] + "\" in [build.env]."
	}
	return true
}

var sharedFile = re(`lib([\w+.-]+?)\.so`)

// staticLibrary reports a library that is to be linked statically.
func staticLibrary(c *Cause, lines []string, at int) bool {
	const near = 6
	for _, line := range lines[max(0, at-near):at] {
		if strings.Contains(line, " -static ") || strings.HasSuffix(line, " -static") {
			c.Kind, c.says = Setup, "there is no static library {name} (-static); a shared one does not help here"
			c.Helps = "Link it dynamically, or build the library with its static one as an option of its recipe."
			return true
		}
	}
	return wholeName(c, lines, at)
}

// undeclared reports the header that a configure script did not find, if the unknown name is
// named after it.
func undeclared(c *Cause, lines []string, at int) bool {
	const far = 5000
	name := c.Found
	first, _, _ := strings.Cut(strings.ToLower(strings.TrimLeft(name, "_")), "_")
	if c.Found = ""; len(first) < 3 {
		return true
	}
	var headers []string
	for _, line := range lines[max(0, at-far):at] {
		check, isAnswer, found := lookedFor(line)
		if isAnswer && !found && check.kind == MissingHeader && strings.Contains(strings.ToLower(check.name), first) {
			headers = append(headers, check.name)
		}
	}
	if len(headers) > 0 {
		c.Kind, c.Names, c.says = MissingHeader, headers, ""
	}
	return true
}
