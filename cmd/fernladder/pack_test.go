package main_test

import (
	"context"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/ospackage"
	"fernladder/core/repository"
	"fernladder/core/signature"
)

// A handed world has packages of a garden, and a repository of them served on the loopback.
type handed struct {
	*world
	site   *httptest.Server
	target string // the root that they are installed in
}

// signingKey writes a secret key into a file. It was made an hour ago, and is valid for the
// given time; 0: forever.
func (w *world) signingKey(name string, life time.Duration) string {
	e, err := openpgp.NewEntity("Vale Growers", "", "growers@vale-glasshouse.example",
		&packet.Config{RSABits: 2048, KeyLifetimeSecs: uint32(life.Seconds()), Time: func() time.Time {
			return time.Now().Add(-time.Hour)
		}})
	require.NoError(w.t, err)
	var text strings.Builder
	to, err := armor.Encode(&text, openpgp.PrivateKeyType, nil)
	require.NoError(w.t, err)
	require.NoError(w.t, e.SerializePrivate(to, nil))
	require.NoError(w.t, to.Close())
	w.write(name, text.String())
	require.NoError(w.t, os.Chmod(w.path(name), 0o600))
	return w.path(name)
}

func newHanded(t *testing.T) *handed {
	if os.Geteuid() != 0 {
		t.Skip("installing into another root needs root")
	}
	w, _ := newGarden(t)
	h := &handed{world: w, target: t.TempDir()}
	text := w.read("fernladder.toml")
	w.write("fernladder.toml",
		text+
			"\n[pack]\nprefix = \"vale-\"\nmaintainer = \"Vale Growers <growers@vale-glasshouse.example>\"\nsuffix = "+
			"\"vale12\"\n")
	w.must("install", "glasshouse")
	w.signingKey("vale.key", 0)
	h.site = httptest.NewServer(http.FileServer(http.Dir(w.path("repo"))))
	t.Cleanup(h.site.Close)
	return h
}

// publish packs builds into the repository.
func (h *handed) publish(format string, names ...string) {
	dir := h.path("out-" + format)
	require.NoError(h.t, os.RemoveAll(dir))
	h.must(append([]string{"pack", "--format", format, "--to", dir}, names...)...)
	files, err := filepath.Glob(dir + "/*." + format)
	require.NoError(h.t, err)
	named := h.named()
	h.must(append([]string{"repository", "add", "repo", "--key", "vale.key", "--name", "vale", "--another-key"},
		files...)...)
	for _, list := range append(named, h.named()...) {
		assert.FileExists(h.t, list, "for who has read what was signed before the change, or after it")
	}
}

// named are the lists that the repository's signed files name.
func (h *handed) named() (lists []string) {
	release, _ := os.ReadFile(h.path("repo/dists/stable/Release"))
	for _, m := range regexp.MustCompile(`(?m)^ ([0-9a-f]{64}) \d+ (\S+)/`).FindAllStringSubmatch(string(release), -1) {
		lists = append(lists, h.path("repo/dists/stable/"+m[2]+"/by-hash/SHA256/"+m[1]))
	}
	root, _ := os.ReadFile(h.path("repo/repodata/repomd.xml"))
	for _, m := range regexp.MustCompile(`href="(repodata/[^"]+)"`).FindAllStringSubmatch(string(root), -1) {
		lists = append(lists, h.path("repo/"+m[1]))
	}
	return lists
}

// libraries copies the system's files that programs need into the target.
func (h *handed) libraries(programs ...string) {
	for _, program := range programs {
		out, err := exec.Command("ldd", program).Output()
		require.NoError(h.t, err)
		for _, m := range regexp.MustCompile(`(?m)(?:=> |^\s*)(/(?:lib|usr/lib)\S*)`).FindAllStringSubmatch(string(out), -1) {
			data, err := os.ReadFile(m[1])
			require.NoError(h.t, err)
			to := filepath.Join(h.target, m[1])
			require.NoError(h.t, os.MkdirAll(filepath.Dir(to), 0o755))
			require.NoError(h.t, os.WriteFile(to, data, 0o755))
		}
	}
}

