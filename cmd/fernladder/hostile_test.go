package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	launcher = "[[launcher]]\nname = \"Fern\"\nrun = \"fern\"\n"
	deep     = `perl -e 'for (1..5000) { mkdir "d"; chdir "d" }'` // deeper than a path can be long
	forged   = `{"format":1,"name":"fern","version":"1.0","configs":[{"file":"../../@VICTIM/file","sample":"bin/fern"}]}`
)

func config(sample string) string {
	return "[[config]]\nfile = \"etc/file\"\nsample = \"" + sample + "\"\n"
}

// hostile are builds that try to misuse the program after the build, when it walks, reads and
// writes where they could have put anything. @VICTIM is a directory of the user who builds.
// status is the exit status of the install, and says is part of its errors.
var hostile = []struct {
	name, recipe string
	status       int
	says         string
}{
	{"links in place of its directories", script("compile",
		"cd ..; for d in stage tmp home traces build given placed; do rm -rf $d; ln -s @VICTIM $d; done", "place",
		place("fern")), 0, ""},
	{"a link in place of the stage", script("place", "rm -rf $DESTDIR; ln -s @VICTIM $DESTDIR"), 1, "nothing was placed"},
	{"a link in place of the tree in the stage",
		script("place", "mkdir -p $(dirname $DESTDIR$FL_PREFIX); ln -s @VICTIM $DESTDIR$FL_PREFIX"), 1, "nothing was placed"},
	{"a link in place of the tree", script("place", "rmdir $FL_PREFIX; ln -s @VICTIM $FL_PREFIX; touch $FL_PREFIX/x"), 1,
		""},
	{"share is a link", script("place", place("fern")+"; ln -s @VICTIM $DESTDIR$FL_PREFIX/share"), 1,
		"it must be a directory: Fern Ladder keeps the receipt in share/fernladder"},
	{"share/applications is a link",
		script("place", place("fern")+
			"; mkdir $DESTDIR$FL_PREFIX/share; ln -s @VICTIM $DESTDIR$FL_PREFIX/share/applications") + launcher, 1,
		"share/applications"},
	{"a launcher's file is a link",
		script("place", place("fern")+
			"; mkdir -p $DESTDIR$FL_PREFIX/share/applications; ln -s @VICTIM/file "+
			"$DESTDIR$FL_PREFIX/share/applications/fern.desktop") + launcher, 1,
		"places share/applications/fern.desktop itself"},
	{"etc is a link",
		script("place", place("fern")+"; touch $DESTDIR$FL_PREFIX/sample; ln -s @VICTIM $DESTDIR$FL_PREFIX/etc") +
			config("sample"), 1, "etc"},
	{"a sample behind a link",
		script("place", place("fern")+"; ln -s @VICTIM $DESTDIR$FL_PREFIX/share2") + config("share2/file"), 1, "share2/file"},
	{"a sample that is a link",
		script("place", place("fern")+"; ln -s @VICTIM/file $DESTDIR$FL_PREFIX/sample") + config("sample"), 1,
		"sample, the sample of the configuration file etc/file, was not placed"},
	{"a receipt of its own", script("place", place("fern")+"; mkdir -p $DESTDIR$FL_PREFIX/share/fernladder; echo '"+forged+
		"' >$DESTDIR$FL_PREFIX/share/fernladder/receipt.json"), 1,
		"this directory belongs to Fern Ladder"},
	{"a receipt of its own and a try that fails", script("place", "mkdir -p $FL_PREFIX/share/fernladder; echo '"+forged+
		"' >$FL_PREFIX/share/fernladder/receipt.json") +
		"[[try]]\nrun = \"exit 1\"\n", 1, "this directory belongs to Fern Ladder"},
	{"a pipe", script("place", place("fern")+"; mkfifo $DESTDIR$FL_PREFIX/pipe"), 1,
		"neither a file nor a directory nor a link"},
	{"pipes and links where traces are read",
		script("configure",
			"mkfifo config.log; ln -s @VICTIM/file CMakeCache.txt; mkdir -p sub; mkfifo sub/x.d; ln -s @VICTIM/file sub/y.d; "+
				"mkfifo ../traces/modules; ln -s @VICTIM/file ../traces/included",
			"compile", ":", "place", place("fern")), 0, ""},
	{"a log that is pointed to and is a pipe",
		script("configure", "mkfifo config.log; echo 'configure: error: no leaf. See config.log for more details'; exit 1",
			"place", place("fern")), 1, "no leaf"},
	{"a log that is pointed to and is a link",
		script("configure",
			"mkdir x; ln -s @VICTIM/file x/config.log; echo 'configure: error: no leaf. See x/config.log for more details'; "+
				"exit 1", "place", place("fern")), 1, "no leaf"},
	{"a sparse file", script("place", place("fern")+"; truncate -s 1000M $DESTDIR$FL_PREFIX/sparse"), 1, "largest_tree"},
	{"a file that is too large", script("compile", "truncate -s 3G large", "place", place("fern")), 1,
		"failed in stage compile"},
	{"files with odd names and modes",
		script("place", place("fern")+
			`; cd $DESTDIR$FL_PREFIX; touch "$(printf 'a\nb\033[31m')"; mkdir d; chmod 7777 d; touch d/s; chmod 6777 d/s; chmod 000 bin/fern; mkdir shut; touch shut/x; chmod 300 shut`), 0, ""},
	{"setuid programs",
		script("place", place("fern")+"; cp /bin/sh $DESTDIR$FL_PREFIX/bin/sh; chmod 6755 $DESTDIR$FL_PREFIX/bin/sh"), 0, ""},
	{"setuid programs in a build that fails",
		script("compile", "cp /bin/sh .; chmod 6755 sh; chmod 777 . .. ../..; exit 1", "place", place("fern")), 1, ""},
	{"directories in each other", script("compile", deep, "place", place("fern")), 0, ""},
	{"directories in each other and a failure", script("compile", deep+"; chmod 0 d/d/d; exit 1", "place", place("fern")),
		1, ""},
	{"a tree of directories in each other", script("place", place("fern")+"; cd $DESTDIR$FL_PREFIX; "+deep), 1,
		"nested more than"},
	{"a fork bomb", script("compile", `b() { b | b & }; b; sleep 1; exit 1`, "place", place("fern")), 1,
		"failed in stage compile"},
	{"slots put back that it never had",
		script("compile", "timeout 1 head -c 1000000 /dev/zero >&4 || :; timeout 1 cat <&3 >/dev/null || :", "place",
			place("fern")), 0, ""},
	{"tries that put links where output goes", script("place", place("fern")) +
		"[[try]]\nrun = \"for i in 0 1 2; do ln -sf @VICTIM/file .output-$i; done; ln -sf @VICTIM/file program.c; rm -rf " +
		"../given/* || :; ln -s @VICTIM ../out || :\"\n[[try]]\nrun = \"echo output\"\nexpect = " +
		"\"output\"\n[[try]]\nprogram = '''int main(void) { return 0; }'''\n", 0, ""},
	{"a try that prints without end", script("place", place("fern")) + "[[try]]\nrun = \"head -c 100000000 /dev/zero\"\n",
		0, ""},
}

