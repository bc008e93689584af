package seal

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The test binary is its own second copy.
func TestMain(m *testing.M) {
	if status, started := Main(os.Args, os.Stdin, os.Stdout, os.Stderr); started {
		os.Exit(status)
	}
	os.Exit(m.Run())
}

// room is a level with a directory to write to, one to see, and one that the
// room says nothing about.
type room struct {
	Room
	t                         *testing.T
	writable, visible, secret string
}

func newRoom(t *testing.T, level Level) *room {
	if err := try(level, t.TempDir()); err != nil {
		t.Skipf("this machine allows no %s rooms: %v", level, err)
	}
	r := &room{t: t, writable: t.TempDir(), visible: t.TempDir(), secret: t.TempDir()}
	for _, dir := range []string{r.visible, r.secret} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), []byte("grown\n"), 0o644))
	}
	r.Room = Room{Level: level, Point: t.TempDir(), Visible: []string{r.visible}, Writable: []string{r.writable}, Home: r.writable}
	return r
}

// sh runs shell text in the room.
func (r *room) sh(text string, files ...*os.File) (string, int) {
	command, done, err := r.Command("/bin/sh", []string{"sh", "-c", text}, r.writable, []string{"PATH=/usr/bin:/bin:/usr/sbin", "FL_STAGE=x"}, files)
	require.NoError(r.t, err)
	defer done()
	out, err := command.CombinedOutput()
	if err != nil && command.ProcessState == nil {
		require.NoError(r.t, err)
	}
	return string(out), command.ProcessState.ExitCode()
}

func TestWhatARoomShows(t *testing.T) {
	for _, level := range []Level{Sealed, Fenced} {
		t.Run(string(level), func(t *testing.T) {
			r := newRoom(t, level)
			out, status := r.sh("echo leaf >here && cat here " + r.visible + "/file; exit 7")
			assert.Equal(t, "leaf\ngrown\n", out)
			assert.Equal(t, 7, status, "the command's own status")
			assert.FileExists(t, filepath.Join(r.writable, "here"))
			for _, forbidden := range []string{"touch " + r.visible + "/new", "touch /usr/new", "touch /etc/new", "touch " + r.secret + "/new", "rm " + r.visible + "/file", "touch /new", "mkdir /opt/new"} {
				_, status := r.sh(forbidden)
				assert.NotEqual(t, 0, status, forbidden)
			}
			assert.NoFileExists(t, filepath.Join(r.secret, "new"))
			out, _ = r.sh("kill -KILL $$")
			assert.Empty(t, out)
		})
	}
}

func TestASealedRoomHidesTheRest(t *testing.T) {
	r := newRoom(t, Sealed)
	out, _ := r.sh("cat " + r.secret + "/file || echo hidden; ls -A /home /root; hostname; id -un; echo ~")
	assert.Contains(t, out, "hidden\n")
	assert.Contains(t, out, "room\nbuilder\n")
	for _, private := range private() {
		if info, err := os.Stat(private); err == nil && info.Mode().IsRegular() && info.Size() > 0 {
			out, _ := r.sh("cat " + private)
			assert.Empty(t, strings.TrimSpace(out), private)
		}
	}
	out, _ = r.sh("grep -c . /proc/net/dev; grep -E 'Cap(Prm|Eff)|NoNewPrivs' /proc/self/status; cat /proc/net/route | wc -l")
	assert.Contains(t, out, "3\n", "two lines of headings and the loopback")
	assert.Contains(t, out, "CapEff:\t0000000000000000")
	assert.Contains(t, out, "NoNewPrivs:\t1")

	stand := t.TempDir()
	r.Stands = Stand{In: stand, For: "/not/there/yet"}
	_, status := r.sh("echo x >/not/there/yet/file")
	assert.Equal(t, 0, status)
	assert.FileExists(t, filepath.Join(stand, "file"))
	assert.NoDirExists(t, "/not")
}

// What a command leaves running ends with it, whatever session it is in.
func TestASealedRoomEndsWithItsCommand(t *testing.T) {
	r := newRoom(t, Sealed)
	_, status := r.sh("setsid sh -c 'sleep 0.3; echo late >late' & exit 0")
	assert.Equal(t, 0, status)
	_, status = r.sh("sleep 0.6; test ! -e late")
	assert.Equal(t, 0, status)
}

func TestDescriptorsArePassedOn(t *testing.T) {
	for _, level := range Levels {
		r := newRoom(t, Open)
		if level != Open {
			r = newRoom(t, level)
		}
		read, write, err := os.Pipe()
		require.NoError(t, err)
		_, status := r.sh("echo through >&4; test -r /proc/self/fd/3", read, write)
		assert.Equal(t, 0, status)
		buffer := make([]byte, 8)
		_, err = read.Read(buffer)
		require.NoError(t, err)
		assert.Equal(t, "through\n", string(buffer))
		read.Close()
		write.Close()
	}
}

func TestLevels(t *testing.T) {
	assert.True(t, Sealed.AtLeast(Fenced))
	assert.True(t, Fenced.AtLeast(Fenced))
	assert.False(t, Open.AtLeast(Fenced))
	level, why := Strongest(t.TempDir())
	assert.Contains(t, Levels, level)
	assert.Equal(t, level == Sealed, why == nil)
	_, why = Strongest("/absent")
	assert.ErrorContains(t, why, "no such file")
}

