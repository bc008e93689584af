package depot

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"fernladder/core/durable"
	"fernladder/core/filelock"
	"fernladder/core/safefs"
)

// A layout is a directory in the OCI image layout: blobs/sha256/HEX, and index.json with the
// descriptors of the manifests that have tags. The referrers of a manifest are an index with the
// tag sha256-HEX, as in registries without a list of referrers. Whoever changes index.json holds
// the lock of the file "lock".
//
// Other users may be able to write there: files are read and written below the opened directory,
// without following links.
type layout struct{ dir string }

const (
	lockName      = "lock"
	largestIndex  = 64 << 20
	abandonedBlob = 24 * time.Hour // a blob that no manifest names, and that no running share has just put there
)

func (l layout) open() (*safefs.Dir, error) {
	dir, err := filepath.EvalSymlinks(l.dir)
	if err == nil {
		var d *safefs.Dir
		if d, err = safefs.OpenDir(dir); err == nil {
			return d, nil
		}
	}
	return nil, &noDirectory{l.dir}
}

// noDirectory is the problem of a directory that is not there, such as one of a stick.
type noDirectory struct{ dir string }

func (e *noDirectory) Error() string { return "there is no directory " + e.dir }

// read reads a file of the layout; errNone if it does not exist.
func (l layout) read(name string, most int64) ([]byte, error) {
	d, err := l.open()
	if err != nil {
		return nil, err
	}
	defer d.Close()
	data, err := d.ReadFile(name, most)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errNone
	}
	return data, err
}

func (l layout) index() (index ocispec.Index, err error) {
	data, err := l.read(ocispec.ImageIndexFile, largestIndex)
	if err == nil {
		if err = json.Unmarshal(data, &index); err != nil {
			err = fmt.Errorf("its index.json is damaged: %w", err)
		}
	}
	return index, err
}

func tagOf(d ocispec.Descriptor) string { return d.Annotations[ocispec.AnnotationRefName] }

// tagged is the descriptor with a tag; errNone if there is none.
func (l layout) tagged(tag string) (ocispec.Descriptor, error) {
	index, err := l.index()
	for _, d := range index.Manifests {
		if err == nil && tagOf(d) == tag {
			return d, nil
		}
	}
	if err == nil {
		err = errNone
	}
	return ocispec.Descriptor{}, err
}

func (l layout) manifest(_ context.Context, reference string) ([]byte, error) {
	d := digest.Digest(reference)
	if d.Validate() != nil {
		found, err := l.tagged(reference)
		if err != nil {
			return nil, err
		}
		d = found.Digest
	}
	if d.Validate() != nil {
		return nil, errors.New("its index.json names no proper digest")
	}
	data, err := l.read(blobPath(d), largestManifest)
	if err == nil && digest.FromBytes(data) != d {
		err = errors.New("its manifest has another digest than is stated")
	}
	return data, err
}

func (l layout) blob(_ context.Context, b ocispec.Descriptor) (io.ReadCloser, error) {
	d, err := l.open()
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.Open(blobPath(b.Digest))
}

// url is only understood by the layout itself, as a source.Doer: blobs are opened below the
// directory, too.
func (l layout) url(d digest.Digest) string { return "layout://depot/" + blobPath(d) }

// Do opens a blob.
func (l layout) Do(r *http.Request) (*http.Response, error) {
	d, err := l.open()
	if err != nil {
		return nil, err
	}
	defer d.Close()
	f, err := d.Open(strings.TrimPrefix(r.URL.Path, "/"))
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return &http.Response{StatusCode: http.StatusOK, Header: http.Header{}, Body: f, ContentLength: info.Size(),
		Request: r}, nil
}

// referrersTag is the tag of the referrers of a manifest (distribution specification 1.1,
// referrers tag schema).
func referrersTag(d digest.Digest) string { return string(d.Algorithm()) + "-" + d.Encoded() }

func (l layout) referrers(ctx context.Context, d ocispec.Descriptor) ([]ocispec.Descriptor, error) {
	data, err := l.manifest(ctx, referrersTag(d.Digest))
	if errors.Is(err, errNone) {
		return nil, nil
	}
	var all ocispec.Index
	if err == nil {
		err = json.Unmarshal(data, &all)
	}
	return all.Manifests, err
}

func (l layout) tags(context.Context) (all []string, err error) {
	index, err := l.index()
	if errors.Is(err, errNone) {
		return nil, nil
	}
	for _, d := range index.Manifests {
		all = append(all, tagOf(d))
	}
	return all, err
}

func (l layout) has(_ context.Context, b ocispec.Descriptor) (bool, error) {
	d, err := l.open()
	if err != nil {
		return false, err
	}
	defer d.Close()
	info, err := d.Lstat(blobPath(b.Digest))
	return err == nil && info.Mode.IsRegular() && info.Size == b.Size, nil
}

// write puts a file there, complete or not at all.
func (l layout) write(name string, data []byte) error {
	root, err := os.OpenRoot(l.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.MkdirAll(path.Dir(name), 0o777); err != nil {
		return err
	}
	fresh := name + "." + rand.Text()
	f, err := root.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Sync(), f.Close())
	durable.Moment()
	if err == nil {
		err = root.Rename(fresh, name)
	}
	durable.Moment()
	if err != nil {
		return errors.Join(err, root.Remove(fresh))
	}
	return nil
}

