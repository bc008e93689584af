package main_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A build for a prefix is installed there by the machine's own package managers, runs without
// its build dependencies, keeps edited files, and is removed completely.
func TestPackagesForAPrefix(t *testing.T) {
	long(t)
	t.Parallel()
	h := newHanded(t)
	const prefix = "/opt/glasshouse"
	build := func(format, to string) string {
		h.must("pack", "glasshouse", "mistplan", "--prefix", prefix, "--format", format, "--to", to)
		files, err := filepath.Glob(h.path(to + "/*." + format))
		require.NoError(t, err)
		require.Len(t, files, 1)
		return files[0]
	}
	run := func(name string, args ...string) string {
		t.Helper()
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	managers := []struct {
		format, program string
		install, remove func(what string)
	}{
		{"deb", "dpkg",
			func(file string) { run("dpkg", h.dpkg("-i", "--force-confold", file)...) },
			func(name string) { run("dpkg", h.dpkg("--purge", name)...) }},
		{"rpm", "rpm",
			func(file string) { run("rpm", "--root", h.target, "--nodeps", "-U", file) },
			func(name string) {
				assert.NotContains(t, run("sh", "-c", "rpm --root "+h.target+" -V "+name+" || true"), "missing")
				run("rpm", "--root", h.target, "-e", name)
			}},
	}
	for _, m := range managers {
		if _, err := exec.LookPath(m.program); err != nil {
			continue
		}
		h.target = t.TempDir()
		m.install(build(m.format, "first-"+m.format))
		config := filepath.Join(h.target, prefix, "etc/mistplan.conf")
		require.NoError(t, os.WriteFile(config, []byte("stage = seedling\n"), 0o644))
		libraries, err := filepath.Glob(filepath.Join(h.target, prefix, "lib/*.so.*"))
		require.NoError(t, err)
		h.libraries(append(libraries, filepath.Join(h.target, prefix, "bin/mistplan"))...)
		assert.Contains(t, run("chroot", h.target, prefix+"/bin/mistplan", "--version"),
			"mistplan 2.1.0 (storage: loam, plots: yes")
		assert.Contains(t, run("chroot", h.target, "/usr/local/bin/mistplan", "--version"), "mistplan 2.1.0")
		require.NoError(t,
			filepath.WalkDir(filepath.Join(h.target, prefix), func(path string, d fs.DirEntry, err error) error {
				if err == nil && d.Type().IsRegular() {
					data, err := os.ReadFile(path)
					require.NoError(t, err)
					assert.NotContains(t, string(data), h.dir, path)
				}
				return err
			}))

		h.write("fernladder.toml", strings.Replace(h.read("fernladder.toml"), "suffix = \"vale12\"\n",
			"suffix = \"vale12\"\nrebuild = 2\n", 1))
		m.install(build(m.format, "second-"+m.format))
		data, err := os.ReadFile(config)
		require.NoError(t, err)
		assert.Equal(t, "stage = seedling\n", string(data))
		// Packed unchanged: rpm keeps edited files.
		require.NoError(t, os.WriteFile(config, []byte(h.read("root/config/mistplan/etc/mistplan.conf")), 0o644))
		m.remove("vale-glasshouse")
		assert.NoDirExists(t, filepath.Join(h.target, prefix))
		assert.NoFileExists(t, filepath.Join(h.target, "usr/local/bin/mistplan"))
		h.write("fernladder.toml", strings.Replace(h.read("fernladder.toml"), "rebuild = 2\n", "", 1))
	}
	assert.NoDirExists(t, prefix, "this machine has nothing there")
	h.fails(2, []string{"pack", "glasshouse", "--prefix", "/usr"}, "can replace the system's own files", "--system-prefix")
	h.must("pack", "glasshouse", "--prefix", "/usr", "--system-prefix", "--format", "rpm", "--to", "system")
	assert.NoFileExists(t, "/usr/bin/mistplan")

	// Both shapes have the same name, and a machine could not tell them apart.
	h.publish("deb", "glasshouse")
	one, err := filepath.Glob(h.path("first-deb/*.deb"))
	require.NoError(t, err)
	h.fails(1, append([]string{"repository", "add", "repo", "--key", "vale.key"}, one...),
		"already has another package vale-glasshouse 1.0.0-1.vale12", "--name NAME")

	// Another root, another path: the same files, except for times in receipts.
	other, _ := newGarden(t)
	other.write("fernladder.toml", strings.ReplaceAll(h.read("fernladder.toml"), "root    = \"root\"",
		"root    = \"a/much/longer/path/to/the/root\""))
	other.must("pack", "glasshouse", "mistplan", "--prefix", prefix, "--format", "deb", "--to", "first-deb")
	contents := func(w *world) string {
		files, err := filepath.Glob(w.path("first-deb/*.deb"))
		require.NoError(t, err)
		require.Len(t, files, 1)
		dir := t.TempDir()
		run("dpkg-deb", "-x", files[0], dir)
		return run("sh", "-c", "cd "+dir+"/opt && find . ! -type d -exec sha256sum {} + | sort -k 2")
	}
	assert.Equal(t, contents(h.world), contents(other))
}
