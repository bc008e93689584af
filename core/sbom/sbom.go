// Package sbom writes bills of materials: what builds are made of, built with and run with, as
// SPDX 2.3 (ISO/IEC 5962) and CycloneDX 1.6 (ECMA-424) documents in JSON.
//
// The same builds give the same bytes: the time of a document is that of its latest build, and
// its identifier a digest of what it says.
package sbom

import (
	"cmp"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/package-url/packageurl-go"
	"github.com/zeebo/blake3"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

// Format is a format of documents.
type Format string

// The formats.
const (
	SPDX      Format = "spdx"
	CycloneDX Format = "cyclonedx"
)

// Formats are all of them.
var Formats = []Format{SPDX, CycloneDX}

// Extension is the usual extension of the names of documents.
func (f Format) Extension() string {
	if f == CycloneDX {
		return "cdx.json"
	}
	return "spdx.json"
}

// A Bill is what a document lists.
type Bill struct {
	Name  string // what the document is about
	Tool  string // that made the builds, with its version
	Parts []*Part
}

// A Part is a build.
type Part struct {
	*store.Receipt
	Root  bool          // it is described, rather than needed by what is
	Files []File        // none, unless they were asked for
	Hosts []HostPackage // of the operating system that it uses
}

// A File is a regular file of a tree.
type File struct{ Path, SHA1, SHA256 string }

// A HostPackage is an installed package of the operating system.
type HostPackage struct {
	Name, Version string
	Type          string // of package URLs: deb, rpm, alpm or apk
	Distribution  string // as os-release(5) has it
}

// Purl is its package URL.
func (p HostPackage) Purl() string {
	return packageurl.NewPackageURL(p.Type, p.Distribution, p.Name, p.Version, nil, "").ToString()
}

// purl is the package URL of a build.
func (p *Part) purl() string { return p.KnownAs.PurlOf(p.Name, p.Version) }

// Write makes a document, with a line break at its end.
func (b *Bill) Write(f Format) ([]byte, error) {
	var document any
	if f == CycloneDX {
		document = b.cycloneDX()
	} else {
		document = b.spdx()
	}
	data, err := json.MarshalIndent(document, "", " ")
	return append(data, '\n'), err
}

// time is that of the latest build.
func (b *Bill) time() string {
	latest := time.Unix(0, 0)
	for _, p := range b.Parts {
		if p.Began.After(latest) {
			latest = p.Began
		}
	}
	return latest.UTC().Format("2006-01-02T15:04:05Z")
}

// uuid identifies a document by its contents (RFC 9562, version 8).
func uuid(of any) string {
	data, _ := json.Marshal(of) // there is nothing in it that has no JSON form
	sum := blake3.Sum256(data)
	sum[6], sum[8] = sum[6]&0x0f|0x80, sum[8]&0x3f|0x80
	x := hex.EncodeToString(sum[:16])
	return x[:8] + "-" + x[8:12] + "-" + x[12:16] + "-" + x[16:20] + "-" + x[20:]
}

// licence is the licence expression of a build, if it is one (SPDX 2.3, annex D), or "".
func (p *Part) licence() string {
	depth, operand := 0, true // whether a licence is next
	for word := range strings.FieldsSeq(strings.NewReplacer("(", " ( ", ")", " ) ").Replace(p.License)) {
		switch {
		case word == "(" && operand:
			depth++
		case word == ")" && !operand && depth > 0:
			depth--
		case slices.Contains([]string{"AND", "OR", "WITH"}, word) && !operand:
			operand = true
		case operand && recipe.CheckWord(strings.TrimSuffix(word, "+")) == nil && !strings.Contains(word, "_"):
			operand = false
		default:
			return ""
		}
	}
	if operand || depth != 0 {
		return ""
	}
	return p.License
}

// origin is where the source of a build was fetched from.
func origin(s store.Source) string {
	switch {
	case s.URL == "":
		return ""
	case s.Commit != "" && strings.Trim(s.Commit, "0123456789") == "":
		return "svn+" + s.URL + "@" + s.Commit
	case s.Commit != "":
		return "git+" + s.URL + "@" + s.Commit
	}
	return s.URL
}

// part is the build of a reference, or nil.
func (b *Bill) part(r store.Ref) *Part {
	if i := slices.IndexFunc(b.Parts, func(p *Part) bool { return p.Ref == r }); i >= 0 {
		return b.Parts[i]
	}
	return nil
}

// hosts are all packages of the operating system, each once.
func (b *Bill) hosts() (all []HostPackage) {
	for _, p := range b.Parts {
		all = append(all, p.Hosts...)
	}
	slices.SortFunc(all, func(a, b HostPackage) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Version, b.Version))
	})
	return slices.Compact(all)
}

// isLibrary reports whether another part needs a part as a library.
func (b *Bill) isLibrary(p *Part) bool {
	return slices.ContainsFunc(b.Parts, func(user *Part) bool {
		return slices.ContainsFunc(user.Needs, func(l store.Link) bool { return l.Ref == p.Ref && l.Role == recipe.Library })
	})
}
