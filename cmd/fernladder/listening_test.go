package main_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostileScripts are configure scripts that misbehave while they are listened to. says is part
// of the draft's messages; without it, listening succeeds nevertheless.
var hostileScripts = []struct{ name, script, says string }{
	{"runs for ever", "while :; do :; done", "it was not done after 2s"},
	{"sleeps", "sleep 600 & wait", "it was not done after 2s"},
	{"leaves something running", "sleep 600 >/dev/null 2>&1 &", ""},
	{"asks questions", "read answer || echo no answer; echo \"$answer\"", ""},
	{"wants a network", "exec 3<>/dev/tcp/127.0.0.1/80 || exit 3", "it stops"},
	{"forks without end", "bomb() { bomb | bomb & }; bomb; sleep 600", "it was not done after 2s"},
	{"writes gigabytes", "yes | head -c 3000000000 >large; ls -l large; sleep 9", "it was not done after 2s"},
	{"prints gigabytes", "yes", "Read only its files"},
	{"notes without end", "yes 'header fern.h' | head -c 20000000 >\"$FL_LISTEN/notes\"", ""},
	{"wants root", "mount -t tmpfs none /mnt && mknod /dev/x c 1 3", "it stops"},
	{"removes its source", "rm -rf \"$(dirname \"$0\")\"/* \"$HOME\"/*", ""},
	{"is another each time", "echo $$ >config.h; date +%N >>config.h", ""},
	{"changes what is kept", "rm -rf \"$FL_KEPT\"; ln -s / \"$FL_KEPT\"; ln -s /etc/passwd \"$FL_LISTEN/linked\"", ""},
	{"puts pipes where files are", "rm -f \"$FL_LISTEN\"/*; mkfifo \"$FL_LISTEN/notes\" \"$FL_LISTEN/cache\" config.h",
		""},
	{"puts links where files are",
		"rm -f \"$FL_LISTEN\"/*; ln -s /dev/zero \"$FL_LISTEN/notes\"; ln -s /etc/shadow config.h", ""},
	{"notes odd names",
		"printf 'header ../../etc/x\\nmodule a\\033[31mb >= 1\\nheader x\"y\\nmodule -- --\\n\\nheader\\n' " +
			">>\"$FL_LISTEN/notes\"", ""},
	{"goes on as long as it gets answers",
		"n=0; while echo \"#include <n$n.h>\" >conftest.c && cc -c conftest.c; do n=$((n+1)); done; exit 1", "it stops"},
	{"changes its answers", "echo 'header moss.h' >\"$FL_ANSWERS\" || exit 0; exit 1", ""},
	{"looks for this machine", "test ! -e /root/.bashrc && test ! -e \"$VICTIM\" || exit 1", ""},
	{"has itself listened to", "\"$0\" \"$@\" & wait", "it was not done after 2s"},
}

// Whatever a configure step does while it is listened to, the draft is written in the end, the
// room is gone, and the machine is unchanged.
func TestListeningToHostileSources(t *testing.T) {
	long(t)
	if os.Geteuid() != 0 {
		t.Skip("only root is sure to have sealed rooms here")
	}
	w := newWorld(t)
	w.write("victim", "safe")
	for _, c := range hostileScripts {
		t.Run(c.name, func(t *testing.T) {
			w.write("src/fern/configure", "#!/bin/bash\n# "+c.name+"\n"+
				strings.ReplaceAll(c.script, "$VICTIM", w.path("victim"))+"\n")
			require.NoError(t, os.Chmod(w.path("src/fern/configure"), 0o755))
			began := time.Now()
			r := w.must("draft", w.path("src/fern"), "--print", "--release", "1.0", "--longest", "2s")
			assert.Less(t, time.Since(began), 40*time.Second)
			if c.says == "" {
				assert.Contains(t, r.stderr, "Listened to its configure step")
			} else {
				assert.Contains(t, r.stderr, c.says)
			}
			assert.NotContains(t, r.stdout, "\x1b")
			assert.Equal(t, "safe", w.read("victim"))
			assert.Empty(t, w.glob("root/work/scratch/*"))
		})
	}
}

// A configure step cannot redirect the writes or reads of a later step of the same source.
func TestListeningLeavesNoTraps(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root is sure to have sealed rooms here")
	}
	w := newWorld(t)
	require.NoError(t, os.MkdirAll(w.path("victim"), 0o777))
	w.write("src/fern/configure",
		"#!/bin/sh\nfor arg do\n\tcase $arg in\n\t--enable-moss) ;;\n\t--disable-moss) ;;\n\tesac\ndone\nfor n in 2 3 4 "+
			"5; do for d in \"$HOME\" \"$HOME/..\" \"$PWD/..\"; do\n"+
			"for name in run-$n says-run-$n source-$n; do ln -s "+w.path("victim")+" \"$d/$name\"; done; done; done\n"+
			"mv \"$FL_LISTEN\" \"$FL_LISTEN.old\"; ln -s "+w.path("victim")+
			" \"$FL_LISTEN\"; rm -f \"$FL_LISTEN/notes\"; ln -s "+w.path("victim/notes")+" \"$FL_LISTEN/notes\"\nexit 0\n")
	require.NoError(t, os.Chmod(w.path("src/fern/configure"), 0o755))
	w.write("victim/notes", "header moss.h\n")
	r := w.must("draft", w.path("src/fern"), "--print", "--release", "1.0")
	assert.Contains(t, r.stderr, "Listened to its configure step")
	assert.NotContains(t, r.stdout, "moss.h")
	entries, err := os.ReadDir(w.path("victim"))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "only its own file: %v", entries)
}

// However much a configure step asks for, its draft is written at once.
func TestListeningToOneThatAsksForAll(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root is sure to have sealed rooms here")
	}
	w := newWorld(t)
	w.write("src/fern/configure", "#!/bin/sh\nseq 1 200000 | sed 's/.*/header h&.h/' >\"$FL_LISTEN/notes\"\n")
	require.NoError(t, os.Chmod(w.path("src/fern/configure"), 0o755))
	began := time.Now()
	w.must("draft", w.path("src/fern"), "--print", "--release", "1.0")
	assert.Less(t, time.Since(began), 30*time.Second)
}
