package depot

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"fernladder/core/event"
	"fernladder/core/problem"
	"fernladder/core/signature"
	"fernladder/core/store"
)

// A Share is how a build is put into a depot.
type Share struct {
	Store   *store.Store
	By      signature.Signer
	Program string        // the version of this program
	Used    []HostPackage // of the operating system, by the build
}

// Shared is a build in a depot that it was to be put into.
type Shared struct {
	store.Ref
	Depot    string `json:"depot"`
	There    bool   `json:"there"` // before
	Manifest string `json:"manifest"`
	Blobs    int    `json:"blobs"`
	Bytes    int64  `json:"bytes"`      // of all its blobs
	Sent     int64  `json:"bytes_sent"` // of those that the depot did not have
}

// Refused says why a build cannot be passed on; "" if it can.
func Refused(r *store.Receipt) string {
	switch {
	case len(r.Supplies) > 0:
		return fmt.Sprintf("it contains %s, which was supplied and is not to be passed on", r.Supplies[0].File)
	case r.Edited:
		return "its source was changed by hand, so no statement about its sources would be true"
	}
	return ""
}

// Put puts a build into the depot, unless one is there that the same key has signed. Blobs that are
// there are not sent. The tag comes last: a build with a tag is complete and signed.
func (d *Depot) Put(ctx context.Context, r *store.Receipt, how Share) (Shared, error) {
	result := Shared{Ref: r.Ref, Depot: d.Name}
	keys, err := ownKeys(how.By)
	if err != nil {
		return result, err
	}
	there, err := d.find(ctx, r.Ref, r.Tree, keys)
	switch {
	case err == nil && there != nil && there.complete(ctx):
		result.There, result.Manifest, result.Blobs = true, there.Manifest.String(), len(there.Layers)
		result.Bytes = there.Bytes()
		return result, nil
	case err != nil && d.reachable() != nil:
		return result, err
	} // what is wrong there is replaced
	if result, err = d.put(ctx, r, how, result); err != nil {
		return result, d.failed(ctx, r.Ref, err)
	}
	// It is read as others will: another process may have put the same build there, or have deleted blobs
	// that did not have to be sent.
	there, err = d.find(ctx, r.Ref, r.Tree, keys)
	if err == nil && (there == nil || there.Manifest.String() != result.Manifest || !there.complete(ctx)) {
		err = d.fault(r.Ref, "another process has changed it at the same time; share it again")
	}
	return result, err
}

// complete reports whether the depot has all blobs of a build.
func (o *Offer) complete(ctx context.Context) bool {
	err := each(ctx, append([]ocispec.Descriptor{o.config}, o.Layers...), func(ctx context.Context,
		b ocispec.Descriptor) error {
		ctx, cancel := within(ctx, 0)
		defer cancel()
		has, err := o.Depot.place.has(ctx, b)
		if err == nil && !has {
			err = errNone
		}
		return err
	})
	return err == nil
}

// ownKeys trusts the key that signs.
func ownKeys(by signature.Signer) (*signature.Keys, error) {
	keys := &signature.Keys{}
	public, err := by.Public()
	if err == nil {
		err = keys.Add("the key that signs", public)
	}
	return keys, err
}

func (d *Depot) put(ctx context.Context, r *store.Receipt, how Share, result Shared) (Shared, error) {
	receipt, err := json.Marshal(r)
	if err != nil {
		return result, err
	}
	config := descriptor(receiptType, receipt)
	layers, sent, err := d.putTree(ctx, r, how.Store)
	if err != nil {
		return result, err
	}
	n, err := d.putBlob(ctx, config, receipt)
	if err != nil {
		return result, err
	}
	if len(receipt) <= smallReceipt {
		config.Data = receipt
	}
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest,
		ArtifactType: buildType, Config: config, Layers: layers, Annotations: annotations(r)}
	data, self := written(m.MediaType, m)
	if len(data) > largestManifest {
		return result, fmt.Errorf("its manifest would have %d bytes, and registries take %d", len(data), largestManifest)
	}
	result.Manifest, result.Blobs, result.Sent = self.Digest.String(), len(layers), sent+n
	result.Bytes = bytesOf(config, layers)
	ctx, cancel := within(ctx, 3*largestManifest)
	defer cancel()
	if err := d.place.pushManifest(ctx, self, data); err != nil {
		return result, err
	}
	signed, err := seal(stateOf(r, self.Digest, how.Used, how.Program), how.By)
	if err != nil {
		return result, err
	}
	if err := d.attach(ctx, self, signed); err != nil {
		return result, err
	}
	return result, d.place.tag(ctx, self, data, refTag(r.Ref))
}

