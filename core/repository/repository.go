// Package repository keeps repositories of packages in directories: for apt, for dnf, or
// both. Any web server can serve one, and a path can name it.
//
// It promises that who reads a repository finds the one before a change or the one after
// it, and that a program that is killed at any instant leaves one of them. What is
// published is a directory of its own, and one rename brings it into use:
//
//	DIR/dists, DIR/repodata    links into .fernladder-repository/current
//	DIR/pool/                  the packages
//	DIR/NAME.asc               the key that it is signed with, for those who check: such a link, too
//	DIR/.fernladder-repository/
//	  current -> states/12
//	  states/12/               dists, repodata, NAME.asc, and index.jsonl, a line for each package
//	  lock
//
// What the state before has stays until the next change, for those who are reading it. The
// cost of a change does not grow with what is there, except for the index, which is read and
// written. A directory that is a repository of other software is not changed.
package repository

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"

	"fernladder/core/durable"
	"fernladder/core/filelock"
	"fernladder/core/ospackage"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/signature"
)

// own is the directory that marks a directory as a repository of ours.
const own = ".fernladder-repository"

// served are the names by which readers find what is published, each a link.
func (r *Repository) served(entries []Entry) []string {
	names := []string{filepath.Base(r.keyFile())}
	for name, f := range map[string]ospackage.Format{"dists": ospackage.Deb, "repodata": ospackage.RPM} {
		if slices.ContainsFunc(entries, func(e Entry) bool { return e.Format == f }) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// A Repository is a directory of packages.
type Repository struct {
	Dir  string // absolute
	Name string // in published files and their names: vale
	Now  func() time.Time

	Valid time.Duration // validity of what is published for apt; 0: forever

	// AnotherKey allows another key than the one that the repository has been signed with. Other
	// machines only trust that.
	AnotherKey bool

	Waiting func() // called where another process changes it first
}

// An Entry is a package of a repository.
type Entry struct {
	Format  ospackage.Format `json:"format"`
	Suite   string           `json:"suite,omitempty"` // of apt's
	Name    string           `json:"name"`
	Version string           `json:"version"` // whole
	Arch    string           `json:"arch"`    // as the format calls it
	File    string           `json:"file"`    // below the directory
	Size    int64            `json:"size"`
	SHA256  string           `json:"sha256"`
	MD5     string           `json:"md5,omitempty"`
	Needs   []string         `json:"needs,omitempty"`  // names of packages
	Signer  string           `json:"signer,omitempty"` // of a .rpm, by fingerprint

	Control   string `json:"control,omitempty"` // of a .deb
	Primary   string `json:"primary,omitempty"` // of a .rpm, in XML
	Filelists string `json:"filelists,omitempty"`
	Other     string `json:"other,omitempty"`
}

var nameForm = pattern.New(`^[a-z0-9][a-z0-9.-]*$`)

// ours refuses a directory that another user can write to, because its contents could lead
// anywhere, and one that is not a repository of ours and has entries with the names of ours.
func (r *Repository) ours() error {
	for _, dir := range []string{r.Dir, filepath.Join(r.Dir, own), filepath.Join(r.Dir, own, "states"),
		filepath.Join(r.Dir, "pool")} {
		info, err := os.Lstat(dir)
		if dir == r.Dir {
			info, err = os.Stat(dir)
		}
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if uid := int(info.Sys().(*syscall.Stat_t).Uid); !info.IsDir() || uid != 0 && uid != os.Geteuid() {
			return foreign(dir, "belongs to another user, or is not a directory; nothing is written there")
		}
		if info.Mode()&0o022 != 0 {
			return foreign(dir,
				fmt.Sprintf("is writable for others (mode %04o), who could redirect what is written there; chmod go-w it",
					info.Mode().Perm()))
		}
	}
	if _, err := os.Lstat(filepath.Join(r.Dir, own)); err == nil {
		return nil
	}
	for _, name := range []string{"dists", "repodata", "pool", "Packages", "Release", "InRelease", r.Name + ".asc"} {
		if _, err := os.Lstat(filepath.Join(r.Dir, name)); err == nil {
			return foreign(r.Dir, fmt.Sprintf("has %s, which Fern Ladder did not make; nothing is changed", name))
		}
	}
	return nil
}

// Entries are the packages of the state in use.
func (r *Repository) Entries() ([]Entry, error) {
	entries, _, err := r.inUse()
	return entries, err
}

// inUse reads the state in use, and its number. It is an error if there is none.
func (r *Repository) inUse() ([]Entry, int, error) {
	entries, number, err := r.read()
	if err == nil && number == 0 {
		err = problem.New(problem.Other, r.Dir, "%s is not a repository that Fern Ladder has made", r.Dir)
	}
	return entries, number, err
}

// read reads the state in use, and its number: none, and 0, before the first.
func (r *Repository) read() ([]Entry, int, error) {
	target, err := os.Readlink(filepath.Join(r.Dir, own, "current"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	number, err := strconv.Atoi(filepath.Base(target))
	if err != nil {
		return nil, 0, fmt.Errorf("%s leads to %s, which is not one of its states",
			filepath.Join(r.Dir, own, "current"), target)
	}
	entries, err := r.index(number)
	return entries, number, err
}

func (r *Repository) state(number int) string {
	return filepath.Join(r.Dir, own, "states", strconv.Itoa(number))
}

func (r *Repository) index(number int) (entries []Entry, err error) {
	f, err := safefs.Open(filepath.Join(r.state(number), "index.jsonl"))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 64<<20)
	for lines.Scan() {
		var e Entry
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return nil, fmt.Errorf("%s is damaged: %w", f.Name(), err)
		}
		entries = append(entries, e)
	}
	return entries, lines.Err()
}

// Change makes new packages from the existing ones, and publishes them. The files of new ones
// are in the pool. It waits for other changes of the repository.
func (r *Repository) Change(ctx context.Context, key signature.Key, change func([]Entry) ([]Entry, error)) error {
	if !nameForm.MatchString(r.Name) {
		return badName(r.Name)
	}
	if err := r.ours(); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(r.Dir, own, "states"), 0o755); err != nil {
		return err
	}
	unlock, err := filelock.Exclusive(ctx, filepath.Join(r.Dir, own, "lock"), r.Waiting)
	if err != nil {
		return err
	}
	defer unlock()
	before, number, err := r.read()
	if err != nil {
		return err
	}
	if err := r.sweep(number); err != nil {
		return err
	}
	if err := durable.Note(r.changing(), nil, 0o644); err != nil {
		return err
	}
	after, err := change(slices.Clone(before))
	if err == nil && number > 0 && !r.AnotherKey {
		err = r.sameKey(key)
	}
	if err == nil {
		slices.SortFunc(after, compareEntries)
		err = r.publish(number+1, number, after, key)
	}
	if err != nil {
		return errors.Join(err, r.sweep(number))
	}
	if err := r.bringIn(number+1, after); err != nil {
		return err
	}
	if err := r.clear(number, before, after); err != nil {
		return err
	}
	return os.Remove(r.changing())
}

// sameKey refuses another key than the one beside the packages.
func (r *Repository) sameKey(key signature.Key) error {
	ring, err := r.public()
	if err != nil ||
		slices.ContainsFunc(ring, func(e *openpgp.Entity) bool { return fingerprint(e) == key.Fingerprint() }) {
		return nil // damaged files are written again
	}
	return problem.New(problem.Other, r.Name, "the repository is signed with the key %s, and this key is %s",
		fingerprint(ring[0]), key.Fingerprint()).
		Instead(fingerprint(ring[0]), key.Fingerprint()).Remedy(problem.ReplaceKey)
}

// changing is a file that exists while the repository is being changed.
func (r *Repository) changing() string { return filepath.Join(r.Dir, own, "changing") }

func compareEntries(a, b Entry) int {
	if c := strings.Compare(string(a.Format)+a.Suite+" "+a.Name, string(b.Format)+b.Suite+" "+b.Name); c != 0 {
		return c
	}
	if c := ospackage.CompareWhole(a.Format, b.Version, a.Version); c != 0 {
		return c
	}
	return strings.Compare(a.File, b.File)
}

// sweep deletes what an interrupted change left: states that were never in use, and packages
// without a state.
func (r *Repository) sweep(current int) error {
	if _, err := os.Lstat(r.changing()); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	states, err := os.ReadDir(filepath.Join(r.Dir, own, "states"))
	if err != nil {
		return err
	}
	for _, s := range states {
		if n, err := strconv.Atoi(s.Name()); err != nil || n > current {
			if err := os.RemoveAll(filepath.Join(r.Dir, own, "states", s.Name())); err != nil {
				return err
			}
		}
	}
	known := map[string]bool{}
	for _, n := range []int{current, current - 1} {
		entries, err := r.index(n)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, e := range entries {
			known[e.File] = true
		}
	}
	files, err := filepath.Glob(filepath.Join(r.Dir, "pool", "*", "*"))
	if err != nil {
		return err
	}
	hidden, err := filepath.Glob(filepath.Join(r.Dir, "pool", "*", ".new-*"))
	if err != nil {
		return err
	}
	for _, file := range append(files, hidden...) {
		if below, err := filepath.Rel(r.Dir, file); err == nil && !known[below] {
			if err := os.Remove(file); err != nil {
				return err
			}
			os.Remove(filepath.Dir(file)) // if it is empty
		}
	}
	return os.Remove(r.changing())
}

// publish writes a state: everything in it, synced, and not in use yet.
func (r *Repository) publish(number, before int, entries []Entry, key signature.Key) error {
	dir := r.state(number)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var index strings.Builder
	encoder := json.NewEncoder(&index)
	encoder.SetEscapeHTML(false)
	for _, e := range entries {
		if err := encoder.Encode(e); err != nil {
			return err
		}
	}
	if err := durable.WriteFile(filepath.Join(dir, "index.jsonl"), []byte(index.String()), 0o644); err != nil {
		return err
	}
	old := ""
	if before > 0 {
		old = r.state(before)
	}
	public, err := key.Public()
	if err == nil {
		err = durable.WriteFile(filepath.Join(dir, filepath.Base(r.keyFile())), public, 0o644)
	}
	if err != nil {
		return err
	}
	if err := r.publishApt(dir, old, entries, key); err != nil {
		return err
	}
	if err := r.publishDNF(dir, old, number, entries, key); err != nil {
		return err
	}
	if old == "" {
		return nil
	}
	return later(dir, old)
}

// later makes the files of a state newer than those of the previous one by at least a second.
// Web servers and their clients detect changes by whole seconds.
func later(dir, old string) error {
	before, err := os.Stat(filepath.Join(old, "index.jsonl"))
	if err != nil {
		return err
	}
	now, err := os.Stat(filepath.Join(dir, "index.jsonl"))
	if err != nil {
		return err
	}
	when := before.ModTime().Truncate(time.Second).Add(time.Second)
	if !now.ModTime().Before(when) {
		return nil
	}
	return filepath.WalkDir(dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		return os.Chtimes(file, when, when)
	})
}

