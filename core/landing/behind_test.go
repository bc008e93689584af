package landing

import (
	"fernladder/core/store"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Nothing on the landing comes before what the operating system has, under whichever name
// that is found; what the system only adds up does not count.
func TestWhatTheSystemHasComesFirst(t *testing.T) {
	has := func(list string) func(string) string {
		return func(name string) string {
			if strings.Contains(" "+list+" ", " "+name+" ") {
				return "/usr/" + name
			}
			return ""
		}
	}
	s := System{Program: has("grow"), Library: has("libfern.so.1 libleaf-2.so"), File: has("share/applications/grow.desktop lib/systemd/system/grow.service share/icons/grow.svg share/thumbnailers/grow.thumbnailer")}
	for file, behind := range map[string]bool{
		"bin/grow": true, "sbin/grow": true, "bin/grow2": false, "libexec/grow": false,
		"share/man/man1/grow.1": true, "share/man/man8/grow.8.gz": true, "share/man/man5/grow.5": false,
		"share/bash-completion/completions/grow": true, "share/zsh/site-functions/_grow": true, "share/fish/vendor_completions.d/grow.fish": true, "share/bash-completion/completions/grow2": false,
		"lib/libfern.so.1": true, "lib/libfern.so.1.2.3": true, "lib/libfern.so.2": false, "lib/libfern.so": false, "lib/libleaf-2.so": true, "lib/fern/libfern.so.1": false,
		"share/applications/grow.desktop": true, "lib/systemd/system/grow.service": true, "share/thumbnailers/grow.thumbnailer": true, "share/icons/grow.svg": false,
	} {
		assert.Equal(t, behind, s.Behind(file, 0o644) != "", file)
	}
	assert.Equal(t, "", s.Behind("lib/libleaf-2.so", fs.ModeSymlink|0o777), "which only linkers follow")
	assert.Equal(t, "", System{}.Behind("bin/grow", 0o755))
}

func TestWhatActsByBeingThere(t *testing.T) {
	for file, acts := range map[string]bool{
		"lib/systemd/system/fern.service": false, "lib/systemd/system/fern@.service": false, "lib/systemd/system/fern-night.timer": false, "lib/systemd/user/fern.socket": false,
		"lib/systemd/system/fernseed.service": true, "lib/systemd/system/sshd.service": true, "lib/systemd/system/fern.service.d/more.conf": true,
		"lib/systemd/system/multi-user.target.wants/fern.service": true, "lib/systemd/system-generators/fern": true, "lib/systemd": true, "lib/systemd/system": true,
		"lib/udev/rules.d/60-fern.rules": true, "lib/tmpfiles.d/fern.conf": true, "lib/sysctl.d": true, "share/polkit-1/rules.d/fern.rules": true,
		"share/dbus-1": true, "share/dbus-1/system-services/fern.service": true, "share/dbus-1/services/fern.service": false, "share/dbus-1/interfaces/fern.xml": false,
		"lib/python3.11/site-packages/fern.pth": true, "lib/python3.11/site-packages/sitecustomize.py": true, "lib/python3.11/site-packages/fern/x.py": false, "share/fern/fern.pth": false,
		"bin/fern": false, "lib/libfern.so.1": false, "share/fish/vendor_conf.d/fern.fish": true, "share": true, "lib": true,
	} {
		assert.Equal(t, acts, Acts("fern", file), file)
	}
}

// What acts by being there is not where others look either: not once nobody trusts its
// package any more, and not by bringing back a state from when somebody did.
func TestWhatActsIsNotShared(t *testing.T) {
	s := open(t)
	shared := filepath.Join(t.TempDir(), "local")
	fern := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern", "lib/systemd/system-generators/fern", "lib/sysctl.d/fern.conf", "lib/systemd/system/fern.service")
	trusted, now := Rules{Shared: shared, Acting: []string{"fern"}}, Rules{Shared: shared}
	there := func() (all []string) {
		for _, name := range []string{"bin/fern", "lib/systemd/system-generators/fern", "lib/sysctl.d/fern.conf", "lib/systemd/system/fern.service"} {
			if _, err := os.Stat(filepath.Join(shared, name)); err == nil {
				all = append(all, name)
			}
		}
		return all
	}
	_, err := bring(s, trusted, Plain(fern)...)
	require.NoError(t, err)
	assert.Len(t, there(), 4)
	known, err := ReadShared(s)
	require.NoError(t, err)
	require.Len(t, known, 1)
	assert.Empty(t, CheckShared(s, known[0], trusted))
	for _, w := range CheckShared(s, known[0], now) {
		assert.True(t, w.Acts, w.Path)
	}
	assert.Len(t, CheckShared(s, known[0], now), 2)
	_, err = bring(s, now, Plain(fern)...)
	require.NoError(t, err)
	assert.Equal(t, []string{"bin/fern", "lib/systemd/system/fern.service"}, there())
	_, err = goTo(s, now, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{"bin/fern", "lib/systemd/system/fern.service"}, there())
	assert.NoDirExists(t, filepath.Join(shared, "lib/sysctl.d"))
}