// Commands in one room run one after another, each with its own output and
// files; what one leaves running does not meet the next, and nothing is left.
func TestASession(t *testing.T) {
	r := newRoom(t, Sealed)
	s, err := r.Enter("stage")
	require.NoError(t, err)
	run := func(text string, files ...*os.File) (string, Ended) {
		out, err := os.CreateTemp(t.TempDir(), "out")
		require.NoError(t, err)
		defer out.Close()
		ended, err := s.Run("/bin/sh", []string{"sh", "-c", text}, r.writable, []string{"PATH=/usr/bin:/bin"}, out, files)
		require.NoError(t, err)
		data, err := os.ReadFile(out.Name())
		require.NoError(t, err)
		return string(data), ended
	}
	out, ended := run("echo leaf; cat " + r.visible + "/file " + r.secret + "/file; exit 7")
	assert.Contains(t, out, "leaf\ngrown\n")
	assert.Contains(t, out, "No such file")
	assert.Equal(t, 7, ended.Status)
	_, ended = run("setsid sleep 300 & i=0; while [ $i -lt 20000 ]; do i=$((i+1)); done")
	assert.NotZero(t, ended.CPU)
	out, _ = run("ps ax 2>/dev/null | grep -c '[s]leep 300'; cat <&3", must(os.Open(r.visible+"/file")))
	assert.Equal(t, "0\ngrown\n", out)
	_, ended = run("kill -9 $$")
	assert.Equal(t, 128+9, ended.Status)
	go func() { time.Sleep(50 * time.Millisecond); s.Signal(syscall.SIGTERM) }()
	_, ended = run("sleep 300")
	assert.Equal(t, 128+15, ended.Status)
	_, err = s.Run("/no/such/program", []string{"x"}, "/", nil, os.Stdout, nil)
	assert.ErrorContains(t, err, "no such file")
	require.NoError(t, s.Leave())
	_, err = s.Run("/bin/true", []string{"true"}, "/", nil, os.Stdout, nil)
	assert.Error(t, err)
	_, err = Room{Level: Sealed, Point: "/absent"}.Enter("stage")
	assert.ErrorContains(t, err, "the sealed room cannot be made")
}

func must(f *os.File, err error) *os.File {
	if err != nil {
		panic(err)
	}
	return f
}

// A watched session records what its commands and all that they start read and
// run, and leaves alone what they write and what is the build's own.
func TestAWatch(t *testing.T) {
	r := newRoom(t, Sealed)
	r.Watch = filepath.Join(r.writable, "opened")
	s, err := r.Enter("stage")
	require.NoError(t, err)
	defer s.Leave()
	run := func(text string) (string, int) {
		out := must(os.CreateTemp(t.TempDir(), "out"))
		defer out.Close()
		ended, err := s.Run("/bin/sh", []string{"sh", "-c", text}, r.writable, []string{"PATH=/usr/bin:/bin", "LEAF=green"}, out, []*os.File{must(os.Open(r.visible + "/file"))})
		require.NoError(t, err)
		data, err := os.ReadFile(out.Name())
		require.NoError(t, err)
		return string(data), ended.Status
	}
	long := "/" + strings.Repeat("leaf/", 700)
	out, status := run("echo $LEAF; cat <&3; (cat /etc/passwd | wc -l >/dev/null) & wait; : >" + r.writable + "/new; cat " + long + "; exit 7")
	assert.Contains(t, out, "green\ngrown\n")
	assert.Equal(t, 7, status)
	run("env ls " + r.visible)
	data, err := os.ReadFile(r.Watch)
	require.NoError(t, err)
	record := strings.Split(string(data), "\n")
	for _, line := range []string{"ran /bin/sh", "read /etc/passwd", "ran /usr/bin/cat", "ran /usr/bin/wc", "ran /usr/bin/ls", "read " + long} {
		assert.Contains(t, record, line)
	}
	assert.NotContains(t, string(data), r.writable+"/new")
	assert.NotContains(t, string(data), "read "+r.visible+"\n", "directories are not opened to read")
	_, err = s.Run("/no/such/program", []string{"x"}, "/", nil, os.Stdout, nil)
	require.NoError(t, err, "the copy says it")
	// What it leaves running ends with it, and it can be ended itself.
	_, status = run("(while :; do cat /etc/passwd >/dev/null; done) & exit 5")
	assert.Equal(t, 5, status)
	go func() { time.Sleep(100 * time.Millisecond); s.Signal(syscall.SIGTERM) }()
	_, status = run("while :; do cat /etc/hosts >/dev/null; done")
	assert.Equal(t, 128+15, status)
	data, err = os.ReadFile(r.Watch)
	require.NoError(t, err)
	assert.Contains(t, string(data), "read /etc/hosts\n")
	assert.Contains(t, string(data), "read /etc/passwd\n", "of earlier commands, too")
	s.Leave()
	s, err = r.Enter("stage")
	require.NoError(t, err)
	run("cat /etc/group >/dev/null")
	data, err = os.ReadFile(r.Watch)
	require.NoError(t, err)
	assert.Contains(t, string(data), "read /etc/group\n")
	assert.Contains(t, string(data), "read /etc/passwd\n", "and of an earlier session, as when a build goes on")
}
