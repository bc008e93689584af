package sbom

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime"

	"golang.org/x/sync/errgroup"

	"fernladder/core/safefs"
	"fernladder/core/store"
)

// Gather returns builds and all that they need, directly or not. Of needs whose trees are gone,
// only the names are known.
func Gather(s *store.Store, roots []*store.Receipt) ([]*Part, error) {
	var all []*Part
	known := map[store.Ref]bool{}
	for _, r := range roots {
		if !known[r.Ref] {
			known[r.Ref] = true
			all = append(all, &Part{Receipt: r, Root: true})
		}
	}
	for i := 0; i < len(all); i++ {
		for _, need := range all[i].Needs {
			if known[need.Ref] {
				continue
			}
			known[need.Ref] = true
			r, err := s.Receipt(need.Ref)
			if errors.Is(err, fs.ErrNotExist) {
				r, err = &store.Receipt{Ref: need.Ref}, nil
			}
			if err != nil {
				return nil, err
			}
			all = append(all, &Part{Receipt: r})
		}
	}
	return all, nil
}

// Changed is the problem of a file that is not as it was built.
type Changed struct{ Path string }

func (e *Changed) Error() string { return e.Path + " is not as it was built" }

// AddFiles reads the files of builds, several builds at once, and adds their digests. A file
// that was changed is an error, of type *Changed.
func AddFiles(ctx context.Context, s *store.Store, parts []*Part) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, p := range parts {
		if p.Tree != "" {
			group.Go(func() error { return p.addFiles(ctx, s) })
		}
	}
	return group.Wait()
}

func (p *Part) addFiles(ctx context.Context, s *store.Store) error {
	files, err := s.Files(p.Ref)
	if err != nil {
		return err
	}
	dir, err := safefs.OpenDir(s.Tree(p.Ref))
	if err != nil {
		return s.Gone(p.Ref, err)
	}
	defer dir.Close()
	first, second := sha1.New(), sha256.New()
	buffer := make([]byte, 128<<10)
	for _, f := range files {
		if !f.Mode.IsRegular() {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		file, err := dir.Open(f.Path)
		if err != nil {
			return s.Gone(p.Ref, err)
		}
		first.Reset()
		second.Reset()
		_, err = io.CopyBuffer(io.MultiWriter(first, second), onlyReader{file}, buffer)
		file.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		sum := hex.EncodeToString(second.Sum(nil))
		if sum != f.SHA256 {
			return &Changed{s.Tree(p.Ref) + "/" + f.Path}
		}
		p.Files = append(p.Files, File{f.Path, hex.EncodeToString(first.Sum(nil)), sum})
	}
	return nil
}

// onlyReader hides the file's own way of copying.
type onlyReader struct{ io.Reader }
