package depot

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"fernladder/core/safefs"
	"fernladder/core/source"
	"fernladder/core/store"
)

// epoch is the time of everything in a tree's archive: the same files make the same bytes.
var epoch = time.Unix(0, 0)

// writeTree writes the tar archive of a tree: its files, then the list of them, and licences. A
// file that is not as it was built is an error.
func writeTree(ctx context.Context, s *store.Store, r *store.Receipt, files []store.File, to io.Writer) error {
	tree, err := safefs.OpenDir(s.Tree(r.Ref))
	if err != nil {
		return s.Gone(r.Ref, err)
	}
	defer tree.Close()
	w := &treeWriter{ctx: ctx, tree: tree, tar: tar.NewWriter(to), first: map[[2]uint64]string{}, digests: newDigests()}
	defer w.digests.close()
	for _, f := range files {
		if err := w.file(f); err != nil {
			return err
		}
	}
	for _, name := range ownFiles(r) {
		info, err := tree.Lstat(name)
		if err != nil {
			return err
		}
		if err := w.file(store.File{Path: name, Mode: 0o644, Size: info.Size}); err != nil {
			return err
		}
	}
	if name := w.digests.close(); name != "" {
		return w.changed(name)
	}
	return w.tar.Close()
}

// ownFiles are the tree's own records that are passed on with it; the receipt is not in the archive.
func ownFiles(r *store.Receipt) []string {
	names := []string{store.FilesName}
	for _, l := range r.Licences {
		names = append(names, l.Path())
	}
	return names
}

type treeWriter struct {
	ctx     context.Context
	tree    *safefs.Dir
	tar     *tar.Writer
	first   map[[2]uint64]string // names of files with several
	digests *digests
}

func (w *treeWriter) changed(name string) error {
	return fmt.Errorf("%s is not as it was built", filepath.Join(w.tree.Path(), name))
}

func (w *treeWriter) file(f store.File) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	h := &tar.Header{Name: f.Path, Mode: int64(f.Mode.Perm()), ModTime: epoch, Typeflag: tar.TypeReg}
	switch {
	case f.Mode.IsDir():
		h.Name, h.Typeflag = f.Path+"/", tar.TypeDir
		return w.tar.WriteHeader(h)
	case f.Mode&fs.ModeSymlink != 0:
		h.Linkname, h.Typeflag, h.Mode = f.Target, tar.TypeSymlink, 0o777
		return w.tar.WriteHeader(h)
	}
	in, err := w.tree.Open(f.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := w.tree.Lstat(f.Path)
	if err != nil {
		return err
	}
	if inode := [2]uint64{info.Device, info.Inode}; info.Links > 1 {
		if first, written := w.first[inode]; written {
			h.Linkname, h.Typeflag = first, tar.TypeLink
			return w.tar.WriteHeader(h)
		}
		w.first[inode] = f.Path
	}
	h.Size = f.Size
	if err := w.tar.WriteHeader(h); err != nil {
		return err
	}
	for left := f.Size; left > 0; {
		buffer := w.digests.buffer()
		n, err := in.Read(buffer[:min(int64(len(buffer)), left)])
		if n == 0 && err == io.EOF {
			return w.changed(f.Path)
		}
		if n == 0 && err != nil {
			return err
		}
		left -= int64(n)
		if _, err := w.tar.Write(buffer[:n]); err != nil {
			return err
		}
		w.digests.add(buffer, n)
	}
	w.digests.end(f)
	return nil
}

// Leads says why a link of a tree cannot be passed on; "" if it can. It may lead to files of its
// own tree, of trees that the build needs, of the root's configuration and state, and of the
// operating system.
func Leads(s *store.Store, tree string, needs []store.Link, name, target string) string {
	at := target
	if !filepath.IsAbs(target) {
		at = filepath.Join(tree, path.Dir(name), target)
	}
	places := []string{tree, filepath.Join(s.Root, "config"), filepath.Join(s.Root, "state"),
		filepath.Join(s.Root, "landing"), "/usr", "/lib", "/lib64", "/bin", "/sbin", "/etc", "/dev/null", "/var/lib", "/run",
		"/var/run"}
	for _, n := range needs {
		places = append(places, s.Tree(n.Ref))
	}
	if slices.ContainsFunc(places, func(dir string) bool {
		return filepath.Clean(at) == dir || strings.HasPrefix(filepath.Clean(at), dir+"/")
	}) {
		return ""
	}
	return fmt.Sprintf("%s is a link to %.200s, which is neither in the tree nor in what it needs", name, target)
}

// Unpack unpacks the fetched tree of an offer into an empty directory. Devices and the like are
// refused, and so are setuid bits, and write permission for others.
func (o *Offer) Unpack(ctx context.Context, dir string, limits source.Limits,
	link func(name, target string) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	from, to := io.Pipe()
	defer from.Close()
	go func() { to.CloseWithError(o.unpackBlobs(ctx, to)) }()
	_, err := source.UnpackTree(ctx, o.Ref.Name+" from the depot "+o.Depot.Name, from, dir, limits, link)
	var damaged *source.UnpackError
	if errors.As(err, &damaged) {
		at := ""
		if damaged.Entry != "" {
			at = fmt.Sprintf("entry %.200q ", damaged.Entry)
		}
		return o.Depot.fault(o.Ref, "its tree cannot be unpacked: %s%v", at, damaged.Err)
	}
	return err
}

// unpackBlobs writes the contents of the layers, one after another.
func (o *Offer) unpackBlobs(ctx context.Context, to io.Writer) error {
	decoder, err := zstd.NewReader(nil, zstd.WithDecoderMaxWindow(largestBlob), zstd.WithDecoderConcurrency(2))
	if err != nil {
		return err
	}
	defer decoder.Close()
	buffer := make([]byte, 256<<10)
	for _, l := range o.Layers {
		wanted := source.Wanted{Package: o.Ref.Name, Version: o.Ref.Version, URLs: []string{o.Depot.place.url(l.Digest)},
			Digest: sha256Of(l.Digest)}
		err := o.Depot.archives.Use(ctx, wanted, func(file string) error {
			f, err := safefs.Open(file)
			if err != nil {
				return err
			}
			defer f.Close()
			if err := decoder.Reset(f); err != nil {
				return err
			}
			_, err = io.CopyBuffer(to, struct{ io.Reader }{decoder}, buffer)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}
