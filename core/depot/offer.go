package depot

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"fernladder/core/event"
	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/source"
	"fernladder/core/store"
)

// An Offer is a build that a depot has, signed by one of its keys.
type Offer struct {
	Depot    *Depot
	Ref      store.Ref
	Manifest digest.Digest
	Layers   []ocispec.Descriptor
	Signed   signature.Good

	config  ocispec.Descriptor
	receipt []byte
	fetched bool
}

// Bytes is what there is to fetch.
func (o *Offer) Bytes() int64 {
	return bytesOf(o.config, o.Layers)
}

func bytesOf(config ocispec.Descriptor, layers []ocispec.Descriptor) int64 {
	n := config.Size
	for _, l := range layers {
		n += l.Size
	}
	return n
}

// Receipt fetches the receipt of an offered build, as it was written where it was built.
func (o *Offer) Receipt(ctx context.Context) (*store.Receipt, error) {
	if o.receipt == nil {
		ctx, cancel := within(ctx, o.config.Size)
		defer cancel()
		data, err := o.Depot.small(ctx, o.config, largestReceipt)
		if err != nil {
			return nil, o.Depot.failed(ctx, o.Ref, err)
		}
		o.receipt = data
	}
	var r store.Receipt
	if err := json.Unmarshal(o.receipt, &r); err != nil {
		return nil, o.Depot.fault(o.Ref, "its receipt is damaged: %v", err)
	}
	if r.Ref != o.Ref {
		return nil, o.Depot.fault(o.Ref, "its receipt is that of %s", r.Ref)
	}
	return &r, nil
}

// Fetch fetches the blobs of a build into the store of archives. Those that are there from other
// builds are not fetched again.
func (o *Offer) Fetch(ctx context.Context) error {
	if o.fetched {
		return nil
	}
	d, tell := o.Depot, func(e event.Event) {
		e.Package, e.Version, e.ID = o.Ref.Name, o.Ref.Version, o.Ref.ID
		o.Depot.network.Events.Event(e)
	}
	tell(event.Event{Kind: event.FetchBegan, Text: "the depot " + d.Name})
	if _, err := o.Receipt(ctx); err != nil {
		return err
	}
	var lock sync.Mutex
	var done int64
	err := each(ctx, o.Layers, func(ctx context.Context, l ocispec.Descriptor) error {
		archives := *d.archives
		archives.Largest = max(l.Size, 1)
		got, err := archives.Fetch(ctx, source.Wanted{Package: o.Ref.Name, Version: o.Ref.Version,
			URLs: []string{d.place.url(l.Digest)}, Digest: sha256Of(l.Digest)})
		if err == nil && got.Size != l.Size {
			err = fmt.Errorf("a blob has %d bytes, and should have %d", got.Size, l.Size)
		}
		if err != nil {
			return err
		}
		lock.Lock()
		defer lock.Unlock()
		done += l.Size
		tell(event.Event{Kind: event.FetchProgress, Done: done, Total: o.Bytes()})
		return nil
	})
	if err != nil {
		return d.failed(ctx, o.Ref, err)
	}
	o.fetched = true
	tell(event.Event{Kind: event.FetchEnded, Done: o.Bytes()})
	return nil
}

func sha256Of(d digest.Digest) recipe.Digest {
	return recipe.Digest{Algorithm: "sha256", Hex: d.Encoded()}
}
