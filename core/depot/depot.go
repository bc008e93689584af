// Package depot keeps builds where other machines find them: in repositories of OCI registries,
// and in directories in the OCI image layout.
//
// A build is a manifest with the tag NAME-VERSION-ID. Its config is the receipt; its layers,
// one after another, are a tar archive of the tree in zstd, cut so that releases share blobs. A
// referrer of the manifest has the provenance: an in-toto statement in a signed DSSE envelope.
//
// Everything in a depot is foreign. It promises that an Offer is of the wanted build, for the
// wanted path, and signed by one of the depot's keys; that a tree is only unpacked from blobs
// with the digests that were signed; and that nothing of it is written outside its directory.
// Formats: OCI image, image layout and distribution specifications 1.1; in-toto attestation 1;
// SLSA provenance 1; DSSE 1.
package depot

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/settings"
	"fernladder/core/signature"
	"fernladder/core/source"
	"fernladder/core/store"
)

// Media types. That of a layer says what all layers are together.
const (
	buildType    = "application/vnd.fernladder.build.v1+json"
	receiptType  = "application/vnd.fernladder.receipt.v1+json"
	treeType     = "application/vnd.fernladder.tree.v1.tar+zstd"
	envelopeType = "application/vnd.dsse.envelope.v1+json"
)

// Namespace is that of SSH signatures of builds.
const Namespace = "fernladder-build"

// Limits of what is read into memory: registries allow manifests of 4 MiB.
const (
	largestManifest = 4 << 20
	largestReceipt  = 64 << 20
	largestEnvelope = 4 << 20
	mostReferrers   = 64
	mostLayers      = 16_000
	smallReceipt    = 64 << 10 // is in the manifest itself, too, which saves a request
	longestAsk      = 2 * time.Minute
)

// errNone is the answer for what a depot does not have.
var errNone = errors.New("the depot does not have it")

// A place is where a depot is. References are tags or digests. What it returns is not verified.
type place interface {
	manifest(ctx context.Context, reference string) ([]byte, error) // errNone for one that does not exist
	blob(ctx context.Context, d ocispec.Descriptor) (io.ReadCloser, error)
	url(d digest.Digest) string // of a blob, for Archives.Fetch
	referrers(ctx context.Context, d ocispec.Descriptor) ([]ocispec.Descriptor, error)
	tags(ctx context.Context) ([]string, error)

	has(ctx context.Context, d ocispec.Descriptor) (bool, error)
	pushBlob(ctx context.Context, d ocispec.Descriptor, data []byte) (sent bool, err error)
	pushManifest(ctx context.Context, d ocispec.Descriptor, data []byte) error // of a referrer: it is listed, too
	tag(ctx context.Context, d ocispec.Descriptor, data []byte, tag string) error
	remove(ctx context.Context, tags []string, all []ocispec.Descriptor) error
}

// A Depot is opened by Open and used by many at once.
type Depot struct {
	*settings.Depot
	place    place
	archives *source.Archives // fetches blobs, and tells nothing
	network  *source.Network
	now      func() time.Time

	once   sync.Once
	keys   *signature.Keys
	badKey error

	lock sync.Mutex
	dead error // why it cannot be reached
}

// Open opens the depots of the settings. It reads and fetches nothing.
func Open(all []*settings.Depot, archives *source.Archives) (depots []*Depot) {
	for _, s := range all {
		d := &Depot{Depot: s, network: archives.Network, now: archives.Now}
		quiet := *archives
		if s.Path != "" {
			l := layout{s.Path}
			d.place = l
			quiet.Network = archives.Quiet(l)
			quiet.Network.Offline = false
		} else {
			r := newRegistry(s.URL, archives.Network)
			d.place = r
			quiet.Network = archives.Quiet(r.client)
		}
		d.archives = &quiet
		depots = append(depots, d)
	}
	// What is in another repository of a registry does not have to be sent there.
	for _, d := range depots {
		for _, other := range depots {
			if r, is := d.place.(*registry); is && other != d {
				r.besides(other.place)
			}
		}
	}
	return depots
}

// Reads and Writes report what the depot is used for.
func (d *Depot) Reads() bool  { return len(d.Keys) > 0 }
func (d *Depot) Writes() bool { return d.Sign != "" }

func (d *Depot) trusted() (*signature.Keys, error) {
	d.once.Do(func() { d.keys, d.badKey = signature.ReadKeys(d.Keys) })
	return d.keys, d.badKey
}

// A Fault is what is wrong with a build in a depot, or with the depot itself.
type Fault struct {
	Depot string
	Build string // "": the depot
	What  string
}

