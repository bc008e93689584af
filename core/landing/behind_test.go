package landing

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/store"
)

// Nothing on the landing hides what the operating system has, under whatever name it is found;
// mere additions of the system do not count.
func TestWhatTheSystemHasComesFirst(t *testing.T) {
	has := func(list string) func(string) string {
		return func(name string) string {
			if strings.Contains(" "+list+" ", " "+name+" ") {
				return "/usr/" + name
			}
			return ""
		}
	}
	s := System{Program: has("grow"), Library: has("libfern.so.1 libleaf-2.so"),
		File: has("share/applications/grow.desktop lib/systemd/system/grow.service share/icons/grow.svg " +
			"share/thumbnailers/grow.thumbnailer include/fern.h lib/pkgconfig/fern.pc lib/cmake/Fern share/grow share/leaf " +
			"share/pkgconfig/leaf.pc")}
	for file, behind := range map[string]bool{
		"bin/grow": true, "sbin/grow": true, "bin/grow2": false, "libexec/grow": false,
		"share/man/man1/grow.1": true, "share/man/man8/grow.8.gz": true, "share/man/man5/grow.5": false,
		"share/bash-completion/completions/grow": true, "share/zsh/site-functions/_grow": true,
		"share/fish/vendor_completions.d/grow.fish": true, "share/bash-completion/completions/grow2": false,
		"lib/libfern.so.1": true, "lib/libfern.so.1.2.3": true, "lib/libfern.so.2": false, "lib/libfern.so": false,
		"lib/libleaf-2.so": true, "lib/fern/libfern.so.1": false, "include/fern.h": true, "include/leaf.h": false,
		"lib/pkgconfig/fern.pc": true, "share/cmake/Fern/x.cmake": true, "share/grow/x": true, "share/grown/x": false,
		"share/leaf/x": false, "share/grown/Fern/x": false, "lib/pkgconfig/leaf.pc": true,
		"share/applications/grow.desktop": true, "lib/systemd/system/grow.service": true,
		"share/thumbnailers/grow.thumbnailer": true, "share/icons/grow.svg": false,
	} {
		assert.Equal(t, behind, s.Behind("grow", file, 0o644) != "", file)
	}
	assert.Equal(t, "", s.Behind("grow", "lib/libleaf-2.so", fs.ModeSymlink|0o777), "which only linkers follow")
	assert.Equal(t, "", System{}.Behind("grow", "bin/grow", 0o755))
}

// Only files known to be harmless are linked in a shared directory.
func TestHarmless(t *testing.T) {
	for _, file := range strings.Fields(`
	bin/fern sbin/anything lib/libfern.so.1 lib/libfern.a lib/fern/libz.so.1 libexec/fern/helper share/fern/x
	share/fern-2.1/x share/fern2/x etc/fern.conf include/fern.h include/any/thing.h lib/pkgconfig/any.pc
	lib/cmake/Any/x.cmake lib/cmake/Any share/doc/any/x share/man/man3/any.3 share/info/any.info
	share/applications/any.desktop share/icons/hicolor/48x48/apps/any.png share/icons/hicolor/scalable/any.svg
	share/icons/old/any.xpm share/bash-completion/completions/fern share/locale/de/LC_MESSAGES/fern.mo share/fern`) {
		assert.True(t, Harmless("fern", file), file)
	}
	for _, file := range strings.Fields(`
	share/perl/5.36.0/strict.pm share/perl5/Fern.pm lib/python3.11/dist-packages/fern.py
	lib/python3.11/site-packages/fern.pth lib/x86_64-linux-gnu/libz.so.1 lib/systemd/system/display-manager.service
	lib/systemd/system/fern.service lib/systemd lib/udev/rules.d/60-fern.rules lib/sysctl.d/fern.conf
	lib/libnss_fern.so.2 lib/security/pam_fern.so share/ca-certificates/fern.crt
	share/emacs/site-lisp/site-start.elc share/fish/vendor_functions.d/ls.fish share/fish/vendor_conf.d/fern.fish
	share/zsh/site-functions/compinit share/zsh/site-functions/_fern share/gnome/autostart/fern.desktop
	share/nvim/site/plugin/fern.vim share/gdb/auto-load/fern.py share/applications/mimeapps.list share/applications
	share/glib-2.0/schemas/fern.gschema.override share/dbus-1/system-services/fern.service
	share/polkit-1/rules.d/fern.rules share/bash-completion/completions/ls share/locale/de/LC_MESSAGES/other.mo
	share/other/x share/icons/any.png share/icons/hicolor/index.theme share/locale/de/LC_TIME/fern.mo
	share/locale/de/LC_MESSAGES/fern.so other/LC_MESSAGES/fern.mo etc/profile.d/fern.sh share lib etc/ferns`) {
		assert.False(t, Harmless("fern", file), file)
	}
	for pkg, file := range map[string]string{"perl": "share/perl5/x.pm", "systemd": "lib/systemd/system/x.service",
		"python": "lib/python3.11/site.py", "dbus": "share/dbus-1/x", "": "share/x"} {
		assert.False(t, Harmless(pkg, file), "a package can have any name: %s", file)
	}
}

// An administrator can let more through: by trust, by naming a file, and where only the
// environment of users leads to it.
func TestWhatRulesLet(t *testing.T) {
	own, shared := Rules{}, Rules{Shared: "/usr/local"}
	named := Rules{Shared: "/usr/local", Names: []Name{{Package: "fern", File: "x", As: "lib/fern.py"}}}
	for name, lets := range map[string]bool{"bin/fern": true, "lib/python3/x.py": true, "share/zsh/x": false} {
		assert.Equal(t, lets, own.lets("fern", name), name)
	}
	assert.False(t, shared.lets("fern", "lib/python3/x.py"))
	assert.True(t, named.lets("fern", "lib/fern.py"))
	assert.False(t, named.lets("moss", "lib/fern.py"))
	assert.False(t, named.lets("fern", "lib/other.py"))
	assert.True(t, Rules{Shared: "/usr/local", Trusted: []string{"fern"}}.lets("fern", "share/zsh/x"))
}

// A file that needs trust leaves the shared directory with the trust, and does not return with
// an earlier state of the landing.
func TestTrustIsNotKept(t *testing.T) {
	s := open(t)
	shared := filepath.Join(t.TempDir(), "local")
	fern := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern", "lib/systemd/system-generators/fern",
		"lib/sysctl.d/fern.conf", "lib/systemd/system/fern.service")
	trusted, now := Rules{Shared: shared, Trusted: []string{"fern"}}, Rules{Shared: shared}
	there := func() (all []string) {
		for _, name := range []string{"bin/fern", "lib/systemd/system-generators/fern", "lib/sysctl.d/fern.conf",
			"lib/systemd/system/fern.service"} {
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
	assert.Len(t, CheckShared(s, known[0], now), 3)
	_, err = bring(s, now, Plain(fern)...)
	require.NoError(t, err)
	assert.Equal(t, []string{"bin/fern"}, there())
	_, err = goTo(s, now, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{"bin/fern"}, there())
	assert.NoDirExists(t, filepath.Join(shared, "lib/sysctl.d"))
}
