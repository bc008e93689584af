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

	"fernladder/core/ground"
	"fernladder/core/recipe"
)

// inputs is a digest of what a stage is made from, besides the stages before it.
// A stage that is done counts as long as its inputs are the same.
func (g *building) inputs(stage string) string {
	var from any
	switch stage {
	case StageUnpack:
		var into []string
		for _, part := range g.job.Parts {
			into = append(into, part.Into)
		}
		var supplies []recipe.Digest
		for _, s := range g.job.Supplies {
			supplies = append(supplies, s.Digest)
		}
		from = []any{g.job.Sources(), into, supplies}
	case StagePatch:
		from = g.job.Patches
	default:
		i := slices.IndexFunc(g.job.Stages, func(s Stage) bool { return s.Name == stage })
		if i < 0 {
			return ""
		}
		from = []any{g.job.Stages[i].Commands, g.environment(g.job, time.Time{}), g.job.Links()}
	}
	text, err := json.Marshal(from)
	if err != nil {
		panic(err) // there is nothing in it that has no JSON form
	}
	sum := blake3.Sum256(text)
	return hex.EncodeToString(sum[:8])
}

// renewed takes back the stages from the first one on whose inputs have changed.
func (g *building) renewed() {
	for i, stage := range g.Done {
		if stage != StageTry && g.Inputs[stage] != g.inputs(stage) {
			g.Done = g.Done[:i]
			return
		}
	}
}

// pure tells whether building leaves the unpacked source as it is.
func (g *building) pure() bool {
	return g.dirs.build != g.dirs.system && g.job.Package.Recipe.Step("before_configure") == ""
}

// adopt takes over what another build of the same release has unpacked and
// patched, one that has failed or was broken off before the recipe was changed.
// What was configured for another tree is no use. A build with other options is
// left alone: somebody may go on with it.
func (g *building) adopt(ctx context.Context) error {
	if g.again || !g.pure() {
		return nil
	}
	files, err := filepath.Glob(filepath.Join(g.Store.Root, "work", g.job.Name+"-"+g.job.Version+"-*", journalFile))
	if err != nil {
		return err
	}
	for _, file := range files {
		var other journal
		data, err := ground.ReadFile(file, largestJournal)
		if err != nil || json.Unmarshal(data, &other) != nil || other.Build.Name != g.job.Name || other.Build == g.job.Ref || !other.Pure || !maps.Equal(other.Options, g.job.Package.Options) ||
			other.Running == StageUnpack || other.Running == StagePatch || !slices.Contains(other.Done, StageUnpack) ||
			other.Inputs[StageUnpack] != g.inputs(StageUnpack) || other.Inputs[StagePatch] != "" && other.Inputs[StagePatch] != g.inputs(StagePatch) {
			continue
		}
		taken, err := g.take(ctx, other, filepath.Dir(file))
		if err != nil || !taken {
			continue // it is unpacked, then
		}
		g.journal = journal{Done: []string{StageUnpack}, Newest: other.Newest, Sources: other.Sources,
			Inputs: other.Inputs, Seconds: other.Seconds, CPU: other.CPU}
		if slices.Contains(other.Done, StagePatch) {
			g.Done = append(g.Done, StagePatch)
		}
		return nil
	}
	return nil
}

// take moves the source of another build here, unless somebody works on it, and
// deletes the rest.
func (g *building) take(ctx context.Context, other journal, work string) (bool, error) {
	const moment = 20 * time.Millisecond
	soon, cancel := context.WithTimeout(ctx, moment)
	defer cancel()
	unlock, err := g.Store.LockBuild(soon, other.Build, func() {})
	if err != nil {
		return false, err
	}
	defer unlock()
	source := filepath.Join(boxOf(work), "source")
	if g.user != other.User {
		if err := ground.Give(source, g.ofBuilds(other.User), g.user.UID, g.user.GID); err != nil {
			return false, err
		}
	}
	if err := ground.Remove(g.dirs.source); err != nil {
		return false, err
	}
	if err := os.Rename(source, g.dirs.source); err != nil {
		return false, err
	}
	return true, ground.Remove(work)
}
