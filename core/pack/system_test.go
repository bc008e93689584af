package pack

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A package needs the version of a library's package that has the symbols it uses: for versioned
// symbols, that version or later; for others, the latest of all.
func TestSymbolsOfLibraries(t *testing.T) {
	const text = "libother.so.1 libother1 #MINVER#\n plain@Base 9.0\nlibfern.so.1 libfern1 #MINVER#\n| libfern1 " +
		"#MINVER#\n* Build-Depends-Package: libfern-dev\n FERN_1.0@FERN_1.0 1.2\n FERN_2.0@FERN_2.0 2.4-1\n grow@FERN_2.0 " +
		"2.4-1\n old@Base 1.0\n new@Base 1.10\n mid@Base 1.9\n"
	l := &shared{versions: map[string]string{}}
	l.symbols(text, "libfern.so.1")
	assert.Equal(t, map[string]string{"FERN_1.0": "1.2", "FERN_2.0": "2.4-1"}, l.versions)
	assert.Equal(t, "1.10", l.least, "not the first, and not the lowest")
	l = &shared{}
	l.shlibs("libfern 2 libfern2 (>= 2.0)\nudeb: libfern 1 x\nlibfern 1 libfern1 (>= 1.3-2)\n", "libfern.so.1")
	assert.Equal(t, "1.3-2", l.least)
}