// chroot runs a program in the target, with the system libraries that it needs.
func (h *handed) chroot(program string, args ...string) string {
	h.libraries(program)
	run := exec.Command("chroot", append([]string{h.target, "/usr/local/bin/" + filepath.Base(program)}, args...)...)
	got, err := run.CombinedOutput()
	require.NoError(h.t, err, string(got))
	return string(got)
}

// dpkg are the arguments for the machine's own dpkg to work on the target.
func (h *handed) dpkg(args ...string) []string {
	require.NoError(h.t, os.MkdirAll(filepath.Join(h.target, "var/lib/dpkg/info"), 0o755))
	require.NoError(h.t, os.MkdirAll(filepath.Join(h.target, "var/lib/dpkg/updates"), 0o755))
	status, err := os.OpenFile(filepath.Join(h.target, "var/lib/dpkg/status"), os.O_CREATE, 0o644)
	require.NoError(h.t, err)
	status.Close()
	return append([]string{"--root=" + h.target, "--force-depends", "--force-bad-path", "--log=/dev/null"}, args...)
}

// apt runs the machine's own apt-get on the target.
func (h *handed) apt(args ...string) (string, error) {
	for _, dir := range []string{"etc/apt/sources.list.d", "etc/apt/preferences.d", "etc/apt/apt.conf.d",
		"etc/apt/trusted.gpg.d", "var/lib/apt/lists/partial", "var/cache/apt/archives/partial", "var/lib/dpkg/info",
		"var/lib/dpkg/updates", "var/log/apt"} {
		require.NoError(h.t, os.MkdirAll(filepath.Join(h.target, dir), 0o755))
	}
	status := filepath.Join(h.target, "var/lib/dpkg/status")
	if _, err := os.Stat(status); err != nil {
		libc, err := exec.Command("dpkg-query", "-s", "libc6").Output()
		require.NoError(h.t, err)
		// Its dependencies are there, by its own declaration.
		text := regexp.MustCompile(`(?m)^(?:Depends|Recommends|Suggests|Breaks|Replaces|Conffiles|Pre-Depends`+
			`|Conflicts):.*\n(?: .*\n)*`).ReplaceAllString(string(libc), "")
		require.NoError(h.t, os.WriteFile(status, []byte(text+"\n"), 0o644))
		require.NoError(h.t, os.WriteFile(filepath.Join(h.target, "var/lib/dpkg/info/libc6:amd64.list"), nil, 0o644))
	}
	h.write("apt.conf",
		fmt.Sprintf(`Dir "%[1]s"; Dir::State::status "%[1]s/var/lib/dpkg/status"; Dir::Etc::trustedparts "%[1]s/etc/apt/trusted.gpg.d"; Dir::Etc::parts "%[1]s/etc/apt/apt.conf.d";
APT::Sandbox::User "root"; Acquire::Languages "none"; Dpkg::Use-Pty "false"; APT::Update::Error-Mode "any"; Acquire::Retries "0";
DPkg::Options { "--root=%[1]s"; "--force-bad-path"; "--force-confold"; "--log=/dev/null"; };`, h.target))
	run := exec.Command("apt-get", append([]string{"-y", "-q"}, args...)...)
	run.Env = []string{"APT_CONFIG=" + h.path("apt.conf"), "PATH=" + os.Getenv("PATH"), "DEBIAN_FRONTEND=noninteractive",
		"LC_ALL=C"}
	out, err := run.CombinedOutput()
	return string(out), err
}

func (h *handed) mustApt(args ...string) {
	h.t.Helper()
	out, err := h.apt(args...)
	require.NoError(h.t, err, out)
}

