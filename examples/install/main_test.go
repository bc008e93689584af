package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/demo/garden"
	"fernladder/demo/upstream"
)

func TestMain(m *testing.M) {
	if os.Getenv("RUN_MAIN") != "" {
		main()
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// A program other than Fern Ladder's own installs a package with its core.
func TestAnotherProgramInstalls(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
	archives, err := garden.Archives()
	require.NoError(t, err)
	site, err := upstream.Start(archives)
	require.NoError(t, err)
	defer site.Close()
	require.NoError(t, garden.Write(dir, site.URL, archives))
	program, err := os.Executable()
	require.NoError(t, err)
	var out, errOut bytes.Buffer
	c := exec.Command(program, "dewcalc")
	c.Args[0] = "install"
	c.Dir, c.Env, c.Stdout, c.Stderr = dir, append(os.Environ(), "RUN_MAIN=1"), &out, &errOut
	require.NoError(t, c.Run(), errOut.String())
	assert.Equal(t, "Packages to build: 1\ndewcalc 1.4.2 package_done\nPackages on the landing: 1\n", out.String())
	assert.FileExists(t, filepath.Join(dir, "root/landing/bin/dewcalc"))
}
