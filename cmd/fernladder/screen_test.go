package main_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A terminal runs the program, with a person who presses keys.
type terminal struct {
	t    *testing.T
	file *os.File
	run  *exec.Cmd
	lock sync.Mutex
	text bytes.Buffer // all that was printed so far
	ends chan error
}

func (w *world) terminal(args ...string) *terminal {
	run := exec.Command(program, args...)
	run.Dir, run.Env = w.dir, append(w.env, "TERM=xterm-256color")
	file, err := pty.StartWithSize(run, &pty.Winsize{Rows: 24, Cols: 80})
	require.NoError(w.t, err)
	c := &terminal{t: w.t, file: file, run: run, ends: make(chan error, 1)}
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, err := file.Read(buffer)
			c.lock.Lock()
			c.text.Write(buffer[:n])
			c.lock.Unlock()
			if err != nil {
				c.ends <- run.Wait()
				return
			}
		}
	}()
	w.t.Cleanup(func() { run.Process.Kill(); file.Close() })
	return c
}

// wait waits until a text was printed since the last keys.
func (c *terminal) wait(text string) {
	c.t.Helper()
	require.Eventually(c.t, func() bool {
		c.lock.Lock()
		defer c.lock.Unlock()
		return bytes.Contains(c.text.Bytes(), []byte(text))
	}, 20*time.Second, 5*time.Millisecond, "%q did not come", text)
}

func (c *terminal) press(keys string) {
	c.lock.Lock()
	c.text.Reset()
	c.lock.Unlock()
	_, err := c.file.WriteString(keys)
	require.NoError(c.t, err)
}

// end waits until the program has ended, and returns its status.
func (c *terminal) end() int {
	select {
	case <-c.ends:
	case <-time.After(20 * time.Second):
		require.Fail(c.t, "the program goes on")
	}
	return c.run.ProcessState.ExitCode()
}

// On a terminal, options are chosen on a screen. Saved choices go to the settings, ctrl+c in the
// middle writes nothing, and a terminal that is resized or disappears does no harm.
func TestOptionsOnATerminal(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern",
		"[option.plots]\nabout = \"Draw plans\"\ndefault = true\n[option.beds]\nabout = \"How many beds\"\ntakes = "+
			"\"number\"\ndefault = 4\n[build]\nmethod = \"make\"\n")
	before, err := os.ReadFile(w.path("fernladder.toml"))
	require.NoError(t, err)

	c := w.terminal("options", "fern")
	c.wait("It means")
	c.press(" ")
	c.wait("1 changed")
	require.NoError(t, pty.Setsize(c.file, &pty.Winsize{Rows: 10, Cols: 40}))
	c.press("\x03")
	assert.Equal(t, 130, c.end())
	c.wait("Nothing was written. The choice: fernladder install fern -o plots=off")
	now, err := os.ReadFile(w.path("fernladder.toml"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(now))

	c = w.terminal("options", "fern")
	c.wait("It means")
	c.press("\x1b[B")
	time.Sleep(50 * time.Millisecond)
	c.press("\r")
	c.wait("With nothing there")
	c.press("2\r")
	c.wait("1 changed")
	c.press("\x1b")
	c.wait("Keep the choice?")
	c.press("\r")
	assert.Equal(t, 0, c.end())
	c.wait("[wanted.fern] with beds = 42")
	now, err = os.ReadFile(w.path("fernladder.toml"))
	require.NoError(t, err)
	assert.Equal(t, string(before)+"\n[wanted.fern]\noptions = { beds = 42 }\n", string(now))
	assert.Regexp(t, "beds +42 .*settings fernladder.toml:4", w.must("options", "fern").stdout)

	c = w.terminal("options", "fern", "--plain")
	c.wait("How many beds")
	assert.Equal(t, 0, c.end())

	c = w.terminal("options", "fern")
	c.wait("It means")
	require.NoError(t, c.run.Process.Signal(syscall.SIGHUP)) // as where a connection is cut
	assert.Equal(t, 130, c.end())
	left, err := filepath.Glob(w.path("root/*/*.lock"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