// Another machine's own package manager accepts the packages of the signed repository, and no
// others: it installs, runs, upgrades, keeps edited files, and removes all of it again.
func TestAptUsesTheRepository(t *testing.T) {
	long(t)
	t.Parallel()
	if _, err := exec.LookPath("apt-get"); err != nil {
		t.Skip("apt-get is not here")
	}
	h := newHanded(t)
	h.publish("deb", "glasshouse")
	key := h.path("trusted.asc")
	h.write("trusted.asc", h.read("repo/vale.asc"))
	require.NoError(t, os.MkdirAll(filepath.Join(h.target, "etc/apt/sources.list.d"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(h.target, "etc/apt/sources.list.d/vale.sources"),
		fmt.Appendf(nil, "Types: deb\nURIs: %s\nSuites: stable\nComponents: main\nSigned-By: %s\n", h.site.URL, key), 0o644))
	h.mustApt("update")
	h.mustApt("install", "vale-glasshouse")
	program, err := filepath.EvalSymlinks(h.path("root/landing/bin/mistplan"))
	require.NoError(t, err)
	assert.Contains(t, h.chroot(program, "--version"), "mistplan 2.1.0 (storage: loam, plots: yes")
	edited := filepath.Join(h.target, h.path("root/config/mistplan/etc/mistplan.conf"))
	require.NoError(t, os.WriteFile(edited, []byte("stage = seedling\n"), 0o644))

	// The same version packed again is an upgrade; packages that nothing depends on can be removed.
	h.edit("fernladder.toml", "suffix = \"vale12\"\n", "suffix = \"vale12\"\nrebuild = 2\n")
	h.must("install", "glasshouse", "mistplan", "-o", "mistplan.plots=off")
	h.publish("deb", "glasshouse", "mistplan")
	h.mustApt("update")
	h.mustApt("install", "vale-mistplan", "vale-glasshouse")
	h.mustApt("autoremove")
	program, err = filepath.EvalSymlinks(h.path("root/landing/bin/mistplan"))
	require.NoError(t, err)
	assert.Contains(t, h.chroot(program, "--version"), "plots: no")
	data, err := os.ReadFile(edited)
	require.NoError(t, err)
	assert.Equal(t, "stage = seedling\n", string(data))
	trees, err := filepath.Glob(filepath.Join(h.target, h.path("root/trees/mistplan/*")))
	require.NoError(t, err)
	assert.Len(t, trees, 1)

	// An earlier state of the repository is not accepted as new.
	current := h.path("repo/.fernladder-repository/current")
	now, err := os.Readlink(current)
	require.NoError(t, err)
	var number int
	_, err = fmt.Sscanf(now, "states/%d", &number)
	require.NoError(t, err)
	before := fmt.Sprintf("states/%d", number-1)
	require.NoError(t, os.Remove(current))
	require.NoError(t, os.Symlink(before, current))
	late := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(h.path("repo/dists/stable/InRelease"), late, late))
	h.apt("update")
	out, err := h.apt("install", "-s", "--reinstall", "vale-mistplan")
	require.NoError(t, err, out)
	assert.NotContains(t, out, "is not possible", "apt knows the newer one still")
	require.NoError(t, os.Remove(current))
	require.NoError(t, os.Symlink(now, current))

	// Files that differ from what was signed are refused.
	lists, err := filepath.Glob(h.path("repo/dists/stable/main/binary-amd64/by-hash/SHA256/*"))
	require.NoError(t, err)
	for _, list := range append(lists, h.path("repo/dists/stable/main/binary-amd64/Packages"),
		h.path("repo/dists/stable/main/binary-amd64/Packages.gz"),
		h.path("repo/dists/stable/main/binary-amd64/Packages.xz")) {
		require.NoError(t, os.WriteFile(list, []byte("Package: rust\n"), 0o644))
	}
	require.NoError(t, os.RemoveAll(filepath.Join(h.target, "var/lib/apt/lists")))
	_, err = h.apt("update")
	assert.Error(t, err, "a list that was tampered with")
	h.publish("deb", "dewcalc") // which publishes anew
	h.mustApt("update")
	debs, err := filepath.Glob(h.path("repo/pool/vale-dewcalc/*.deb"))
	require.NoError(t, err)
	require.Len(t, debs, 1)
	whole := h.must("repository", "check", "repo").stdout
	assert.Contains(t, whole, "are unchanged")
	good, err := os.ReadFile(debs[0])
	require.NoError(t, err)
	bad := append(append([]byte{}, good[:len(good)-1]...), good[len(good)-1]^1)
	require.NoError(t, os.WriteFile(debs[0], bad, 0o644))
	out, err = h.apt("install", "vale-dewcalc")
	assert.Error(t, err, "a package that was tampered with:\n%s", out)
	assert.Contains(t, h.fails(1, []string{"repository", "check", "repo"}).stdout, "it is not the package that was added")
	require.NoError(t, os.WriteFile(debs[0], good, 0o644))
	h.signingKey("other.key", 0)
	h.fails(1, []string{"repository", "drop", "repo", "vale-dewcalc", "--key", "other.key"},
		"the repository is signed with the key", "--another-key")
	h.must("repository", "drop", "repo", "vale-dewcalc", "--key", "other.key", "--another-key")
	// apt asks for changes since a time in whole seconds.
	require.NoError(t, exec.Command("find", h.path("repo"), "-name", "*Release*", "-exec", "touch", "-d", "+2 seconds",
		"{}", "+").Run())
	_, err = h.apt("update")
	assert.Error(t, err, "another key")
	// A repository that was not published within its validity is stale.
	key2, err := signature.ReadKey(h.path("vale.key"), time.Now)
	require.NoError(t, err)
	stale := &repository.Repository{Dir: h.path("repo"), Name: "vale", Now: func() time.Time {
		return time.Now().AddDate(0, 0, -10)
	}, Valid: 24 * time.Hour, AnotherKey: true}
	require.NoError(t,
		stale.Change(context.Background(), key2, func(all []repository.Entry) ([]repository.Entry, error) {
			return all, nil
		}))
	require.NoError(t, os.RemoveAll(filepath.Join(h.target, "var/lib/apt/lists")))
	out, err = h.apt("update")
	assert.Error(t, err)
	assert.Contains(t, out, "expired")
	h.publish("deb", "glasshouse", "mistplan")

	// All of it can be removed.
	h.mustApt("update")
	h.mustApt("purge", "vale-*")
	left := 0
	require.NoError(t,
		filepath.WalkDir(filepath.Join(h.target, h.dir), func(path string, d fs.DirEntry, err error) error {
			left++
			return nil
		}))
	assert.LessOrEqual(t, left, 1, "nothing is left")
	assert.NoFileExists(t, filepath.Join(h.target, "usr/local/bin/mistplan"))
}

