package diagnose

import "strings"

// compilerRules know gcc, clang and assemblers.
var compilerRules = []rule{
	{kind: MissingHeader, has: "No such file", pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? (?:fatal )?error: (?P<name>[\w./+-]+): No such file or directory`), more: header},
	{kind: MissingHeader, has: "file not found", pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? fatal error: '(?P<name>[\w./+-]+)' file not found`), more: header},
	{kind: MissingProgram, has: "cc1plus", pattern: re(`(?:cannot execute|trying to exec) ['‘]cc1plus['’]`), more: is("c++")},
	{kind: MissingProgram, has: "f951", pattern: re(`(?:cannot execute|trying to exec) ['‘]f951['’]`), more: is("gfortran")},
	{kind: MissingInSource, has: "No such file", pattern: re(`^(?:cc1|cc1plus|gcc|g\+\+|cc|c\+\+|clang): (?:fatal )?error: (?P<name>[\w./+-]+\.(?:c|cc|cpp|cxx|h)): No such file or directory`)},
	{kind: CompilerTooOld, has: "-std=", pattern: re(`error: (?:unrecognized command[- ]line option|invalid value) ` + open + `(?:-std=)?(?P<name>(?:c|gnu)\+*\d\w)`)},
	{kind: CompilerTooOld, has: "is required", pattern: re(`#error.*\b(?P<name>C(?:\+\+)?-?\d\d).*(?:is required|or (?:later|newer|higher))`)},
	{kind: CompilerTooOld, has: "compiler and library support", pattern: re(`#error This file requires compiler and library support for the (?P<name>ISO C\+\+ \d+)`)},
	{kind: WrongOption, has: "unrecognized", pattern: re(`error: unrecognized (?:command[- ]line )?option ` + open + `(?P<name>-[^'"’”\s]+)`)},
	{kind: WrongOption, has: "unknown argument", pattern: re(`error: unknown argument:? ` + open + `(?P<name>-[^'"’”\s]+)`)},
	{kind: CompilerTooNew, has: "error: ", pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? error: (?:implicit declaration of function|call to undeclared function|ISO C\+\+\d+ does not allow|passing argument .* from incompatible pointer type|.*Wincompatible-pointer-types|incompatible function pointer types|return type defaults to|type defaults to|type specifier missing|two or more data types in declaration specifiers|.*Wint-conversion)`)},
	{kind: CompilerTooNew, has: "error: ", pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? error: .*(?:u?int\d+_t|numeric_limits|size_t|std::(?:string|runtime_error|exchange|function))['’]? (?:was not declared|does not name a type|has not been declared|is not a member)`)},
	{kind: WarningError, has: "[-Werror", pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? error: .*\[-Werror(?:[=,][\w=+-]+)?\]`)},
	{kind: CompileError, has: "error: ", pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? (?:fatal )?error: `), more: ownError},
	{kind: CompileError, has: "Error: ", pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? Error: `)}, // the assembler
}

// linkerRules know the linkers.
var linkerRules = []rule{
	{kind: MissingLibrary, has: "cannot find -l", pattern: re(`(?:ld|ld\.\w+|gold|mold)(?:: error)?: cannot find -l:?(?P<name>[\w.+-]+)`), more: wholeName},
	{kind: MissingLibrary, has: "library", pattern: re(`(?:ld|ld\.\w+|lld|gold|mold)(?:: error)?: (?:unable to find library|library not found:) -l:?(?P<name>[\w.+-]+)`), more: wholeName},
	{kind: MissingLibrary, has: "crt", pattern: re(`cannot find S?crt[1in]\.o`), more: is("c")},
	{kind: MissingLibrary, has: "cannot find", pattern: re(`ld: cannot find (?P<name>/\S+\.(?:so|a)[\d.]*)`)},
	{kind: MissingInSource, has: "cannot open output file", pattern: re(`ld: cannot open output file (?P<name>\S+)/[^/]+: No such file or directory`)},
	{kind: NotRelocatable, has: "recompile with -f", pattern: re(`relocation .* recompile with -f(?:PIC|PIE)`)},
	{kind: CompilerTooNew, has: "multiple definition", pattern: re(`multiple definition of .*; .*first defined here`)},
	{kind: Undefined, has: "undefined reference", pattern: re(`undefined reference to (?:symbol )?` + open + `(?P<name>[^'"’@]+)`), more: knownFunction},
	{kind: Undefined, has: "undefined symbol", pattern: re(`undefined symbol: (?P<name>[\w:~<>]+)`), more: knownFunction},
}

// header says when a header would be one of the source's own.
func header(c *Cause, _ []string, _ int) bool {
	switch ext := c.Name()[strings.LastIndex(c.Name(), ".")+1:]; ext {
	case "c", "cc", "cpp", "o":
		c.Kind = MissingInSource
	}
	return true
}

// wholeName takes a library that was asked for as a file by its stem.
func wholeName(c *Cause, _ []string, _ int) bool {
	if stem, _, is := strings.Cut(strings.TrimPrefix(c.Name(), "lib"), ".so"); is {
		c.Names[0] = stem
	}
	return true
}

// ownError reads what a source makes the compiler say with #error.
func ownError(c *Cause, lines []string, at int) bool {
	_, text, is := strings.Cut(lines[at], "error: #error ")
	if is {
		conclude(c, text, nil)
		if len(c.Names) == 0 {
			c.Kind = CompileError
		}
	}
	return true
}

// knownFunction names the library that a function is known to be in.
func knownFunction(c *Cause, _ []string, _ int) bool {
	if library := libraryOf(c.Name()); library != "" {
		c.Found = "-l" + library
	}
	return true
}
