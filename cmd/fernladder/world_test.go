package main_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fernladder/demo/garden"
	"fernladder/demo/upstream"
	"fernladder/internal/cli"
)

// program is the built program that the tests drive.
var program string

// whole imports all packages of the program. The go command does not know that the tests run
// another program, and would show cached results after a change; the reference makes the
// packages part of the tests. An import alone does not: the linker drops what nothing reaches.
var whole = []any{cli.Main}

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "fernladder-test-")
	if err != nil {
		panic(err)
	}
	os.Chmod(dir, 0o755) // other users run it, too
	program = filepath.Join(dir, "fernladder")
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(string(out))
	}
	status := m.Run()
	runtime.KeepAlive(whole)
	os.RemoveAll(dir)
	os.Exit(status)
}

// long marks a test that only `make check` runs.
func long(t *testing.T) {
	if testing.Short() {
		t.Skip("make check runs it")
	}
}

// A world is a folder with settings, a shelf and a root.
type world struct {
	t    *testing.T
	dir  string
	root string
	env  []string
	// isolation is that of builds: by default, the strongest that the machine supports.
	isolation string
	uid       int  // who runs the program, where root runs the tests
	edited    bool // a configuration file was, which has to stay
}

func newWorld(t *testing.T) *world {
	w := &world{t: t, dir: t.TempDir()}
	// Builds that are not sealed enter this directory as users of their own, and write to it.
	// Settings in such a directory must be named explicitly.
	require.NoError(t, os.Chmod(w.dir, 0o777|os.ModeSticky))
	for dir := filepath.Dir(w.dir); dir != filepath.Clean(os.TempDir()) && dir != "/"; dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	w.root = filepath.Join(w.dir, "root")
	w.env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + w.dir, "SECRET=visible", "CFLAGS=-broken",
		"FERNLADDER_SETTINGS=" + w.path("fernladder.toml")}
	w.write("fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, "recipes"), 0o755))
	return w
}

// closed makes the world's directory unwritable for other users, and lets the program find its
// settings there.
func (w *world) closed() {
	require.NoError(w.t, os.Chmod(w.dir, 0o755))
	w.env = slices.DeleteFunc(w.env, func(v string) bool { return strings.HasPrefix(v, "FERNLADDER_SETTINGS=") })
}

// newGarden is a world with the recipes of the demonstration and their site.
func newGarden(t *testing.T) (*world, *upstream.Site) {
	w := newWorld(t)
	archives, err := garden.Archives()
	require.NoError(t, err)
	site, err := upstream.Start(archives)
	require.NoError(t, err)
	t.Cleanup(func() { site.Close() })
	require.NoError(t, garden.Write(w.dir, site.URL, archives))
	require.NoError(t, os.RemoveAll(w.path("upstream"))) // only the site has them
	return w, site
}

func (w *world) path(name string) string { return filepath.Join(w.dir, name) }

func (w *world) write(name, text string) {
	require.NoError(w.t, os.MkdirAll(filepath.Dir(w.path(name)), 0o755))
	require.NoError(w.t, os.WriteFile(w.path(name), []byte(text), 0o644))
}

func (w *world) read(name string) string {
	data, err := os.ReadFile(w.path(name))
	require.NoError(w.t, err)
	return string(data)
}

// edit replaces a text in a file.
func (w *world) edit(name, old, new string) {
	text := w.read(name)
	require.Contains(w.t, text, old)
	w.write(name, strings.ReplaceAll(text, old, new))
}

// pkg writes a recipe for a package with these source files, given as pairs of name and
// contents. more is added to the recipe.
func (w *world) pkg(name, more string, files ...string) {
	dir := filepath.Join(w.t.TempDir(), name)
	require.NoError(w.t, os.Mkdir(dir, 0o755))
	for i := 0; i < len(files); i += 2 {
		mode := fs.FileMode(0o644)
		if strings.HasPrefix(files[i+1], "#!") {
			mode = 0o755
		}
		require.NoError(w.t, os.WriteFile(filepath.Join(dir, files[i]), []byte(files[i+1]), mode))
	}
	archive := w.path("archives/" + name + ".tar.gz")
	require.NoError(w.t, os.MkdirAll(filepath.Dir(archive), 0o755))
	out, err := exec.Command("tar", "-C", filepath.Dir(dir), "-czf", archive, name).CombinedOutput()
	require.NoError(w.t, err, string(out))
	data, err := os.ReadFile(archive)
	require.NoError(w.t, err)
	sum := sha256.Sum256(data)
	w.write("recipes/"+name+"/recipe.toml",
		fmt.Sprintf("format = 1\n[package]\nname = %q\nsummary = \"A test\"\n[[release]]\nversion = \"1.0\"\narchive = "+
			"\"file://%s\"\nsha256 = %q\n%s",
			name, archive, hex.EncodeToString(sum[:]), more))
}

