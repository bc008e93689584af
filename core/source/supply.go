package source

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"fernladder/core/durable"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// Supplies are the files that administrators supplied, by digest. They are kept apart from
// archives, because they must not be redistributed.
type Supplies struct{ Dir string }

// Path is the path of a supply, which need not exist.
func (s Supplies) Path(d recipe.Digest) string { return filepath.Join(s.Dir, d.Algorithm, d.Hex) }

// Has reports whether a supply is stored.
func (s Supplies) Has(d recipe.Digest) bool {
	info, err := os.Stat(s.Path(d))
	return err == nil && info.Mode().IsRegular()
}

// Add copies a file that is one of the wanted supplies or, from a folder, all files with the
// name and digest of one, and returns which. Its error is a *WrongSupply, or a *StoreError.
func (s Supplies) Add(ctx context.Context, file string, wanted []*recipe.Supply) (all []*recipe.Supply, err error) {
	dir, err := safefs.OpenDir(file)
	if err != nil {
		one, err := s.add(ctx, file, wanted)
		return []*recipe.Supply{one}, err
	}
	defer dir.Close()
	const most = 100_000
	met := 0
	err = dir.Walk(true, func(e safefs.Entry) error {
		if met++; met > most {
			return fmt.Errorf("%s has more than %d files; name the file", file, most)
		}
		if i := slices.IndexFunc(wanted, func(w *recipe.Supply) bool { return w.File == path.Base(e.Name) }); i >= 0 &&
			e.Mode.IsRegular() {
			one, err := s.add(ctx, filepath.Join(file, e.Name), wanted[i:i+1])
			if errors.As(err, new(*WrongSupply)) {
				return nil // another file may have the name and the digest
			}
			all = append(all, one)
			return err
		}
		return nil
	})
	if err == nil && len(all) == 0 {
		return nil, fmt.Errorf("no file in %s has the name and the digest of a supply", file)
	}
	return all, err
}

func (s Supplies) add(ctx context.Context, file string, wanted []*recipe.Supply) (*recipe.Supply, error) {
	digests := map[recipe.Digest]bool{}
	for _, algorithm := range []string{"sha256", "sha512"} {
		d, err := digestFile(ctx, file, algorithm)
		if err != nil {
			return nil, err
		}
		digests[d] = true
	}
	for _, w := range wanted {
		if !digests[w.Digest] {
			continue
		}
		if s.Has(w.Digest) {
			return w, nil
		}
		return w, s.copy(file, w.Digest)
	}
	e := &WrongSupply{File: file, Wanted: wanted}
	for d := range digests {
		if d.Algorithm == "sha256" {
			e.Got = d
		}
	}
	return nil, e
}

// copy copies the file into the store, and verifies its digest again while it does.
func (s Supplies) copy(file string, d recipe.Digest) error {
	in, err := safefs.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := os.MkdirAll(filepath.Dir(s.Path(d)), 0o777); err != nil {
		return &StoreError{err}
	}
	// Only builds read it; if a group may install, also those of the group.
	mode := fs.FileMode(0o400)
	if info, err := os.Stat(filepath.Dir(s.Path(d))); err == nil && info.Mode().Perm()&0o020 != 0 {
		mode = 0o440
	}
	changed := fmt.Errorf("%s changed while it was read", file)
	err = durable.Stream(s.Path(d), mode, func(out io.Writer) error {
		h := newHash(d.Algorithm)
		if _, err := io.Copy(io.MultiWriter(out, h), in); err != nil {
			return err
		}
		if hex.EncodeToString(h.Sum(nil)) != d.Hex {
			return changed
		}
		return nil
	})
	if err != nil && !errors.Is(err, changed) {
		return &StoreError{err}
	}
	return err
}

func digestFile(ctx context.Context, file, algorithm string) (recipe.Digest, error) {
	f, err := safefs.Open(file)
	if err != nil {
		return recipe.Digest{}, err
	}
	defer f.Close()
	h := newHash(algorithm)
	if _, err := io.Copy(h, bound{ctx, f}); err != nil {
		return recipe.Digest{}, err
	}
	return recipe.Digest{Algorithm: algorithm, Hex: hex.EncodeToString(h.Sum(nil))}, nil
}

// WrongSupply is the error for a file that no recipe wants.
type WrongSupply struct {
	File   string
	Got    recipe.Digest
	Wanted []*recipe.Supply
}

func (e *WrongSupply) Error() string {
	text := fmt.Sprintf("%s is not a file that the recipe asks for; its %s is %s", e.File, e.Got.Algorithm, e.Got.Hex)
	for _, w := range e.Wanted {
		text += fmt.Sprintf("\n    %s has the %s %s (%s)", w.File, w.Digest.Algorithm, w.Digest.Hex, w.Position)
	}
	return text
}

// MissingSupply is a supply that a ladder needs and that is not stored.
type MissingSupply struct {
	Package string         `json:"package"`
	Supply  *recipe.Supply `json:"-"`
}

// MissingSupplies is the error for a ladder that lacks supplies.
type MissingSupplies []MissingSupply

func (e MissingSupplies) Error() string {
	text := "These files cannot be downloaded, and have to be supplied:"
	for _, m := range e {
		text += fmt.Sprintf("\n    %s, for %s: %s (%s)", m.Supply.File, m.Package, m.Supply.About, m.Supply.Position)
	}
	return text
}

// Lay copies supplies into a directory, under the names that builds expect.
func (s Supplies) Lay(ctx context.Context, supplies []*recipe.Supply, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, supply := range supplies {
		if err := s.lay(ctx, supply, filepath.Join(dir, supply.File)); err != nil {
			return err
		}
	}
	return nil
}

func (s Supplies) lay(ctx context.Context, supply *recipe.Supply, file string) error {
	in, err := safefs.Open(s.Path(supply.Digest))
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	h := newHash(supply.Digest.Algorithm)
	_, err = io.Copy(io.MultiWriter(out, h), bound{ctx, in})
	if err = errors.Join(err, out.Close()); err == nil && hex.EncodeToString(h.Sum(nil)) != supply.Digest.Hex {
		err = fmt.Errorf("%s is damaged; supply %s again", in.Name(), supply.File)
	}
	return err
}

// ProblemKind is the kind of the error.
func (e MissingSupplies) ProblemKind() problem.Kind { return problem.Fetch }

// ProblemKind is the kind of the error.
func (e *WrongSupply) ProblemKind() problem.Kind { return problem.Fetch }

// ProblemRemedies are to supply the files of each package.
func (e MissingSupplies) ProblemRemedies() []problem.Remedy {
	var all []problem.Remedy
	for _, s := range e {
		if !slices.ContainsFunc(all, func(r problem.Remedy) bool { return r.Args[0] == s.Package }) {
			all = append(all, problem.Do(problem.SupplyFile, s.Package))
		}
	}
	return all
}