func (e *Fault) Error() string {
	if e.Build == "" {
		return fmt.Sprintf("the depot %s: %s", e.Depot, e.What)
	}
	return fmt.Sprintf("%s in the depot %s: %s", e.Build, e.Depot, e.What)
}

// ProblemKind is problem.Fetch.
func (e *Fault) ProblemKind() problem.Kind { return problem.Fetch }

func (d *Depot) fault(r store.Ref, format string, args ...any) error {
	name := ""
	if r.Name != "" {
		name = r.Name + " " + r.Version
	}
	return &Fault{d.Name, name, fmt.Sprintf(format, args...)}
}

var notInTag = pattern.New(`[^A-Za-z0-9_.-]`)

// refTag is the tag of a build: NAME-VERSION-ID with the characters that a tag can have, and not
// longer than one can be.
func refTag(r store.Ref) string {
	const longest = 128
	name := notInTag.ReplaceAllString(r.Name+"-"+r.Version, "_")
	return strings.TrimLeft(name[:min(len(name), longest-1-len(r.ID))], ".-") + "-" + r.ID
}

// Find looks for a build for a tree's path. Without such a build, the offer is nil. If the depot
// has one that does not count, the error is a *Fault.
func (d *Depot) Find(ctx context.Context, r store.Ref, tree string) (*Offer, error) {
	keys, err := d.trusted()
	if err != nil {
		return nil, err
	}
	return d.find(ctx, r, tree, keys)
}

// find is Find with other keys.
func (d *Depot) find(ctx context.Context, r store.Ref, tree string, keys *signature.Keys) (*Offer, error) {
	if err := d.reachable(); err != nil {
		return nil, err
	}
	ctx, cancel := within(ctx, 0)
	defer cancel()
	data, err := d.place.manifest(ctx, refTag(r))
	if errors.Is(err, errNone) {
		return nil, nil
	}
	if err != nil {
		return nil, d.failed(ctx, r, err)
	}
	var manifest ocispec.Manifest
	if err := json.Unmarshal(data, &manifest); err != nil {
		return nil, d.fault(r, "its manifest is damaged: %v", err)
	}
	if problem := misshapen(&manifest); problem != "" {
		return nil, d.fault(r, "%s", problem)
	}
	statement, good, err := d.signed(ctx, r, descriptor(ocispec.MediaTypeImageManifest, data), keys)
	if err != nil {
		return nil, err
	}
	if what := statement.differs(r, tree); what != "" {
		return nil, d.fault(r, "%s", what)
	}
	return &Offer{Depot: d, Ref: r, Manifest: digest.FromBytes(data), Layers: manifest.Layers, Signed: *good,
		config: manifest.Config}, nil
}

// within limits the time of requests that move so many bytes.
func within(ctx context.Context, bytes int64) (context.Context, context.CancelFunc) {
	const slowest = 16 << 10 // bytes a second
	longest := longestAsk + time.Duration(bytes/slowest)*time.Second
	return context.WithTimeoutCause(ctx, longest, fmt.Errorf("it took longer than %s", longest))
}

// misshapen says why a manifest cannot be that of a build.
func misshapen(m *ocispec.Manifest) string {
	switch {
	case m.ArtifactType != buildType || m.Config.MediaType != receiptType:
		return fmt.Sprintf("its manifest is of another kind of thing (%.60q)", m.ArtifactType)
	case len(m.Layers) == 0 || len(m.Layers) > mostLayers:
		return fmt.Sprintf("its manifest has %d layers", len(m.Layers))
	case !proper(m.Config) || m.Config.Size > largestReceipt:
		return "its manifest names no proper receipt"
	}
	for _, l := range m.Layers {
		if l.MediaType != treeType || !proper(l) || l.Size > largestBlob {
			return "its manifest names a layer of another kind"
		}
	}
	return ""
}

// proper reports whether a descriptor can be of a blob of ours.
func proper(d ocispec.Descriptor) bool {
	return d.Digest.Validate() == nil && d.Digest.Algorithm() == digest.SHA256 && d.Size >= 0
}

// signed looks for a statement about a manifest that one of the keys has signed.
func (d *Depot) signed(ctx context.Context, r store.Ref, manifest ocispec.Descriptor,
	keys *signature.Keys) (*statement, *signature.Good, error) {
	all, err := d.place.referrers(ctx, manifest)
	if err != nil {
		return nil, nil, d.failed(ctx, r, err)
	}
	var reasons []string
	for _, referrer := range all[:min(len(all), mostReferrers)] {
		if referrer.ArtifactType != envelopeType {
			continue
		}
		envelope, err := d.envelope(ctx, manifest.Digest, referrer)
		if err == nil {
			var s *statement
			var good *signature.Good
			if s, good, err = open(envelope, manifest.Digest, keys, d.now()); err == nil {
				return s, good, nil
			}
		}
		if ctx.Err() != nil {
			return nil, nil, d.failed(ctx, r, context.Cause(ctx))
		}
		reasons = append(reasons, err.Error())
	}
	if len(reasons) == 0 {
		return nil, nil, d.fault(r, "it is not signed")
	}
	return nil, nil, d.fault(r, "%s", strings.Join(reasons, "; "))
}

