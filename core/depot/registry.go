package depot

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"
	"oras.land/oras-go/v2/errdef"
	"oras.land/oras-go/v2/registry/remote"
	"oras.land/oras-go/v2/registry/remote/auth"
	"oras.land/oras-go/v2/registry/remote/credentials"
	"oras.land/oras-go/v2/registry/remote/errcode"
	"oras.land/oras-go/v2/registry/remote/retry"

	"fernladder/core/pattern"
	"fernladder/core/safefs"
	"fernladder/core/source"
)

// atOnce is how many requests for the blobs of a build are under way.
const atOnce = 8

// each does something for all of them, several at once, until one fails.
func each[T any](ctx context.Context, all []T, do func(context.Context, T) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, one := range all {
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			return do(ctx, one)
		})
	}
	return group.Wait()
}

// A registry is a repository of an OCI registry.
type registry struct {
	*remote.Repository
	client *auth.Client
	base   string // the URL of the repository in the registry
	others []string
	bad    error
}

func newRegistry(url string, network *source.Network) *registry {
	scheme, name, _ := strings.Cut(url, "://")
	client := &auth.Client{Client: network.Client(), Cache: auth.NewCache(), ClientID: "fernladder",
		Credential: func(_ context.Context, host string) (auth.Credential, error) {
			if err := network.Credentials.Err(); err != nil || scheme != "https" {
				return auth.EmptyCredential, err // secrets are only sent by https
			}
			return loginFor(network, host)
		}}
	again := *client.Client
	again.Transport = &retry.Transport{Base: again.Transport, Policy: func() retry.Policy { return &repeats }}
	client.Client = &again
	client.SetUserAgent(network.Agent)
	r := &registry{client: client}
	if r.Repository, r.bad = remote.NewRepository(strings.TrimSuffix(name, "/")); r.bad != nil {
		r.Repository = &remote.Repository{}
		return r
	}
	r.Client, r.PlainHTTP = client, scheme == "http"
	r.MaxMetadataBytes, r.ReferrerListMaxPages, r.TagListMaxPages = largestManifest, 4, 10_000
	r.base = scheme + "://" + r.Reference.Host() + "/v2/" + r.Reference.Repository
	return r
}

// repeats says how often requests are repeated that a registry has refused for now, and after what
// time: that which it asks for, or twice as long each time.
var repeats = retry.GenericPolicy{Retryable: retry.DefaultPredicate, MinWait: 200 * time.Millisecond,
	MaxWait: 20 * time.Second, MaxRetry: 2,
	Backoff: retry.ExponentialBackoff(250*time.Millisecond, 2, 0.1)}

// requestInError is the beginning of errors of the library.
var requestInError = pattern.New(`^[A-Z]+ "[^"]*": `)

// loginFor is what the credentials file has for a registry, or else the files in which registry
// clients keep theirs. No program is run for it.
func loginFor(network *source.Network, host string) (auth.Credential, error) {
	if user, password, token := network.Credentials.For(host); user+password+token != "" {
		return auth.Credential{Username: user, Password: password, AccessToken: token}, nil
	}
	const most = 1 << 20
	for _, file := range []string{network.Getenv("REGISTRY_AUTH_FILE"),
		below(network.Getenv("XDG_RUNTIME_DIR"), "containers/auth.json"),
		below(network.Getenv("DOCKER_CONFIG"), "config.json"),
		below(network.Getenv("HOME"), ".docker/config.json")} {
		data, err := safefs.ReadFile(file, most)
		if err != nil {
			continue
		}
		known, err := credentials.NewMemoryStoreFromDockerConfig(data)
		if err != nil {
			continue
		}
		if login, err := known.Get(context.Background(), host); err == nil && login != auth.EmptyCredential {
			return login, nil
		}
	}
	return auth.EmptyCredential, nil
}

func below(dir, file string) string {
	if dir == "" {
		return ""
	}
	return filepath.Join(dir, file)
}

// besides tells it of another place, from whose repository it can mount blobs.
func (r *registry) besides(other place) {
	if o, is := other.(*registry); is && o.bad == nil && r.bad == nil && o.Reference.Registry == r.Reference.Registry &&
		o.Reference.Repository != r.Reference.Repository {
		r.others = append(r.others, o.Reference.Repository)
	}
}

// answered is what a registry has answered, in words, and whether it serves other requests; "" for
// errors of another kind.
func answered(err error) (text string, serves bool) {
	const login = "; for a login, add its host to the file that credentials in the settings names"
	if errors.Is(err, auth.ErrBasicCredentialNotFound) {
		return "the registry wants a login" + login, false
	}
	var answer *errcode.ErrorResponse
	if !errors.As(err, &answer) {
		return "", false
	}
	text = fmt.Sprintf("the registry says %d %s", answer.StatusCode, http.StatusText(answer.StatusCode))
	if len(answer.Errors) > 0 {
		text += fmt.Sprintf(" (%.200q)", answer.Errors[0].Code)
	}
	switch code := answer.StatusCode; {
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		return text + login, false
	case code == http.StatusTooManyRequests || code >= http.StatusInternalServerError:
		return text, false
	}
	return text, true
}

