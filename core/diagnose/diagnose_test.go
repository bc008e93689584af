package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each rule with messages of programs, and their meaning.
func TestCauses(t *testing.T) {
	for _, c := range []struct{ log, want string }{
		{"checking for zlibVersion in -lsoil... no\ncheckin\nchecking for pow in -lm... yes\nchecking for leaf_open in " +
			"-lleaf... no\nconfigure: error: leaf not installed", "missing_library: the library leaf is missing"},
		{"checking for moss/leaf.h... no\nconfigure: error: the leaf headers are needed",
			"missing_header: the header moss/leaf.h is missing"},
		{"checking for sporegen... no\nchecking for fungen... no\nconfigure: error: Neither sporegen nor fungen was found.",
			"missing_program: the program sporegen or fungen is missing"},
		{"checking for leafcmp... no\nchecking for strlcpy... no\nconfigure: error: this soil is too dry",
			"own_words: it says: configure: error: this soil is too dry"},
		{"checking for leaf >= 1.5.0... no\nconfigure: error: Package requirements (leaf >= 1.5.0) were not met:\n\nNo " +
			"package 'leaf' found", "missing_module: the pkg-config module leaf >= 1.5.0 is missing"},
		{"configure: error: Package requirements (leaf moss >= 2) were not met:\n\nRequested 'moss >= 2' but version of " +
			"moss is 1.4", "too_old: moss >= 2 is required, but 1.4 is installed"},
		{"configure: error: Package requirements (moss >= 2) were not met:\n\nPackage dependency requirement 'moss >= 2' " +
			"could not be satisfied.\nPackage 'moss' has version '1.4', required version is '>= 2'",
			"too_old: moss >= 2 is required, but 1.4 is installed"},
		{"configure: WARNING: unrecognized options: --disable-static\nconfigure.ac:10: error: possibly undefined macro: " +
			"LT_INIT", "missing_program: the program libtoolize is missing"},
		{"-- Could NOT find Fern (missing: FERN_DIR)\nCMake Error at FindPackageHandleStandardArgs.cmake:230 (message):\n " +
			" Could NOT find Leaf (missing: LEAF_LIBRARY LEAF_INCLUDE_DIR)",
			"missing_package: CMake cannot find the package Leaf"},
		{"-- Could NOT find Leaf (missing: LEAF_DIR)\nCMake Error at CMakeLists.txt:6 (target_link_libraries):\n  Target " +
			"\"fern\" links to:\n\n    Leaf::leaf\n\n  but the target was not found.",
			"missing_package: CMake cannot find the package Leaf"},
		{"--   Package 'leaf-x', required by 'virtual:world', not found\nCMake Error at FindPkgConfig.cmake:607 " +
			"(message):\n  A required package was not found", "missing_module: the pkg-config module leaf-x is missing"},
		{"Run-time dependency leaf found: NO (tried pkgconfig and cmake)\n\nmeson.build:80:1: ERROR: Dependency \"leaf\" " +
			"not found, tried pkgconfig and cmake", "missing_module: the pkg-config module leaf is missing"},
		{"./buildconf.sh: line 53: autoreconf: command not found", "missing_program: the program autoreconf is missing"},
		{"/bin/sh: line 3: ./generate: not found",
			"missing_in_source: ./generate is not found: the source has no such file, or the interpreter that its first line " +
				"names is missing"},
		{"cp: cannot create regular file '/usr/share/leaf': Permission denied",
			"permission: it must not change or read /usr/share/leaf (Permission denied)"},
		{"leaf.cc:1017:8: error: inlining failed in call to 'always_inline'\nmake: *** [leaf.o] Error 1",
			"compile_error: the compiler rejects the code: inlining failed in call to 'always_inline' (leaf.cc:1017)"},
		{"configure: WARNING: leaf not found, plots are off\ncc -Werror -c error.c\n0 errors",
			"unknown: the cause is not clear"},

		// Messages of build files.
		{"checking attr/dew.h usability... no\nchecking for attr/dew.h... no\n\nFATAL ERROR: attr/dew.h does not " +
			"exist.\nInstall the dew development package.", "missing_header: the header attr/dew.h is missing"},
		{"checking for libmoss directory... configure: error: libmoss is required.  You can get it from " +
			"https://vale.example/moss/", "missing: libmoss is missing"},
		{"checking for moss-config... no\nchecking for LIBMOSS... no\nconfigure: error: Could not find libmoss2 anywhere.",
			"missing: it seems that libmoss2 is missing"},
		{"checking for MOSS... no\nconfigure: error: \n  ***\n  *** Libmoss 3.6 was not found.",
			"missing: Libmoss is missing"},
		{"checking for SSL... configure: error: Cannot find the SSL libraries in /usr/lib/ssl", "missing: SSL is missing"},
		{"./configure: error: the misting module requires the MOSS library.\nYou can either disable the module by using " +
			"--without-misting\noption, or install the MOSS library.",
			"missing: it seems that MOSS is missing; or --without-misting"},
		{"checking for moss2-config... no\nconfigure: error: moss2-config not found, install the moss2-devel package or " +
			"build with --without-moss2", "missing_program: the program moss2-config is missing; or --without-moss2"},
		{"checking for libmoss >= 2... no\nchecking for library containing moss_init... no\nconfigure: error: \"libmoss " +
			"not found\"", "missing_module: the pkg-config module libmoss >= 2 is missing"},
		{"checking for a... no\nchecking for library containing tgetent... no\nconfigure: error: !!! none - no plan",
			"missing_library: it seems that the library tinfo is missing"},
		{"checking for gnu/fern-32.h... no\nconfigure: error: Cannot enable m32 support",
			"missing_header: it seems that the header gnu/fern-32.h is missing"},
		{"checking for Leaf::Parser... configure: error: Leaf::Parser perl module is required for moss",
			"missing_perl_module: the Perl module Leaf::Parser is missing"},
		{"configure:\n***\n*** You need libmoss to build this program.\n***\nconfigure: error:\n***\n*** Required " +
			"libraries not found. Please consult the above messages\n***", "missing: it seems that libmoss is missing"},
		{"Makefile:5: *** missing separator.  Stop.",
			"source: the makefile has blanks instead of a TAB, or a line that is not a rule (Makefile:5)"},
		{"leaf.c:3:2: error: #error libmoss is required", "missing: it seems that libmoss is missing (leaf.c:3)"},
		{"CMake Error at CMakeLists.txt:9 (message):\n  The library libmoss was not found!\n\n-- Configuring incomplete, " +
			"errors occurred!", "missing: it seems that libmoss is missing"},
		{"-- Looking for moss.h - not found\nCMake Error at CMakeLists.txt:9 (message):\n  moss is needed\n",
			"missing_header: the header moss.h is missing"},
		{"Library moss found: NO\nmeson.build:7:8: ERROR: Problem encountered: libmoss not found",
			"missing_library: the library moss is missing"},

		{"ERROR: libmoss >= 2.1 not found using pkg-config\n\nIf you think configure made a mistake, tell us.",
			"missing_module: it seems that the pkg-config module libmoss >= 2.1 is missing"},
		{"ERROR: the soil is too dry", "own_words: it says: ERROR: the soil is too dry"},
		{"checking for leaf/edge.h... no\nchecking for garden's moss feature... \nconfigure: WARNING: Could not find " +
			"libmoss in the pkg-config search path\nchecking whether garden's moss feature could be enabled... " +
			"no\nconfigure: error: recommended MOSS feature could not be enabled", "missing: libmoss is missing"},

		{"checking for moss-config... no\nconfigure: error: MOSS configuration could not be found",
			"missing: MOSS is missing"},
		{"--   Package 'libmoss-2.0', required by 'virtual:world', not found\nCMake Error at CMakeLists.txt:495 " +
			"(message):\n  You asked for leaves, but the necessary development packages are missing\n  (libmoss 2.7 or " +
			"higher is required).  Pass -DLEAVES=False to cmake.\n",
			"missing_module: the pkg-config module libmoss-2.0 is missing; or -DLEAVES=False"},
		{"checking for mossw... no\nchecking for moss... no\nconfigure: error: moss support missing/incomplete (for less " +
			"use --without-moss)", "missing: moss is missing; or --without-moss"},
		{"checking for moss-update... no\nconfigure: error: The moss scripts were not found. Please install moss.",
			"missing: it seems that moss is missing"},
		{"checking for libmoss >= 1.0... no\n*** Error: No suitable libmoss found. ***\n    Please install the 'libmoss' " +
			"package", "missing_module: the pkg-config module libmoss >= 1.0 is missing"},
		{"configure: WARNING: sporegen not found. Please install before continuing.\nconfigure: error: Required packages " +
			"are missing. Please install them and rerun ./configure", "missing: it seems that sporegen is missing"},
		{"checking for moss_open... no\nconfigure: error: you need either leaf with moss support or libmoss to compile this.",
			"missing: it seems that leaf is missing"},

		{"checking for sys/mossy.h... no\nconfigure: error: *** some soil headers not found",
			"missing_header: it seems that the header sys/mossy.h is missing"},
		{"checking for Moss... no\nconfigure: error:\n    libmoss is required to build this package!",
			"missing: libmoss is missing"},
		{"checking for MOSS2... no\nconfigure: error: Moss is not installed - see the garden to get 2.0.7",
			"missing: moss2 is missing"},
		{"configure: error: libmoss-3.0 package not found or too old. Is the development package and pkg-config " +
			"(/usr/bin/pkg-config) installed?", "missing: it seems that libmoss-3.0 is missing"},
		{"checking for moss_read in -lmoss... no\nCannot find libmoss or you have too old version (v6 or later required).",
			"missing_library: the library moss is missing"},
		{"*** Could not run Moss test program, checking why...\nconfigure: error:\n    libleaf is required to build this " +
			"package!", "missing: it seems that libleaf is missing"},

		{"configure: error: \n=====\nCannot link against libmoss? Try these steps.\n=====",
			"missing: it seems that libmoss is missing"},

		// Autotools.
		{"configure.ac:70: error: possibly undefined macro: AC_MSG_ERROR\n      If this token\nconfigure.ac:74: error: " +
			"possibly undefined macro: AM_PATH_LEAF", "missing_macro: the autoconf macro AM_PATH_LEAF is missing"},
		{"./configure: line 14288: no: command not found\nchecking for MOSS - version >= 1.17... no\nconfigure: error: " +
			"libmoss was not found", "missing: it seems that libmoss is missing"},
		{"configure: error: in `/work':\nconfigure: error: \n  Could not link test program to Python. Maybe the main " +
			"Python library has been\n", "missing_header: it seems that the header Python.h is missing"},
		{"checking for MOSS... no\nchecking for Moss... no\nconfigure: error: must have Moss installed!",
			"missing: Moss is missing"},
		{"WARNING: 'aclocal-1.16' is missing on your system.\n         You should only need it if",
			"setup: make wants to generate the configure script again with aclocal-1.16, because files of the source seem to " +
				"have changed"},
		{"configure.ac:9: error: possibly undefined macro: AX_CHECK_LEAF",
			"missing_macro: the autoconf macro AX_CHECK_LEAF is missing"},
		{"./configure: unknown option --with-moss", "wrong_option: there is no option --with-moss"},

		// CMake.
		{"CMake Error at F.cmake:230 (message):\n  Could NOT find Python3 (missing: Python3_INCLUDE_DIRS Development)",
			"missing_header: the header Python.h is missing"},
		{"CMake Error at F.cmake:230 (message):\n  Could NOT find Moss, try to set the path to Moss root folder in the",
			"missing_package: CMake cannot find the package Moss"},
		{"CMake Error at CMakeLists.txt:3 (find_library):\n  Could not find MOSS_LIB using the following names: libmoss, " +
			"moss", "missing_library: the library moss is missing"},

		{"mkdir: cannot create directory '.libs': File exists\ngcc: error: unrecognized command-line option " +
			"'-fleaves'\nmake: *** [Makefile:9: leaf.lo] Error 1", "wrong_option: there is no option -fleaves"},
		{"CMake Error at CMakeLists.txt:32 (grow):\n  Unknown CMake command \"grow\".",
			"own_words: it says: Unknown CMake command \"grow\"."},
		{"ln: failed to create symbolic link '/usr/lib/libleaf.so': Read-only file system",
			"permission: it must not change or read /usr/lib/libleaf.so (Read-only file system)"},

		// Meson.

		// Compilers and linkers.
		{"ld: moss.o: multiple definition of `leaf'; leaf.o: first defined here",
			"compiler_too_new: leaf is defined in several files"},

		// Shells, make and others.
		{"make: *** No rule to make target '/usr/lib/libmoss.so', needed by 'leaf'.  Stop.",
			"missing_library: the library moss is missing"},

		{"Error: Please make sure the libmoss and libleaf development packages are installed.",
			"missing: it seems that libmoss is missing"},
		{"checking for main in -lmoss... no\nconfigure: error: see the INSTALL doc for more info",
			"missing_library: it seems that the library moss is missing"},

		{"checking for suitable m4... configure: error: No usable m4 in $PATH or /usr/5bin (see config.log for reasons).",
			"missing_program: the program m4 is missing"},
		{"checking for cc... no\nconfigure: error: in `/work/leaf':\nconfigure: error: no acceptable C compiler found in " +
			"$PATH\nSee `config.log' for more details", "missing_program: the program cc is missing"},
		{"Makefile:76: *** Cannot find development files for any supported version of libmoss.  Stop.",
			"missing: it seems that libmoss is missing"},
		{"configure: error: moss requires the leaf library.  Try passing --with-leaf=builtin",
			"missing: it seems that leaf is missing; or --with-leaf=builtin"},

		// Languages.
		{"SyntaxError: Missing parentheses in call to 'print'. Did you mean print(...)?",
			"too_new: the script is for Python 2, and this Python is newer"},
	} {
		got := Own().Log(c.log)
		text := described(got)
		assert.Equal(t, c.want, text, "%s", c.log)
	}
}

