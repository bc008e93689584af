package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each rule with what programs print, and what that means.
func TestCauses(t *testing.T) {
	for _, c := range []struct{ log, want string }{
		{"checking for zlibVersion in -lsoil... no\ncheckin\nchecking for pow in -lm... yes\nchecking for leaf_open in -lleaf... no\nconfigure: error: leaf not installed", "missing_library: the library leaf is missing"},
		{"checking for moss/leaf.h... no\nconfigure: error: the leaf headers are needed", "missing_header: the header moss/leaf.h is missing"},
		{"checking for sporegen... no\nchecking for fungen... no\nconfigure: error: Neither sporegen nor fungen was found.", "missing_program: the program sporegen or fungen is missing"},
		{"checking for leafcmp... no\nchecking for strlcpy... no\nconfigure: error: this soil is too dry", "unknown: the cause is not clear"},
		{"checking for leaf >= 1.5.0... no\nconfigure: error: Package requirements (leaf >= 1.5.0) were not met:\n\nNo package 'leaf' found", "missing_module: the pkg-config module leaf >= 1.5.0 is missing"},
		{"configure: error: Package requirements (leaf moss >= 2) were not met:\n\nRequested 'moss >= 2' but version of moss is 1.4", "too_old: moss >= 2 is wanted, and 1.4 is there"},
		{"configure: error: Package requirements (moss >= 2) were not met:\n\nPackage dependency requirement 'moss >= 2' could not be satisfied.\nPackage 'moss' has version '1.4', required version is '>= 2'", "too_old: moss >= 2 is wanted, and 1.4 is there"},
		{"configure: error: no acceptable C compiler found in $PATH", "missing_program: the program cc is missing"},
		{"configure: error: C++ compiler not available, see config.log for details", "missing_program: the program c++ is missing"},
		{"configure: error: unrecognized option: `--with-moss'", "wrong_option: there is no option --with-moss"},
		{"configure: WARNING: unrecognized options: --disable-static\nconfigure.ac:10: error: possibly undefined macro: LT_INIT", "missing_program: the program libtool is missing"},
		{"-- Could NOT find Fern (missing: FERN_DIR)\nCMake Error at FindPackageHandleStandardArgs.cmake:230 (message):\n  Could NOT find Leaf (missing: LEAF_LIBRARY LEAF_INCLUDE_DIR)", "missing_package: CMake does not find the package Leaf"},
		{"CMake Error at CMakeLists.txt:4 (find_package):\n  Could not find a package configuration file provided by \"Loam\" with any of\n  the following names:", "missing_package: CMake does not find the package Loam"},
		{"  Could NOT find Leaf: Found unsuitable version \"1.2.3\", but required is at least \"2.0\" (found /usr/lib/libleaf.so)", "too_old: Leaf >= 2.0 is wanted, and 1.2.3 is there"},
		{"--   Package 'leaf-x', required by 'virtual:world', not found\nCMake Error at FindPkgConfig.cmake:607 (message):\n  A required package was not found", "missing_module: the pkg-config module leaf-x is missing"},
		{"CMake Error at CMakeLists.txt:1 (cmake_minimum_required):\n  CMake 3.30 or higher is required.  You are running version 3.25.1", "too_old: cmake >= 3.30 is wanted, and 3.25.1 is there"},
		{"Run-time dependency leaf found: NO (tried pkgconfig and cmake)\n\nmeson.build:80:1: ERROR: Dependency \"leaf\" not found, tried pkgconfig and cmake", "missing_module: the pkg-config module leaf is missing"},
		{"Dependency leaf found: NO. Found 1.2 but need: '>= 2.0'", "too_old: leaf >= 2.0 is wanted, and 1.2 is there"},
		{"meson.build:412:4: ERROR: Program 'sporegen' not found or not executable", "missing_program: the program sporegen is missing"},
		{"meson.build:9:4: ERROR: C shared or static library 'leaf' not found", "missing_library: the library leaf is missing"},
		{"meson.build:1:0: ERROR: Unknown options: \"plots\"", "wrong_option: there is no option plots"},
		{"meson.build:1:0: ERROR: Meson version is 1.0.1 but project requires >= 1.4", "too_old: meson >= 1.4 is wanted, and 1.0.1 is there"},
		{"CC leaf.o\nleaf.c:56:12: fatal error: moss/moss.h: No such file or directory\n   56 | #  include <moss/moss.h>", "missing_header: the header moss/moss.h is missing (leaf.c:56)"},
		{"leaf.c:5:10: fatal error: 'moss.h' file not found", "missing_header: the header moss.h is missing (leaf.c:5)"},
		{"/usr/bin/ld: cannot find -lleaf: No such file or directory\ncollect2: error: ld returned 1 exit status", "missing_library: the library leaf is missing"},
		{"ld.lld: error: unable to find library -lleaf", "missing_library: the library leaf is missing"},
		{"leaf.c:(.text+0x5): undefined reference to `moss_open'", "undefined_reference: the linker finds nothing called moss_open"},
		{"./buildconf.sh: line 53: autoreconf: command not found", "missing_program: the program autoreconf is missing"},
		{"sh: 1: sporegen: not found", "missing_program: the program sporegen is missing"},
		{"/bin/sh: line 3: ./generate: not found", "missing_in_source: the source has no file ./generate"},
		{"make: sporegen: No such file or directory\nmake: *** [Makefile:2: leaf.c] Error 127", "missing_program: the program sporegen is missing"},
		{"/usr/bin/env: 'python2': No such file or directory", "missing_program: the program python2 is missing"},
		{"Traceback (most recent call last):\nModuleNotFoundError: No module named 'leaves'", "missing_python_module: the Python module leaves is missing"},
		{"Can't locate Leaf/Parser.pm in @INC (you may need to install the Leaf::Parser module)", "missing_perl_module: the Perl module Leaf::Parser is missing"},
		{"cc1plus: out of memory allocating 65536 bytes", "no_memory: the memory was full"},
		{"leaf.c:3:1: fatal error: error writing to /tmp/x.s: No space left on device", "no_space: the disk is full"},
		{"fatal: unable to access 'https://vale-glasshouse.example/': Could not resolve host: vale-glasshouse.example", "network: it wanted the network, at vale-glasshouse.example"},
		{"cp: cannot create regular file '/usr/share/leaf': Permission denied", "permission: it may not change or read /usr/share/leaf"},
		{"leaf.c:10:3: warning: unused\nleaf.c:17:5: error: implicit declaration of function 'gets' [-Wimplicit-function-declaration]", "compiler_too_new: the code is older than the compiler, which refuses it (leaf.c:17)"},
		{"leaf.cc:1017:8: error: inlining failed in call to 'always_inline'\nmake: *** [leaf.o] Error 1", "compile_error: the compiler refuses the code; nothing is missing (leaf.cc:1017)"},
		{"make: *** No rule to make target 'leaf.h', needed by 'moss.o'.  Stop.", "missing_in_source: the source has no file leaf.h"},
		{"PASS: leaf\nFAIL: moss\n# PASS:  1\n# FAIL:  1", "test_failed: tests of the package failed"},
		{"configure: WARNING: leaf not found, plots are off\ncc -Werror -c error.c\n0 errors", "unknown: the cause is not clear"},
	} {
		got := Log(c.log)
		text := string(got.Kind) + ": " + got.String()
		if got.Place != "" {
			text += " (" + got.Place + ")"
		}
		assert.Equal(t, c.want, text, "%s", c.log)
	}
}