func (r *registry) manifest(ctx context.Context, reference string) ([]byte, error) {
	if r.bad != nil {
		return nil, r.bad
	}
	_, body, err := r.Manifests().FetchReference(ctx, reference)
	if errors.Is(err, errdef.ErrNotFound) {
		return nil, errNone
	}
	if err != nil {
		return nil, err
	}
	defer body.Close()
	data, err := io.ReadAll(io.LimitReader(body, largestManifest+1))
	if err == nil && len(data) > largestManifest {
		err = fmt.Errorf("the manifest has over %d bytes", largestManifest)
	}
	return data, err
}

func (r *registry) blob(ctx context.Context, d ocispec.Descriptor) (io.ReadCloser, error) {
	return r.Blobs().Fetch(ctx, d)
}

func (r *registry) url(d digest.Digest) string { return r.base + "/blobs/" + d.String() }

func (r *registry) referrers(ctx context.Context, d ocispec.Descriptor) (all []ocispec.Descriptor, err error) {
	err = r.Referrers(ctx, d, envelopeType, func(some []ocispec.Descriptor) error {
		all = append(all, some...)
		return nil
	})
	return all, err
}

func (r *registry) tags(ctx context.Context) (all []string, err error) {
	const most = 1 << 20
	err = r.Tags(ctx, "", func(some []string) error {
		if all = append(all, some...); len(all) > most {
			return fmt.Errorf("it has over %d tags", most)
		}
		return nil
	})
	if errors.Is(err, errdef.ErrNotFound) || statusOf(err) == http.StatusNotFound {
		return nil, nil // nothing was put there yet
	}
	return all, err
}

func statusOf(err error) int {
	var answer *errcode.ErrorResponse
	if errors.As(err, &answer) {
		return answer.StatusCode
	}
	return 0
}

func (r *registry) has(ctx context.Context, d ocispec.Descriptor) (bool, error) {
	if r.bad != nil {
		return false, r.bad
	}
	return r.Blobs().Exists(ctx, d)
}

// pushBlob sends a blob, if the registry cannot take it from another repository.
func (r *registry) pushBlob(ctx context.Context, d ocispec.Descriptor, data []byte) (sent bool, err error) {
	content := func() (io.ReadCloser, error) {
		sent = true
		return io.NopCloser(bytes.NewReader(data)), nil
	}
	for _, other := range r.others {
		if there, err := r.sibling(other); err == nil {
			if has, err := there.Blobs().Exists(ctx, d); err == nil && has {
				err = r.Mount(ctx, d, other, content)
				return sent, err
			}
		}
	}
	return true, r.Blobs().Push(ctx, d, bytes.NewReader(data))
}

// sibling is another repository of the same registry.
func (r *registry) sibling(name string) (*remote.Repository, error) {
	other, err := remote.NewRepository(r.Reference.Registry + "/" + name)
	if err == nil {
		other.Client, other.PlainHTTP = r.client, r.PlainHTTP
	}
	return other, err
}

func (r *registry) pushManifest(ctx context.Context, d ocispec.Descriptor, data []byte) error {
	return r.Manifests().Push(ctx, d, bytes.NewReader(data))
}

func (r *registry) tag(ctx context.Context, d ocispec.Descriptor, data []byte, tag string) error {
	return r.Manifests().PushReference(ctx, d, bytes.NewReader(data), tag)
}

// remove deletes manifests. Tags and blobs go with them when the registry collects its garbage.
func (r *registry) remove(ctx context.Context, _ []string, all []ocispec.Descriptor) error {
	for _, d := range all {
		err := r.Manifests().Delete(ctx, d)
		switch {
		case err == nil, errors.Is(err, errdef.ErrNotFound):
		case statusOf(err) == http.StatusMethodNotAllowed, errors.Is(err, errdef.ErrUnsupported):
			return errors.New("the registry allows no deletion; its operator can")
		default:
			return err
		}
	}
	return nil
}

// descriptor describes data of a media type.
func descriptor(mediaType string, data []byte) ocispec.Descriptor {
	return ocispec.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(data), Size: int64(len(data))}
}

// written is the JSON form of a manifest or index, with its descriptor.
func written(mediaType string, value any) ([]byte, ocispec.Descriptor) {
	data, err := json.Marshal(value)
	if err != nil {
		panic(err) // there is nothing in it that has no JSON form
	}
	return data, descriptor(mediaType, data)
}