// The same for dnf, which verifies the signatures of packages and of the repository.
func TestDnfUsesTheRepository(t *testing.T) {
	long(t)
	t.Parallel()
	dnf, err := exec.LookPath("dnf")
	if err != nil {
		t.Skip("dnf is not here")
	}
	h := newHanded(t)
	h.publish("rpm", "glasshouse")
	// A bare root has no C library: a package declares that it is there.
	base := &ospackage.Package{Name: "vale-base", Version: "1", Release: "1", Summary: "What is there", License: "MIT",
		Maintainer: "Vale Growers <growers@vale-glasshouse.example>", Time: time.Unix(1774008000, 0)}
	for _, name := range []string{"libc.so.6()(64bit)", "libm.so.6()(64bit)", "/bin/sh"} {
		base.Provides = append(base.Provides, ospackage.Relation{Name: name})
	}
	for _, v := range []string{"2.2.5", "2.3.4", "2.4", "2.7", "2.14", "2.29", "2.33", "2.34", "2.38"} {
		base.Provides = append(base.Provides, ospackage.Relation{Name: "libc.so.6(GLIBC_" + v + ")(64bit)"},
			ospackage.Relation{Name: "libm.so.6(GLIBC_" + v + ")(64bit)"})
	}
	file, err := os.Create(h.path("vale-base-1-1.noarch.rpm"))
	require.NoError(t, err)
	require.NoError(t, base.WriteRPM(file, h.dir))
	require.NoError(t, file.Close())
	h.must("repository", "add", "repo", file.Name(), "--key", "vale.key")
	h.write("repos/vale.repo",
		fmt.Sprintf("[vale]\nname=vale\nbaseurl=%[1]s\ngpgcheck=1\nrepo_gpgcheck=1\nskip_if_unavailable=0\ngpgkey=file://%[2]s\n", h.site.URL, h.path("trusted.asc")))
	h.write("trusted.asc", h.read("repo/vale.asc"))
	require.NoError(t, os.MkdirAll(filepath.Join(h.target, "var/log"), 0o755))
	run := func(args ...string) (string, error) {
		c := exec.Command(dnf,
			append([]string{"-y", "-q", "--installroot=" + h.target, "--setopt=reposdir=" + h.path("repos"),
				"--setopt=cachedir=" + h.path("cache"), "--setopt=persistdir=" + h.path("persist"),
				"--setopt=varsdir=" + h.path("vars"), "--setopt=module_platform_id=platform:f1", "--setopt=metadata_expire=0",
				"--releasever=1", "--noplugins"}, args...)...)
		out, err := c.CombinedOutput()
		return string(out), err
	}
	must := func(args ...string) {
		t.Helper()
		out, err := run(args...)
		require.NoError(t, err, out)
	}
	must("install", "vale-glasshouse")
	program, err := filepath.EvalSymlinks(h.path("root/landing/bin/mistplan"))
	require.NoError(t, err)
	assert.Contains(t, h.chroot(program, "--version"), "mistplan 2.1.0")
	edited := filepath.Join(h.target, h.path("root/config/mistplan/etc/mistplan.conf"))
	require.NoError(t, os.WriteFile(edited, []byte("stage = seedling\n"), 0o644))
	h.edit("fernladder.toml", "suffix = \"vale12\"\n", "suffix = \"vale12\"\nrebuild = 2\n")
	h.publish("rpm", "glasshouse")
	must("upgrade")
	data, err := os.ReadFile(edited)
	require.NoError(t, err)
	assert.Equal(t, "stage = seedling\n", string(data))

	// A package that replaces another is refused, as is a repository signed by another key.
	h.publish("rpm", "sporegen")
	rpms, err := filepath.Glob(h.path("repo/pool/vale-sporegen/*.rpm"))
	require.NoError(t, err)
	require.Len(t, rpms, 1)
	whole, err := os.ReadFile(rpms[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(rpms[0], append(whole, 0), 0o644))
	_, err = run("install", "vale-sporegen")
	assert.Error(t, err, "a package that was tampered with")
	h.signingKey("other.key", 0)
	h.must("repository", "drop", "repo", "vale-sporegen", "--key", "other.key", "--another-key")
	out, err := run("makecache")
	assert.Error(t, err, "another key:\n%s", out)
	h.publish("rpm", "sporegen")
	must("remove", "vale-*")
	assert.NoFileExists(t, filepath.Join(h.target, "usr/local/bin/mistplan"))
	left, err := filepath.Glob(filepath.Join(h.target, h.path("root/trees/*/*")))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// Packages that cannot be made, or added to a repository, are refused with advice, and nothing
// is half done.
func TestBadPackages(t *testing.T) {
	long(t)
	t.Parallel()
	w, _ := newGarden(t)
	w.must("install", "mistplan")
	w.fails(1, []string{"pack", "mistplan", "--to", "out"}, "packages name their maintainer", "maintainer = ")
	w.write("fernladder.toml", w.read("fernladder.toml")+
		"\n[pack]\nmaintainer = \"Vale Growers <growers@vale-glasshouse.example>\"\n")
	w.fails(2, []string{"pack", "mistplan", "--format", "zip"}, "it can be deb or rpm")
	assert.NotContains(t, w.must("pack", "mistplan", "--format", "rpm", "--to", "out").stderr, "To install them here",
		"on Debian")
	assert.Contains(t, w.must("pack", "mistplan", "--format", "deb", "--to", "debs").stderr,
		"To install them here: apt-get install ./debs/*.deb")
	w.write("out/.packing-999999999-1/half.rpm", "what one that was killed has left")
	again := w.must("pack", "mistplan", "--format", "rpm", "--to", "out")
	assert.NoDirExists(t, w.path("out/.packing-999999999-1"))
	assert.Contains(t, again.stdout, "already exists", "the same build makes the same bytes")
	program, err := filepath.EvalSymlinks(w.path("root/landing/bin/mistplan"))
	require.NoError(t, err)
	require.NoError(t, os.Chmod(program, 0o755))
	require.NoError(t, os.WriteFile(program, []byte("rust"), 0o755))
	w.fails(1, []string{"pack", "mistplan", "--format", "rpm", "--to", "out2"}, "these files are not as they were built:",
		"bin/mistplan", "fernladder mend --rebuild")
	left, err := filepath.Glob(w.path("out2/.*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	w.pkg("fern", script("place", `mkdir -p $FL_PREFIX/share; echo leaf >"$FL_PREFIX/share/$(printf 'a\nb')"`))
	w.must("build", "fern")
	w.fails(1, []string{"pack", "fern", "--format", "rpm", "--to", "out2"}, `share/a\nb" cannot be in a package`)
	w.write("station.cal", "0.7\n")
	w.must("supply", "mistplan", "station.cal")
	w.must("build", "mistplan", "-o", "calibrated=on")
	var list struct{ Builds []struct{ Name, ID string } }
	w.parsed(&list, "list")
	refused := false
	for _, b := range list.Builds {
		r := w.run("pack", b.Name+"@"+b.ID, "--format", "rpm", "--to", "out3")
		refused = refused || strings.Contains(r.stderr, "files that must not be passed on: station.cal")
	}
	assert.True(t, refused)

	key := w.signingKey("vale.key", 0)
	rpms, err := filepath.Glob(w.path("out/*.rpm"))
	require.NoError(t, err)
	add := func(dir string, more ...string) []string {
		return append(append([]string{"repository", "add", dir}, rpms...), more...)
	}
	w.fails(2, add("repo"), "a repository is signed")
	w.fails(2, add("repo", "--key", "vale.key", "--keep", "-1"), "numbers from 0 on")
	require.NoError(t, os.Chmod(key, 0o644))
	w.fails(1, add("repo", "--key", "vale.key"), "others can read this key")
	require.NoError(t, os.Chmod(key, 0o600))
	w.write("public.key", "-----BEGIN PGP PUBLIC KEY BLOCK-----\n")
	require.NoError(t, os.Chmod(w.path("public.key"), 0o600))
	w.fails(1, add("repo", "--key", "public.key"), "this is not an OpenPGP key")
	w.signingKey("old.key", time.Minute)
	w.fails(1, add("repo", "--key", "old.key"), "perhaps it has expired")
	w.fails(1, []string{"repository", "check", "out"}, "is not a repository that Fern Ladder has made")
	w.fails(1, []string{"repository", "drop", "out", "moss", "--key", "vale.key"},
		"is not a repository that Fern Ladder has made")
	w.write("theirs/repodata/repomd.xml", "<repomd/>")
	w.fails(1, add("theirs", "--key", "vale.key"), "has repodata, which Fern Ladder did not make")
	require.NoError(t, os.Mkdir(w.path("open"), 0o777))
	require.NoError(t, os.Chmod(w.path("open"), 0o777))
	w.fails(1, add("open", "--key", "vale.key"), "is writable for others (mode 0777)", "chmod go-w")
	require.NoError(t, syscall.Mkfifo(w.path("pipe.rpm"), 0o600)) // nothing ever writes to it
	w.fails(1, []string{"repository", "add", "repo", w.path("pipe.rpm"), "--key", "vale.key"},
		"pipe.rpm: it is not a file")
	require.NoError(t, os.Mkdir(w.path("pipes"), 0o755))
	require.NoError(t, syscall.Mkfifo(w.path("pipes/"+filepath.Base(rpms[0])), 0o600))
	w.fails(1, []string{"pack", "dewcalc", "--format", "rpm", "--to", "pipes"}, "is another package of the same version")
	w.write("broken.rpm", "\xed\xab\xee\xdb")
	w.fails(1, []string{"repository", "add", "repo", rpms[0], w.path("broken.rpm"), "--key", "vale.key"},
		"this is not a .rpm")
	pool, err := filepath.Glob(w.path("repo/pool/*/*"))
	require.NoError(t, err)
	assert.Empty(t, pool, "of two, of which one is bad, none is there")
	var writers sync.WaitGroup
	for range 4 { // who comes second waits
		writers.Go(func() { w.must(add("repo", "--key", "vale.key")...) })
	}
	writers.Wait()
	w.fails(1, []string{"repository", "drop", "repo", "moss", "--key", "vale.key"}, "the repository has no package moss")
	assert.Contains(t, w.must("repository", "check", "repo").stdout, "are unchanged")

	// What readers would find is what counts, and only regular files are opened.
	broken := func(do, says string) {
		t.Helper()
		w.sh("cp -a repo good; cd repo; " + do)
		assert.Contains(t, w.fails(1, []string{"repository", "check", "repo"}).stdout, says)
		w.sh("rm -r repo; mv good repo")
	}
	broken("rm repodata; mkdir repodata; cp ../good/repodata/* repodata; echo forged >repodata/repomd.xml",
		"repodata: it does not lead to what is published")
	broken("f=$(echo pool/*/*.rpm | cut -d' ' -f1); rm $f; mkfifo $f", "it is not a file")
	broken("rm *.asc; mkfifo $(cd ../good; echo *.asc)", "this key cannot be read")
	w.sh("mkdir elsewhere; cp -a repo good; cd repo; d=$(echo pool/* | cut -d' ' -f1); rm -r $d; ln -s ../../elsewhere $d")
	w.fails(1, add("repo", "--key", "vale.key"), "nothing is written through it")
	assert.Empty(t, w.glob("elsewhere/*"))
}

// Run-time needs of a recipe are dependencies of its packages, even if the recipe names them
// only after the build.
func TestPackagesNeedWhatRecipesSay(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	text := w.read("recipes/dewcalc/recipe.toml") + "\n[[host]]\nprogram = \"sh\"\n\n[[host]]\nfile = \"/etc/passwd\"\n"
	w.write("recipes/dewcalc/recipe.toml", text)
	w.write("fernladder.toml", w.read("fernladder.toml")+
		"\n[pack]\nmaintainer = \"Vale Growers <growers@vale-glasshouse.example>\"\n")
	w.must("install", "dewcalc")
	needs := func(dir string) []string {
		w.must("pack", "dewcalc", "--format", "rpm", "--to", dir)
		files, err := filepath.Glob(w.path(dir + "/*.x86_64.rpm"))
		require.NoError(t, err)
		require.Len(t, files, 1)
		file, err := os.Open(files[0])
		require.NoError(t, err)
		defer file.Close()
		r, err := ospackage.ReadRPM(file)
		require.NoError(t, err)
		return r.Texts(ospackage.TagRequires)
	}
	assert.NotContains(t, needs("before"), "/etc/passwd")
	w.write("recipes/dewcalc/recipe.toml",
		strings.Replace(text, "\"/etc/passwd\"\n", "\"/etc/passwd\"\nruntime = true\n", 1))
	w.must("install", "dewcalc") // which builds nothing
	assert.Contains(t, needs("after"), "/etc/passwd")
	w.write("recipes/dewcalc/recipe.toml", text+"\n[[host]]\nheader = \"stdio.h\"\nruntime = true\n")
	assert.Contains(t, w.fails(3, []string{"check", "dewcalc"}).stdout, "a header is not needed when a package runs")
}