// Whatever a build has put where the program reads and writes later, nothing outside is read or
// changed, the program ends, the tree contains only the build's own files, and leftovers of a
// failed build can be deleted.
func TestHostileBuilds(t *testing.T) {
	long(t)
	t.Parallel()
	for _, level := range []string{"sealed", "fenced"} {
		for _, h := range hostile {
			t.Run(level+" "+h.name, func(t *testing.T) {
				t.Parallel()
				w := newWorld(t)
				w.write("fernladder.toml", w.read("fernladder.toml")+
					"most_processes = 200\nlargest_file = 2048\nlargest_tree = 64\n")
				w.write("victim/file", "root:seed:1:\n")
				w.write("victim/deep/file", "seed\n")
				require.NoError(t, os.Chmod(w.path("victim/file"), 0o600))
				before := listed(t, w.path("victim"))
				w.pkg("fern", strings.ReplaceAll(h.recipe, "@VICTIM", w.path("victim")))
				c := w.command("install", "fern", "--isolation", level, "-j", "2")
				timer := time.AfterFunc(2*time.Minute, func() { c.Process.Kill() })
				r := w.finish(c)
				assert.True(t, timer.Stop(), "it ends")
				if r.status == 6 {
					t.Skip(r.stderr)
				}
				assert.Equal(t, h.status, r.status, r.stdout+r.stderr)
				assert.Contains(t, r.stderr, h.says)
				assert.Equal(t, before, listed(t, w.path("victim")))
				assert.Empty(t, w.orphans())
				for _, log := range w.glob("root/logs/*/*") {
					text, err := os.ReadFile(log)
					require.NoError(t, err)
					assert.NotContains(t, string(text), "root:seed", "a secret is in no log")
				}
				for _, config := range w.glob("root/config/*/*/*") {
					assert.NotContains(t, w.sh("cat "+config).stdout, "root:seed")
				}
				if r.status == 0 {
					assert.Equal(t, "fern/1.0", strings.Join(w.trees(), " "))
					ownedByWhoBuilds(t, w.glob("root/trees/fern/*")[0])
				} else {
					assert.Contains(t, w.must("list").stdout, "Nothing is built")
					assert.Empty(t, w.glob("root/trees/fern/*"))
				}
				if os.Getuid() == 0 { // no other user comes to what a build has left
					find := exec.Command("find", w.root, "-perm", "/6000", "-not", "-type", "d")
					find.SysProcAttr = as(65534)
					out, _ := find.Output()
					assert.Empty(t, string(out))
				}
				w.must("clean", "--yes")
				assert.Empty(t, w.glob("root/work/fern*"))
			})
		}
	}
}

func ownedByWhoBuilds(t *testing.T, tree string) {
	require.NoError(t, filepath.Walk(tree, func(path string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		assert.EqualValues(t, os.Getuid(), info.Sys().(*syscall.Stat_t).Uid, path)
		if info.Mode()&os.ModeSymlink == 0 {
			assert.Zero(t, info.Mode()&(os.ModeSetuid|os.ModeSetgid|os.ModeSticky|0o022), path)
		}
		return nil
	}))
}

// listed describes everything in a directory.
func listed(t *testing.T, dir string) string {
	out, err := exec.Command("find", dir, "-printf", "%p %m %u %s %T@ %l\n", "-type", "f", "-exec", "sha256sum", "{}",
		";").CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}