// The first cause counts, with the lines around it; further logs are named.
func TestTheFirstCauseWithItsLines(t *testing.T) {
	log := strings.Repeat("CC moss.o\n", 50) +
		"leaf.c:5:10: fatal error: moss.h: No such file or directory\nmake: *** [leaf.o] Error 1\n" +
		strings.Repeat("CC fern.o\n", 50) + "/usr/bin/ld: cannot find -lfern\nSee `config.log' for more details\n"
	went := "./configure: line 24546: LEAF_HEADERS: command not found\nsh: 1: python: not found\n" +
		strings.Repeat("checking for more... yes\n", 50)
	assert.False(t, Own().Log(went).Known(), "what goes on is no cause")
	c := Own().Log(went + log)
	c.Line -= 52
	assert.Equal(t, "moss.h", c.Name())
	assert.Equal(t, 51, c.Line)
	assert.Len(t, c.Lines, 9)
	assert.Equal(t, "config.log", c.See)
	assert.False(t, Own().Log("a\nb").Known())
	assert.Equal(t, []string{"a", "b"}, Own().Log("a\nb").Lines)
}

// What one log says is missing besides is told as well.
func TestSeveralThingsAtOnce(t *testing.T) {
	c := Own().Log("sh: 1: sporegen: not found\nsh: 1: fungen: not found\nsh: 1: sporegen: not found\nmake: *** [Makefile:3: " +
		"all] Error 127\n")
	assert.Equal(t, "the program sporegen is missing", c.String())
	assert.Len(t, c.Also, 1)
	assert.Equal(t, "the program fungen is missing", c.Also[0].String())
	text := "configure: error: in `/work/leaf':\nconfigure: error: C compiler cannot create executables\nSee " +
		"`config.log' for more details"
	assert.Equal(t, "it seems that the header stdio.h is missing", Own().Log(text).Guess(text).String())
}

