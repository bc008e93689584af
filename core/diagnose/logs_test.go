package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Whole logs, with the usual output before and after, and with harmless errors.
func TestWholeLogs(t *testing.T) {
	for name, c := range map[string]struct {
		log, want string
		line      int
	}{
		"a configure script that goes on after much that it lacks": {`checking for python... no
./configure: line 14258: python-config: command not found
checking for libsoil-config... no
Crypto extensions will not be available. Install libsoil to make them available.
checking for rain.h... no
checking for library containing sunrise... none required
checking for moss-config... no
checking for LIBMOSS... no
configure: error: Could not find libmoss anywhere.
`, "libmoss is missing", 9},
		"pkg-config, in its usual words": {`checking for pkg-config... /usr/bin/pkg-config
checking pkg-config is at least version 0.9.0... yes
checking for LEAF... no
configure: WARNING: leaves are off
checking for mossy-2.0 >= 2.4... no
configure: error: Package requirements (mossy-2.0 >= 2.4) were not met:

Package 'mossy-2.0', required by 'virtual:world', not found

Consider adjusting the PKG_CONFIG_PATH environment variable if you
installed software in a non-standard prefix.

Alternatively, you may set the environment variables MOSS_CFLAGS
and MOSS_LIBS to avoid the need to call pkg-config.
See the pkg-config man page for more details.
`, "the pkg-config module mossy-2.0 >= 2.4 is missing", 6},
		"no pkg-config, in its usual words": {`checking for pkg-config... no
checking for LEAF... no
configure: error: in '/work/build':
configure: error: The pkg-config script could not be found or is too old.  Make sure it
is in your PATH or set the PKG_CONFIG environment variable to the full
path to pkg-config.

To get pkg-config, see <http://pkg-config.example/>.
See 'config.log' for more details
`, "the program pkg-config is missing", 4},
		"CMake, which finds some and lacks others": {`-- Found PkgConfig: /usr/bin/pkg-config (found version "1.8.1")
-- Could NOT find Rain (missing: RAIN_LIBRARY)
-- Checking for module 'leaf>=2'
--   Package 'leaf', required by 'virtual:world', not found
-- Leaves are off
CMake Error at /usr/share/cmake-3.25/Modules/FindPackageHandleStandardArgs.cmake:230 (message):
  Could NOT find Moss (missing: MOSS_LIBRARY MOSS_INCLUDE_DIR) (Required is
  at least version "1.2")
Call Stack (most recent call first):
  /usr/share/cmake-3.25/Modules/FindMoss.cmake:60 (FIND_PACKAGE_HANDLE_STANDARD_ARGS)
  CMakeLists.txt:44 (find_package)

-- Configuring incomplete, errors occurred!
See also "/work/build/CMakeFiles/CMakeOutput.log".
`, "CMake cannot find the package Moss", 7},
		"Meson, which tries to fetch what it lacks": {`The Meson build system
Found pkg-config: /usr/bin/pkg-config (1.8.1)
Run-time dependency leaf found: NO (tried pkgconfig and cmake)
Run-time dependency moss found: NO (tried pkgconfig and cmake)
Looking for a fallback subproject for the dependency moss
Downloading moss source from https://vale.example/moss.tar.gz
<urlopen error [Errno -3] Temporary failure in name resolution>
WARNING: failed to download with error: could not get it. Trying after a delay...
<urlopen error [Errno -3] Temporary failure in name resolution>

meson.build:9:2: ERROR: could not get https://vale.example/moss.tar.gz is the internet available?
`, "the pkg-config module moss is missing", 7},
		"make side by side, where the first error counts": {`gcc -O2 -c -o moss.o moss.c
gcc -O2 -c -o leaf.o leaf.c
moss.c: In function 'grow':
moss.c:12:9: warning: unused variable 'error' [-Wunused-variable]
leaf.c:3:10: fatal error: soil/sand.h: No such file or directory
    3 | #include <soil/sand.h>
      |          ^~~~~~~~~~~~~
compilation terminated.
make[1]: *** [Makefile:9: leaf.o] Error 1
make[1]: *** Waiting for unfinished jobs....
/usr/bin/ld: cannot find -lfern: No such file or directory
collect2: error: ld returned 1 exit status
make: *** [Makefile:3: all] Error 2
`, "the header soil/sand.h is missing", 5},
		"a Perl module with a library that is missing": {`Note (probably harmless): No library found for -lrain
Pondlife must be installed prior to building Leaf::Parser and I can't find
it in the standard library directories.

    perl Makefile.PL PONDLIBPATH=/home/me/lib

make: *** No targets specified and no makefile found.  Stop.
`, "Pondlife is missing", 2},
		"a Python build that lacks what it builds with": {`  Installing build dependencies: started
  error: subprocess-exited-with-error
  × pip subprocess to install build dependencies did not run successfully.
  │ exit code: 1
  ╰─> [2 lines of output]
      ERROR: Could not find a version that satisfies the requirement leaves>=40.8.0 (from versions: none)
      ERROR: No matching distribution found for leaves>=40.8.0
`, "the Python module leaves >=40.8.0 is missing", 6},
		"tests that fail after a build that has warned a lot": {`leaf.c:3:2: warning: implicit declaration of function 'grow' [-Wimplicit-function-declaration]
PASS: moss
FAIL: leaf
============================================================================
Testsuite summary for garden 1.0
============================================================================
# TOTAL: 2
# PASS:  1
# FAIL:  1
`, "tests of the package failed", 3},
		"nothing that is known": {`growing leaf
the soil is too dry
make: *** [Makefile:2: leaf] Error 3
`, "it says: the soil is too dry", 2},
	} {
		got := Own().Log(c.log)
		assert.Equal(t, c.want, got.String(), name)
		assert.Equal(t, c.line, got.Line, name)
	}
}
