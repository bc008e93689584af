package depot

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"fernladder/core/store"
)

// Held is a build in a depot, as its manifest says; none of it is verified.
type Held struct {
	store.Ref
	Bytes   int64     `json:"bytes"`
	Created time.Time `json:"created"`

	tag      string
	manifest ocispec.Descriptor
}

// List lists the builds in a depot.
func (d *Depot) List(ctx context.Context) ([]Held, error) {
	if err := d.reachable(); err != nil {
		return nil, err
	}
	const listing = 256 << 20 // bytes, of the longest list
	ctx, cancel := within(ctx, listing)
	defer cancel()
	tags, err := d.place.tags(ctx)
	if err != nil {
		return nil, d.failed(ctx, store.Ref{}, err)
	}
	all := make([]Held, len(tags))
	numbers := make([]int, len(tags))
	for i := range numbers {
		numbers[i] = i
	}
	err = each(ctx, numbers, func(ctx context.Context, i int) error {
		h, err := d.held(ctx, tags[i])
		if errors.Is(err, errNone) {
			return nil // removed meanwhile, or of other programs
		}
		all[i] = h
		return err
	})
	if err != nil {
		return nil, d.failed(ctx, store.Ref{}, err)
	}
	all = slices.DeleteFunc(all, func(h Held) bool { return h.tag == "" })
	slices.SortFunc(all, func(a, b Held) int { return strings.Compare(a.tag, b.tag) })
	return all, nil
}

// held is the build with a tag; errNone if it is not a build.
func (d *Depot) held(ctx context.Context, tag string) (h Held, err error) {
	at := strings.LastIndex(tag, "-")
	if at < 0 {
		return h, errNone
	}
	data, err := d.place.manifest(ctx, tag)
	if err != nil {
		return h, err
	}
	var m ocispec.Manifest
	if json.Unmarshal(data, &m) != nil || misshapen(&m) != "" {
		return h, errNone
	}
	said := m.Annotations
	h = Held{Ref: store.Ref{Name: said[ocispec.AnnotationTitle], Version: said[ocispec.AnnotationVersion], ID: tag[at+1:]},
		tag: tag, manifest: descriptor(ocispec.MediaTypeImageManifest, data),
		Bytes: bytesOf(m.Config, m.Layers)}
	h.Created, _ = time.Parse(time.RFC3339, said[ocispec.AnnotationCreated])
	if refTag(h.Ref) != tag {
		return Held{}, errNone
	}
	return h, nil
}

// Remove deletes builds from a depot. A directory gives back the space at once, except for what
// a share may have just put there; a registry when it collects its garbage.
func (d *Depot) Remove(ctx context.Context, all []Held) error {
	var tags []string
	var manifests []ocispec.Descriptor
	for _, h := range all {
		tags, manifests = append(tags, h.tag), append(manifests, h.manifest)
	}
	ctx, cancel := within(ctx, int64(len(all))*largestManifest)
	defer cancel()
	if err := d.place.remove(ctx, tags, manifests); err != nil {
		return d.failed(ctx, store.Ref{}, err)
	}
	return nil
}