// If a log only points to another, the last thing that was checked there is the cause;
// earlier negative answers are not.
func TestElsewhere(t *testing.T) {
	log := "configure:100: checking for moss.h\nconfigure:101: gcc -c conftest.c\nconftest.c:5:10: fatal error: " +
		"moss.h: No such file or directory\nconfigure:102: result: no\n" +
		"configure:200: checking whether the C compiler works\nconfigure:201: gcc conftest.c -lleaf\n/usr/bin/ld: cannot " +
		"find -lleaf\ncollect2: error: ld returned 1 exit status\n" +
		"configure:210: result: no\nconfigure:220: error: C compiler cannot create executables\nSee `config.log' for more " +
		"details\n## Cache variables. ##\n"
	c := Own().Elsewhere("/work/build/config.log", log)
	assert.Equal(t, "the library leaf is missing", c.String())
	assert.Equal(t, 7, c.Line)
	assert.False(t, Own().Elsewhere("config.log", "configure:1: checking\n").Known())
	assert.Equal(t, "moss.h", Own().
		Elsewhere("CMakeFiles/CMakeConfigureLog.yaml",
			"events:\n  -\n    stdout: |\n        leaf.c:5:10: fatal error: moss.h: No such file or directory\n        "+
				"compilation terminated.\n").Name())
	assert.Equal(t, "leaf", Own().
		Elsewhere("meson-log.txt", strings.Repeat("Checking\n", 200)+"meson.build:1:0: ERROR: Dependency \"leaf\" not found").
		Name())
}

