package clean

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/safefs"
	"fernladder/core/source"
	"fernladder/core/store"
)

// What says what to look for. Directories of failed or interrupted builds are always included.
type What struct {
	Names    []landing.Named // packages; none: all
	Trees    bool            // trees that no kept state of the landing needs
	Landings bool            // earlier states of the landing
	Logs     bool            // logs of builds that are not there
	Archives bool            // verified archives

	Older  time.Duration // only trees at least this old
	Larger int64         // only trees of at least so many bytes; states, which have none, all count
	Locks  []*lock.File  // the needs of these stay
}

// Candidates are what can be deleted.
type Candidates struct {
	What     What
	Works    []build.Work // directories of builds that have failed or were broken off
	Trees    []*store.Receipt
	Landings []landing.Remembered
	Logs     []Log
	Archives []source.Stored
	Damaged  []Aside
}

// An Aside is something that was moved aside because it was damaged.
type Aside struct {
	Path  string
	Size  int64
	Wrote time.Time
}

// A Log is the directory of the logs of a build without a tree.
type Log struct {
	store.Ref
	Size  int64
	Wrote time.Time
}

// Bytes is their size.
func (c Candidates) Bytes() int64 {
	total := c.ArchiveBytes()
	for _, w := range c.Works {
		total += w.Size
	}
	for _, t := range c.Trees {
		total += t.Size
	}
	for _, l := range c.Logs {
		total += l.Size
	}
	for _, d := range c.Damaged {
		total += d.Size
	}
	return total
}

// ArchiveBytes is the size of the archives among them.
func (c Candidates) ArchiveBytes() (total int64) {
	for _, a := range c.Archives {
		total += a.Size
	}
	return total
}

// Empty reports whether there is nothing to delete.
func (c Candidates) Empty() bool {
	return len(c.Works)+len(c.Trees)+len(c.Landings)+len(c.Logs)+len(c.Archives)+len(c.Damaged) == 0
}

// names reports whether a build is among the named ones.
func (w What) names(r store.Ref) bool {
	return len(w.Names) == 0 || slices.ContainsFunc(w.Names, func(n landing.Named) bool {
		return n.Fits(r, false) || n.ID == "" && n.String() == r.Name
	})
}

// fits reports whether something is as old and as large as requested.
func (w What) fits(now, since time.Time, size int64) bool {
	return now.Sub(since) >= w.Older && size >= w.Larger
}

// locked reports whether a given lock file needs a build.
func (w What) locked(r store.Ref) bool {
	return slices.ContainsFunc(w.Locks, func(f *lock.File) bool {
		return slices.ContainsFunc(f.Builds, func(b *lock.Build) bool { return b.Name == r.Name && b.ID == r.ID })
	})
}

// lockedArchive reports whether a given lock file needs an archive. If there is one, all
// repositories stay.
func (w What) lockedArchive(a source.Stored) bool {
	if len(w.Locks) > 0 && !strings.HasPrefix(filepath.Base(filepath.Dir(a.File)), "sha") {
		return filepath.Base(filepath.Dir(a.File)) != "partial"
	}
	return slices.ContainsFunc(w.Locks, func(f *lock.File) bool {
		return slices.ContainsFunc(f.Builds, func(b *lock.Build) bool {
			return slices.ContainsFunc(b.Source, func(text string) bool { return strings.HasSuffix(text, a.Stem) })
		})
	})
}

// archives are the digests of the archives of the named packages: of their recipes, and of their
// builds.
func (w What) archives(m *machine.Machine) (map[string]bool, error) {
	own := map[string]bool{}
	for _, n := range w.Names {
		if r, err := m.Shelves.Find(n.Name); err == nil {
			for _, release := range r.Releases {
				own[release.Digest.Hex] = true
			}
			for _, extra := range r.Extras {
				own[extra.Digest.Hex] = true
			}
		}
		receipts, err := m.Store.ReceiptsOf(n.Name)
		if err != nil {
			return nil, m.Store.Wrap(err)
		}
		for _, r := range receipts {
			for _, source := range r.Sources {
				own[source.Digest.Hex] = true
			}
		}
	}
	delete(own, "")
	return own, nil
}

// ArchivesOf finds the archives of packages, named as on a command line, except for those that
// builds of other packages use.
func ArchivesOf(m *machine.Machine, texts []string) (c Candidates, err error) {
	c.What.Archives = true
	if c.What.Names, err = landing.ParseNames(texts); err != nil {
		return c, err
	}
	own, err := c.What.archives(m)
	if err != nil {
		return c, err
	}
	receipts, err := m.Store.Receipts()
	if err != nil {
		return c, m.Store.Wrap(err)
	}
	for _, r := range receipts {
		if !c.What.names(r.Ref) {
			for _, source := range r.Sources {
				delete(own, source.Digest.Hex)
			}
		}
	}
	all, err := m.Archives.All()
	for _, a := range all {
		if own[a.Stem] {
			c.Archives = append(c.Archives, a)
		}
	}
	return c, m.Store.Wrap(err)
}

