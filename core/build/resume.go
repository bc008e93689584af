package build

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// holdNeeds keeps the trees that the build sees from being removed until it is finished.
func (a *attempt) holdNeeds(ctx context.Context) (release func(), err error) {
	var needs []store.Ref
	for _, n := range visible(a.job) {
		needs = append(needs, n.Ref)
	}
	return a.hold(ctx, needs)
}

// hold keeps trees from being removed until they are released.
func (a *attempt) hold(ctx context.Context, needs []store.Ref) (release func(), err error) {
	var unlocks []func()
	release = func() {
		for _, unlock := range unlocks {
			unlock()
		}
	}
	for _, r := range needs {
		unlock, err := a.m.Store.ShareBuild(ctx, r)
		if err == nil {
			unlocks = append(unlocks, unlock)
			if a.m.Store.Installed(r) {
				continue
			}
			err = &store.Error{Path: a.m.Store.Tree(r), Err: store.ErrGone, Advice: "Run the same command again."}
		}
		release()
		return nil, err
	}
	return release, nil
}

// prepare makes the work directory, or finds what an earlier run left and how much of it is
// reliable.
func (a *attempt) prepare(ctx context.Context) error {
	if err := os.MkdirAll(a.m.Store.Logs(a.job.Ref), 0o777); err != nil {
		return err
	}
	data, err := safefs.ReadFile(filepath.Join(a.dirs.work, journalFile), largestJournal)
	if err == nil {
		killAll(a.m.Store, []*Job{a.job}) // what a killed run has left behind
		err = json.Unmarshal(data, &a.journal)
	}
	if err != nil { // there is none, or it is unusable
		a.journal = journal{}
		if err := safefs.Remove(a.dirs.work); err != nil {
			return err
		}
	}
	if a.room.user, a.room.giveBack, err = a.m.Settings.Users.Lend(ctx, a.journal.User, a.dirs.work); err != nil {
		return err
	}
	if err := a.makeDirs(); err != nil {
		return err
	}
	if a.journal.Build.Name == "" {
		if err := a.reuseSource(ctx); err != nil {
			return err
		}
	}
	a.journal.begin()
	if text, err := a.job.Recipe.OnShelf(recipe.FileName).ReadFile(recipe.Largest); err == nil {
		a.journal.Recipe = digestOf(text).Hex
	}
	a.journal.Build, a.journal.Pure, a.journal.Options, a.journal.User = a.job.Ref, a.pure(), a.job.Package.Options,
		a.room.user
	if len(a.fetched) > 0 {
		a.journal.Sources = a.fetched
	}
	return nil
}

// trust invalidates what is unreliable of what an earlier run left.
func (a *attempt) trust() error {
	r := a.job.Recipe
	logged := r.Build.Method == recipe.Meson && r.Step(StageCompile)+r.Step("before_"+StageCompile)+r.Step("after_"+
		StageCompile) == ""
	killed, done := a.journal.Running, slices.Clone(a.journal.Done)
	a.journal.invalidateInterrupted(a.dirs.build == a.dirs.system, len(a.job.Patches) > 0, logged, bootID())
	if now := a.journal.Done; killed != "" && len(now) < len(done) {
		a.emit(event.Event{Kind: event.Retried,
			Text: fmt.Sprintf("an earlier run was killed in %s; restarting at %s, because half-written files look complete",
				killed, done[len(now)])})
	}
	a.journal.invalidateChanged(a.inputs)
	return a.restage()
}

// bootID differs at each start of the machine; "" if it is not known.
func bootID() string {
	id, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(id))
}

// largestJournal is more than a journal of any build has.
const largestJournal = 64 << 20

// makeDirs creates missing directories, with their owners. No other user can change the work
// directory itself; the contents of the box are untrusted, and anything that is not a directory
// is replaced.
func (a *attempt) makeDirs() error {
	d := a.dirs
	if err := os.MkdirAll(d.work, 0o710); err != nil {
		return err
	}
	// Only the user of this build can enter.
	if err := errors.Join(os.Chown(d.work, -1, a.gid()), os.Chmod(d.work, 0o710)); err != nil {
		return err
	}
	for _, dir := range []string{d.room, d.given, d.tries} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	a.cache = a.newCache()
	for _, dir := range []string{d.box, d.prefix} {
		if err := a.own(dir); err != nil {
			return err
		}
		if err := a.inherit(dir, a.journal.User, a.look); err != nil {
			return err
		}
	}
	if err := os.Chmod(d.box, 0o700); err != nil { // its build may have shut it
		return err
	}
	for _, dir := range []string{d.home, d.tmp, d.traces} {
		prepare := a.own
		if !a.canEnter(dir) {
			prepare = a.renew
		}
		if err := prepare(dir); err != nil {
			return err
		}
	}
	return nil
}

// inherit gives files that another build user owns in a directory, from an earlier run, to the
// build's user. The directory, which is given last, shows the owner: the journal, which names
// the first one, does not know of a later run that was refused or killed. before is called first
// if anything is given.
func (a *attempt) inherit(dir string, had sandbox.User, before func()) error {
	info, err := os.Lstat(dir)
	if err != nil {
		return err
	}
	owner := int(info.Sys().(*syscall.Stat_t).Uid)
	ofBuilds := func(uid int) bool { return had.Other() && uid == had.UID || a.m.Settings.Users.Has(uid) }
	if owner == a.room.user.UID || !ofBuilds(owner) {
		return nil
	}
	before()
	return safefs.Give(dir, ofBuilds, a.room.user.UID, a.room.user.GID)
}

// own makes a directory for the build's user if there is none, or takes one that was made and
// not given yet.
func (a *attempt) own(dir string) error {
	err := os.Mkdir(dir, 0o700)
	if errors.Is(err, fs.ErrExist) {
		info, err := os.Lstat(dir)
		if err != nil || !info.IsDir() || !safefs.Ours(int(info.Sys().(*syscall.Stat_t).Uid)) {
			return err
		}
		return give(dir, a.room.user) // a directory is no other's file by another name
	}
	return errors.Join(err, give(dir, a.room.user))
}

func (a *attempt) gid() int {
	if a.room.user.Other() {
		return a.room.user.GID
	}
	return os.Getgid()
}

// restage moves the placed files back to where they were filled in, if a run was killed after
// that and before the receipt.
func (a *attempt) restage() error {
	if !a.journal.done(StagePlace) || a.rebuild {
		return nil
	}
	_, errPlaced := os.Lstat(a.dirs.placed)
	_, errTree := os.Lstat(a.job.Tree)
	if errPlaced != nil && errTree == nil {
		return a.m.Store.Withdraw(a.job.Ref, a.dirs.placed)
	}
	if errPlaced != nil {
		a.journal.Done = slices.DeleteFunc(a.journal.Done, func(stage string) bool { return stage == StagePlace })
	}
	return nil
}

// save writes the journal.
func (a *attempt) save() error {
	data, err := json.Marshal(a.journal)
	if err != nil {
		return err
	}
	return a.m.Store.Wrap(durable.Note(filepath.Join(a.dirs.work, journalFile), data, 0o600))
}
