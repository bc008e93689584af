package build

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/inspect"
	"fernladder/core/machine"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// left is what an earlier run has left: an unpacked and patched source.
func left(t *testing.T) *attempt {
	box := filepath.Join(t.TempDir(), "box")
	d := workDirs{work: filepath.Dir(box), box: box, source: filepath.Join(box, "source"),
		build: filepath.Join(box, "build"), system: filepath.Join(box, "source")}
	for _, dir := range []string{d.source, d.build} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), []byte("leaf"), 0o644))
	}
	a := &attempt{m: &machine.Machine{Config: machine.Config{Now: time.Now}},
		job: &Job{Patches: []store.Source{{File: "a.patch"}}}, dirs: d}
	a.journal.begin()
	a.journal.Done = []string{StageUnpack, StagePatch, StageConfigure}
	return a
}

// swap replaces a file by another of the same size, mode and times.
func swap(t *testing.T, file string) {
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte("worm"), 0o644))
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
}

// A build continues from the state of a run that ended in order, if nothing has changed it;
// after a killed run, only from a source in its unpacked state.
func TestWhatABuildGoesOnFrom(t *testing.T) {
	for name, c := range map[string]struct {
		killed, impure      bool
		spoil               func(*attempt)
		policy              EditedPolicy
		half, fails, anew   bool
		edited, changedUser bool
	}{
		"as it was":                      {},
		"as it was, for another user":    {changedUser: true},
		"changed":                        {spoil: func(a *attempt) { swap(t, a.dirs.source+"/file") }, fails: true},
		"changed in the build directory": {spoil: func(a *attempt) { swap(t, a.dirs.build+"/file") }, fails: true},
		"changed, and kept": {spoil: func(a *attempt) {
			swap(t, a.dirs.source+"/file")
		}, policy: KeepEdited, edited: true},
		"half patched, and kept": {spoil: func(a *attempt) {
			swap(t, a.dirs.source+"/file")
		}, policy: KeepEdited, half: true, fails: true},
		"changed, and taken anew": {spoil: func(a *attempt) {
			swap(t, a.dirs.source+"/file")
		}, policy: FreshSource, anew: true},
		"gone":   {spoil: func(a *attempt) { os.RemoveAll(a.dirs.source) }, anew: true},
		"killed": {killed: true},
		"killed, and changed": {killed: true, spoil: func(a *attempt) {
			swap(t, a.dirs.source+"/file")
		}, anew: true},
		"killed, and built where it changes": {killed: true, impure: true, spoil: func(a *attempt) {
			swap(t, a.dirs.source+"/file")
		}},
		"killed, and the build changed": {killed: true, spoil: func(a *attempt) { swap(t, a.dirs.build+"/file") }},
	} {
		t.Run(name, func(t *testing.T) {
			a := left(t)
			a.journal.Pure, a.job.Edited = !c.impure, c.policy
			if a.journal.SourceStamp = a.stamp(a.dirs.source); !c.killed {
				a.journal.Stamp = a.stamp(a.dirs.built()...)
			}
			if c.half {
				a.journal.Done = []string{StageUnpack}
			}
			if c.spoil != nil {
				c.spoil(a)
			}
			before := a.journal.SourceStamp
			if c.changedUser && os.Geteuid() == 0 {
				a.look()
				require.NoError(t, safefs.Give(a.dirs.box, safefs.Ours, 1_900_000_300, 1_900_000_300))
			}
			err := a.checkEdited()
			assert.Equal(t, c.fails, err != nil, "%v", err)
			assert.Equal(t, c.anew, !a.journal.done(StageUnpack))
			assert.Equal(t, c.edited, a.journal.Edited)
			if !c.fails {
				assert.Empty(t, a.journal.Stamp)
			}
			if c.changedUser && os.Geteuid() == 0 {
				assert.NotEqual(t, before, a.journal.SourceStamp)
				assert.Equal(t, a.stamp(a.dirs.source), a.journal.SourceStamp, "what the program has done itself is no change")
			}
		})
	}
}

// A stage that begins anew has no cost and no remarks; remarks are limited to what a receipt can
// hold.
func TestJournal(t *testing.T) {
	a := left(t)
	j := &a.journal
	j.Early = map[string]inspect.Remark{StageConfigure: {Text: "x"}}
	for _, stage := range j.Done {
		j.complete(stage, "inputs", time.Second, time.Second)
	}
	j.forget(StagePatch)
	assert.Equal(t, []string{StageUnpack}, j.Done)
	assert.Equal(t, map[string]float64{StageUnpack: 1}, j.Seconds)
	assert.Equal(t, map[string]float64{StageUnpack: 1}, j.CPU)
	assert.Empty(t, j.Early)

	assert.True(t, j.note(inspect.Remark{Text: strings.Repeat("é", 10_000)}))
	assert.Less(t, len(j.Remarks[0].Text), 5000)
	for i := range 199 {
		assert.True(t, j.note(inspect.Remark{Text: fmt.Sprint(i)}))
	}
	assert.True(t, j.note(inspect.Remark{Text: "exceeds the limit of"}), "that there are more is told")
	assert.False(t, j.note(inspect.Remark{Text: "another"}))
	assert.Len(t, j.Remarks, 201)
	assert.Contains(t, j.Remarks[200].Text, "more than 200 remarks")

	assert.Empty(t, j.earlier())
	j.Runs = []string{"open", "sealed", "sealed"}
	assert.Equal(t, []string{"open", "sealed"}, j.earlier())
}