// envelope reads the envelope that a referrer of a manifest has.
func (d *Depot) envelope(ctx context.Context, subject digest.Digest, referrer ocispec.Descriptor) ([]byte, error) {
	if !proper(referrer) || referrer.Size > largestManifest {
		return nil, errors.New("the manifest of its signature is too large")
	}
	data, err := d.place.manifest(ctx, referrer.Digest.String())
	if err != nil {
		return nil, fmt.Errorf("the manifest of its signature: %w", err)
	}
	var m ocispec.Manifest
	switch err := json.Unmarshal(data, &m); {
	case digest.FromBytes(data) != referrer.Digest:
		return nil, errors.New("the manifest of its signature has another digest than is stated")
	case err != nil:
		return nil, fmt.Errorf("the manifest of its signature is damaged: %w", err)
	case m.Subject == nil || m.Subject.Digest != subject:
		return nil, errors.New("its signature belongs to another build")
	case len(m.Layers) != 1 || m.Layers[0].MediaType != envelopeType || !proper(m.Layers[0]):
		return nil, errors.New("the manifest of its signature names no envelope")
	}
	return d.small(ctx, m.Layers[0], largestEnvelope)
}

// small reads a blob into memory, and verifies it. What is in the descriptor itself is not read.
func (d *Depot) small(ctx context.Context, b ocispec.Descriptor, most int64) ([]byte, error) {
	if b.Data != nil && digest.FromBytes(b.Data) == b.Digest {
		return b.Data, nil
	}
	if b.Size > most {
		return nil, fmt.Errorf("%s has over %d bytes", b.Digest, most)
	}
	r, err := d.place.blob(ctx, b)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, b.Size+1))
	switch {
	case err != nil:
		return nil, err
	case int64(len(data)) != b.Size:
		return nil, fmt.Errorf("a blob has %d bytes, and should have %d", len(data), b.Size)
	case digest.FromBytes(data) != b.Digest:
		return nil, fmt.Errorf("a blob has the digest %s, and should have %s", digest.FromBytes(data), b.Digest)
	}
	return data, nil
}

// reachable is the error of a depot that could not be reached before, or that the network is not
// used for.
func (d *Depot) reachable() error {
	if d.Path == "" && d.network.Offline {
		return d.fault(store.Ref{}, "it is on the network, which is not used now")
	}
	d.lock.Lock()
	defer d.lock.Unlock()
	return d.dead
}

// failed turns an error of a depot into a *Fault. If the depot could not be reached, it is not
// asked again.
func (d *Depot) failed(ctx context.Context, r store.Ref, err error) error {
	var fault *Fault
	var local *source.StoreError
	switch {
	case ctx.Err() != nil && errors.Is(context.Cause(ctx), context.Canceled):
		return context.Cause(ctx)
	case errors.As(err, &fault), errors.As(err, &local):
		return err
	case d.network.Credentials.Err() != nil:
		return d.network.Credentials.Err()
	}
	var fetch *source.FetchError
	if errors.As(err, &fetch) && len(fetch.Attempts) > 0 {
		err = fetch.Attempts[0].Err
	}
	var larger *source.TooLarge
	if errors.As(err, &larger) {
		return d.fault(r, "a blob has more than the %d bytes that it should have", larger.Most)
	}
	var wrong *source.DigestError
	if errors.As(err, &wrong) {
		return d.fault(r, "a blob has the digest %s, and should have %s", wrong.Got, wrong.Want)
	}
	answer, serves := answered(err)
	text, unreachable := source.Plain(ctx, err)
	switch {
	case serves:
		return d.fault(r, "%s", answer)
	case answer == "" && !unreachable && !errors.As(err, new(*noDirectory)):
		return d.fault(r, "%s", requestInError.ReplaceAllString(text.Error(), ""))
	case answer == "":
		answer = fmt.Sprintf("it cannot be reached: %v", text)
	}
	d.lock.Lock()
	defer d.lock.Unlock()
	if d.dead == nil {
		d.dead = d.fault(store.Ref{}, "%s", answer)
	}
	return d.dead
}

// blobPath is the path of a blob in an image layout.
func blobPath(d digest.Digest) string {
	return path.Join(ocispec.ImageBlobsDir, string(d.Algorithm()), d.Encoded())
}
