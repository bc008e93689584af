package host

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFamily(t *testing.T) {
	for release, want := range map[string]string{
		"NAME=\"X\"\nID=debian\n":                  "debian",
		"ID_LIKE=\"ubuntu debian\"\nID=gardenos\n": "debian",
		"ID=\"rocky\"\nID_LIKE=\"rhel centos\"\n":  "fedora",
		"ID='opensuse-leap'\nID_LIKE='suse x'\n":   "suse",
		"ID=fedora\nID_LIKE=debian\n":              "fedora",
		"ID=gardenos\n":                            "",
		"":                                         "",
	} {
		assert.Equal(t, want, family(release), release)
	}
	assert.Equal(t, "gardenos 12.1", release("NAME=x\nVERSION_ID=\"12.1\"\nID=gardenos\n"))
	assert.Equal(t, "gardenos", release("ID=gardenos\n"))
}

func TestProgramsAreFoundOnThePathAndNowhereElse(t *testing.T) {
	first, second := t.TempDir(), t.TempDir()
	write := func(dir, name, text string, mode os.FileMode) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), mode))
	}
	write(first, "data", "", 0o644)
	write(second, "data", "", 0o755)
	write(second, "cc", "#!/bin/sh\ncase $1 in --version) echo fern cc 3.1; echo more;; -dumpmachine) echo moss-linux;; esac\n", 0o755)
	require.NoError(t, os.Mkdir(filepath.Join(first, "cc"), 0o755))
	p := Programs{Path: []string{first, second}}
	assert.Equal(t, filepath.Join(second, "data"), p.Find("data"), "what cannot be run is no program")
	assert.Equal(t, filepath.Join(second, "cc"), p.Find("cc"), "nor is a directory")
	assert.Empty(t, p.Find("sh"))
	assert.Equal(t, "fern cc 3.1 moss-linux", p.Compiler(context.Background(), "cc"))
	assert.Empty(t, p.Compiler(context.Background(), "clang"))
}

func TestInstallLine(t *testing.T) {
	var missing Missing
	for _, name := range []string{"ninja", "cc", "cmake", "grafter"} {
		missing.Needs = append(missing.Needs, Finding{Need: Need{Question: Question{Program, name}}})
	}
	missing.Needs = append(missing.Needs, Finding{Need: Need{Question: Question{Module, "moss"}, Packages: []string{"libmoss-dev", "moss-data"}}})
	for family, want := range map[string]string{
		"debian": "apt-get install cmake gcc libmoss-dev moss-data ninja-build",
		"arch":   "pacman -S cmake gcc libmoss-dev moss-data ninja", "gentoo": "", "": "",
	} {
		missing.Machine.Family = family
		line, unknown := missing.InstallLine()
		assert.Equal(t, want, line)
		assert.Equal(t, []string{"program grafter"}, unknown)
	}
}
