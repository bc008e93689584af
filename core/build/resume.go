package build

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"fernladder/core/inspect"
	"fernladder/core/store"
)

// progress is what a work directory remembers of its build. It is for one
// build id, so what it was made from cannot have changed.
type progress struct {
	Build   store.Ref          `json:"build"`
	Done    []string           `json:"done"`    // stages, in order
	Running string             `json:"running"` // the stage under way; what it has made may be half-written
	Newest  time.Time          `json:"newest"`
	Sources []store.Source     `json:"sources"` // as they came
	Seconds map[string]float64 `json:"seconds"`
	CPU     map[string]float64 `json:"cpu_seconds"`
	Inputs  map[string]string  `json:"inputs"` // of the stages that are done
	Pure    bool               `json:"pure"`   // the source is as it was unpacked and patched
	Options map[string]string  `json:"options"`
	Remarks []inspect.Remark   `json:"remarks,omitempty"` // on what was placed
	Racing  *inspect.Remark    `json:"racing,omitempty"`  // on how it was compiled
	Used    *Used              `json:"used,omitempty"`    // of the operating system
}

// holdNeeds keeps the trees that the build sees from being removed until it is
// done.
func (g *building) holdNeeds(ctx context.Context) (free func(), err error) {
	var unlocks []func()
	free = func() {
		for _, unlock := range unlocks {
			unlock()
		}
	}
	for _, n := range neighbours(g.job) {
		unlock, err := g.Store.ShareBuild(ctx, n.Ref)
		if err == nil {
			unlocks = append(unlocks, unlock)
			if g.Store.Installed(n.Ref) {
				continue
			}
			err = &store.Error{Path: n.Tree, Err: errors.New("this tree was removed while it was needed"), Advice: "Run the same command again."}
		}
		free()
		return nil, err
	}
	return free, nil
}

// prepare makes the work directory, or finds what an earlier run has left and
// how much of it can be relied on.
func (g *building) prepare(ctx context.Context) error {
	for _, dir := range []string{g.dirs.home, g.dirs.tmp, g.Store.Logs(g.job.Ref)} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	data, err := os.ReadFile(g.progressFile())
	if err == nil {
		killAll([]*Job{g.job}, g.Workshop) // what a run that was killed has left behind
		err = json.Unmarshal(data, &g.progress)
	}
	if err != nil { // there is none, or it is no use
		g.progress = progress{}
		if err := g.adopt(ctx); err != nil {
			return err
		}
	}
	if g.Seconds == nil {
		g.Seconds = map[string]float64{}
	}
	if g.CPU == nil {
		g.CPU = map[string]float64{}
	}
	if g.Inputs == nil {
		g.Inputs = map[string]string{}
	}
	g.Build, g.Pure, g.Options = g.job.Ref, g.pure(), g.job.Package.Options
	if len(g.parts) > 0 {
		g.Sources = g.parts
	}
	g.distrust()
	g.renewed()
	return g.restage()
}

// distrust takes back stages whose results may be half-made. A run that ended
// in good order has left none but where patches are applied half; after one
// that was killed, object files may be cut off, and make would not know. Tries
// change nothing.
func (g *building) distrust() {
	done := func(stage string) bool { return slices.Contains(g.Done, stage) }
	switch {
	case (g.Running == "" || g.Running == StageTry) && (done(StagePatch) || len(g.job.Patches) == 0):
	case g.dirs.build == g.dirs.system, g.Running == StageUnpack, !done(StagePatch) && len(g.job.Patches) > 0:
		g.Done = nil
	default: // everything since configure is in a directory that configure empties
		if i := slices.Index(g.Done, "configure"); i >= 0 {
			g.Done = g.Done[:i]
		}
	}
	g.Running = ""
}

// restage brings what was placed back to where it was filled, if a run was
// killed after that and before there was a receipt.
func (g *building) restage() error {
	if !slices.Contains(g.Done, StagePlace) || g.again {
		return nil
	}
	_, errStaged := os.Lstat(g.staged())
	_, errTree := os.Lstat(g.job.Tree)
	if errStaged != nil && errTree == nil {
		return g.Store.Withdraw(g.job.Ref, g.staged())
	}
	if errStaged != nil {
		g.Done = slices.DeleteFunc(g.Done, func(stage string) bool { return stage == StagePlace })
	}
	return nil
}

func (g *building) progressFile() string { return filepath.Join(g.dirs.work, "progress.json") }

// save writes the progress. It is not synced: progress that is lost or damaged
// when the machine stops is made again.
func (g *building) save() error {
	data, err := json.Marshal(g.progress)
	if err != nil {
		return err
	}
	fresh := g.progressFile() + ".new"
	if err := os.WriteFile(fresh, data, 0o644); err != nil {
		return g.Store.Wrap(err)
	}
	return g.Store.Wrap(os.Rename(fresh, g.progressFile()))
}