// The questions to ask, by likelihood. A log names another log near its end, not somewhere
// before.
func TestWhereMoreIsToBeRead(t *testing.T) {
	far := func(lines int) string {
		return "See `config.log' for more details\n" + strings.Repeat("leaf\n", lines)
	}
	assert.Equal(t, "config.log", Own().Log(far(99)).See)
	assert.Empty(t, Own().Log(far(100)).See)
}

func TestQuestions(t *testing.T) {
	for _, c := range []struct {
		cause Cause
		want  string
	}{
		{Cause{Kind: MissingHeader, Names: []string{"leaf.h"}}, "header leaf.h"},
		{Cause{Kind: MissingShared, Names: []string{"libleaf.so.2"}}, "library leaf, shared libleaf.so.2"},
		{Cause{Kind: MissingModule, Names: []string{"Leaf"}}, "module Leaf, package leaf, program Leaf"},
		{Cause{Kind: MissingPython, Names: []string{"leaf-edge"}}, "python leaf_edge"},
		{Cause{Kind: MissingPerl, Names: []string{"Leaf::Edge"}}, "perl Leaf::Edge"},
		{Cause{Kind: MissingMacro, Names: []string{"AX_LEAF"}}, "file /usr/share/aclocal/ax_leaf.m4"},
		{Cause{Kind: MissingMacro, Names: []string{"AX_PATH_LEAF"}},
			"file /usr/share/aclocal/ax_path_leaf.m4, file /usr/share/aclocal/leaf.m4"},
		{Cause{Kind: MissingMacro, Names: []string{"AM_PATH_LEAF"}}, "file /usr/share/aclocal/leaf.m4"},
		{Cause{Kind: MissingProgram, Names: []string{"yacc", "moss"}}, "program yacc, program bison"},
		{Cause{Kind: MissingProgram, Names: []string{"zlib-config"}}, "program zlib-config, header zlib.h"},
		{Cause{Kind: TooOld, Names: []string{"leaf"}}, "module leaf, program leaf"},
		{Cause{Kind: MissingPackage, Names: []string{"ZLIB"}}, "package zlib, header zlib.h, module ZLIB, module zlib"},
		{Cause{Kind: MissingPackage, Names: []string{"Moss"}, library: true}, "package moss, module Moss, module moss, module libmoss, " +
			"library moss, header moss.h, header moss/moss.h, package moss"},
		{Cause{Kind: Missing, Names: []string{"libLeaf"}}, "module libLeaf, module libleaf"},
		{Cause{Kind: TestFailed}, ""},
	} {
		var all []string
		for _, q := range c.cause.Questions() {
			all = append(all, q.String())
		}
		assert.True(t, strings.HasPrefix(strings.Join(all, ", "), c.want), "%s: %s", c.want, all)
	}
}

func FuzzLog(f *testing.F) {
	f.Add("configure: error: Package requirements (a) were not met:\n\nNo package 'b' found")
	f.Add("checking for a... no\nconfigure: error: b")
	f.Fuzz(func(t *testing.T, text string) {
		_ = Own().Log(text).String()
		_ = Own().Elsewhere("config.log", text).String()
	})
}

// Logs may be anything, of any length of lines; each is gone through once. The counts
// are such that it would take minutes otherwise.
func TestLongLogsEnd(t *testing.T) {
	for _, text := range []string{
		"configure: error: " + strings.Repeat("x y ", 1<<20),
		strings.Repeat("a:1:2: error: b: No such file or directory\n", 90_000) + strings.Repeat("\n", 100),
		strings.Repeat("checking for a... no\n", 100_000),
	} {
		_ = Own().Log(text).String()
	}
}
