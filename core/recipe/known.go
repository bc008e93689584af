package recipe

import (
	"fmt"
	"slices"
	"strings"

	"github.com/package-url/packageurl-go"

	"fernladder/core/pattern"
	"fernladder/core/tomlfile"
)

// KnownAs is what a package is called elsewhere: in bills of materials, and in databases of
// security advisories.
type KnownAs struct {
	Purl  string          `json:"purl,omitempty"` // a package URL without a version
	Git   string          `json:"git,omitempty"`  // the URL of its repository
	CPE   string          `json:"cpe,omitempty"`  // CPE 2.3, for any version
	Names []EcosystemName `json:"names,omitempty"`
}

// IsZero reports whether nothing is known.
func (k KnownAs) IsZero() bool {
	return k.Purl == "" && k.Git == "" && k.CPE == "" && len(k.Names) == 0
}

// Equal compares two.
func (k KnownAs) Equal(o KnownAs) bool {
	return k.Purl == o.Purl && k.Git == o.Git && k.CPE == o.CPE && slices.Equal(k.Names, o.Names)
}

// PurlOf is the package URL of a version of a package, which has the name here.
func (k KnownAs) PurlOf(name, version string) string {
	p, err := packageurl.FromString(k.Purl)
	if err != nil {
		p = packageurl.PackageURL{Type: packageurl.TypeGeneric, Name: name}
	}
	p.Version = version
	return p.ToString()
}

// An EcosystemName is the name of a package in an ecosystem of the OSV format.
type EcosystemName struct {
	Ecosystem string `json:"ecosystem"` // as the format writes it
	Name      string `json:"name"`
}

// ecosystems are keys of [known_as] and the names of ecosystems in the OSV format
// (https://ossf.github.io/osv-schema/#defined-ecosystems).
var ecosystems = [][2]string{
	{"almalinux", "AlmaLinux"}, {"alpine", "Alpine"}, {"conan", "ConanCenter"}, {"cran", "CRAN"},
	{"crates", "crates.io"}, {"debian", "Debian"}, {"go", "Go"}, {"hackage", "Hackage"},
	{"maven", "Maven"}, {"npm", "npm"}, {"opensuse", "openSUSE"}, {"oss_fuzz", "OSS-Fuzz"}, {"packagist", "Packagist"},
	{"pypi", "PyPI"}, {"redhat", "Red Hat"}, {"rocky", "Rocky Linux"}, {"rubygems", "RubyGems"}, {"suse", "SUSE"},
	{"ubuntu", "Ubuntu"},
}

// A Statement says why a published hole does not concern the package.
type Statement struct {
	tomlfile.Position
	ID      string // of the advisory
	Because string
	When    Condition
}

// A PatchNote says which published holes a patch ends.
type PatchNote struct {
	tomlfile.Position
	File  string
	Fixes []string // ids of advisories
}

func (r *Recipe) knownKeys() []tomlfile.Key {
	keys := []tomlfile.Key{
		tomlfile.Text("purl", &r.KnownAs.Purl, "Its package URL without a version: pkg:generic/NAME, or that of a "+
			"language's packages.").Check(checkPurl),
		tomlfile.Text("git", &r.KnownAs.Git, "The URL of its repository.").Check(CheckRepository),
		tomlfile.Text("cpe", &r.KnownAs.CPE, "Its CPE 2.3 name, cpe:2.3:a:VENDOR:PRODUCT and wildcards.").Check(checkCPE),
	}
	for _, e := range ecosystems {
		name := ""
		keys = append(keys, tomlfile.Parsed(e[0], "text", &name, func(text string) (string, error) {
			r.KnownAs.Names = append(r.KnownAs.Names, EcosystemName{e[1], text})
			return text, nil
		}, "The name of its package, or source package, in "+e[1]+".").Check(checkElsewhere))
	}
	return keys
}

func (r *Recipe) patchKeys(n *PatchNote) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("file", &n.File, "The patch, as releases list it.").Must(),
		tomlfile.Texts("fixes", &n.Fixes, "Ids of the advisories that it resolves, such as CVE-2026-0001.").Must().
			Check(CheckAdvisory),
	}
}

func (r *Recipe) statementKeys(id string, s *Statement) []tomlfile.Key {
	s.ID = id
	return []tomlfile.Key{
		tomlfile.Text("because", &s.Because, "Why, in one line.").Must().Check(CheckOneLine),
		r.whenKey(&s.When, "The condition under which it is so. It is evaluated for each build."),
	}
}

// FixesOf are the advisories that a patch resolves.
func (r *Recipe) FixesOf(patch string) (ids []string) {
	for _, n := range r.PatchNotes {
		if n.File == patch {
			ids = append(ids, n.Fixes...)
		}
	}
	return ids
}

// patchContradictions finds notes on patches that no release applies.
func (r *Recipe) patchContradictions(report reporter) {
	for _, n := range r.PatchNotes {
		if !slices.ContainsFunc(r.Releases, func(x *Release) bool { return slices.Contains(x.Patches, n.File) }) {
			report(n.Position, "add it to patches of a [[release]]", "no release has the patch %s", n.File)
		}
	}
}

var (
	cpeForm      = pattern.New(`^cpe:2\.3:[aoh](:[^:\s]+){2,10}$`)
	advisoryForm = pattern.New(`^[A-Za-z0-9][A-Za-z0-9._:+-]{2,99}$`)
)

func checkPurl(text string) error {
	p, err := packageurl.FromString(text)
	switch {
	case err != nil:
		return &tomlfile.At{Advice: "for example: pkg:generic/dewcalc", Err: fmt.Errorf("%q is not a package URL", text)}
	case p.Version != "" || len(p.Qualifiers) > 0:
		return &tomlfile.At{Advice: "end it before @ or ?", Err: fmt.Errorf("%q is for one version only", text)}
	}
	return nil
}

func checkPurlVersion(text string) error {
	if p, err := packageurl.FromString(text); err != nil || p.Version == "" {
		return &tomlfile.At{Advice: "for example: pkg:generic/curves@7",
			Err: fmt.Errorf("%q is not a package URL with a version", text)}
	}
	return nil
}

// SplitPurl is a package URL without its version, and the version.
func SplitPurl(text string) (plain, version string) {
	p, err := packageurl.FromString(text)
	if err != nil {
		return text, ""
	}
	version, p.Version = p.Version, ""
	return p.ToString(), version
}

func checkCPE(text string) error {
	if !cpeForm.MatchString(text) {
		return &tomlfile.At{Advice: "for example: cpe:2.3:a:vale:dewcalc", Err: fmt.Errorf("%q is not a CPE 2.3 name", text)}
	}
	return nil
}

func checkElsewhere(text string) error {
	const most = 200
	if len(text) > most || strings.ContainsFunc(text, func(c rune) bool { return c <= ' ' || c == 0x7f }) {
		return fmt.Errorf("%q cannot be the name of a package", text)
	}
	return nil
}

// CheckAdvisory returns an error if id cannot be that of an advisory.
func CheckAdvisory(id string) error {
	if !advisoryForm.MatchString(id) {
		return &tomlfile.At{Advice: "for example: CVE-2026-0001", Err: fmt.Errorf("%q is not the id of an advisory", id)}
	}
	return nil
}
