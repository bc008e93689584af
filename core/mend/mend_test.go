package mend

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/host"
	"fernladder/core/store"
)

// compile makes a C program or library, which may need one in dir.
func compile(t *testing.T, dir, name, source string, flags ...string) {
	file := filepath.Join(t.TempDir(), "x.c")
	require.NoError(t, os.WriteFile(file, []byte(source), 0o644))
	out, err := exec.Command("cc", append([]string{"-o", filepath.Join(dir, name), file}, flags...)...).CombinedOutput()
	require.NoError(t, err, string(out))
}

// What an upgrade of the operating system removes is found, with its replacement.
func TestTheMachineIsCheckedAgainstWhatBuildsUse(t *testing.T) {
	lib := t.TempDir()
	versions := filepath.Join(t.TempDir(), "versions")
	moss := func(version string) {
		require.NoError(t, os.WriteFile(versions, []byte(version+" { global: moss; local: *; };"), 0o644))
		compile(t, lib, "libmoss.so.1", "int moss(void) { return 1; }", "-shared", "-fPIC", "-Wl,-soname,libmoss.so.1",
			"-Wl,--version-script="+versions)
	}
	moss("MOSS_1")

	s := &store.Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	ref := store.Ref{Name: "fern", Version: "1.0", ID: "0123456789ab"}
	stage := filepath.Join(t.TempDir(), "stage")
	require.NoError(t, os.MkdirAll(filepath.Join(stage, "bin"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(stage, "lib/python3.2/site-packages"), 0o755))
	compile(t, filepath.Join(stage, "bin"), "fern", "int moss(void); int main(void) { return moss(); }",
		filepath.Join(lib, "libmoss.so.1"))
	interpreter := filepath.Join(lib, "grow3.1")
	require.NoError(t, os.WriteFile(interpreter, nil, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(stage, "bin/script"), []byte("#!"+interpreter+" -x\n"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(stage, "bin/by-name"), []byte("#!/usr/bin/env grow3.1\n"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(stage, "lib/python3.2/site-packages/x.py"), nil, 0o644))
	_, _, err := s.Place(stage, ref, nil)
	require.NoError(t, err)
	receipt := &store.Receipt{Ref: ref}
	require.NoError(t, s.Commit(receipt))

	look := func() map[Kind]string {
		system := newSystem(host.Programs{Path: []string{lib}})
		system.loader = append(host.Loader{lib}, system.loader...)
		l := &looking{s: s, receipt: receipt, system: system}
		l.look(context.Background())
		found := map[Kind]string{}
		for _, f := range l.found {
			found[f.Kind] += f.What + "\n"
			assert.True(t, f.Rebuild)
		}
		return found
	}
	python := "it has modules for python3.2, which is not on this machine\n"
	assert.Equal(t, map[Kind]string{Interpreter: python}, look())

	moss("MOSS_2")
	assert.Equal(t, map[Kind]string{Interpreter: python, Symbols: filepath.Join(lib, "libmoss.so.1") +
		" has no MOSS_1, which it was linked with\n"}, look())
	require.NoError(t, os.Rename(filepath.Join(lib, "libmoss.so.1"), filepath.Join(lib, "libmoss.so.2")))
	require.NoError(t, os.Rename(interpreter, filepath.Join(lib, "grow3.2")))
	assert.Equal(t, map[Kind]string{
		Library: "it needs the library libmoss.so.1, which is not on this machine; it has libmoss.so.2\n",
		Interpreter: "its interpreter grow3.1 is not on this machine; it has grow3.2\n" +
			"its interpreter " + interpreter + " is not on this machine; it has grow3.2\n" + python,
	}, look())
}
