package main_test

import (
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the table of what each level stops into the documentation")

// A probe is an attack by a hostile build, in shell text. The attack is stopped if the text
// fails, or if its effect is not visible outside: as a file by a pattern, or in the output of a
// command. Capital words with @ stand for things outside.
type probe struct{ what, try, seen string }

var probes = []probe{
	// Files of the machine.
	{"read /etc/shadow", "cat /etc/shadow", ""},
	{"read a new private file in /etc", "cat @ETC", ""},
	{"read a private file of who builds", "cat @SECRET", ""},
	{"see the home of who builds", "ls @HOME/garden", ""},
	{"read the environment of the program", "cat /proc/[0-9]*/environ 2>/dev/null | tr '\\0' '\\n' | grep SECRET=visible",
		""},
	{"use a program that its recipe does not name", "git --version", ""},
	{"write to /etc", "touch /etc/fern-probe && rm /etc/fern-probe", ""},
	{"write to /usr", "touch /usr/fern-probe && rm /usr/fern-probe", ""},
	{"write beside the recipe", "touch @RECIPE/probe", "test -e @RECIPE/probe"},
	{"write to the root", "touch @ROOT/probe", "test -e @ROOT/probe"},
	{"write to another package's tree", "touch @TREE/probe", "test -e @TREE/probe"},
	{"change a verified archive", "./probe open-write @ARCHIVE", ""},
	{"change its own journal", "./probe open-write $FL_SOURCE/../../journal.json", ""},
	{"change its own log", "./probe open-write @ROOT/logs/$(basename $(dirname $(dirname $FL_SOURCE)))/compile.log", ""},
	{"plant a file beside its journal", "touch $FL_SOURCE/../../planted", "test -e @ROOT/work/fern-*/planted"},
	{"make a directory in the place of its tree's receipt", "mkdir -p @ROOT/trees/fern/x", "test -e @ROOT/trees/fern/x"},
	{"change the landing", "ln -s /tmp @ROOT/landing", "test \"$(readlink @ROOT/landing)\" = /tmp"},
	{"write to the machine's /tmp", "touch @TMP/probe", "test -e @TMP/probe"},
	{"write to the machine's /dev/shm", "touch /dev/shm/@UNIQUE", "test -e /dev/shm/@UNIQUE"},
	{"change the mode of a file", "./probe chmod @LOOSE", ""},
	{"change the owner of a file", "./probe chown @LOOSE", ""},
	{"change attributes of a file", "./probe setxattr @LOOSE", ""},
	{"change the times of a file", "./probe utimes @LOOSE", ""},
	{"link to a file of who builds", "./probe link @LOOSE", ""},
	{"make a device", "./probe mknod", ""},
	// What the kernel shows and accepts.
	{"change settings of the kernel (/proc/sys)", "./probe open-write /proc/sys/kernel/core_pattern", ""},
	{"change interrupts (/proc/irq)", "./probe open-write /proc/irq/default_smp_affinity", ""},
	{"trigger the kernel (/proc/sysrq-trigger)", "./probe open-write /proc/sysrq-trigger", ""},
	{"change devices (/sys)",
		"./probe open-write /sys/kernel/mm/transparent_hugepage/enabled || ./probe open-write /sys/power/state || ./probe " +
			"open-write /sys/kernel/uevent_helper", ""},
	{"read memory of the kernel (/proc/kcore)", "./probe read /proc/kcore", ""},
	{"read messages of the kernel", "./probe syslog", ""},
	{"read the session keyring", "./probe keyring", ""},
	{"add a key", "./probe add-key", ""},
	{"load a program into the kernel (bpf)", "./probe bpf", ""},
	{"measure other programs (perf)", "./probe perf", ""},
	{"hold page faults (userfaultfd)", "./probe userfaultfd", ""},
	{"queue calls past the filter (io_uring)", "./probe io-uring", ""},
	{"call as a 386 program", "./probe int80", ""},
	{"call as an x32 program", "./probe x32", ""},
	{"load a module", "./probe module", ""},
	{"set the clock", "./probe settime", ""},
	{"set the host's name", "./probe hostname", ""},
	// The process's identity, and what it could become.
	{"mount a file system", "./probe mount", ""},
	{"mount by the newer calls", "./probe fsopen", ""},
	{"make a user namespace", "./probe unshare-user || ./probe clone-user", ""},
	{"make a mount namespace", "./probe unshare-mount", ""},
	{"make a network namespace", "./probe unshare-net", ""},
	{"enter another namespace", "./probe setns", ""},
	{"change its root directory", "./probe chroot", ""},
	{"become root", "./probe become-root", ""},
	{"have capabilities", "grep -qE 'Cap(Eff|Prm|Inh|Amb):\\s*0*[1-9a-f]' /proc/self/status", ""},
	{"gain privileges by a setuid program", "! grep -q 'NoNewPrivs:.1' /proc/self/status", ""},
	{"own what belongs to who builds", "test -O @LOOSE", ""},
	{"raise its priority", "./probe nice", ""},
	{"run in real time", "./probe realtime", ""},
	// Other programs.
	{"see other processes", "test -d /proc/@PID && grep -q sleep /proc/@PID/comm", ""},
	{"signal other processes", "./probe signal @PID", ""},
	{"trace other processes", "./probe ptrace @PID", ""},
	{"reach a server by TCP", "./probe tcp @PORT", ""},
	{"reach a server by UDP", "./probe udp @PORT", ""},
	{"reach a server by MPTCP", "./probe mptcp @PORT", ""},
	{"reach a server by a socket in the file system", "./probe unix @SOCKET", ""},
	{"reach a server by an abstract socket", "./probe abstract @ABSTRACT", ""},
	{"have sockets of unusual kinds", "./probe raw || ./probe packet || ./probe alg || ./probe vsock", ""},
	{"leave shared memory behind", "./probe shm @KEY", "ipcs -m | grep -q $(printf %08x @KEY)"},
	{"leave a message queue behind", "./probe mq", "test -e @MQ/fern-probe"},
	{"type into a terminal", "./probe type </dev/tty", ""},
	// Resource usage.
	{"have more processes than allowed", "./probe processes 400", ""},
	{"write a larger file than allowed", "./probe large-file 2147483648", ""},
	{"fill memory by /tmp", "FILL=/tmp ./probe fill 40", ""},
	{"fill memory by /dev/shm", "FILL=/dev/shm ./probe fill 40", ""},
}

// outside is what a build could reach.
type outside struct {
	*world
	words *strings.Replacer
	pid   int
	key   int
}

// newOutside makes a world for a user, with things that a build could reach.
func newOutside(t *testing.T, uid int) *outside {
	w := newWorld(t)
	o := &outside{world: w, key: 0x0fe00000 + os.Getpid() + uid}
	w.write("fernladder.toml", w.read("fernladder.toml")+
		"most_processes = 200\nlargest_file = 1024\nlargest_scratch = 16\n")
	w.write("secret", "seed\n")
	w.write("home/garden/key", "seed\n")
	require.NoError(t, os.Chmod(w.path("secret"), 0o600))
	require.NoError(t, os.Chmod(w.path("home"), 0o755))
	w.write("loose", "leaf\n")
	w.write("tmp/there", "leaf\n")
	require.NoError(t, os.Chmod(w.path("tmp"), 0o777))
	etc := "/etc/hostname"
	if os.Getuid() == 0 {
		f, err := os.CreateTemp("/etc", "fern-probe-*")
		require.NoError(t, err)
		etc = f.Name()
		f.WriteString("seed\n")
		f.Close()
		t.Cleanup(func() { os.Remove(etc) })
	}
	w.env = append(w.env, "HOME="+w.path("home"), "TMPDIR="+w.path("tmp"))

	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := listener.Addr().(*net.TCPAddr).Port
	packets, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	go func() {
		buffer := make([]byte, 16)
		for {
			n, from, err := packets.ReadFrom(buffer)
			if err != nil {
				return
			}
			packets.WriteTo(buffer[:n], from)
		}
	}()
	abstract := fmt.Sprintf("fern-probe-%d-%d", os.Getpid(), uid)
	file, err := net.Listen("unix", w.path("socket"))
	require.NoError(t, err)
	require.NoError(t, os.Chmod(w.path("socket"), 0o777))
	other, err := net.Listen("unix", "@"+abstract)
	require.NoError(t, err)
	for _, l := range []net.Listener{listener, file, other} {
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					c.Read(make([]byte, 1))
					c.Write([]byte("x"))
					c.Close()
				}()
			}
		}()
		t.Cleanup(func() { l.Close() })
	}
	t.Cleanup(func() { packets.Close() })

	sleeper := exec.Command("sleep", "600")
	sleeper.SysProcAttr = as(uid)
	require.NoError(t, sleeper.Start())
	o.pid = sleeper.Process.Pid
	t.Cleanup(func() { sleeper.Process.Kill(); sleeper.Wait() })

	w.pkg("moss", script("place", place("moss")))
	w.must("install", "moss", "--isolation", "open")
	o.words = strings.NewReplacer("@ETC", etc, "@SECRET", w.path("secret"), "@HOME", w.path("home"), "@RECIPE",
		w.path("recipes/fern"),
		"@ROOT", w.root, "@TREE", w.glob("root/trees/moss/*")[0], "@ARCHIVE", w.glob("root/archives/sha256/*")[0], "@TMP",
		w.path("tmp"),
		"@LOOSE", w.path("loose"), "@PID", strconv.Itoa(o.pid), "@PORT", strconv.Itoa(port), "@SOCKET", w.path("socket"),
		"@ABSTRACT", abstract,
		"@KEY", strconv.Itoa(o.key), "@MQ", queues(t), "@UNIQUE", abstract)
	t.Cleanup(func() {
		os.Remove("/dev/shm/" + abstract)
		exec.Command("ipcrm", "-M", strconv.Itoa(o.key)).Run()
	})
	return o
}

