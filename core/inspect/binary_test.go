package inspect

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// library compiles a shared library.
func library(t *testing.T) string {
	dir := t.TempDir()
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "x.c"),
			[]byte("#include <math.h>\ndouble leaf(double x) { return sin(x); }\nstatic int inner;\nint *stem(void) { return "+
				"&inner; }\n"), 0o644))
	file := filepath.Join(dir, "libleaf.so")
	out, err := exec.Command("cc", "-shared", "-fPIC", "-Wl,-soname,libleaf.so.1", "-Wl,-rpath,$ORIGIN/../lib:/opt/moss",
		"-o", file, filepath.Join(dir, "x.c"), "-lm").CombinedOutput()
	require.NoError(t, err, string(out))
	return file
}

func TestBinaries(t *testing.T) {
	f, err := os.Open(library(t))
	require.NoError(t, err)
	defer f.Close()
	b, is := ReadBinary(f)
	require.True(t, is)
	assert.Equal(t, "libleaf.so.1", b.Soname)
	assert.Contains(t, b.Needs, "libm.so.6")
	assert.NotEmpty(t, b.Versions["libm.so.6"])
	assert.Equal(t, []string{"/tree/lib", "/opt/moss"}, b.Looks("/tree/bin"))
	assert.Equal(t, []string{"leaf", "stem"}, Exports(f))
	assert.Len(t, Imports(f), 1, "weak ones do not count")
	assert.Contains(t, Imports(f)[0], "sin@GLIBC")

	plain := filepath.Join(t.TempDir(), "plain")
	require.NoError(t, os.WriteFile(plain, []byte("#!/bin/sh\n"), 0o755))
	script, err := os.Open(plain)
	require.NoError(t, err)
	defer script.Close()
	_, is = ReadBinary(script)
	assert.False(t, is)
	assert.Nil(t, Exports(script))
}

// A library with a table as large as a disk, with a hole in its place: nothing of it is read.
func TestTablesThatAreHoles(t *testing.T) {
	file := library(t)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	sections, size, number := binary.LittleEndian.Uint64(data[0x28:]), int(binary.LittleEndian.Uint16(data[0x3a:])),
		int(binary.LittleEndian.Uint16(data[0x3c:]))
	const dynsym, typeAt, offsetAt, sizeAt, huge = 11, 4, 24, 32, 1 << 40
	for i := range number {
		at := int(sections) + i*size
		if binary.LittleEndian.Uint32(data[at+typeAt:]) == dynsym {
			binary.LittleEndian.PutUint64(data[at+sizeAt:], huge)
		}
	}
	require.NoError(t, os.WriteFile(file, data, 0o644))
	if err := os.Truncate(file, huge+1<<20); err != nil {
		t.Skip("this file system has no files of that size: ", err)
	}
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, is := ReadBinary(f)
	assert.False(t, is)
	assert.Nil(t, Exports(f))
	assert.Nil(t, Imports(f))
	assert.Nil(t, Provides(f))
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(8<<20))
}
