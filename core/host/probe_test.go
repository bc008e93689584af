package host

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/version"
)

// system is the PATH of a machine with these programs, which are shell scripts.
func system(t *testing.T, programs map[string]string) Programs {
	dir := t.TempDir()
	for name, text := range programs {
		require.NoError(t,
			os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\necho \"$0 $*\" >>"+dir+"/asked\n"+text), 0o755))
	}
	return Programs{Path: []string{dir, "/usr/bin", "/bin"}}
}

func every(Question) bool { return true }

func TestAsk(t *testing.T) {
	p := system(t, map[string]string{
		"cc":         `case "$*" in *-E*) echo "there 1";; *) echo "ld: cannot find -lsoil: No such file" >&2; echo "ld: cannot find -lsand" >&2; exit 1;; esac`,
		"pkg-config": `case "$*" in --list-all) printf 'dew   Dew\nloam  Loam\n';; *) echo 1.4.2; echo 0.9;; esac`,
		"sporegen":   `test "$1" = -V && echo "sporegen, release 2.0.1-rc1 (c) 2026"`,
		"silent":     `exit 3`,
	})
	p.Asked = &Answers{}
	answers := p.Ask(context.Background(), "cc", []Question{
		{Header, "absent.h"}, {Header, "moss/moss.h"}, {Library, "soil"}, {Library, "leaf"}, {Library, "sand"},
		{Module, "dew"}, {Module, "loam"}, {Module, "gone"},
		{Program, "sporegen"}, {Program, "silent"}, {Program, "nowhere"},
		{Python, "json.decoder"}, {Python, "leaves"}, {Perl, "List::Util"}, {Perl, "Leaf::Parser"}, {File, "/usr/bin/env"},
		{File, "/usr/share/leaves"},
	}, every)
	assert.True(t, answers[Question{Perl, "List::Util"}].There)
	delete(answers, Question{Perl, "List::Util"}) // its version is Perl's own

	there := map[string]string{}
	for q, a := range answers {
		if a.There {
			there[q.String()] = a.Version
		}
	}
	assert.Equal(t, map[string]string{"header moss/moss.h": "", "library leaf": "", "module dew": "1.4.2",
		"module loam": "0.9", "program sporegen": "2.0.1-rc1", "program silent": "",
		"python json.decoder": "", "file /usr/bin/env": ""}, there)
	p.Ask(context.Background(), "cc", []Question{{Header, "moss/moss.h"}, {Library, "leaf"}, {Module, "dew"}}, every)
	asked, err := os.ReadFile(filepath.Join(p.Path[0], "asked"))
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(asked), "/cc "), "one call for all headers, one for all libraries")
	assert.Equal(t, 2, strings.Count(string(asked), "/pkg-config "))
	assert.Empty(t, Programs{Path: []string{t.TempDir()}}.Ask(context.Background(), "cc", []Question{{Header, "a.h"}},
		every)[Question{Header, "a.h"}])
}

func TestCheck(t *testing.T) {
	p := system(t, map[string]string{"sporegen": "echo sporegen 2.0", "silent": "exit 1"})
	newer, err := version.ParseRange(">= 3")
	require.NoError(t, err)
	older, err := version.ParseRange("< 3")
	require.NoError(t, err)
	var states []State
	var lacking []bool
	for _, f := range p.Check(context.Background(), "cc", []Need{
		{Question: Question{Program, "sporegen"}}, {Question: Question{Program, "sporegen"}, Range: older},
		{Question: Question{Program, "sporegen"}, Range: newer},
		{Question: Question{Program, "silent"}, Range: newer}, {Question: Question{Program, "nowhere"}, Range: newer},
	}, false) {
		states, lacking = append(states, f.State), append(lacking, f.Lacking())
	}
	assert.Equal(t, []State{There, There, TooOld, Unknown, Absent}, states)
	assert.Equal(t, []bool{false, false, true, false, true}, lacking)
}