// queues is the directory of the machine's message queues, if root can mount it.
func queues(t *testing.T) string {
	dir := t.TempDir()
	if syscall.Mount("mqueue", dir, "mqueue", 0, "") == nil {
		t.Cleanup(func() { os.Remove(dir + "/fern-probe"); syscall.Unmount(dir, syscall.MNT_DETACH) })
	}
	return dir
}

// as switches a process to another user, if root starts it.
func as(uid int) *syscall.SysProcAttr {
	if os.Getuid() != 0 || uid == 0 {
		return nil
	}
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid)}}
}

// tried runs all probes in a build at a level, and returns the ones that succeeded.
func (o *outside) tried(t *testing.T, uid int, level string) map[string]bool {
	var compile strings.Builder
	compile.WriteString("cc -o probe probe.c -lrt\n")
	for i, p := range probes {
		fmt.Fprintf(&compile, "if ( %s ) >/dev/null 2>&1; then echo \"probe %d reached\"; else echo \"probe %d held\"; fi\n",
			o.words.Replace(p.try), i, i)
	}
	source, err := os.ReadFile("testdata/probe.c")
	require.NoError(t, err)
	o.pkg("fern", asking("cc")+script("compile", "cp -r . ../work && cd ../work && "+compile.String(), "check", "exit 1",
		"place", place("fern")), "probe.c", string(source))
	if uid != os.Getuid() {
		out, err := exec.Command("chown", "-R", fmt.Sprint(uid), o.dir).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	c := o.command("install", "fern", "--isolation", level)
	c.SysProcAttr = as(uid)
	r := o.finish(c)
	if r.status == 6 {
		t.Skip(r.stderr)
	}
	require.Equal(t, 1, r.status, r.stderr) // so that its directory stays
	logs := o.glob("root/logs/fern-*/compile.log")
	require.Len(t, logs, 1)
	text, err := os.ReadFile(logs[0])
	require.NoError(t, err)
	reached := map[string]bool{}
	found := regexp.MustCompile(`(?m)^probe (\d+) (reached|held)$`).FindAllStringSubmatch(string(text), -1)
	require.Len(t, found, len(probes), string(text))
	for _, f := range found {
		n, err := strconv.Atoi(f[1])
		require.NoError(t, err)
		reached[probes[n].what] = f[2] == "reached"
		if seen := probes[n].seen; reached[probes[n].what] && seen != "" {
			reached[probes[n].what] = exec.Command("sh", "-c", o.words.Replace(seen)).Run() == nil
		}
	}
	return reached
}

// What each level stops is tested, for root and for an ordinary user, and the documentation has
// the result.
func TestWhatEachLevelStops(t *testing.T) {
	long(t)
	t.Parallel()
	users := map[string]int{"ordinary user": os.Getuid()}
	if os.Getuid() == 0 {
		users = map[string]int{"root": 0, "ordinary user": 65534}
	}
	got := map[string]map[string]bool{}
	for who, uid := range users {
		for _, level := range []string{"sealed", "fenced", "open"} {
			t.Run(level+" by "+who, func(t *testing.T) {
				o := newOutside(t, uid)
				got[level+" "+who] = o.tried(t, uid, level)
				for what, reached := range got[level+" "+who] {
					assert.False(t, reached && level == "sealed", "a sealed build can %s", what)
				}
				// And what it left is gone.
				assert.Empty(t, o.orphans())
				assert.NoFileExists(t, "/etc/fern-probe")
				require.NoError(t, syscall.Kill(o.pid, 0))
			})
		}
	}
	if len(got) < 6 {
		t.Log("not all levels and users are to be had here; the table is not compared")
		return
	}
	var table strings.Builder
	columns := []string{"sealed root", "sealed ordinary user", "fenced root", "fenced ordinary user", "open root",
		"open ordinary user"}
	table.WriteString("| a build tries to | " +
		strings.Join([]string{"sealed, root's", "sealed, a user's", "fenced, root's", "fenced, a user's", "open, root's",
			"open, a user's"}, " | ") + " |\n" + strings.Repeat("| --- ", 7) + "|\n")
	for _, p := range probes {
		table.WriteString("| " + p.what)
		for _, c := range columns {
			table.WriteString(map[bool]string{true: " | **can**", false: " | held"}[got[c][p.what]])
		}
		table.WriteString(" |\n")
	}
	const begin, end = "<!-- The table is made by the test TestWhatEachLevelStops. -->\n", "<!-- The end of the table. -->"
	file := filepath.Join("..", "..", "docs", "security.md")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(data), begin)
	old, after, closed := strings.Cut(rest, end)
	require.True(t, found && closed, "the documentation has no place for the table")
	// Other kernels stop more or less, except for sealed builds; the documentation names its
	// kernel.
	var kernel syscall.Utsname
	require.NoError(t, syscall.Uname(&kernel))
	var release strings.Builder
	for _, c := range kernel.Release {
		release.WriteByte(byte(c))
	}
	if series := regexp.MustCompile(`^\d+\.\d+`).
		FindString(release.String()); !strings.Contains(before, "on Linux "+series+".") && !*update {
		t.Logf("the table is not that of Linux %s", series)
		return
	}
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(before+begin+table.String()+end+after), 0o644))
		return
	}
	assert.Equal(t, old, table.String(),
		"the documentation says otherwise; go test -run TestWhatEachLevelStops -update writes what is")
}
