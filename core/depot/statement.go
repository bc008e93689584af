package depot

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"

	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/store"
)

// The types of what is signed, and the names of the kind of build and of builder.
const (
	payloadType   = "application/vnd.in-toto+json"
	statementType = "https://in-toto.io/Statement/v1"
	predicateType = "https://slsa.dev/provenance/v1"
	ourBuildType  = "https://fernladder.example/build/v1"
	ourBuilder    = "https://fernladder.example/builder"
)

// A statement is an in-toto statement with SLSA provenance: of the published types, the fields that
// are written here.
type statement struct {
	Type          string     `json:"_type"`
	Subject       []resource `json:"subject"`
	PredicateType string     `json:"predicateType"`
	Predicate     provenance `json:"predicate"`
}

// A resource is something that a build was made from, or that it made.
type resource struct {
	Name        string            `json:"name,omitempty"`
	URI         string            `json:"uri,omitempty"`
	Digest      map[string]string `json:"digest,omitempty"`
	Annotations map[string]string `json:"annotations,omitempty"`
}

type provenance struct {
	Definition definition `json:"buildDefinition"`
	Run        run        `json:"runDetails"`
}

type definition struct {
	BuildType    string     `json:"buildType"`
	External     external   `json:"externalParameters"`
	Internal     internal   `json:"internalParameters"`
	Dependencies []resource `json:"resolvedDependencies"`
}

// external is what was asked for.
type external struct {
	Package string            `json:"package"`
	Version string            `json:"version"`
	ID      string            `json:"id"` // the build id
	Options map[string]string `json:"options,omitempty"`
}

// internal is how it was built.
type internal struct {
	Tree      string        `json:"tree"` // the path that it is for
	Prefix    string        `json:"prefix,omitempty"`
	Method    recipe.Method `json:"method"`
	Compiler  string        `json:"compiler"`
	Arch      string        `json:"arch"`
	System    string        `json:"system"`
	Isolation string        `json:"isolation"`
	NotBare   string        `json:"not_bare,omitempty"`
}

type run struct {
	Builder struct {
		ID      string            `json:"id"`
		Version map[string]string `json:"version,omitempty"`
	} `json:"builder"`
	Metadata struct {
		Invocation string    `json:"invocationId"`
		Started    time.Time `json:"startedOn"`
		Finished   time.Time `json:"finishedOn"`
	} `json:"metadata"`
}

// HostPackage is a package of the operating system that a build has used.
type HostPackage struct{ Purl, Name, Version string }

// stateOf is the statement about a build's manifest.
func stateOf(r *store.Receipt, manifest digest.Digest, used []HostPackage, program string) *statement {
	s := &statement{Type: statementType, PredicateType: predicateType,
		Subject: []resource{{Name: r.Ref.String(), Digest: map[string]string{"sha256": manifest.Encoded()}}}}
	d := &s.Predicate.Definition
	d.BuildType = ourBuildType
	d.External = external{r.Name, r.Version, r.ID, r.Options}
	d.Internal = internal{r.Tree, r.Prefix, r.Method, r.Compiler, r.Machine.Arch, r.Machine.Release, r.Isolation,
		r.NotBare}
	add := func(x resource) { d.Dependencies = append(d.Dependencies, x) }
	if r.RecipeSHA256 != "" {
		add(resource{Name: "recipe", URI: "recipe:" + r.Name, Digest: map[string]string{"sha256": r.RecipeSHA256}})
	}
	for _, x := range r.Sources {
		source := resource{Name: "source", URI: x.URL, Digest: map[string]string{}}
		if x.Commit != "" {
			source.Digest["gitCommit"] = x.Commit
		}
		if x.Digest.Hex != "" {
			source.Digest[x.Digest.Algorithm] = x.Digest.Hex
		}
		if x.Signed != nil {
			source.Annotations = map[string]string{"signed_by": x.Signed.Fingerprint}
		}
		add(source)
	}
	for _, x := range r.Patches {
		add(resource{Name: "patch " + x.File, Digest: map[string]string{x.Digest.Algorithm: x.Digest.Hex}})
	}
	for _, x := range r.Needs {
		add(resource{Name: x.Ref.String(), URI: "build:" + x.Ref.String(),
			Annotations: map[string]string{"role": string(x.Role), "build_id": x.ID}})
	}
	for _, x := range used {
		add(resource{Name: x.Name + " " + x.Version, URI: x.Purl})
	}
	details := &s.Predicate.Run
	details.Builder.ID, details.Builder.Version = ourBuilder, map[string]string{"fernladder": program}
	details.Metadata.Invocation, details.Metadata.Started = r.Ref.String(), r.Began.UTC()
	details.Metadata.Finished = r.Began.Add(time.Duration(r.Seconds * float64(time.Second))).UTC().Round(time.Second)
	return s
}

