package cli

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/store"
	"fernladder/core/version"
)

// keep says what should stay as it is: what is locked, then what is installed.
// Of packages that are to move, only the options stay.
func (s *session) keep(locked *lock.File, moves func(name string) bool) (map[string][]resolve.Kept, error) {
	kept := map[string][]resolve.Kept{}
	add := func(name string, k resolve.Kept) {
		if moves(name) && !s.ahead(name, k.Version) {
			k.Version, k.Needs = version.Version{}, nil
		}
		kept[name] = append(kept[name], k)
	}
	for _, b := range locked.Builds {
		k := resolve.Kept{Version: b.Version, Options: map[string]string{}, Needs: b.Needs}
		for _, set := range b.Options {
			name, value, _ := strings.Cut(set, "=")
			k.Options[name] = value
		}
		add(b.Name, k)
	}
	current, err := landing.Current(s.store)
	if err != nil {
		return nil, err
	}
	var queue []store.Ref
	for _, m := range current.Members {
		queue = append(queue, m.Ref)
	}
	seen := map[store.Ref]bool{}
	for ; len(queue) > 0; queue = queue[1:] {
		if seen[queue[0]] {
			continue
		}
		seen[queue[0]] = true
		receipt, err := s.store.Receipt(queue[0])
		if err != nil {
			continue // it was removed; then it does not stay
		}
		k := resolve.Kept{Options: receipt.Options}
		if k.Version, err = version.Parse(receipt.Version); err != nil {
			continue
		}
		for _, need := range receipt.Needs {
			k.Needs = append(k.Needs, need.Name)
			queue = append(queue, need.Ref)
		}
		add(receipt.Name, k)
	}
	return kept, nil
}

// ahead tells whether a version is a preview that is newer than every stable
// release, from which an upgrade would lead back.
func (s *session) ahead(name string, v version.Version) bool {
	r, err := s.shelves.Find(name)
	if err != nil {
		return false
	}
	preview := false
	for _, x := range r.Releases {
		if x.Track == recipe.Stable && x.Version.Compare(v) > 0 {
			return false
		}
		preview = preview || x.Track == recipe.Preview && x.Version.Compare(v) == 0
	}
	return preview
}

// lockFile reads ladder.lock, which is beside the settings, or in the root when
// there are none.
func (s *session) lockFile() (*lock.File, error) {
	return lock.Read(s.lockPath(), s.place.Shown(s.lockPath()))
}

func (s *session) lockPath() string {
	dir := s.store.Root
	if s.settings.File != "" {
		dir = filepath.Dir(s.settings.File)
	}
	return filepath.Join(dir, lock.FileName)
}

// pins returns the pins of all tips that are locked. A tip that is asked for
// and not pinned, or that is to move, is pinned now.
func (a *app) pins(ctx context.Context, s *session, file *lock.File, wanted []resolve.Wanted, moves func(string) bool) (map[string]recipe.Pin, error) {
	pins := map[string]recipe.Pin{}
	for _, t := range file.Tips {
		r, err := s.shelves.Find(t.Name)
		if err != nil {
			continue // which the resolver tells, if it is needed
		}
		if pin, known := file.Pin(r); known {
			pins[t.Name] = pin
		}
	}
	for _, w := range wanted {
		if !w.Tip {
			continue
		}
		r, err := s.shelves.Find(w.Name)
		if err != nil || r.Tip() == nil {
			continue // which the resolver explains
		}
		before, known := pins[w.Name]
		if known && !moves(w.Name) {
			continue
		}
		pin, err := a.pin(ctx, s, file, r)
		if err != nil {
			return nil, err
		}
		switch {
		case !known:
			a.screen.Note("Pinned the tip of %s to %s (%s) in %s.", r.Name, pin.Version, pin.Commit, file.Shown)
		case before.Commit == pin.Commit:
			a.screen.Note("The tip of %s is still %s (%s).", r.Name, pin.Version, pin.Commit)
		default:
			a.screen.Note("Moved the tip of %s from %s to %s (%s) in %s.", r.Name, before.Version, pin.Version, pin.Commit, file.Shown)
		}
		pins[w.Name] = pin
	}
	return pins, nil
}

