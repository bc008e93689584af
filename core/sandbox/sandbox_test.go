package sandbox

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// buildUsers are lent to the rooms of the tests if root runs them.
var buildUsers = Users{First: 1_900_000_000, Number: 16}

// room is a level with a writable directory, a visible one, and one that the room does not
// mention.
type room struct {
	Room
	t                         *testing.T
	writable, visible, secret string
}

func newRoom(t *testing.T, level Level) *room {
	user, done, err := buildUsers.Lend(context.Background(), User{}, "")
	require.NoError(t, err)
	t.Cleanup(done)
	base := t.TempDir()
	for dir := base; dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755)) // a fenced command comes by the path
	}
	r := &room{t: t, writable: filepath.Join(base, "writable"), visible: filepath.Join(base, "visible"),
		secret: filepath.Join(base, "secret")}
	for _, dir := range []string{r.visible, r.secret, r.writable, filepath.Join(base, "point")} {
		require.NoError(t, os.Mkdir(dir, 0o755))
	}
	for _, dir := range []string{r.visible, r.secret} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), []byte("grown\n"), 0o644))
	}
	require.NoError(t, os.Chown(r.writable, user.uid(), user.gid()))
	r.Room = Room{Level: level, Point: filepath.Join(base, "point"), Visible: []string{r.visible},
		Writable: []string{r.writable}, Home: r.writable, User: user}
	if err := Try(level, base, user); err != nil {
		t.Skipf("this machine allows no %s rooms: %v", level, err)
	}
	return r
}

// sh runs shell text in a room of its own.
func (r *room) sh(text string, files ...*os.File) (string, int) {
	s, err := r.Enter("x")
	require.NoError(r.t, err)
	defer s.Leave()
	return r.in(s, text, files...)
}

// in runs shell text in a room.
func (r *room) in(s *Session, text string, files ...*os.File) (string, int) {
	out, err := os.CreateTemp(r.t.TempDir(), "out")
	require.NoError(r.t, err)
	defer out.Close()
	ended, err := s.Run(Command{File: "/bin/sh", Argv: []string{"sh", "-c", text}, Dir: r.writable,
		Env: []string{"PATH=/usr/bin:/bin:/usr/sbin", "FL_STAGE=x"}, Output: out, Files: files})
	require.NoError(r.t, err)
	data, err := os.ReadFile(out.Name())
	require.NoError(r.t, err)
	return string(data), ended.Status
}

