package host

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMemoryThatIsShort(t *testing.T) {
	proc := t.TempDir()
	assert.False(t, ReadMemory(proc).Short(1<<40), "nothing is known")
	require.NoError(t,
		os.WriteFile(filepath.Join(proc, "meminfo"),
			[]byte("MemTotal:       16777216 kB\nMemFree: 1 kB\nMemAvailable:    4194304 kB\n"), 0o644))
	assert.Equal(t, Memory{Available: 4 << 30, Total: 16 << 30}, ReadMemory(proc))
	assert.False(t, ReadMemory(proc).Short(3<<30))
	assert.True(t, ReadMemory(proc).Short(4<<30), "nothing would be left")
	require.NoError(t, os.Mkdir(filepath.Join(proc, "pressure"), 0o755))
	require.NoError(t,
		os.WriteFile(filepath.Join(proc, "pressure", "memory"),
			[]byte("some avg10=34.50 avg60=1.00 avg300=0.10 total=99\nfull avg10=0.00 avg60=0.00 avg300=0.00 total=0\n"), 0o644))
	assert.True(t, ReadMemory(proc).Short(0), "others wait for memory")
}
