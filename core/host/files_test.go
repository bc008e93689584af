package host

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A package manager that serves one list of made-up packages.
func TestWhichPackageHasAFile(t *testing.T) {
	dir := t.TempDir()
	apt := filepath.Join(dir, "bin", "apt-get")
	require.NoError(t, os.Mkdir(filepath.Dir(apt), 0o755))
	list := `usr/include/leaf.h libdevel/libleaf-dev
usr/include/x86_64-linux-gnu/moss/moss.h libdevel/libmoss-dev,libdevel/libmoss-old-dev
usr/lib/x86_64-linux-gnu/libleaf.so libdevel/libleaf-dev
usr/lib/x86_64-linux-gnu/libleaf.so.1 libs/libleaf1
usr/lib/x86_64-linux-gnu/pkgconfig/leaf-2.pc libdevel/libleaf-dev
usr/share/pkgconfig/moss.pc libdevel/libmoss-dev
usr/bin/sporegen devel/spore-tools-all,devel/sporegen
usr/share/doc/sporegen/a file with blanks.h doc/sporegen
`
	write := func(script string) {
		require.NoError(t, os.WriteFile(apt, []byte("#!/bin/sh\n"+script), 0o755))
	}
	write("lists=$(sed -n 's/^Dir::State::Lists \"\\(.*\\)\";/\\1/p' $APT_CONFIG)\ncat >$lists/vale.example_Contents-amd64 <<'END'\n" + list + "END\n")
	f := Files{Dir: filepath.Join(dir, "index")}
	p := Programs{Path: []string{filepath.Dir(apt)}}
	assert.False(t, f.There())
	assert.Empty(t, f.Owners([]Question{{Header, "leaf.h"}}), "nothing is known yet")
	if _, err := os.Stat("/usr/lib/apt/apt-helper"); err != nil {
		t.Skip("this machine has no apt")
	}
	entries, err := f.Refresh(context.Background(), p)
	require.NoError(t, err)
	assert.Equal(t, 6, entries)
	assert.True(t, f.There())
	questions := []Question{{Header, "leaf.h"}, {Header, "moss/moss.h"}, {Library, "leaf"}, {Module, "leaf-2"}, {Module, "moss"}, {Program, "sporegen"}, {Program, "soil"}}
	assert.Equal(t, map[Question][]string{
		questions[0]: {"libleaf-dev"}, questions[1]: {"libmoss-dev", "libmoss-old-dev"}, questions[2]: {"libleaf-dev"},
		questions[3]: {"libleaf-dev"}, questions[4]: {"libmoss-dev"}, questions[5]: {"sporegen", "spore-tools-all"},
	}, f.Owners(questions))

	write("echo 'E: no network' >&2; exit 100\n")
	_, err = f.Refresh(context.Background(), p)
	assert.ErrorContains(t, err, "apt-get update: E: no network")
	assert.NotEmpty(t, f.Owners(questions), "what was known stays")
	_, err = f.Refresh(context.Background(), Programs{})
	assert.ErrorIs(t, err, ErrNoLists)

	missing := Lacking([]Finding{
		{Need: Need{Question: questions[0], By: []string{"fern"}}, State: Absent},
		{Need: Need{Question: questions[1], By: []string{"fern"}}, State: Absent},
		{Need: Need{Question: Question{Header, "soil.h"}, By: []string{"fern"}}, State: Absent},
	}, nil, Machine{Family: "debian"})
	missing.LookUp(f)
	line, unknown := missing.InstallLine()
	assert.Equal(t, "apt-get install libleaf-dev", line)
	assert.Equal(t, []string{"header moss/moss.h (one of libmoss-dev, libmoss-old-dev)", "header soil.h"}, unknown)
}
