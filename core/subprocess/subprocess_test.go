package subprocess

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func sh(text string) Command {
	return Command{Argv: []string{"/bin/sh", "-c", text}, Env: []string{"PATH=/bin:/usr/bin"}}
}

func TestText(t *testing.T) {
	c := sh("cat; env; echo wrong >&2; exit 3")
	c.Stdin = strings.NewReader("grown\n")
	out, errOut, err := c.Text(t.Context())
	assert.Contains(t, out, "grown\n")
	assert.NotContains(t, out, "HOME=")
	assert.Equal(t, "wrong\n", errOut)
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 3, exit.ExitCode())
}

func TestLimits(t *testing.T) {
	for name, c := range map[string]Command{
		"after 100ms":   {Argv: sh("sleep 60").Argv, Longest: 100 * time.Millisecond},
		"more than 1 M": {Argv: sh("exec cat /dev/zero").Argv, Output: 1 << 20, Stdout: new(strings.Builder)},
	} {
		err := c.Run(t.Context())
		require.ErrorAs(t, err, new(*Exceeded), name)
		assert.ErrorContains(t, err, name)
	}
	whole := sh("head -c 1000000 /dev/zero")
	whole.Output = 1000000
	out, _, err := whole.Text(t.Context())
	require.NoError(t, err, "as much as it may print")
	assert.Len(t, out, 1000000)
	memory := sh(`sleep 0.3; x=$(head -c 300000000 /dev/zero | tr '\0' x); echo ${#x}`)
	memory.Memory = 64 << 20
	out, _, err = memory.Text(t.Context())
	assert.Error(t, err)
	assert.NotContains(t, out, "300000000")
	file := filepath.Join(t.TempDir(), "large")
	large := sh("sleep 0.3; exec head -c 1000000 /dev/zero >" + file)
	large.Largest = 1000
	assert.Error(t, large.Run(t.Context()))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, int64(1000), info.Size())
}

// The whole process group ends with the command, and when it is cancelled.
func TestNothingStays(t *testing.T) {
	pidFile := filepath.Join(t.TempDir(), "pid")
	left := sh("sleep 600 & echo $! >" + pidFile)
	require.NoError(t, left.Run(t.Context()))
	assertGone(t, pidFile)
	require.NoError(t, sh("trap '' HUP; sleep 600 >&2 & echo $! >"+pidFile).Run(t.Context()))
	assertGone(t, pidFile)

	ctx, cancel := context.WithCancelCause(t.Context())
	reason := errors.New("enough")
	time.AfterFunc(200*time.Millisecond, func() { cancel(reason) })
	left = sh("sleep 600 & echo $! >" + pidFile + "; wait")
	assert.ErrorIs(t, left.Run(ctx), reason)
	assertGone(t, pidFile)
}

// And when this program is killed, with its children.
func TestItEndsWithUs(t *testing.T) {
	if file := os.Getenv("SUBPROCESS_TEST"); file != "" {
		if os.Getenv("SUBPROCESS_NOHUP") != "" {
			signal.Ignore(syscall.SIGHUP)
		}
		sh("sh -c 'sleep 600; :' & echo $! >" + file + "; wait").Run(t.Context())
		return
	}
	for _, nohup := range []string{"", "1"} {
		pidFile := filepath.Join(t.TempDir(), "pid")
		us := exec.Command(os.Args[0], "-test.run=TestItEndsWithUs")
		us.Env = append(os.Environ(), "SUBPROCESS_TEST="+pidFile, "SUBPROCESS_NOHUP="+nohup)
		require.NoError(t, us.Start())
		require.Eventually(t, func() bool {
			data, _ := os.ReadFile(pidFile)
			return len(data) > 0
		}, 10*time.Second, 10*time.Millisecond)
		require.NoError(t, us.Process.Kill())
		us.Wait()
		assertGone(t, pidFile)
	}
}

func assertGone(t *testing.T, pidFile string) {
	t.Helper()
	data, err := os.ReadFile(pidFile)
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(data)))
	require.NoError(t, err)
	assert.Eventually(t, func() bool {
		state, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
		return err != nil || strings.Contains(string(state), ") Z ") // not reaped yet, where nothing does
	}, 5*time.Second, 10*time.Millisecond)
}