func (l layout) pushBlob(_ context.Context, b ocispec.Descriptor, data []byte) (bool, error) {
	return true, l.write(blobPath(b.Digest), data)
}

func (l layout) pushManifest(ctx context.Context, d ocispec.Descriptor, data []byte) error {
	if err := l.write(blobPath(d.Digest), data); err != nil {
		return err
	}
	var m ocispec.Manifest
	if err := json.Unmarshal(data, &m); err != nil || m.Subject == nil {
		return err
	}
	return l.change(ctx, func(index *ocispec.Index) error {
		listed, err := l.referrers(ctx, *m.Subject)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(listed, func(o ocispec.Descriptor) bool { return o.Digest == d.Digest }) {
			return nil
		}
		d.ArtifactType, d.Annotations = m.ArtifactType, m.Annotations
		all := ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex,
			Manifests: append(listed, d)}
		data, list := written(ocispec.MediaTypeImageIndex, all)
		if err := l.write(blobPath(list.Digest), data); err != nil {
			return err
		}
		set(index, list, referrersTag(m.Subject.Digest))
		return nil
	})
}

func (l layout) tag(ctx context.Context, d ocispec.Descriptor, _ []byte, tag string) error {
	return l.change(ctx, func(index *ocispec.Index) error { set(index, d, tag); return nil })
}

// set gives a tag to a manifest.
func set(index *ocispec.Index, d ocispec.Descriptor, tag string) {
	index.Manifests = slices.DeleteFunc(index.Manifests, func(o ocispec.Descriptor) bool { return tagOf(o) == tag })
	d.Annotations = map[string]string{ocispec.AnnotationRefName: tag}
	index.Manifests = append(index.Manifests, d)
	slices.SortFunc(index.Manifests, func(a, b ocispec.Descriptor) int { return strings.Compare(tagOf(a), tagOf(b)) })
}

// change changes index.json while no other process does.
func (l layout) change(ctx context.Context, how func(*ocispec.Index) error) error {
	unlock, err := filelock.Exclusive(ctx, filepath.Join(l.dir, lockName), func() {})
	if err != nil {
		return err
	}
	defer unlock()
	index, err := l.index()
	if errors.Is(err, errNone) {
		index, err = ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex}, nil
	}
	if err == nil {
		err = how(&index)
	}
	if err != nil {
		return err
	}
	mark, _ := json.Marshal(ocispec.ImageLayout{Version: ocispec.ImageLayoutVersion})
	data, err := json.MarshalIndent(index, "", " ")
	if err == nil && int64(len(data)) > largestIndex {
		err = fmt.Errorf("its index.json would have over %d MiB", largestIndex>>20)
	}
	if err == nil {
		err = l.write(ocispec.ImageLayoutFile, mark)
	}
	if err == nil {
		err = l.write(ocispec.ImageIndexFile, append(data, '\n'))
	}
	return err
}

// remove deletes manifests, with their referrers, and the blobs that nothing names then.
func (l layout) remove(ctx context.Context, tags []string, all []ocispec.Descriptor) error {
	if err := l.change(ctx, func(index *ocispec.Index) error {
		for _, d := range all {
			tags = append(tags, referrersTag(d.Digest))
		}
		index.Manifests = slices.DeleteFunc(index.Manifests, func(d ocispec.Descriptor) bool {
			return slices.Contains(tags, tagOf(d))
		})
		return nil
	}); err != nil {
		return err
	}
	return l.change(ctx, func(index *ocispec.Index) error { return l.sweep(ctx, index) })
}

// sweep deletes the blobs that nothing in an index names, except for new ones: a share that is
// under way puts blobs there before their manifest.
func (l layout) sweep(ctx context.Context, index *ocispec.Index) error {
	named := map[digest.Digest]bool{}
	queue := slices.Clone(index.Manifests)
	for ; len(queue) > 0; queue = queue[1:] {
		d := queue[0]
		if named[d.Digest] {
			continue
		}
		named[d.Digest] = true
		if d.MediaType != ocispec.MediaTypeImageManifest && d.MediaType != ocispec.MediaTypeImageIndex {
			continue
		}
		data, err := l.manifest(ctx, d.Digest.String())
		if err != nil {
			return err // nothing is deleted without knowing what is named
		}
		var m struct {
			Config    ocispec.Descriptor   `json:"config"`
			Layers    []ocispec.Descriptor `json:"layers"`
			Manifests []ocispec.Descriptor `json:"manifests"`
		}
		if err := json.Unmarshal(data, &m); err != nil {
			return err
		}
		queue = append(append(append(queue, m.Config), m.Layers...), m.Manifests...)
	}
	root, err := os.OpenRoot(l.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	dir := path.Join(ocispec.ImageBlobsDir, string(digest.SHA256))
	entries, err := fs.ReadDir(root.FS(), dir)
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || named[digest.NewDigestFromEncoded(digest.SHA256, e.Name())] ||
			time.Since(info.ModTime()) < abandonedBlob {
			continue
		}
		if err := root.Remove(path.Join(dir, e.Name())); err != nil {
			return err
		}
	}
	return err
}