func TestWhatARoomShows(t *testing.T) {
	for _, level := range []Level{Sealed, Fenced} {
		t.Run(string(level), func(t *testing.T) {
			r := newRoom(t, level)
			out, status := r.sh("echo leaf >here && cat here " + r.visible + "/file; exit 7")
			assert.Equal(t, "leaf\ngrown\n", out)
			assert.Equal(t, 7, status, "the command's own status")
			assert.FileExists(t, filepath.Join(r.writable, "here"))
			for _, forbidden := range []string{"touch " + r.visible + "/new", "touch /usr/new", "touch /etc/new",
				"touch " + r.secret + "/new", "rm " + r.visible + "/file", "touch /new", "mkdir /opt/new"} {
				_, status := r.sh(forbidden)
				assert.NotEqual(t, 0, status, forbidden)
			}
			assert.NoFileExists(t, filepath.Join(r.secret, "new"))
			if r.User.Other() {
				out, _ = r.sh("test $(id -G) = $(id -g); grep ^Groups /proc/self/status | wc -w; echo $?")
				assert.Equal(t, "2\n0\n", out, "its own group, in the list too")
			}
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
	out, _ = r.sh("grep -c . /proc/net/dev; grep -E 'Cap(Prm|Eff)|NoNewPrivs' /proc/self/status; cat /proc/net/route | " +
		"wc -l")
	assert.Contains(t, out, "3\n", "two lines of headings and the loopback")
	assert.Contains(t, out, "CapEff:\t0000000000000000")
	assert.Contains(t, out, "NoNewPrivs:\t1")

	stand := filepath.Join(filepath.Dir(r.writable), "stand")
	require.NoError(t, os.Mkdir(stand, 0o755))
	require.NoError(t, os.Chown(stand, r.User.uid(), r.User.gid()))
	r.Stands = Stand{In: stand, For: "/not/there/yet"}
	_, status := r.sh("echo x >/not/there/yet/file")
	assert.Equal(t, 0, status)
	assert.FileExists(t, filepath.Join(stand, "file"))
	assert.NoDirExists(t, "/not")
}

// A build cannot change what it may only see, even if it owns it, as an ordinary user's build
// does; files that reveal the kernel are empty; and nothing can be typed into a terminal, even
// one that would accept it.
func TestASealedRoomHoldsByItself(t *testing.T) {
	r := newRoom(t, Sealed)
	for _, path := range []string{r.visible, r.visible + "/file"} {
		require.NoError(t, os.Chown(path, r.User.uid(), r.User.gid()))
	}
	out, status := r.sh("echo worm >" + r.visible + "/file")
	assert.NotEqual(t, 0, status)
	assert.Contains(t, out, "Read-only file system")
	out, _ = r.sh("for f in keys key-users kcore kallsyms timer_list; do test -e /proc/$f && { test -c /proc/$f || " +
		"echo $f; }; done")
	assert.Empty(t, out)
	out, _ = r.sh(`perl -e 'my $c = "x"; ioctl(STDIN, 0x5412, $c) or print "$!\n"'`)
	assert.Equal(t, "Operation not permitted\n", out, "rather than that this is no terminal")
}

// Everything that a command leaves running ends with it, in whatever session it is.
func TestARoomEndsWithItsCommand(t *testing.T) {
	for _, level := range Levels {
		r := newRoom(t, level)
		_, status := r.sh("setsid sh -c '(sleep 0.3; echo late >late) & exec sleep 300' & exit 0")
		assert.Equal(t, 0, status)
		_, status = r.sh("sleep 0.6; test ! -e late")
		assert.Equal(t, 0, status, level)
	}
}

func TestDescriptorsArePassedOn(t *testing.T) {
	for _, level := range Levels {
		r := newRoom(t, level)
		read, write, err := os.Pipe()
		require.NoError(t, err)
		_, status := r.sh("echo through >&4; test -e /proc/self/fd/3", read, write)
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
	level, why := Strongest(t.TempDir(), User{})
	assert.Contains(t, Levels, level)
	assert.Equal(t, level == Sealed, why == nil)
	_, why = Strongest("/absent", User{})
	assert.ErrorContains(t, why, "no such file")
}

// Commands in one room run one after another, each with its own output and files; what one
// leaves running does not meet the next, and nothing is left.
func TestASession(t *testing.T) {
	r := newRoom(t, Sealed)
	s, err := r.Enter("stage")
	require.NoError(t, err)
	run := func(text string, files ...*os.File) (string, Ended) {
		out, err := os.CreateTemp(t.TempDir(), "out")
		require.NoError(t, err)
		defer out.Close()
		ended, err := s.Run(Command{File: "/bin/sh", Argv: []string{"sh", "-c", text}, Dir: r.writable,
			Env: []string{"PATH=/usr/bin:/bin"}, Output: out, Files: files})
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
	_, err = s.Run(Command{File: "/no/such/program", Argv: []string{"x"}, Dir: "/", Output: os.Stdout})
	assert.ErrorContains(t, err, "no such file")
	s.Leave()
	_, err = s.Run(Command{File: "/bin/true", Argv: []string{"true"}, Dir: "/", Output: os.Stdout})
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

// A watched session records what its commands and their children read and run, but not what they
// write, nor the build's own files.
func TestAWatch(t *testing.T) {
	r := newRoom(t, Sealed)
	record := must(os.Create(filepath.Join(t.TempDir(), "opened")))
	defer record.Close()
	s, err := r.Enter("stage")
	require.NoError(t, err)
	defer s.Leave()
	run := func(text string) (string, int) {
		out := must(os.CreateTemp(t.TempDir(), "out"))
		defer out.Close()
		ended, err := s.Run(Command{File: "/bin/sh", Argv: []string{"sh", "-c", text}, Dir: r.writable,
			Env: []string{"PATH=/usr/bin:/bin", "LEAF=green"}, Output: out,
			Files: []*os.File{must(os.Open(r.visible + "/file"))}, Record: record, Watched: true})
		require.NoError(t, err)
		data, err := os.ReadFile(out.Name())
		require.NoError(t, err)
		return string(data), ended.Status
	}
	long := "/" + strings.Repeat("leaf/", 700)
	out, status := run("echo $LEAF; cat <&3; (cat /etc/passwd | wc -l >/dev/null) & wait; : >" + r.writable +
		"/new; cat " + long + "; exit 7")
	assert.Contains(t, out, "green\ngrown\n")
	assert.Equal(t, 7, status)
	run("env ls " + r.visible)
	data, err := os.ReadFile(record.Name())
	require.NoError(t, err)
	lines := strings.Split(string(data), "\n")
	for _, line := range []string{"ran /bin/sh", "read /etc/passwd", "ran /usr/bin/cat", "ran /usr/bin/wc",
		"ran /usr/bin/ls", "read " + long} {
		assert.Contains(t, lines, line)
	}
	assert.NotContains(t, string(data), r.writable+"/new")
	assert.NotContains(t, string(data), "read "+r.visible+"\n", "directories are not opened to read")
	_, err = s.Run(Command{File: "/no/such/program", Argv: []string{"x"}, Dir: "/", Output: os.Stdout, Record: record,
		Watched: true})
	require.NoError(t, err, "the copy says it")
	// What it leaves running ends with it, and it can be ended itself.
	_, status = run("(while :; do cat /etc/passwd >/dev/null; done) & exit 5")
	assert.Equal(t, 5, status)
	go func() { time.Sleep(100 * time.Millisecond); s.Signal(syscall.SIGTERM) }()
	_, status = run("while :; do cat /etc/hosts >/dev/null; done")
	assert.Equal(t, 128+15, status)
	data, err = os.ReadFile(record.Name())
	require.NoError(t, err)
	assert.Contains(t, string(data), "read /etc/hosts\n")
	assert.Contains(t, string(data), "read /etc/passwd\n", "of earlier commands, too")
	s.Leave()
	s, err = r.Enter("stage")
	require.NoError(t, err)
	run("cat /etc/group >/dev/null")
	data, err = os.ReadFile(record.Name())
	require.NoError(t, err)
	assert.Contains(t, string(data), "read /etc/group\n")
	assert.Contains(t, string(data), "read /etc/passwd\n", "and of an earlier session, as when a build goes on")
}

// A room whose layer is gone is refused: it would show the whole machine.
func TestALayerThatIsGone(t *testing.T) {
	r := newRoom(t, Sealed)
	r.Layer = filepath.Join(r.writable, "none")
	_, err := r.Enter("stage")
	assert.ErrorIs(t, err, NotBare)
}

// A command cannot fill the memory with what it opens.
func TestARecordEnds(t *testing.T) {
	w := newWatch(must(os.Create(filepath.Join(t.TempDir(), "opened"))))
	line := strings.Repeat("leaf", 1<<20)
	for i := range 2 * LargestRecord / len(line) {
		w.note(string(rune('a'+i)) + line[1:])
	}
	w.note("read /leaf")
	size := 0
	for line := range w.seen {
		size += len(line) + 1
	}
	assert.LessOrEqual(t, size, LargestRecord)
	assert.Greater(t, size, LargestRecord-len(line)-1)
}
