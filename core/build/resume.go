package build

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"fernladder/core/durable"
	"fernladder/core/ground"
	"fernladder/core/inspect"
	"fernladder/core/seal"
	"fernladder/core/store"
)

// journal is what a work directory remembers of its build. It is for one build id,
// so what it was made from cannot have changed. No build can write it.
type journal struct {
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
	User    seal.User          `json:"user,omitzero"`     // whose the box is
}

// journalFile is the journal's name in a work directory.
const journalFile = "journal.json"

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
			err = &store.Error{Path: n.Tree, Err: store.ErrGone, Advice: "Run the same command again."}
		}
		free()
		return nil, err
	}
	return free, nil
}

// prepare makes the work directory, or finds what an earlier run has left and
// how much of it can be relied on.
func (g *building) prepare(ctx context.Context) error {
	if err := os.MkdirAll(g.Store.Logs(g.job.Ref), 0o755); err != nil {
		return err
	}
	data, err := ground.ReadFile(filepath.Join(g.dirs.work, journalFile), largestJournal)
	if err == nil {
		killAll([]*Job{g.job}, g.Workshop) // what a run that was killed has left behind
		err = json.Unmarshal(data, &g.journal)
	}
	if err != nil { // there is none, or it is no use
		g.journal = journal{}
		if err := ground.Remove(g.dirs.work); err != nil {
			return err
		}
	}
	if g.user, g.giveBack, err = g.Users.Lend(ctx, g.User); err != nil {
		return err
	}
	if err := g.makeDirs(); err != nil {
		return err
	}
	if g.Build.Name == "" {
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
	g.Build, g.Pure, g.Options, g.User = g.job.Ref, g.pure(), g.job.Package.Options, g.user
	if len(g.parts) > 0 {
		g.Sources = g.parts
	}
	g.distrust()
	g.renewed()
	return g.restage()
}

// largestJournal is more than a journal of any build has.
const largestJournal = 64 << 20

// makeDirs makes the directories that are not there, each for whom it belongs to.
// What lies in the work directory itself nobody else can change; what is in the box
// may be anything by now, and is only made where there is nothing.
func (g *building) makeDirs() error {
	d := g.dirs
	if err := os.MkdirAll(d.work, 0o710); err != nil {
		return err
	}
	// Only the user of this build can come to what is in it.
	if err := errors.Join(os.Chown(d.work, -1, g.gid()), os.Chmod(d.work, 0o710)); err != nil {
		return err
	}
	for _, dir := range []string{d.room, d.given, d.tries} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	for _, dir := range []string{d.box, d.prefix} {
		if err := g.own(dir); err != nil {
			return err
		}
		if g.User.Other() && g.User != g.user { // it was built as another user before
			if err := ground.Give(dir, g.ofBuilds(g.User), g.user.UID, g.user.GID); err != nil {
				return err
			}
		}
	}
	for _, dir := range []string{d.home, d.tmp, d.traces} {
		if err := g.own(dir); err != nil {
			return err
		}
	}
	return nil
}

// ofBuilds tells which users' files of an earlier run are those of builds: of the user
// it had, and of any other that it was given to when it was ended.
func (g *building) ofBuilds(earlier seal.User) func(uid int) bool {
	return func(uid int) bool { return uid == earlier.UID || g.Users.Has(uid) }
}

// own makes a directory for the build's user, if there is nothing, or one that was
// made and not given yet.
func (g *building) own(dir string) error {
	err := os.Mkdir(dir, 0o700)
	if errors.Is(err, fs.ErrExist) {
		info, err := os.Lstat(dir)
		if err != nil || !info.IsDir() || !ground.Ours(int(info.Sys().(*syscall.Stat_t).Uid)) {
			return err
		}
		return give(dir, g.user) // a directory is no other's file by another name
	}
	return errors.Join(err, give(dir, g.user))
}

func (g *building) gid() int {
	if g.user.Other() {
		return g.user.GID
	}
	return os.Getgid()
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
	_, errPlaced := os.Lstat(g.dirs.placed)
	_, errTree := os.Lstat(g.job.Tree)
	if errPlaced != nil && errTree == nil {
		return g.Store.Withdraw(g.job.Ref, g.dirs.placed)
	}
	if errPlaced != nil {
		g.Done = slices.DeleteFunc(g.Done, func(stage string) bool { return stage == StagePlace })
	}
	return nil
}

// save writes the journal.
func (g *building) save() error {
	data, err := json.Marshal(g.journal)
	if err != nil {
		return err
	}
	return g.Store.Wrap(durable.Note(filepath.Join(g.dirs.work, journalFile), data, 0o600))
}
