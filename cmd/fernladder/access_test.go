package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// member runs the program as a user with supplementary groups.
func member(t *testing.T, dir string, uid uint32, groups []uint32, args ...string) (string, int) {
	c := exec.Command(program, args...)
	c.Dir, c.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "FERNLADDER_SETTINGS=" + dir +
		"/fernladder.toml"}
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid, Groups: groups}}
	out, err := c.CombinedOutput()
	if exit := new(exec.ExitError); err != nil {
		require.ErrorAs(t, err, &exit, string(out))
	}
	return string(out), c.ProcessState.ExitCode()
}

// In a root for a group, its members can do with each other's builds what they can do with their
// own, and other users can use them; a private root is closed to other users.
func TestWhoMayInstall(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root can be several users")
	}
	const ada, ben, cal, games = 4001, 4002, 4003, 60
	dir, err := os.MkdirTemp("/tmp", "fernladder-access")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(program), 0o755))
	for parent := filepath.Dir(program); parent != "/"; parent = filepath.Dir(parent) {
		info, err := os.Stat(parent)
		require.NoError(t, err)
		if info.Mode().Perm()&0o005 != 0o005 {
			t.Skip("other users cannot come to the program that is tested: " + parent)
		}
	}
	w := newWorld(t)
	for _, name := range []string{"fern", "moss"} {
		w.pkg(name, "[[config]]\nfile = \"etc/"+name+".conf\"\n"+
			script("place", place(name)+"; mkdir $DESTDIR$FL_PREFIX/etc; echo >$DESTDIR$FL_PREFIX/etc/"+name+".conf"))
	}
	require.NoError(t, exec.Command("cp", "-r", w.dir+"/recipes", w.dir+"/archives", dir).Run())
	require.NoError(t,
		exec.Command("sh", "-c", "cd "+dir+" && sed -i 's,"+w.dir+","+dir+
			",' recipes/*/recipe.toml && chmod -R a+rX . && mkdir -m 777 place").Run())
	settings := func(text string) {
		require.NoError(t,
			os.WriteFile(filepath.Join(dir, "fernladder.toml"), []byte("root = \"place/root\"\nshelves = [\"recipes\"]\n"+text),
				0o644))
	}
	must := func(uid uint32, args ...string) string {
		out, status := member(t, dir, uid, []uint32{games}, args...)
		require.Zero(t, status, out)
		return out
	}
	settings("access = \"group\"\ngroup = \"games\"\n")
	must(ada, "install", "fern")
	must(ben, "install", "moss")
	must(ben, "remove", "--trees", "fern")
	assert.NotContains(t, must(ada, "list"), "fern ")
	must(ada, "landing", "use", "0")
	must(ben, "landing", "use", "3")
	must(ben, "install", "fern")
	must(ada, "mend", "--fix")
	out, status := member(t, dir, cal, nil, "list")
	assert.Zero(t, status, out)
	out, status = member(t, dir, cal, nil, "install", "fern")
	assert.Equal(t, 7, status, out)
	out, status = member(t, dir, cal, nil, "remove", "fern")
	assert.Equal(t, 7, status, out)
	assert.Contains(t, out, "cannot be written by this user")

	settings("access = \"private\"\n")
	must(ada, "install", "fern")
	for _, path := range []string{"place/root", "place/root/landing/bin/fern"} {
		c := exec.Command("ls", "-d", filepath.Join(dir, path)+"/.")
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: cal, Gid: cal}}
		assert.Error(t, c.Run(), path)
	}
	_, status = member(t, dir, cal, nil, "list")
	assert.Equal(t, 7, status)

	settings("access = \"group\"\ngroup = \"no-such-group\"\n")
	out, status = member(t, dir, ada, nil, "list")
	assert.Equal(t, 6, status)
	assert.Contains(t, out, "the group no-such-group install, but this machine has no such group")
	settings("access = \"group\"\n")
	out, status = member(t, dir, ada, nil, "list")
	assert.Equal(t, 3, status)
	assert.True(t, strings.Contains(out, "go together"), out)
}
