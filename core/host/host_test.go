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
	write(second, "cc",
		"#!/bin/sh\ncase $1 in --version) echo fern cc 3.1; echo more;; -dumpmachine) echo moss-linux;; esac\n", 0o755)
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
	missing.Needs = append(missing.Needs,
		Finding{Need: Need{Question: Question{Module, "moss"}, Packages: []string{"libmoss-dev", "moss-data"}}})
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

// Simulated installations are read, whatever the package manager calls them.
func TestWhatWouldBeInstalled(t *testing.T) {
	for manager, c := range map[string]struct {
		read func(string, *Addition)
		says string
	}{
		"apt": {aptWould,
			"NOTE: This is only a simulation!\nInst moss-dev (1.0 Vale:12 [amd64])\nInst leaf [1.0] (1.1 Vale:12 [amd64]) " +
				"[]\nRemv reed [2]\nConf moss-dev (1.0 Vale)\n"},
		"dnf": {dnfWould,
			"Dependencies resolved.\n====\n Package  Arch\n====\nInstalling:\n moss-dev x86_64 1.0 vale 10 k\nUpgrading:\n " +
				"leaf x86_64 1.1 vale 10 k\n     replacing leaf x86_64 1.0\nRemoving dependent packages:\n reed x86_64 2 vale 1 " +
				"k\n\nTransaction Summary\n====\nInstall 1 Package\n"},
		"zypper": {zypperWould,
			"The following NEW package is going to be installed:\n  moss-dev\n\nThe following package is going to be " +
				"upgraded:\n  leaf\n\nThe following package is going to be REMOVED:\n  reed\n\n1 package to upgrade.\n"},
		"apk": {apkWould,
			"(1/3) Installing moss-dev (1.0)\n(2/3) Upgrading leaf (1.0 -> 1.1)\n(3/3) Purging reed (2)\nOK: 10 MiB\n"},
	} {
		var a Addition
		c.read(c.says, &a)
		assert.Equal(t, Addition{Installs: []string{"moss-dev"}, Upgrades: []string{"leaf"}, Removes: []string{"reed"}},
			a, manager)
		assert.False(t, a.Harmless())
	}
	assert.True(t, (&Addition{Installs: []string{"moss-dev"}}).Harmless())
}

func TestTheDatabaseOfApk(t *testing.T) {
	file := filepath.Join(t.TempDir(), "installed")
	require.NoError(t,
		os.WriteFile(file,
			[]byte("P:moss-dev\nV:1\nD:moss=1-r0 so:libleaf.so.2 !reed\np:pc:moss=1 "+
				"cmd:moss-config=1\nF:usr/include\nR:moss.h\nF:\nR:top\n\nP:leaf\np:so:libleaf.so.2=2.0\nF:usr/lib\nR:libleaf.so.2\n"), 0o644))
	db, err := readApk([]string{filepath.Join(t.TempDir(), "none"), file})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"/usr/include": "moss-dev", "/usr/include/moss.h": "moss-dev", "/": "moss-dev",
		"/top": "moss-dev", "/usr/lib": "leaf", "/usr/lib/libleaf.so.2": "leaf"}, db.files)
	assert.Equal(t, apkPackage{"1", []string{"moss", "so:libleaf.so.2", "!reed"}, []string{"pc:moss", "cmd:moss-config"}},
		db.packages["moss-dev"])
	_, err = readApk([]string{"/none"})
	assert.Error(t, err)
}

// The packages to install are listed first, without installing anything.
func TestAdditionsArePretended(t *testing.T) {
	bin := t.TempDir()
	done := filepath.Join(bin, "done")
	require.NoError(t,
		os.WriteFile(filepath.Join(bin, "apt-get"),
			[]byte("#!/bin/sh\n[ \"$1\" = -s ] || : >"+done+"\necho 'Inst moss-dev (1.0)'\necho 'Inst leaf [1.0] (1.1)'\n"),
			0o755))
	add, err := Programs{Path: []string{bin}}.Add(t.Context(), "debian", []string{"moss-dev"})
	require.NoError(t, err)
	assert.Equal(t, []string{"leaf"}, add.Upgrades)
	assert.False(t, add.Harmless())
	assert.NoFileExists(t, done)
	assert.Equal(t, "upgrade or downgrade leaf", add.Changes())
	require.NoError(t,
		os.WriteFile(filepath.Join(bin, "apt-get"), []byte("#!/bin/sh\necho 'Inst moss-dev (1.0)'\n"), 0o755))
	add, err = Programs{Path: []string{bin}}.Add(t.Context(), "debian", []string{"moss-dev"})
	require.NoError(t, err)
	assert.True(t, add.Harmless())
	for _, refuses := range []string{"--no-upgrade", "--no-remove"} { // should the machine be another by then
		assert.Contains(t, add.Argv, refuses)
	}
	for _, name := range []string{"moss-", "-o=x", "moss/testing", "./moss.deb", "moss=1", "@moss", ""} {
		_, err = Programs{Path: []string{bin}}.Add(t.Context(), "debian", []string{name})
		assert.ErrorContains(t, err, "is not the name of a package", name)
	}
	require.NoError(t,
		os.WriteFile(filepath.Join(bin, "apt-get"), []byte("#!/bin/sh\necho 'E: Unable to locate package' >&2; exit 100\n"),
			0o755))
	_, err = Programs{Path: []string{bin}}.Add(t.Context(), "debian", []string{"moss-dev"})
	assert.EqualError(t, err, "apt-get: Unable to locate package")
	require.NoError(t,
		os.WriteFile(filepath.Join(bin, "apt-get"),
			[]byte("#!/bin/sh\necho ' moss-dev : Conflicts: leaf-dev but 1.0 is to be installed'; echo 'E: broken' >&2; exit "+
				"100\n"), 0o755))
	_, err = Programs{Path: []string{bin}}.Add(t.Context(), "debian", []string{"moss-dev", "leaf-dev"})
	assert.ErrorIs(t, err, Clash)
	assert.EqualError(t, err, "moss-dev and leaf-dev cannot be installed together")
	// dnf ends with an error when the answer is no.
	require.NoError(t,
		os.WriteFile(filepath.Join(bin, "dnf"),
			[]byte("#!/bin/sh\nprintf 'Installing:\\n moss x86_64 1\\nRemoving:\\n init x86_64 1\\n\\nTransaction "+
				"Summary\\n'; exit 1\n"), 0o755))
	add, err = Programs{Path: []string{bin}}.Add(t.Context(), "fedora", []string{"moss-dev"})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"moss"}, {"init"}}, [][]string{add.Installs, add.Removes})
	assert.False(t, add.Harmless())
	// pacman only lists names; it upgrades those that are installed.
	require.NoError(t,
		os.WriteFile(filepath.Join(bin, "pacman"),
			[]byte("#!/bin/sh\ncase \"$*\" in '-Q moss') exit 1;; '-Q leaf') exit 0;; *) echo moss leaf;; esac\n"), 0o755))
	add, err = Programs{Path: []string{bin}}.Add(t.Context(), "arch", []string{"moss"})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"moss"}, {"leaf"}}, [][]string{add.Installs, add.Upgrades})
	_, err = Programs{Path: []string{t.TempDir()}}.Add(t.Context(), "debian", []string{"moss-dev"})
	assert.ErrorIs(t, err, errNoPretending)
	_, err = Programs{Path: []string{bin}}.Add(t.Context(), "elsewhere", []string{"moss-dev"})
	assert.ErrorIs(t, err, errNoPretending)
}