// differs says why a statement does not vouch for a build for a tree's path.
func (s *statement) differs(r store.Ref, tree string) string {
	of, how := s.Predicate.Definition.External, s.Predicate.Definition.Internal
	switch {
	case s.Predicate.Definition.BuildType != ourBuildType:
		return fmt.Sprintf("its statement is about another kind of build (%.80q)", s.Predicate.Definition.BuildType)
	case of.ID != r.ID || of.Package != r.Name || of.Version != r.Version:
		return fmt.Sprintf("it is signed as %.60s %.60s, build %.60s", of.Package, of.Version, of.ID)
	case how.Tree != tree:
		return fmt.Sprintf("it was built for %.200s, and its programs look for each other there; here it would be in %s",
			how.Tree, tree)
	}
	return ""
}

// An envelope is a DSSE envelope.
type envelope struct {
	PayloadType string `json:"payloadType"`
	Payload     []byte `json:"payload"`
	Signatures  []struct {
		KeyID string `json:"keyid,omitempty"`
		Sig   []byte `json:"sig"`
	} `json:"signatures"`
}

// signedBytes are what is signed (DSSE 1, pre-authentication encoding).
func (e *envelope) signedBytes() []byte {
	return fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(e.PayloadType), e.PayloadType, len(e.Payload), e.Payload)
}

// seal signs a statement.
func seal(s *statement, by signature.Signer) ([]byte, error) {
	data, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	e := envelope{PayloadType: payloadType, Payload: data}
	made, err := by.Armored(e.signedBytes())
	if err != nil {
		return nil, fmt.Errorf("it cannot be signed: %w", err)
	}
	e.Signatures = append(e.Signatures, struct {
		KeyID string `json:"keyid,omitempty"`
		Sig   []byte `json:"sig"`
	}{by.Fingerprint(), made})
	return json.Marshal(e)
}

// open returns the statement in an envelope, if it is about a manifest and a key has signed it.
func open(data []byte, manifest digest.Digest, keys *signature.Keys,
	now time.Time) (*statement, *signature.Good, error) {
	var e envelope
	if err := json.Unmarshal(data, &e); err != nil {
		return nil, nil, fmt.Errorf("the envelope of its signature is damaged: %w", err)
	}
	signed := e.signedBytes()
	var good *signature.Good
	var reasons []string
	const most = 16
	for _, s := range e.Signatures[:min(len(e.Signatures), most)] {
		file := signature.File{Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(signed)), nil }}
		var err error
		if good, err = signature.VerifyFor(Namespace, file, s.Sig, keys, now); err == nil {
			break
		}
		var bad *signature.Bad
		if errors.As(err, &bad) {
			reasons = append(reasons, bad.Reasons...)
		} else {
			reasons = append(reasons, err.Error())
		}
	}
	if good == nil {
		if len(reasons) == 0 {
			reasons = []string{"its envelope has no signature"}
		}
		return nil, nil, errors.New("no signature that counts: " + strings.Join(reasons, "; "))
	}
	var s statement
	switch err := json.Unmarshal(e.Payload, &s); {
	case e.PayloadType != payloadType || err != nil || s.Type != statementType || s.PredicateType != predicateType:
		return nil, nil, errors.New("what is signed is not a statement of provenance")
	case len(s.Subject) != 1 || s.Subject[0].Digest["sha256"] != manifest.Encoded():
		return nil, nil, errors.New("the signed statement is about another build, or about another state of this one")
	}
	return &s, good, nil
}