// annotations are for people with any registry client.
func annotations(r *store.Receipt) map[string]string {
	all := map[string]string{ocispec.AnnotationTitle: r.Name, ocispec.AnnotationVersion: r.Version,
		ocispec.AnnotationDescription: r.Summary, ocispec.AnnotationURL: r.Home, ocispec.AnnotationLicenses: r.License,
		ocispec.AnnotationCreated: r.Began.UTC().Format(time.RFC3339)}
	for name, value := range all {
		if strings.TrimSpace(value) == "" {
			delete(all, name)
		}
	}
	return all
}

// attach makes a signed statement a referrer of a manifest. It is in the referrer's manifest itself,
// too, which saves those who read it a request.
func (d *Depot) attach(ctx context.Context, subject ocispec.Descriptor, signed []byte) error {
	layer := descriptor(envelopeType, signed)
	empty := ocispec.DescriptorEmptyJSON
	if _, err := d.putBlob(ctx, layer, signed); err != nil {
		return err
	}
	if _, err := d.putBlob(ctx, empty, empty.Data); err != nil {
		return err
	}
	layer.Data = signed
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest,
		ArtifactType: envelopeType, Config: empty, Layers: []ocispec.Descriptor{layer}, Subject: &subject}
	data, self := written(m.MediaType, m)
	self.ArtifactType = envelopeType
	return d.place.pushManifest(ctx, self, data)
}

// putBlob sends a blob, unless it is there. It returns what was sent.
func (d *Depot) putBlob(ctx context.Context, b ocispec.Descriptor, data []byte) (int64, error) {
	ctx, cancel := within(ctx, b.Size)
	defer cancel()
	has, err := d.place.has(ctx, b)
	if err != nil || has {
		return 0, err
	}
	sent, err := d.place.pushBlob(ctx, b, data)
	if !sent {
		return 0, err
	}
	return b.Size, err
}

// putTree packs a tree and sends its blobs, several at once.
func (d *Depot) putTree(ctx context.Context, r *store.Receipt, s *store.Store) (layers []ocispec.Descriptor,
	sent int64, err error) {
	files, err := s.Files(r.Ref)
	if err != nil {
		return nil, 0, err
	}
	for _, f := range files {
		if f.Target != "" {
			if why := Leads(s, r.Tree, r.Needs, f.Path, f.Target); why != "" {
				return nil, 0, problem.New(problem.Root, r.Name, "%s %s cannot be passed on: %s", r.Name, r.Version, why)
			}
		}
	}
	packer, err := zstd.NewWriter(nil, zstd.WithEncoderCRC(false), zstd.WithEncoderConcurrency(runtime.GOMAXPROCS(0)))
	if err != nil {
		return nil, 0, err
	}
	defer packer.Close()
	tell := func(done int64) {
		d.network.Events.Event(event.Event{Kind: event.SendProgress, Package: r.Name, Version: r.Version, ID: r.ID,
			Done: done, Total: r.Size})
	}
	var lock sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	number, read := 0, int64(0)
	d.network.Events.Event(event.Event{Kind: event.SendBegan, Package: r.Name, Version: r.Version, ID: r.ID, Text: d.Name})
	cut := newCutter(r.Size, func(chunk []byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		i := number
		number++
		read += int64(len(chunk))
		tell(min(read, r.Size))
		group.Go(func() error {
			data := packer.EncodeAll(chunk, make([]byte, 0, len(chunk)/2))
			b := descriptor(treeType, data)
			n, err := d.putBlob(ctx, b, data)
			lock.Lock()
			defer lock.Unlock()
			for len(layers) <= i {
				layers = append(layers, ocispec.Descriptor{})
			}
			layers[i] = b
			sent += n
			return err
		})
		return nil
	})
	err = writeTree(ctx, s, r, files, cut)
	if err == nil {
		err = cut.end()
	}
	if waited := group.Wait(); waited != nil { // the cause of the other one
		err = waited
	}
	return layers, sent, err
}