// Landings lists the earlier states of the landing with builds of packages, named as on a
// command line. Deleting the trees deletes these states.
func Landings(m *machine.Machine, texts []string) (numbers []int, err error) {
	states, err := landing.History(m.Store)
	if err != nil {
		return nil, err
	}
	names, err := landing.ParseNames(texts)
	if err != nil {
		return nil, err
	}
	var trees []*store.Receipt
	for _, name := range names {
		found, err := name.All(m.Store)
		if err == nil {
			trees = append(trees, found...)
		}
	}
	for _, x := range states {
		if !x.InUse && slices.ContainsFunc(trees, func(r *store.Receipt) bool { return x.Has(r.Ref) != nil }) {
			numbers = append(numbers, x.Number)
		}
	}
	return numbers, nil
}

// Find finds what can be deleted.
func Find(m *machine.Machine, what What) (Candidates, error) {
	c, now := Candidates{What: what}, m.Now()
	works, err := build.Works(m.Store)
	if err != nil {
		return c, err
	}
	for _, w := range works {
		if what.names(w.Ref) && what.fits(now, w.Touched, w.Size) {
			c.Works = append(c.Works, w)
		}
	}
	if len(what.Names) == 0 {
		c.findDamaged(m)
	}
	states, err := landing.History(m.Store)
	if err != nil {
		return c, err
	}
	if what.Landings {
		for _, x := range states {
			if !x.InUse && what.fits(now, x.Made, what.Larger) {
				c.Landings = append(c.Landings, x)
			}
		}
		states = slices.DeleteFunc(slices.Clone(states), func(x landing.Remembered) bool {
			return slices.ContainsFunc(c.Landings, func(y landing.Remembered) bool { return x.Number == y.Number })
		})
	}
	if what.Trees {
		receipts, err := m.Store.Receipts()
		if err != nil {
			return c, err
		}
		for _, r := range unused(receipts, states, what) {
			if what.fits(now, r.Began, r.Size) {
				c.Trees = append(c.Trees, r)
			}
		}
		c.Trees = standing(receipts, c.Trees)
	}
	if what.Logs {
		if err := c.findLogs(m); err != nil {
			return c, err
		}
	}
	if what.Archives {
		all, err := m.Archives.All()
		if err != nil {
			return c, m.Store.Wrap(err)
		}
		own, err := what.archives(m)
		if err != nil {
			return c, err
		}
		for _, a := range all {
			if what.fits(now, a.Wrote, a.Size) && !what.lockedArchive(a) && (len(what.Names) == 0 || own[a.Stem]) {
				c.Archives = append(c.Archives, a)
			}
		}
	}
	return c, nil
}

// findDamaged finds what was moved aside because it was damaged.
func (c *Candidates) findDamaged(m *machine.Machine) {
	entries, err := os.ReadDir(m.Store.Damaged())
	if err != nil {
		return // there is none
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			continue
		}
		a := Aside{Path: filepath.Join(m.Store.Damaged(), e.Name()), Size: info.Size(), Wrote: info.ModTime()}
		if e.IsDir() {
			a.Size = safefs.Size(a.Path)
		}
		if c.What.fits(m.Now(), a.Wrote, a.Size) {
			c.Damaged = append(c.Damaged, a)
		}
	}
}

// findLogs finds the logs of builds without a tree and without a work directory.
func (c *Candidates) findLogs(m *machine.Machine) error {
	logged, err := m.Store.AllLogged()
	if err != nil {
		return err
	}
	for _, l := range logged {
		_, working := os.Lstat(m.Store.Work(l.Ref))
		if !c.What.names(l.Ref) || m.Store.Installed(l.Ref) ||
			working == nil && !slices.ContainsFunc(c.Works, func(w build.Work) bool { return w.Ref == l.Ref }) {
			continue
		}
		if size := safefs.Size(m.Store.Logs(l.Ref)); c.What.fits(m.Now(), l.Wrote, size) {
			c.Logs = append(c.Logs, Log{l.Ref, size, l.Wrote})
		}
	}
	return nil
}

// unused lists the trees that nothing locked and nothing on a state of the landing depends on,
// at run time or at build time.
func unused(receipts []*store.Receipt, states []landing.Remembered, what What) []*store.Receipt {
	byRef := map[store.Ref]*store.Receipt{}
	for _, r := range receipts {
		byRef[r.Ref] = r
	}
	used := map[store.Ref]bool{}
	var use func(r store.Ref)
	use = func(r store.Ref) {
		if used[r] || byRef[r] == nil {
			return
		}
		used[r] = true
		for _, need := range byRef[r].Needs {
			use(need.Ref)
		}
	}
	for r := range landing.Used(states) {
		use(r)
	}
	for _, r := range receipts { // a named tree stays if others need it
		if what.locked(r.Ref) ||
			len(what.Names) > 0 && !slices.ContainsFunc(what.Names, func(n landing.Named) bool { return n.FitsReceipt(r) }) {
			use(r.Ref)
		}
	}
	return slices.DeleteFunc(slices.Clone(receipts), func(r *store.Receipt) bool { return used[r.Ref] })
}

// standing leaves out trees that others depend on which stay because they are too young or too
// small.
func standing(all, doomed []*store.Receipt) []*store.Receipt {
	for {
		by := map[store.Ref]bool{}
		for _, r := range all {
			if !slices.Contains(doomed, r) {
				for _, need := range r.Needs {
					by[need.Ref] = true
				}
			}
		}
		left := slices.DeleteFunc(slices.Clone(doomed), func(r *store.Receipt) bool { return by[r.Ref] })
		if len(left) == len(doomed) {
			return left
		}
		doomed = left
	}
}