// pin looks up the tip of a recipe and writes it to the lock file.
func (a *app) pin(ctx context.Context, s *session, file *lock.File, r *recipe.Recipe) (recipe.Pin, error) {
	if err := s.store.Prepare(); err != nil {
		return recipe.Pin{}, err
	}
	tip := r.Tip()
	progress := a.screen.Progress(1, a.now)
	s.workshop.Events = progress
	repositories, err := s.repositories()
	if err != nil {
		return recipe.Pin{}, err
	}
	pin, err := repositories.Head(ctx, tip, r.Name, r.ExpandURL(tip.Repository(), ""))
	progress.Close()
	if err != nil {
		return pin, s.stored(err)
	}
	// file goes on with what it was when the command began, but for the pin.
	file.There = true
	file.SetTip(r, pin)
	_, err = s.changeLock(ctx, func(now *lock.File) { now.SetTip(r, pin) })
	return pin, err
}

// hostCopies asks the operating system for its own copies of packages, as far
// as the settings let them stand in.
func (s *session) hostCopies(ctx context.Context, recipes []*recipe.Recipe) map[string]resolve.HostCopy {
	var questions []host.Question
	var asked []*recipe.Recipe
	for _, r := range recipes {
		if slices.Contains(s.settings.HostCopies, "*") || slices.Contains(s.settings.HostCopies, r.Name) {
			questions = append(questions, r.HostCopy.Question())
			asked = append(asked, r)
		}
	}
	if len(asked) == 0 {
		return nil
	}
	answers := s.workshop.Programs.Ask(ctx, "cc", questions, func(host.Question) bool { return true })
	copies := map[string]resolve.HostCopy{}
	for i, r := range asked {
		answer := answers[questions[i]]
		v, err := version.Parse(answer.Version)
		if !answer.There || r.HostCopy.Range.String() != "any" && (err != nil || !r.HostCopy.Range.Contains(v)) {
			continue
		}
		copies[r.Name] = resolve.HostCopy{Name: r.Name, Version: v}
	}
	return copies
}

// lockEntries are the builds of a ladder as a lock file has them.
func (l *ladder) lockEntries() (builds []*lock.Build, compilers []string) {
	for _, j := range l.jobs {
		b := &lock.Build{Name: j.Name, Version: j.Package.Release.Version, ID: j.ID, Source: j.Sources(), Options: j.Package.Changed(), Apart: j.Package.Apart}
		for _, need := range j.Needs {
			b.Needs = append(b.Needs, need.Name)
		}
		builds = append(builds, b)
		compilers = append(compilers, j.Compiler)
	}
	slices.Sort(compilers)
	return builds, slices.Compact(compilers)
}

// holdTo returns an error where the ladder is not the locked one.
func (l *ladder) holdTo(file *lock.File) error {
	if !file.There || len(file.Builds) == 0 {
		return usage("there is no ladder in %s to hold to; fernladder lock writes it", file.Shown)
	}
	builds, compilers := l.lockEntries()
	return file.Compare(builds, l.workshop.Machine.Arch, compilers)
}

// writeLock writes the ladder to the lock file. All of the file is this ladder
// where it is that of everything that is wanted on the machine.
func (l *ladder) writeLock(ctx context.Context) error {
	builds, compilers := l.lockEntries()
	file, err := l.changeLock(ctx, func(now *lock.File) {
		now.SetBuilds(builds, l.whole)
		now.Arch = l.workshop.Machine.Arch
		if !l.whole {
			compilers = append(compilers, now.Compilers...)
			slices.Sort(compilers)
			compilers = slices.Compact(compilers)
		}
		now.Compilers = compilers
	})
	if err == nil {
		l.lock = file
	}
	return err
}

// changeLock reads the lock file, changes it and writes it in one step: hours may
// have gone by since the command began, and others have written to it.
func (s *session) changeLock(ctx context.Context, change func(*lock.File)) (*lock.File, error) {
	if err := s.store.Prepare(); err != nil {
		return nil, err
	}
	unlock, err := s.store.LockFile(ctx, s.lockPath())
	if err != nil {
		return nil, err
	}
	defer unlock()
	file, err := s.lockFile()
	if err != nil {
		return nil, err
	}
	change(file)
	return file, s.store.Wrap(file.Write())
}