// The first cause counts, with the lines around it; and where more is to be
// read is told.
func TestTheFirstCauseWithItsLines(t *testing.T) {
	log := strings.Repeat("CC moss.o\n", 50) + "leaf.c:5:10: fatal error: moss.h: No such file or directory\nmake: *** [leaf.o] Error 1\n" +
		strings.Repeat("CC fern.o\n", 50) + "/usr/bin/ld: cannot find -lfern\nSee `config.log' for more details\n"
	went := "./configure: line 24546: LEAF_HEADERS: command not found\nsh: 1: python: not found\n" + strings.Repeat("checking for more... yes\n", 50)
	assert.False(t, Log(went).Known(), "what goes on is no cause")
	c := Log(went + log)
	c.Line -= 52
	assert.Equal(t, "moss.h", c.Name())
	assert.Equal(t, 51, c.Line)
	assert.Len(t, c.Lines, 9)
	assert.Equal(t, "config.log", c.See)
	assert.False(t, Log("a\nb").Known())
	assert.Equal(t, []string{"a", "b"}, Log("a\nb").Lines)
}

// Where a log only points to another, the last thing that was checked there is
// the cause; what was answered with no before is none.
func TestElsewhere(t *testing.T) {
	log := "configure:100: checking for moss.h\nconfigure:101: gcc -c conftest.c\nconftest.c:5:10: fatal error: moss.h: No such file or directory\nconfigure:102: result: no\n" +
		"configure:200: checking whether the C compiler works\nconfigure:201: gcc conftest.c -lleaf\n/usr/bin/ld: cannot find -lleaf\ncollect2: error: ld returned 1 exit status\n" +
		"configure:210: result: no\nconfigure:220: error: C compiler cannot create executables\nSee `config.log' for more details\n## Cache variables. ##\n"
	c := Elsewhere("/work/build/config.log", log)
	assert.Equal(t, "the library leaf is missing", c.String())
	assert.Equal(t, 7, c.Line)
	assert.False(t, Elsewhere("config.log", "configure:1: checking\n").Known())
	assert.Equal(t, "leaf", Elsewhere("meson-log.txt", strings.Repeat("Checking\n", 200)+"meson.build:1:0: ERROR: Dependency \"leaf\" not found").Name())
}

func FuzzLog(f *testing.F) {
	f.Add("configure: error: Package requirements (a) were not met:\n\nNo package 'b' found")
	f.Add("checking for a... no\nconfigure: error: b")
	f.Fuzz(func(t *testing.T, text string) {
		_ = Log(text).String()
		_ = Elsewhere("config.log", text).String()
	})
}