// bringIn puts a state into use, by one rename. The links that readers follow exist before, and
// lead nowhere until then.
func (r *Repository) bringIn(number int, entries []Entry) error {
	for _, name := range r.served(entries) {
		link := filepath.Join(r.Dir, name)
		target := filepath.Join(own, "current", name)
		was, err := os.Readlink(link)
		switch {
		case err == nil && was == target:
		case err == nil || errors.Is(err, fs.ErrNotExist) ||
			link == r.keyFile() && safefs.Exists(link): // the key has been a file
			if err := durable.Symlink(target, link); err != nil {
				return err
			}
		default:
			return foreign(link, "is not the link to what is published; move it aside")
		}
	}
	return durable.Symlink(filepath.Join("states", strconv.Itoa(number)), filepath.Join(r.Dir, own, "current"))
}

// clear deletes states older than the previous one, and packages that neither it nor the one in
// use has.
func (r *Repository) clear(before int, old, now []Entry) error {
	states, err := os.ReadDir(filepath.Join(r.Dir, own, "states"))
	if err != nil {
		return err
	}
	keep := map[string]bool{}
	for _, e := range slices.Concat(old, now) {
		keep[e.File] = true
	}
	for _, s := range states {
		n, err := strconv.Atoi(s.Name())
		if err != nil || n >= before {
			continue
		}
		gone, err := r.index(n)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, e := range gone {
			if !keep[e.File] && filepath.IsLocal(e.File) {
				if err := os.Remove(filepath.Join(r.Dir, e.File)); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
				os.Remove(filepath.Dir(filepath.Join(r.Dir, e.File))) // if it is empty
			}
		}
		if err := os.RemoveAll(r.state(n)); err != nil {
			return err
		}
	}
	return nil
}

// foreign is the problem of a directory that is another program's repository, or that another
// user can write to.
func foreign(dir, why string) error { return problem.New(problem.Other, dir, "%s %s", dir, why) }

func badName(name string) error {
	return problem.New(problem.Other, name,
		"%q cannot be the name of a repository or a suite: use lower-case letters, digits and . -", name).
		Remedy(problem.NameRepository)
}
