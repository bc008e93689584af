package draft

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/safefs"
)

// Each inquiry is kept once, at its last position, with everything known of it.
func TestMerged(t *testing.T) {
	got := merged([]inquiry{
		{Kind: "module", Names: []string{"moss"}, Range: ">= 2"}, {Kind: "header", Names: []string{"ac_nonexistent.h"}},
		{Kind: "header", Names: []string{"a\x1bb", "fern.h"}},
		{Kind: "package", Names: []string{"Moss"}, Required: true}, {Kind: "package", Names: []string{"MOSS"}},
		{Kind: "module", Names: []string{"moss"}},
	})
	assert.Equal(t,
		[]inquiry{{Kind: "header", Names: []string{"fern.h"}}, {Kind: "package", Names: []string{"MOSS"}, Required: true},
			{Kind: "module", Names: []string{"moss"}, Range: ">= 2"}}, got)
}

// CMake reports the searches of the source's own files, with all variables expanded.
func TestTrace(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "FindKelp.cmake"), nil, 0o644))
	says := t.TempDir()
	trace := filepath.Join(says, "trace")
	line := func(file, cmd, args string) string {
		return `{"args":[` + args + `],"cmd":"` + cmd + `","file":"` + file + `","line":1}` + "\n"
	}
	require.NoError(t, os.WriteFile(trace, []byte(`{"version":{"major":1,"minor":2}}`+"\n"+
		line("/s/CMakeLists.txt", "find_package", `"Moss","2.1...3","REQUIRED","COMPONENTS","x"`)+line("/s/CMakeLists.txt",
		"find_package", `"Kelp"`)+
		line("/s/FindKelp.cmake", "find_library", `"KELP","NAMES","kelp;kelp2","HINTS","/opt"`)+line("/s/FindKelp.cmake",
		"find_path", `"KELP_H","kelp/kelp.h","PATHS","/opt"`)+
		line("/usr/share/cmake/FindMoss.cmake", "find_library", `"MOSS","moss"`)+line("/s/x.cmake", "find_package",
		`"Threads","REQUIRED"`)+line("/s/x.cmake", "find_program", `"RAKE","rake"`)+
		line("/s/x.cmake", "FetchContent_Declare",
			`"leaf","URL","https://vale.example/leaf-1.tar.gz","URL_HASH","SHA256=AB"`)+line("/s/x.cmake", "file",
		`"DOWNLOAD","https://vale.example/dl/map","here"`)+
		line("/s/x.cmake", "externalproject_add",
			`"reed","GIT_REPOSITORY","https://vale.example/reed.git","GIT_TAG","v2","SOURCE_DIR","x"`)+line("/s/x.cmake",
		"FetchContent_Declare", `"own","URL","/s/own.tar"`)+
		"{\"cmd\":\"find_x\n"+line("/s/x.cmake", "find_library", `"ONLY"`)), 0o644))
	got, downloads := (&listeningRoom{modules: func() map[string]bool { return modulesIn(dir) }}).
		traced(open(t, says), "/s")
	assert.Equal(t, []inquiry{
		{Kind: "package", Names: []string{"Moss"}, Range: ">= 2.1", Required: true},
		{Kind: "library", Names: []string{"kelp", "kelp2"}}, {Kind: "header", Names: []string{"kelp/kelp.h"}},
		{Kind: "program", Names: []string{"rake"}},
	}, got)
	assert.Equal(t, []Download{
		{Name: "leaf", URL: "https://vale.example/leaf-1.tar.gz", SHA256: "ab", Arg: "-DFETCHCONTENT_SOURCE_DIR_LEAF=%s"},
		{Name: "map", URL: "https://vale.example/dl/map"},
		{Name: "reed", URL: "https://vale.example/reed.git", Tag: "v2"},
	}, downloads)
}

// Results of a script's tests are kept, except for what it asked for.
func TestCache(t *testing.T) {
	says := t.TempDir()
	file := filepath.Join(says, "cache")
	require.NoError(t,
		os.WriteFile(file,
			[]byte("# x\nac_cv_header_stdio_h=${ac_cv_header_stdio_h=yes}\nac_cv_lib_moss_grow=${ac_cv_lib_moss_grow=no}\nac_cv_env_CC_set=\nfern_cv_frost=${fern_cv_frost=yes}\nrm=-rf\n"), 0o644))
	got := cache(open(t, says), []inquiry{{Kind: "library", Names: []string{"moss"}}})
	assert.Equal(t, "ac_cv_header_stdio_h=${ac_cv_header_stdio_h=yes}\nfern_cv_frost=${fern_cv_frost=yes}\n", string(got))
}

func open(t *testing.T, dir string) *safefs.Dir {
	d, err := safefs.OpenDir(dir)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d
}

// Failures of a script after it has created config.status are about files that it was told not
// to create; the checks of a script in a directory below count.
func TestChecksEndBeforeConfigStatus(t *testing.T) {
	const created = "checking for moss... yes\nconfigure: creating ./config.status\n"
	const failed = "configure: error: ./Makefile not found\n"
	assert.NotContains(t, beforeCreating(created+failed), "error")
	assert.Contains(t, beforeCreating(created+"configure: === configuring in beds (/beds)\n"+failed), "error")
	assert.Contains(t, beforeCreating(failed), "error")
}

// The number of questions about switches depends on the source alone, and the conclusions do not
// depend on which question ends first.
func TestQuestionsDoNotDependOnTheClock(t *testing.T) {
	h := &hearing{source: &Source{}, full: &heardRun{Lines: patience / 3}, cpu: tooLong / 2}
	assert.Equal(t, 2, h.ask(2, 1))
	assert.Equal(t, 1, h.ask(2, 1))
	assert.Zero(t, h.ask(1, 1))
	assert.Equal(t, 3, h.ask(9, 2), "the first may take twice the time")
	var order []int
	second := make(chan bool)
	require.NoError(t, each([]int{1, 2}, func(n int) (func(), error) {
		if n == 1 {
			select {
			case <-second:
			case <-time.After(time.Second): // one processor
			}
		} else {
			close(second)
		}
		return func() { order = append(order, n) }, nil
	}))
	assert.Equal(t, []int{1, 2}, order)
}
