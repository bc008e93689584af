package recipe

import (
	"strings"

	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// Track says how settled a release is.
type Track string

// The tracks. A release on Preview is only built on request. One on Tip is the head of a branch:
// its commit and version are not in the recipe but in a Pin.
const (
	Stable  Track = "stable"
	Preview Track = "preview"
	Tip     Track = "tip"
)

// A Release is one version of the package and the place of its source: an archive, or a commit
// or revision of a repository.
type Release struct {
	tomlfile.Position
	Version   version.Version // of a tip: zero, until it is pinned
	Track     Track
	Archive   []string        // empty: as the recipe says for all releases
	Signature []string        // the same
	Digest    Digest          // of the archive
	Size      int             // of the archive in bytes; 0 where the recipe does not say
	Patches   []string        // file names beside the recipe, applied in order
	Defaults  []tomlfile.Pair // of options, where they are others than in other releases

	Git, Branch, Tag, Commit string
	Svn, Revision            string

	stated bool // there is a version, right or not
}

// Repository is the URL of the source's repository, or "".
func (x *Release) Repository() string {
	if x.Git != "" {
		return x.Git
	}
	return x.Svn
}

// A Pin is the commit and the version of the tip of a branch. Lock files hold pins.
type Pin struct {
	Commit  string
	Version version.Version
}

// Pinned returns the tip release with a pin's commit and version.
func (x *Release) Pinned(p Pin) *Release {
	pinned := *x
	pinned.Version = p.Version
	if x.Git != "" {
		pinned.Commit = p.Commit
	} else {
		pinned.Revision = p.Commit
	}
	return &pinned
}

// Tip returns the release on the tip track, or nil.
func (r *Recipe) Tip() *Release {
	for _, x := range r.Releases {
		if x.Track == Tip {
			return x
		}
	}
	return nil
}

// Release returns the release of a version, or nil.
func (r *Recipe) Release(v version.Version) *Release {
	for _, x := range r.Releases {
		if !x.Version.IsZero() && x.Version.Compare(v) == 0 {
			return x
		}
	}
	return nil
}

// Newest is the stable release with the highest version, or nil.
func (r *Recipe) Newest() *Release {
	var newest *Release
	for _, x := range r.Releases {
		if x.Track == Stable && (newest == nil || x.Version.Compare(newest.Version) > 0) {
			newest = x
		}
	}
	return newest
}

// Buildable is the name with which a person requests a build of the package: NAME, or
// NAME:VERSION if all its releases are previews.
func (r *Recipe) Buildable() string {
	if r.Newest() != nil {
		return r.Name
	}
	for _, x := range r.Releases {
		if x.Track == Preview {
			return r.Name + ":" + x.Version.String()
		}
	}
	return r.Name
}

// A Digest is what a file must hash to.
type Digest struct {
	Algorithm string `json:"algorithm"` // "sha256" or "sha512"
	Hex       string `json:"hex"`       // in lower case
}

// String returns ALGORITHM:HEX.
func (d Digest) String() string { return d.Algorithm + ":" + d.Hex }

// An Extra is a second archive, unpacked inside the source.
type Extra struct {
	tomlfile.Position
	Name      string
	Archive   []string
	Gather    string // shell text that gathers it, instead of an archive
	Signature []string
	Digest    Digest
	Size      int    // in bytes; 0 where the recipe does not say
	Into      string // a directory of the source, with slashes
	Purl      string // its package URL, with a version
	When      Condition
}

// A Supply is a file that cannot be downloaded: the administrator supplies it.
type Supply struct {
	tomlfile.Position
	File   string // the name below $FL_SUPPLY under which the build finds it
	Digest Digest
	About  string
	When   Condition
}

// Sources returns the URLs of a release's archive in the order in which they are tried.
func (r *Recipe) Sources(x *Release) []string { return r.expandAll(x, x.Archive, r.Archive) }

// Signatures returns the URLs of the signature of a release's archive, in the order in which
// they are tried; none means that the archive has no signature.
func (r *Recipe) Signatures(x *Release) []string {
	return r.expandAll(x, x.Signature, r.Signature)
}

// Inside returns URLs of an extra of a release.
func (r *Recipe) Inside(x *Release, urls []string) []string { return r.expandAll(x, urls, nil) }

// expandAll puts name and version into the URLs of a release, or into those for all releases if
// it has none of its own.
func (r *Recipe) expandAll(x *Release, urls, usual []string) []string {
	if len(urls) == 0 {
		urls = usual
	}
	expanded := make([]string, len(urls))
	for i, url := range urls {
		expanded[i] = r.ExpandURL(url, x.Version.String())
	}
	return expanded
}

// ExpandURL puts name and version into a URL.
func (r *Recipe) ExpandURL(url, version string) string {
	return Expand(url, func(name string) (string, bool) {
		switch name {
		case "FL_NAME":
			return r.Name, true
		case "FL_VERSION":
			return version, true
		}
		return "", false
	})
}

// signatureSuffixes are the suffixes of signatures beside archives.
var signatureSuffixes = []string{".asc", ".sig", ".sign", ".minisig", ".gpg"}

// SignaturePlaces returns the usual places of an archive's signature: beside it, over the
// archive itself or over the tar file inside.
func SignaturePlaces(archive string) []string {
	var places []string
	for _, suffix := range signatureSuffixes {
		places = append(places, archive+suffix)
	}
	for _, compression := range []string{".gz", ".bz2", ".xz", ".zst", ".lz"} {
		if tar, found := strings.CutSuffix(archive, compression); found && strings.HasSuffix(tar, ".tar") {
			places = append(places, tar+".sign", tar+".asc")
		}
	}
	return places
}
