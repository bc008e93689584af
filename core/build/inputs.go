package build

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// inputs is a digest of what a stage depends on, besides earlier stages. A finished stage counts
// as long as its inputs are the same.
func (a *attempt) inputs(stage string) string {
	var from any
	switch stage {
	case StageUnpack:
		var into []string
		for _, part := range a.job.Parts {
			into = append(into, part.Into)
		}
		var supplies []recipe.Digest
		for _, s := range a.job.Recipe.Supplies {
			supplies = append(supplies, s.Digest)
		}
		from = []any{a.job.Sources(), into, supplies}
	case StagePatch:
		from = a.job.Patches
	default:
		// The number of jobs does not change the result.
		t := a.b.target
		t.Jobs = 1
		planned := stages(t, a.job, a.dirs)
		i := slices.IndexFunc(planned, func(s Stage) bool { return s.Name == stage })
		if i < 0 {
			return ""
		}
		from = []any{planned[i].Commands, environment(t, a.job, a.dirs, time.Time{}), a.job.Links()}
	}
	text, err := json.Marshal(from)
	if err != nil {
		panic(err) // there is nothing in it that has no JSON form
	}
	sum := blake3.Sum256(text)
	return hex.EncodeToString(sum[:8])
}

// pure reports whether building leaves the unpacked source unchanged.
func (a *attempt) pure() bool {
	return a.dirs.build != a.dirs.system && a.job.Recipe.Step("before_configure") == ""
}

// reuseSource takes over the unpacked and patched source of another build of the same release
// that failed or was interrupted before the recipe changed. A configured build directory of
// another tree is useless. A build with other options is left alone, because it may be
// continued.
func (a *attempt) reuseSource(ctx context.Context) error {
	if a.rebuild || !a.pure() {
		return nil
	}
	files, err := filepath.Glob(filepath.Join(a.m.Store.Root, "work", a.job.Name+"-"+a.job.Version+"-*", journalFile))
	if err != nil {
		return err
	}
	for _, file := range files {
		var other journal
		data, err := safefs.ReadFile(file, largestJournal)
		if err != nil || json.Unmarshal(data, &other) != nil || other.Build.Name != a.job.Name || other.Build == a.job.Ref ||
			!other.Pure || !maps.Equal(other.Options, a.job.Package.Options) ||
			other.Running == StageUnpack || other.Running == StagePatch || !other.done(StageUnpack) ||
			other.Inputs[StageUnpack] != a.inputs(StageUnpack) ||
			other.Inputs[StagePatch] != "" && other.Inputs[StagePatch] != a.inputs(StagePatch) {
			continue
		}
		taken, err := a.take(ctx, other, filepath.Dir(file))
		if err != nil || !taken {
			continue // it is unpacked, then
		}
		a.journal = journal{Done: []string{StageUnpack}, SourceStamp: a.stamp(a.dirs.source), Runs: other.Runs,
			Newest: other.Newest, Sources: other.Sources,
			Inputs: other.Inputs, Seconds: other.Seconds, CPU: other.CPU}
		if other.done(StagePatch) {
			a.journal.Done = append(a.journal.Done, StagePatch)
		}
		return nil
	}
	return nil
}

// take moves the source of another build here, unless another process works on it, and
// deletes the rest.
func (a *attempt) take(ctx context.Context, other journal, work string) (bool, error) {
	const moment = 20 * time.Millisecond
	soon, cancel := context.WithTimeout(ctx, moment)
	defer cancel()
	unlock, err := a.m.Store.LockBuild(soon, other.Build, func() {})
	if err != nil {
		return false, err
	}
	defer unlock()
	source := filepath.Join(boxOf(work), "source")
	there := attempt{dirs: workDirs{box: boxOf(work)}}
	if other.Edited || other.SourceStamp == "" || other.SourceStamp != there.stamp(source) {
		return false, nil // it was changed by hand
	}
	if err := a.inherit(source, other.User, func() {}); err != nil {
		return false, err
	}
	if err := safefs.Remove(a.dirs.source); err != nil {
		return false, err
	}
	if err := os.Rename(source, a.dirs.source); err != nil {
		return false, err
	}
	return true, safefs.Remove(work)
}
