package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each rule with what programs print, and what that means.
func TestCauses(t *testing.T) {
	used := map[*rule]bool{}
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
		{"configure: WARNING: unrecognized options: --disable-static\nconfigure.ac:10: error: possibly undefined macro: LT_INIT", "missing_program: the program libtoolize is missing"},
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

		// Words of build files.
		{"checking attr/dew.h usability... no\nchecking for attr/dew.h... no\n\nFATAL ERROR: attr/dew.h does not exist.\nInstall the dew development package.", "missing_header: the header attr/dew.h is missing"},
		{"checking for libmoss directory... configure: error: libmoss is required.  You can get it from https://vale.example/moss/", "missing: libmoss is missing"},
		{"checking for moss-config... no\nchecking for LIBMOSS... no\nconfigure: error: Could not find libmoss2 anywhere.", "missing: it seems that libmoss2 is missing"},
		{"checking for MOSS... no\nconfigure: error: \n  ***\n  *** Libmoss 3.6 was not found.", "missing: Libmoss is missing"},
		{"checking for SSL... configure: error: Cannot find the SSL libraries in /usr/lib/ssl", "missing: SSL is missing"},
		{"./configure: error: the misting module requires the MOSS library.\nYou can either disable the module by using --without-misting\noption, or install the MOSS library.", "missing: it seems that MOSS is missing; or --without-misting"},
		{"checking for moss2-config... no\nconfigure: error: moss2-config not found, install the moss2-devel package or build with --without-moss2", "missing_program: the program moss2-config is missing; or --without-moss2"},
		{"checking for libmoss >= 2... no\nchecking for library containing moss_init... no\nconfigure: error: \"libmoss not found\"", "missing_module: the pkg-config module libmoss >= 2 is missing"},
		{"checking for a... no\nchecking for library containing tgetent... no\nconfigure: error: !!! none - no plan", "missing_library: it seems that the library tinfo is missing"},
		{"checking for initscr in -lleafw... no\nchecking for initscr in -lleaf... no\nchecking for working libraries... Cannot find libraries - configure failed", "missing_library: it seems that the library leafw or leaf is missing"},
		{"checking for gnu/fern-32.h... no\nconfigure: error: Cannot enable m32 support", "missing_header: it seems that the header gnu/fern-32.h is missing"},
		{"checking for Leaf::Parser... configure: error: Leaf::Parser perl module is required for moss", "missing_perl_module: the Perl module Leaf::Parser is missing"},
		{"configure:\n***\n*** You need libmoss to build this program.\n***\nconfigure: error:\n***\n*** Required libraries not found. Please consult the above messages\n***", "missing: it seems that libmoss is missing"},
		{"configure: ERROR: No moss crypto library found!\nconfigure: error: Required dependencies are missing!", "missing: it seems that moss is missing"},
		{"Neither sporegen nor fungen have been found. See the README.\n\nConfiguration failed.", "missing_program: the program sporegen or fungen is missing"},
		{"Found no assembler\nMinimum version is sporegen-2.13\nIf you really want to do without, configure with --disable-spores.", "missing_program: the program sporegen >= 2.13 is missing; or --disable-spores"},
		{"Makefile:5: *** libmoss is required to build this.  Stop.", "missing: it seems that libmoss is missing"},
		{"Makefile:5: *** missing separator.  Stop.", "unknown: the cause is not clear"},
		{"leaf.c:3:2: error: #error libmoss is required", "missing: it seems that libmoss is missing (leaf.c:3)"},
		{"leaf.c:3:2: error: #error too dry", "compile_error: the compiler refuses the code; nothing is missing (leaf.c:3)"},
		{"CMake Error at CMakeLists.txt:9 (message):\n  The library libmoss was not found!\n\n-- Configuring incomplete, errors occurred!", "missing: it seems that libmoss is missing"},
		{"-- Looking for moss.h - not found\nCMake Error at CMakeLists.txt:9 (message):\n  moss is needed\n", "missing_header: the header moss.h is missing"},
		{"meson.build:7:8: ERROR: Problem encountered: python3 leaves missing", "missing_python_module: it seems that the Python module leaves is missing"},
		{"Library moss found: NO\nmeson.build:7:8: ERROR: Problem encountered: libmoss not found", "missing_library: the library moss is missing"},
		{"meson.build:7:8: ERROR: Assert failed: moss is required", "missing: it seems that moss is missing"},

		{"ERROR: libmoss >= 2.1 not found using pkg-config\n\nIf you think configure made a mistake, tell us.", "missing_module: it seems that the pkg-config module libmoss >= 2.1 is missing"},
		{"ERROR: the soil is too dry", "unknown: the cause is not clear"},
		{"sporegen/fungen not found or too old. Use --disable-spores for less.", "missing_program: the program sporegen or fungen is missing"},
		{"checking for leaf/edge.h... no\nchecking for garden's moss feature... \nconfigure: WARNING: Could not find libmoss in the pkg-config search path\nchecking whether garden's moss feature could be enabled... no\nconfigure: error: recommended MOSS feature could not be enabled", "missing: libmoss is missing"},

		{"checking for moss-config... no\nconfigure: error: MOSS configuration could not be found", "missing: MOSS is missing"},
		{"--   Package 'libmoss-2.0', required by 'virtual:world', not found\nCMake Error at CMakeLists.txt:495 (message):\n  You asked for leaves, but the necessary development packages are missing\n  (libmoss 2.7 or higher is required).  Pass -DLEAVES=False to cmake.\n", "missing_module: the pkg-config module libmoss-2.0 is missing; or -DLEAVES=False"},
		{"checking for mossw... no\nchecking for moss... no\nconfigure: error: moss support missing/incomplete (for less use --without-moss)", "missing: moss is missing; or --without-moss"},
		{"configure.ac:22: error: => GNU autoconf-archive not present. <=", "missing: it seems that autoconf-archive is missing"},
		{"checking for moss-update... no\nconfigure: error: The moss scripts were not found. Please install moss.", "missing: it seems that moss is missing"},
		{"checking for libmoss >= 1.0... no\n*** Error: No suitable libmoss found. ***\n    Please install the 'libmoss' package", "missing_module: the pkg-config module libmoss >= 1.0 is missing"},
		{"configure: WARNING: sporegen not found. Please install before continuing.\nconfigure: error: Required packages are missing. Please install them and rerun ./configure", "missing: it seems that sporegen is missing"},
		{"checking for moss_open... no\nconfigure: error: you need either leaf with moss support or libmoss to compile this.", "missing: it seems that leaf is missing"},

		{"checking for sys/mossy.h... no\nconfigure: error: *** some soil headers not found", "missing_header: it seems that the header sys/mossy.h is missing"},
		{"checking for Moss... no\nconfigure: error:\n    libmoss is required to build this package!", "missing: libmoss is missing"},
		{"checking for MOSS2... no\nconfigure: error: Moss is not installed - see the garden to get 2.0.7", "missing: moss2 is missing"},
		{"configure: error: libmoss-3.0 package not found or too old. Is the development package and pkg-config (/usr/bin/pkg-config) installed?", "missing: it seems that libmoss-3.0 is missing"},
		{"checking for moss_read in -lmoss... no\nCannot find libmoss or you have too old version (v6 or later required).", "missing_library: the library moss is missing"},
		{"**Error**: You must have `sporegen' installed.\nDownload it.", "missing: sporegen is missing"},
		{"*** Could not run Moss test program, checking why...\nconfigure: error:\n    libleaf is required to build this package!", "missing: it seems that libleaf is missing"},

		{"configure: error: \n=====\nCannot link against libmoss? Try these steps.\n=====", "missing: it seems that libmoss is missing"},

		// Autotools.
		{"configure.ac:70: error: possibly undefined macro: AC_MSG_ERROR", "missing_program: it seems that the program pkg-config is missing"},
		{"configure.ac:70: error: possibly undefined macro: AC_MSG_ERROR\n      If this token\nconfigure.ac:74: error: possibly undefined macro: AM_PATH_LEAF", "missing_macro: the autoconf macro AM_PATH_LEAF is missing"},
		{"Perhaps you should add the directory containing `moss.pc'\nPackage 'moss', required by 'virtual:world', not found\nmake[1]: *** [Makefile:53: .depcheck] Error 1", "missing_module: the pkg-config module moss is missing"},
		{"./configure: line 14288: no: command not found\nchecking for MOSS - version >= 1.17... no\nconfigure: error: libmoss was not found", "missing: it seems that libmoss is missing"},
		{"configure: error: Package requirements ( leaf >= 2.4.0 ) were not met:", "missing_module: the pkg-config module leaf >= 2.4.0 is missing"},
		{"configure: error: in `/work':\nconfigure: error: \n  Could not link test program to Python. Maybe the main Python library has been\n", "missing_header: it seems that the header Python.h is missing"},
		{"checking for MOSS... no\nchecking for Moss... no\nconfigure: error: must have Moss installed!", "missing: Moss is missing"},
		{"WARNING: 'aclocal-1.16' is missing on your system.\n         You should only need it if", "missing_program: the program aclocal is missing"},
		{"configure: error: The pkg-config script could not be found or is too old.", "missing_program: the program pkg-config is missing"},
		{"configure: error: no acceptable m4 could be found in $PATH.", "missing_program: the program m4 is missing"},
		{"Makefile.am:3: error: Libtool library used but 'LIBTOOL' is undefined", "missing_program: the program libtoolize is missing"},
		{"configure.ac:9: error: possibly undefined macro: AX_CHECK_LEAF", "missing_macro: the autoconf macro AX_CHECK_LEAF is missing"},
		{"./configure: line 3401: syntax error near unexpected token `LEAF,'\n./configure: line 3401: `PKG_CHECK_MODULES(LEAF, leaf >= 1.0)'", "missing_program: the program pkg-config is missing"},
		{"./configure: 2401: AX_CHECK_LEAF: not found", "missing_macro: the autoconf macro AX_CHECK_LEAF is missing"},
		{"configure.ac:9: warning: AX_LEAF is m4_require'd but not m4_defun'd", "missing_macro: the autoconf macro AX_LEAF is missing"},
		{"configure: error: cannot find required auxiliary files: config.guess config.sub", "missing_in_source: the source has no file config.guess"},
		{"configure: error: cannot find install-sh, install.sh, or shtool in . ./..", "missing_in_source: the source has no file install-sh"},
		{"Makefile.am: error: required file './NEWS' not found", "missing_in_source: the source has no file ./NEWS"},
		{"config.status: error: cannot find input file: `src/soil/Makefile.in'", "missing_in_source: the source has no file src/soil/Makefile.in"},
		{"configure.ac:3: error: Autoconf version 2.72 or higher is required", "too_old: autoconf >= 2.72 is wanted"},
		{"Package dependency requirement 'moss >= 2' could not be satisfied.\nPackage 'moss' has version '1.4', required version is '>= 2'", "too_old: moss >= 2 is wanted, and 1.4 is there"},
		{"Requested 'moss >= 2' but version of Moss is 1.4", "too_old: moss >= 2 is wanted, and 1.4 is there"},
		{"configure: error: *** A compiler with support for C++17 language features is required.", "compiler_too_old: the compiler is too old for the code, which wants C++17"},
		{"./configure: unknown option --with-moss", "wrong_option: there is no option --with-moss"},
		{"ERROR: unknown option --with-moss", "wrong_option: there is no option --with-moss"},

		// CMake.
		{"CMake Error at CMakeLists.txt:2 (project):\n  No CMAKE_ASM_NASM_COMPILER could be found.", "missing_program: the program nasm is missing"},
		{"  The CMAKE_C_COMPILER:\n\n    fern-cc\n\n  is not a full path and was not found in the PATH.", "missing_program: the program fern-cc is missing"},
		{"CMake Error: CMake was unable to find a build program corresponding to \"Ninja\".", "missing_program: the program ninja is missing"},
		{"CMake Error at CMakeLists.txt:1 (cmake_minimum_required):\n  Compatibility with CMake < 3.5 has been removed from CMake.", "too_new: cmake is newer than the source knows"},
		{"  Target \"leaf\" requires the language dialect \"CXX23\" (with compiler extensions).", "compiler_too_old: the compiler is too old for the code, which wants CXX23"},
		{"  The compiler feature \"cxx_std_26\" is not known to CXX compiler", "compiler_too_old: the compiler is too old for the code, which wants cxx_std_26"},
		{"CMake Error at F.cmake:230 (message):\n  Could NOT find PkgConfig (missing: PKG_CONFIG_EXECUTABLE)", "missing_program: the program pkg-config is missing"},
		{"CMake Error at F.cmake:607 (message):\n  pkg-config tool not found", "missing_program: the program pkg-config is missing"},
		{"CMake Error at F.cmake:230 (message):\n  Could NOT find BISON (missing: BISON_EXECUTABLE)", "missing_program: the program bison is missing"},
		{"CMake Error at F.cmake:230 (message):\n  Could NOT find Python3 (missing: Python3_INCLUDE_DIRS Development)", "missing_header: the header Python.h is missing"},
		{"CMake Error at F.cmake:230 (message):\n  Could NOT find Moss, try to set the path to Moss root folder in the", "missing_package: CMake does not find the package Moss"},
		{"  Could not find a package configuration file provided by\n  \"LoamDatabase\" with any of the following names:", "missing_package: CMake does not find the package LoamDatabase"},
		{"CMake Error at CMakeLists.txt:8 (find_package):\n  By not providing \"FindMoss.cmake\" in CMAKE_MODULE_PATH this project has", "missing_package: CMake does not find the package Moss"},
		{"CMake Error at CMakeLists.txt:3 (find_library):\n  Could not find MOSS_LIB using the following names: libmoss, moss", "missing_library: the library moss is missing"},
		{"CMake Error at CMakeLists.txt:3 (find_program):\n  Could not find SPORES using the following names: sporegen", "missing_program: the program sporegen is missing"},
		{"  include could not find requested file:\n\n    MossSetup\n", "missing_package: CMake does not find the package MossSetup"},
		{"CMake Error at F.cmake:607 (message):\n  The following required packages were not found:\n\n   - moss>=2\n", "missing_module: the pkg-config module moss >=2 is missing"},
		{"CMake Error at F.cmake:900 (message):\n  None of the required 'moss;leaf' found", "missing: it seems that leaf is missing"},
		{"CMake Error: The following variables are used in this project, but they are set to NOTFOUND.\nPlease set them or make sure they are set and tested correctly in the CMake files:\nMOSS_MOSS_LIBRARY (ADVANCED)", "missing: it seems that moss is missing"},
		{"  The source directory\n\n    /work/third/moss\n\n  does not contain a CMakeLists.txt file.", "missing_in_source: the source has no file /work/third/moss/CMakeLists.txt"},
		{"  add_subdirectory given source \"third/moss\" which is", "missing_in_source: the source has no file third/moss"},
		{"CMake Error at CMakeLists.txt:80 (add_library):\n  Cannot find source file:\n\n    leaf/edge.cc\n", "missing_in_source: the source has no file leaf/edge.cc"},
		{"CMake Error: File /work/leaf.h.in does not exist.", "missing_in_source: the source has no file /work/leaf.h.in"},

		{"mkdir: cannot create directory '.libs': File exists\ngcc: error: unrecognized command-line option '-fleaves'\nmake: *** [Makefile:9: leaf.lo] Error 1", "wrong_option: there is no option -fleaves"},
		{"  Found relative path while evaluating include directories of \"leaf\":\n\n    \"/work/LIBMOSS_INCLUDE_DIR-NOTFOUND\"\n", "missing: it seems that libmoss is missing"},
		{"-- Could NOT find BISON (missing: BISON_EXECUTABLE) \nCMake Error at CMakeLists.txt:32 (BISON_TARGET):\n  Unknown CMake command \"BISON_TARGET\".", "missing_program: the program bison is missing"},
		{"CMake Error at CMakeLists.txt:32 (grow):\n  Unknown CMake command \"grow\".", "unknown: the cause is not clear"},
		{"ln: failed to create symbolic link '/usr/lib/libleaf.so': Read-only file system", "permission: it may not change or read /usr/lib/libleaf.so"},
		{"chown: changing ownership of '/usr/share/leaf': Operation not permitted", "permission: it may not change or read /usr/share/leaf"},

		// Meson.
		{"ERROR: Unknown compiler(s): [['rustc']]", "missing_program: the program rustc is missing"},
		{"meson.build:1:0: ERROR: Could not execute Moss compiler: mossc", "missing_program: the program mossc is missing"},
		{"ERROR: Could not detect Ninja v1.8.2 or newer", "missing_program: the program ninja is missing"},
		{"meson.build:9:0: ERROR: Dependency lookup for moss with method 'pkgconfig' failed: Pkg-config for machine host machine not found. Giving up.", "missing_program: the program pkg-config is missing"},
		{"Did not find pkg-config by name 'pkg-config'\nFound pkg-config: NO\nmeson.build:9:0: ERROR: Dependency \"moss\" not found, tried pkgconfig", "missing_program: the program pkg-config is missing"},
		{"meson.build:3:0: ERROR: python3 is missing modules: leaves", "missing_python_module: the Python module leaves is missing"},
		{"meson.build:3:0: ERROR: Invalid version of dependency, need 'moss' ['>= 2'] found '1.4'.", "too_old: moss >= 2 is wanted, and 1.4 is there"},
		{"Run-time dependency moss found: NO (tried pkgconfig and cmake)\nLooking for a fallback subproject for the dependency moss\nmeson.build:5:0: ERROR: Git program not found, cannot download moss.wrap via git.", "missing_module: the pkg-config module moss is missing"},
		{"Looking for a fallback subproject for the dependency moss\n<urlopen error [Errno -3] Temporary failure in name resolution>\nmeson.build:5:0: ERROR: could not get it", "missing_module: the pkg-config module moss is missing"},
		{"meson.build:3:0: ERROR: CMake package 'Moss' not found", "missing_package: CMake does not find the package Moss"},
		{"meson.build:3:0: ERROR: C header 'moss.h' not found", "missing_header: the header moss.h is missing"},
		{"meson.build:3:0: ERROR: Value \"peat\" (of type \"string\") for combo option \"soil\" is not one of the choices.", "wrong_option: there is no option soil"},
		{"src/meson.build:3:0: ERROR: File /work/list.dat does not exist.", "missing_in_source: the source has no file /work/list.dat"},
		{"meson.build:3:0: ERROR: Nonexistent build file 'leaf/meson.build'", "missing_in_source: the source has no file leaf/meson.build"},

		// Compilers and linkers.
		{"g++: fatal error: cannot execute ‘cc1plus’: execvp: No such file or directory", "missing_program: the program c++ is missing"},
		{"gcc: fatal error: cannot execute 'f951': execvp: No such file or directory", "missing_program: the program gfortran is missing"},
		{"cc1: fatal error: leaf.c: No such file or directory", "missing_in_source: the source has no file leaf.c"},
		{"g++: error: unrecognized command-line option '-std=c++26'; did you mean", "compiler_too_old: the compiler is too old for the code, which wants c++26"},
		{"leaf.h:3:2: error: #error \"C++17 or later is required\"", "compiler_too_old: the compiler is too old for the code, which wants C++17"},
		{"/usr/include/c++/4/bits.h:32:2: error: #error This file requires compiler and library support for the ISO C++ 2011 standard.", "compiler_too_old: the compiler is too old for the code, which wants ISO C++ 2011"},
		{"cc: error: unrecognized command-line option '-fleaves'", "wrong_option: there is no option -fleaves"},
		{"clang: error: unknown argument: '-fleaves'", "wrong_option: there is no option -fleaves"},
		{"leaf.h:8:3: error: 'uint32_t' does not name a type", "compiler_too_new: the code is older than the compiler, which refuses it (leaf.h:8)"},
		{"leaf.c:8:3: error: unused variable 'x' [-Werror=unused-variable]\ncc1: all warnings being treated as errors", "warning_as_error: the source has warnings of the compiler count as errors (-Werror) (leaf.c:8)"},
		{"leaf.c:8:3: internal compiler error: Segmentation fault", "compiler_crashed: the compiler has crashed (leaf.c:8)"},
		{"leaf.s:12: Error: no such instruction: `spore'", "compile_error: the compiler refuses the code; nothing is missing (leaf.s:12)"},
		{"/usr/bin/ld: cannot find Scrt1.o: No such file or directory", "missing_library: the library c is missing"},
		{"/usr/bin/ld: cannot open output file BIN/leaf: No such file or directory", "missing_in_source: the source has no file BIN"},
		{"/usr/bin/ld: cannot find /usr/lib/libmoss.so: No such file or directory", "missing_library: the library /usr/lib/libmoss.so is missing"},
		{"/usr/bin/ld: leaf.o: relocation R_X86_64_32 against `.rodata' can not be used when making a shared object; recompile with -fPIC", "not_relocatable: code of a shared library was compiled without -fPIC"},
		{"ld: moss.o: multiple definition of `leaf'; leaf.o: first defined here", "compiler_too_new: the code is older than the compiler, which refuses it"},
		{"ld.lld: error: undefined symbol: moss_open", "undefined_reference: the linker finds nothing called moss_open"},
		{"leaf.o: file not recognized: file truncated", "race: jobs that ran side by side seem to have been in each other's way"},
		{"mkdir: cannot create directory 'leaves': File exists\nmake: *** [Makefile:9: leaves] Error 1", "race: jobs that ran side by side seem to have been in each other's way"},

		// Shells, make and others.
		{"Can't exec \"libtoolize\": No such file or directory at /usr/share/autoconf/FileUtils.pm line 294.", "missing_program: the program libtoolize is missing"},
		{"autoreconf: error: failed to run aclocal: No such file or directory", "missing_program: the program aclocal is missing"},
		{"FileNotFoundError: [Errno 2] No such file or directory: 'sporegen'", "missing_program: the program sporegen is missing"},
		{"./grow: error while loading shared libraries: libmoss.so.2: cannot open shared object file: No such file or directory", "missing_shared_library: a program does not find the shared library libmoss.so.2"},
		{"/bin/sh: ./leaf.py: /usr/bin/python2: bad interpreter: No such file or directory", "missing_program: the program /usr/bin/python2 is missing"},
		{"make: *** No rule to make target '/usr/lib/libmoss.so', needed by 'leaf'.  Stop.", "missing_library: the library moss is missing"},
		{"ninja: error: '/usr/include/moss.h', needed by 'leaf', missing and no known rule to make it", "missing_header: the header moss.h is missing"},
		{"make: *** No rule to make target 'grow'.  Stop.", "no_target: the makefile has no target grow"},
		{"make: *** No targets specified and no makefile found.  Stop.", "missing_in_source: the source has no file makefile"},
		{"Makefile:3: leaf.mk: No such file or directory", "missing_in_source: the source has no file leaf.mk"},
		{"make[1]: *** [Makefile:9: leaf.o] Killed", "killed: it was ended from outside"},
		{"c++: fatal error: Killed signal terminated program cc1plus", "no_memory: the memory was full"},
		{" 3/9 leaf:edge  TIMEOUT 30.04s", "timed_out: it took longer than it was given"},
		{"dial tcp: lookup vale.example: no such host", "network: it wanted the network, at vale.example"},
		{"npm ERR! request failed, reason: getaddrinfo EAI_AGAIN vale.example", "network: it wanted the network, at vale.example"},
		{"I/O error : Attempt to load network entity http://vale.example/leaf.xsl", "network: it wanted the network, at http://vale.example/leaf.xsl"},
		{"error: downloading 'https://vale.example/moss.zip' failed", "network: it wanted the network, at https://vale.example/moss.zip"},
		{"svn: E170013: Unable to connect to a repository at URL 'svn://vale.example/moss'", "network: it wanted the network, at svn://vale.example/moss"},
		{"connect: Network is unreachable", "network: it wanted the network"},

		{"connect: Name or service not known", "network: it wanted the network"},
		{" 2/7 Test #2: leaf ......***Timeout 30.01 sec", "timed_out: it took longer than it was given"},
		{"timeout: sending signal TERM to command 'grow'", "timed_out: it took longer than it was given"},
		{"86% tests passed, 1 tests failed out of 7", "test_failed: tests of the package failed"},
		{"Ok:  8\nFail:  1", "test_failed: tests of the package failed"},
		{"FAILED (failures=2)", "test_failed: tests of the package failed"},
		{"==== 2 failed, 9 passed in 0.2s ====", "test_failed: tests of the package failed"},
		{"Result: FAIL", "test_failed: tests of the package failed"},

		{"Error: Please make sure the libmoss and libleaf development packages are installed.", "missing: it seems that libmoss is missing"},
		{"The headers or library files could not be found for moss,\na required dependency", "missing: it seems that moss is missing"},
		{"Moss must be installed prior to building Leaf::Parser\nmake: *** No targets specified and no makefile found.  Stop.", "missing: Moss is missing"},
		{"*** Could not find Moss\n    If it's already installed, please set MOSS_PREFIX.", "missing: it seems that Moss is missing"},
		{"checking for main in -lmoss... no\nconfigure: error: see the INSTALL doc for more info", "missing_library: it seems that the library moss is missing"},

		{"checking for suitable m4... configure: error: No usable m4 in $PATH or /usr/5bin (see config.log for reasons).", "missing_program: the program m4 is missing"},
		{"checking for cc... no\nconfigure: error: in `/work/leaf':\nconfigure: error: no acceptable C compiler found in $PATH\nSee `config.log' for more details", "missing_program: the program cc is missing"},
		{"tar (child): xz: Cannot exec: No such file or directory\ntar (child): Error is not recoverable: exiting now", "missing_program: the program xz is missing"},
		{"Makefile:76: *** Cannot find development files for any supported version of libmoss.  Stop.", "missing: it seems that libmoss is missing"},
		{"configure: error: moss requires the leaf library.  Try passing --with-leaf=builtin", "missing: it seems that leaf is missing; or --with-leaf=builtin"},
		{"configure: error: plots enabled, but no Leaf support", "missing: it seems that Leaf is missing"},
		{"Failed to find leaf.h", "missing_header: it seems that the header leaf.h is missing"},

		// Languages.
		{"LEAF 1.57 is required to configure this module; please install it", "missing_perl_module: the Perl module LEAF >= 1.57 is missing"},
		{"pip: ERROR: Could not find a version that satisfies the requirement leaves>=40.8 (from versions: none)", "missing_python_module: the Python module leaves >=40.8 is missing"},
		{"BackendUnavailable: Cannot import 'leaves.build'", "missing_python_module: the Python module leaves is missing"},
		{"pkg_resources.DistributionNotFound: The 'leaves>=1' distribution was not found", "missing_python_module: the Python module leaves >=1 is missing"},
		{"error: invalid command 'bdist_wheel'", "missing_python_module: the Python module wheel is missing"},
		{"SyntaxError: Missing parentheses in call to 'print'. Did you mean print(...)?", "too_new: python3 is newer than the source knows"},
		{"Can't locate loadable object for module Leaf::Edge in @INC", "missing_perl_module: the Perl module Leaf::Edge is missing"},
		{"Warning: prerequisite Leaf::Edge 1.2 not found.", "missing_perl_module: the Perl module Leaf::Edge >= 1.2 is missing"},
		{"Perl v5.40.0 required--this is only v5.36.0, stopped at leaf.pl line 1.", "too_old: perl >= 5.40.0 is wanted, and 5.36.0 is there"},
		{"error: package `leaf v1.0` cannot be built because it requires rustc 1.70 or newer, while the currently active rustc version is 1.63", "too_old: rustc >= 1.70 is wanted, and 1.63 is there"},
		{"go: go.mod requires go >= 1.30 (running go 1.26; GOTOOLCHAIN=local)", "too_old: go >= 1.30 is wanted, and 1.26 is there"},
		{"error: linker `cc` not found", "missing_program: the program cc is missing"},
		{"mkmf.rb can't find header files for ruby at /usr/lib/ruby/include/ruby.h", "missing_header: the header ruby.h is missing"},
	} {
		got, by := diagnose(strings.Split(c.log, "\n"))
		used[by] = true
		text := string(got.Kind) + ": " + got.String()
		if got.Place != "" {
			text += " (" + got.Place + ")"
		}
		if got.Without != "" {
			text += "; or " + got.Without
		}
		assert.Equal(t, c.want, text, "%s", c.log)
	}
	for i := range rules {
		assert.True(t, used[&rules[i]], "no log for the rule %s", rules[i].pattern.Compiled())
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

// What one log says is missing besides is told as well.
func TestSeveralThingsAtOnce(t *testing.T) {
	c := Log("sh: 1: sporegen: not found\nsh: 1: fungen: not found\nsh: 1: sporegen: not found\nmake: *** [Makefile:3: all] Error 127\n")
	assert.Equal(t, "the program sporegen is missing", c.String())
	assert.Len(t, c.Also, 1)
	assert.Equal(t, "the program fungen is missing", c.Also[0].String())
	text := "configure: error: in `/work/leaf':\nconfigure: error: C compiler cannot create executables\nSee `config.log' for more details"
	assert.Equal(t, "it seems that the header stdio.h is missing", Log(text).Guess(text).String())
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
	assert.Equal(t, "moss.h", Elsewhere("CMakeFiles/CMakeConfigureLog.yaml", "events:\n  -\n    stdout: |\n        leaf.c:5:10: fatal error: moss.h: No such file or directory\n        compilation terminated.\n").Name())
	assert.Equal(t, "leaf", Elsewhere("meson-log.txt", strings.Repeat("Checking\n", 200)+"meson.build:1:0: ERROR: Dependency \"leaf\" not found").Name())
}

// What can be asked for, in the order of likelihood.
// A log that points to another does so near its end, not somewhere before.
func TestWhereMoreIsToBeRead(t *testing.T) {
	far := func(lines int) string {
		return "See `config.log' for more details\n" + strings.Repeat("leaf\n", lines)
	}
	assert.Equal(t, "config.log", Log(far(99)).See)
	assert.Empty(t, Log(far(100)).See)
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
		{Cause{Kind: MissingMacro, Names: []string{"AM_PATH_LEAF"}}, "file /usr/share/aclocal/leaf.m4"},
		{Cause{Kind: MissingProgram, Names: []string{"yacc", "moss"}}, "program yacc, program bison"},
		{Cause{Kind: MissingProgram, Names: []string{"zlib-config"}}, "program zlib-config, header zlib.h"},
		{Cause{Kind: TooOld, Names: []string{"leaf"}}, "module leaf, program leaf"},
		{Cause{Kind: MissingPackage, Names: []string{"ZLIB"}}, "package zlib, header zlib.h, module ZLIB, module zlib"},
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
		_ = Log(text).String()
		_ = Elsewhere("config.log", text).String()
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
		_ = Log(text).String()
	}
}
