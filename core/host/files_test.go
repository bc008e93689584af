package host

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A package manager that serves one list of invented packages.
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
usr/lib/x86_64-linux-gnu/cmake/Leaf-2/leaf-config.cmake libdevel/libleaf-dev
usr/share/cmake/MossConfig.cmake libdevel/libmoss-dev
usr/lib/python3/dist-packages/leaves/__init__.py python/python3-leaves
usr/lib/python3/dist-packages/leaves/edge.py python/python3-leaves
usr/share/perl5/Leaf/Parser.pm perl/libleaf-parser-perl
usr/lib/x86_64-linux-gnu/perl5/5.36/Moss.pm perl/libmoss-perl
usr/share/aclocal/leaf.m4 libdevel/libleaf-dev
usr/share/leaves/leaf.m4 libdevel/libleaf-dev
`
	write := func(script string) {
		require.NoError(t, os.WriteFile(apt, []byte("#!/bin/sh\n"+script), 0o755))
	}
	write("lists=$(sed -n 's/^Dir::State::Lists \"\\(.*\\)\";/\\1/p' $APT_CONFIG)\ncat " +
		">$lists/vale.example_Contents-amd64 <<'END'\n" + list + "END\n")
	f := Files{Dir: filepath.Join(dir, "index")}
	p := Programs{Path: []string{filepath.Dir(apt)}}
	assert.False(t, f.There())
	assert.Empty(t, f.Owners([]Question{{Header, "leaf.h"}}), "nothing is known yet")
	if _, err := os.Stat("/usr/lib/apt/apt-helper"); err != nil {
		t.Skip("this machine has no apt")
	}
	entries, err := f.Refresh(context.Background(), p)
	require.NoError(t, err)
	assert.Equal(t, 13, entries)
	assert.True(t, f.There())
	questions := []Question{{Header, "leaf.h"}, {Header, "moss/moss.h"}, {Library, "leaf"}, {Module, "leaf-2"},
		{Module, "moss"}, {Program, "sporegen"}, {Program, "soil"},
		{Shared, "libleaf.so.1"}, {Package, "leaf"}, {Package, "moss"}, {Python, "leaves"}, {Perl, "Leaf::Parser"},
		{Perl, "Moss"}, {File, "/usr/share/aclocal/leaf.m4"}}
	assert.Equal(t, map[Question][]string{
		questions[0]: {"libleaf-dev"}, questions[1]: {"libmoss-dev", "libmoss-old-dev"}, questions[2]: {"libleaf-dev"},
		questions[3]: {"libleaf-dev"}, questions[4]: {"libmoss-dev"}, questions[5]: {"sporegen", "spore-tools-all"},
		questions[7]: {"libleaf1"}, questions[8]: {"libleaf-dev"}, questions[9]: {"libmoss-dev"},
		questions[10]: {"python3-leaves"},
		questions[11]: {"libleaf-parser-perl"}, questions[12]: {"libmoss-perl"}, questions[13]: {"libleaf-dev"},
	}, f.Owners(questions))

	header, module, none := Question{Header, "moss.h"}, Question{Module, "leaf"}, Question{Module, "lea"}
	near := f.Near([]Question{header, module, none})
	assert.Equal(t, Question{Header, "moss/moss.h"}, near[header].Question)
	assert.Equal(t, []string{"libmoss-dev", "libmoss-old-dev"}, near[header].Owners)
	assert.Equal(t, Question{Module, "leaf-2"}, near[module].Question)
	assert.Equal(t, []string{"libleaf-dev"}, near[module].Owners)
	assert.Empty(t, near[none].Name)
	best, found := f.Of("libmoss-dev")
	assert.Equal(t, Question{Module, "moss"}, best, "%v", found)
	_, found = f.Of("python3-leaves")
	assert.False(t, found)

	write("echo 'E: no network' >&2; exit 100\n")
	_, err = f.Refresh(context.Background(), p)
	assert.ErrorContains(t, err, "apt-get: exit status 100: E: no network")
	assert.NotEmpty(t, f.Owners(questions), "what was known stays")
	_, err = f.Refresh(context.Background(), Programs{})
	assert.ErrorIs(t, err, errNoLists)

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

// The output of two other package managers, in their own words.
func TestListsOfOtherPackageManagers(t *testing.T) {
	for name, script := range map[string]string{
		"dnf": "echo 'Unable to detect release version' >&2\nprintf 'package " +
			"leaf-devel\\n/usr/bin/leafcmp\\n/usr/include/leaf\\n/usr/include/leaf/leaf.h\\n/usr/lib64/libleaf.so\\n/usr/lib64/pkgconfig/leaf.pc\\n\\npackage moss-perl\\n/usr/share/perl5/vendor_perl/Moss.pm\\n/usr/lib/python3.12/site-packages/moss.py\\n'",
		"pacman": "case $1 in -Fl) printf 'leaf-devel usr/\\nleaf-devel usr/bin/leafcmp\\nleaf-devel " +
			"usr/include/leaf/leaf.h\\nleaf-devel usr/lib/libleaf.so\\nleaf-devel usr/lib/pkgconfig/leaf.pc\\nmoss-perl " +
			"usr/share/perl5/vendor_perl/Moss.pm\\nmoss-perl usr/lib/python3.12/site-packages/moss.py\\n';; *) echo ':: " +
			"Synchronizing'; test -d $3;; esac",
	} {
		p := system(t, map[string]string{name: script})
		p.Path = p.Path[:1]
		f := Files{Dir: t.TempDir()}
		entries, err := f.Refresh(context.Background(), p)
		require.NoError(t, err, name)
		assert.Equal(t, 6, entries, name)
		questions := []Question{{Header, "leaf/leaf.h"}, {Module, "leaf"}, {Program, "leafcmp"}, {Perl, "Moss"},
			{Python, "moss"}}
		owners := f.Owners(questions)
		assert.Equal(t, []string{"leaf-devel", "leaf-devel", "leaf-devel", "moss-perl", "moss-perl"},
			[]string{strings.Join(owners[questions[0]], ","), owners[questions[1]][0], owners[questions[2]][0],
				owners[questions[3]][0], owners[questions[4]][0]}, name)
	}
}

// The output of three package managers of one machine.
func TestPackagesOfFiles(t *testing.T) {
	ctx := context.Background()
	for family, scripts := range map[string]map[string]string{
		"fedora": {"rpm": `case "$*" in
			-qf*) echo leaf-devel; echo 'file /usr/bin/env is not owned by any package';;
			*-qa*) printf 'leaf-devel R leaf(api)\nleaf-devel R /usr/bin/sh\nmoss P leaf(api)\nsoil P /usr/bin/sh\nfern P fern\n';;
			*) printf 'leaf-devel /usr/include/stdio.h\nleaf-devel /usr/bin/leafcmp\n';; esac`},
		"arch": {"pacman": `case "$*" in
			-Qqo*) echo leaf-devel; echo 'error: No package owns /usr/bin/env' >&2; exit 1;;
			-Qi) printf 'Name            : leaf-devel\nProvides        : None\nDepends On      : leaf-api>=2  soil\n\nName            : moss\nProvides        : leaf-api=2\nDepends On      : None\n\nName            : soil\nName            : fern\n';;
			*) printf 'leaf-devel /usr/include/\nleaf-devel /usr/include/stdio.h\n';; esac`},
	} {
		k := system(t, scripts).Packages(family)
		owners, err := k.Owning(ctx, []string{"/usr/include/stdio.h", "/usr/bin/env"})
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"/usr/include/stdio.h": "leaf-devel"}, owners, family)
		closure, err := k.Closure(ctx, []string{"leaf-devel"})
		require.NoError(t, err)
		assert.Equal(t, map[string]bool{"leaf-devel": true, "moss": true, "soil": true}, closure, family)
	}
	assert.Nil(t, Programs{}.Packages("debian"))
	assert.Nil(t, system(t, nil).Packages("gentoo"))
}
