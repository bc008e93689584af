package advisory

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"fernladder/core/durable"
	"fernladder/core/filelock"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/settings"
	"fernladder/core/source"
)

// A Keeper keeps copies of databases, and what is known of them, in a directory:
//
//	ID/a, ID/b       the copy of what a URL has, and the next one
//	ID/state.json    which of them counts; the newest entry that was ever seen
//	ID/index         where its entries are: a cache
//	ID/lock
type Keeper struct {
	Dir      string
	Archives *source.Archives
	Waiting  func() // is called when another process renews the same database
	ReadOnly bool   // nothing is written, not even a lock; then Renew is not called

	held []func()
}

// Older is the code of the problem that a database is older than it was seen before.
const Older problem.Code = "older_advisories"

// state is what is remembered of a database.
type state struct {
	File      string `json:"file,omitempty"`      // a or b
	Validator string `json:"validator,omitempty"` // of the server
	Newest    string `json:"newest,omitempty"`
	Signed    string `json:"signed,omitempty"` // by whom
}

// place is the name of the directory of a database, and the name that people see.
func place(d *settings.Advisories) (id, name string) {
	name = d.Path
	if d.URL != "" {
		name = source.Redacted(d.URL)
	}
	sum := blake3.Sum256([]byte(d.URL + "\x00" + d.Path))
	return hex.EncodeToString(sum[:10]), name
}

// Source is the database as it is here. Nothing is fetched. Its error is fs.ErrNotExist if it
// was never fetched.
func (k *Keeper) Source(d *settings.Advisories) (Source, error) {
	id, name := place(d)
	s := Source{Name: name, Path: d.Path, Index: filepath.Join(k.Dir, id, "index"), Keep: !k.ReadOnly}
	if d.URL != "" {
		known, err := k.state(id)
		if err == nil && known.File == "" {
			err = fs.ErrNotExist
		}
		if err != nil {
			return s, err
		}
		s.Path = filepath.Join(k.Dir, id, known.File)
	}
	return s, nil
}

// Use is Source, and keeps other processes from replacing the copy until Close is called, unless
// the keeper is read-only.
func (k *Keeper) Use(ctx context.Context, d *settings.Advisories) (Source, error) {
	s, err := k.Source(d)
	if err != nil || d.URL == "" || k.ReadOnly {
		return s, err
	}
	unlock, err := filelock.Shared(ctx, filepath.Join(filepath.Dir(s.Index), "lock"), k.Waiting)
	if err != nil {
		return s, err
	}
	k.held = append(k.held, unlock)
	return k.Source(d) // it may have been replaced before
}

// Close lets other processes replace the copies.
func (k *Keeper) Close() {
	for _, unlock := range k.held {
		unlock()
	}
	k.held = nil
}

func (k *Keeper) state(id string) (s state, err error) {
	file := filepath.Join(k.Dir, id, "state.json")
	data, err := safefs.ReadFile(file, 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &s)
	}
	if err != nil {
		return state{}, problem.New(problem.Root, file, "%s cannot be read: %v; which database was seen last is unknown",
			file, err).Remedy(problem.AcceptOlder)
	}
	if s.File != "a" && s.File != "b" {
		s.File = ""
	}
	return s, nil
}

// Renew fetches a database if the server has a newer one, verifies its signature, and takes it
// if it is not older than the one before, or if older is allowed. A database on this machine is
// only compared with what was seen before. It returns whether anything is new.
func (k *Keeper) Renew(ctx context.Context, d *settings.Advisories, older bool) (bool, error) {
	id, name := place(d)
	dir := filepath.Join(k.Dir, id)
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return false, &source.StoreError{Err: err}
	}
	unlock, err := filelock.Exclusive(ctx, filepath.Join(dir, "lock"), k.Waiting)
	if err != nil {
		return false, err
	}
	defer unlock()
	known, err := k.state(id)
	if err != nil && !older {
		return false, err
	}
	next := known
	path := d.Path
	if d.URL != "" {
		if next.File = "a"; known.File == "a" {
			next.File = "b"
		}
		path = filepath.Join(dir, next.File)
		next.Validator, err = k.Archives.Renew(ctx, d.URL, path, known.Validator)
		if errors.Is(err, source.ErrUnchanged) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		if len(d.Signature) > 0 {
			files := make([]safefs.File, len(d.Keys))
			for i, key := range d.Keys {
				files[i] = safefs.File{Dir: filepath.Dir(key), Name: filepath.Base(key)}
			}
			good, err := k.Archives.VerifyFile(ctx, path, d.Signature, files)
			if err != nil {
				return false, errors.Join(problem.New(problem.Fetch, name, "%s is not used: %v", name, err), os.Remove(path))
			}
			next.Signed = good.String()
		}
	}
	index, err := openIndex(ctx, &database{path}, filepath.Join(dir, "index"), true)
	if err != nil {
		return false, &Unreadable{name, err}
	}
	newest := index.head.Newest
	index.close()
	if newest < known.Newest && !older {
		if d.URL != "" {
			os.Remove(path)
		}
		return false, problem.New(problem.Fetch, name, "%s is older than before: its latest change is of %s, and %s was "+
			"seen", name, orNothing(newest), known.Newest).Coded(Older).Remedy(problem.AcceptOlder)
	}
	next.Newest = newest
	if next == known {
		return false, nil
	}
	data, err := json.Marshal(next)
	if err == nil {
		err = durable.WriteFile(filepath.Join(dir, "state.json"), append(data, '\n'), 0o644)
	}
	if err != nil {
		return false, &source.StoreError{Err: err}
	}
	if d.URL != "" && known.File != "" && known.File != next.File {
		os.Remove(filepath.Join(dir, known.File))
	}
	return true, nil
}

func orNothing(text string) string {
	if text == "" {
		return "an unknown time"
	}
	return text
}

// ProblemKind is the kind.
func (e *Unreadable) ProblemKind() problem.Kind { return problem.Fetch }