// script is the build section of a recipe with these script steps.
func script(steps ...string) string {
	text := "[build]\nmethod = \"script\"\n[steps]\n"
	for i := 0; i < len(steps); i += 2 {
		text += steps[i] + " = '''\n" + steps[i+1] + "\n'''\n"
	}
	return text
}

// asking is the line of a recipe that needs a program of the operating system.
func asking(program string) string { return "[[host]]\nprogram = \"" + program + "\"\n" }

// place is a step that installs a program that prints its name.
func place(name string) string {
	return `mkdir -p $DESTDIR$FL_PREFIX/bin; printf '#!/bin/sh\necho ` + name + `\n' >$DESTDIR$FL_PREFIX/bin/` + name +
		`; chmod +x $DESTDIR$FL_PREFIX/bin/` + name
}

// needs skips a test if the machine does not support that isolation.
func needs(t *testing.T, level string) {
	w := newWorld(t)
	w.pkg("fern", script("place", place("fern")))
	w.isolation = level
	if r := w.run("build", "fern"); r.status == 6 {
		t.Skip(r.stderr)
	}
}

// result is the outcome of a run of the program.
type result struct {
	stdout, stderr string
	status         int
}

func (w *world) command(args ...string) *exec.Cmd {
	if w.isolation != "" && (args[0] == "install" || args[0] == "build") {
		args = append(args, "--isolation", w.isolation)
	}
	c := exec.Command(program, args...)
	c.Dir, c.Env = w.dir, w.env
	c.SysProcAttr = as(w.uid)
	return c
}

func (w *world) run(args ...string) result { return w.finish(w.command(args...)) }

func (w *world) finish(c *exec.Cmd) result {
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(w.t, err)
	}
	return result{out.String(), errOut.String(), c.ProcessState.ExitCode()}
}

// must runs the program and requires success.
func (w *world) must(args ...string) result {
	w.t.Helper()
	r := w.run(args...)
	require.Equal(w.t, 0, r.status, "fernladder %s\n%s%s", strings.Join(args, " "), r.stdout, r.stderr)
	return r
}

// fails runs the program and requires an exit status, and all of these texts on stderr.
func (w *world) fails(status int, args []string, says ...string) result {
	w.t.Helper()
	r := w.run(args...)
	require.Equal(w.t, status, r.status, "fernladder %s\n%s%s", strings.Join(args, " "), r.stdout, r.stderr)
	for _, text := range says {
		require.Contains(w.t, r.stderr, text)
	}
	return r
}

// sh runs shell text with the program on the PATH.
func (w *world) sh(text string) result {
	c := exec.Command("sh", "-e", "-c", text)
	c.Dir = w.dir
	c.Env = append([]string{"PATH=" + filepath.Dir(program) + ":" + os.Getenv("PATH")}, "HOME="+w.dir,
		"FERNLADDER_SETTINGS="+w.path("fernladder.toml"))
	return w.finish(c)
}

// parsed runs the program with --json and parses its output into v.
func (w *world) parsed(v any, args ...string) {
	w.t.Helper()
	r := w.must(append(args, "--json")...)
	require.NoError(w.t, json.Unmarshal([]byte(r.stdout), v), r.stdout)
}

// trees are the names of the existing trees, NAME/VERSION without id, complete or not.
func (w *world) trees() []string {
	dirs, err := filepath.Glob(filepath.Join(w.root, "trees", "*", "*"))
	require.NoError(w.t, err)
	names := []string{}
	for _, dir := range dirs {
		base := filepath.Base(dir)
		names = append(names, filepath.Base(filepath.Dir(dir))+"/"+base[:strings.LastIndex(base, "-")])
	}
	return names
}
