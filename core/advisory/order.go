package advisory

import (
	"cmp"
	"fmt"
	"strings"

	"golang.org/x/mod/semver"

	"fernladder/core/ospackage"
	"fernladder/core/pattern"
	"fernladder/core/version"
)

// An order is how an ecosystem compares versions. What we build has upstream's version; that of
// a distribution's package has a revision of the package, too.
type order struct {
	order    func(a, b string) (int, error)         // two versions of the ecosystem
	compare  func(ours, theirs string) (int, error) // upstream's version with one of the ecosystem
	upstream func(theirs string) string
}

var (
	ours     = order{byOurs, byOurs, asIs}
	semantic = order{bySemver, bySemver, asIs}
)

// orders are the orders of ecosystems that have one of their own.
var orders = map[string]order{
	"npm": semantic, "crates.io": semantic, "Go": semantic,
	"Debian": distribution(ospackage.Deb), "Ubuntu": distribution(ospackage.Deb),
	"Alpine": distribution(apk), "Wolfi": distribution(apk), "Chainguard": distribution(apk),
	"Red Hat": distribution(ospackage.RPM), "AlmaLinux": distribution(ospackage.RPM),
	"Rocky Linux": distribution(ospackage.RPM),
	"SUSE":        distribution(ospackage.RPM), "openSUSE": distribution(ospackage.RPM),
	"Mageia": distribution(ospackage.RPM), "openEuler": distribution(ospackage.RPM),
}

const apk ospackage.Format = "apk"

func orderOf(name string) order {
	if o, is := orders[ecosystem(name)]; is {
		return o
	}
	return ours
}

// same reports whether a listed version is ours.
func (o order) same(v, listed string) bool {
	if v == listed {
		return true
	}
	c, err := ours.compare(v, o.upstream(listed))
	return err == nil && c == 0
}

func asIs(text string) string { return text }

// A tag names a version behind a prefix: v1.2, dewcalc-1.2, release_1_2.
var tagPrefix = pattern.New(`^(?:[A-Za-z]{2}[A-Za-z0-9+]*[_-])+[vV]?|^[A-Za-z]+`)

// untagged is the version that a tag names.
func untagged(text string) string {
	if len(text) > 0 && text[0] >= '0' && text[0] <= '9' {
		return text
	}
	rest := strings.TrimLeft(tagPrefix.ReplaceAllString(text, ""), "._-")
	if !strings.Contains(rest, ".") {
		rest = strings.NewReplacer("_", ".", "-", ".").Replace(rest)
	}
	return rest
}

func byOurs(a, b string) (int, error) {
	v, err := version.Parse(untagged(a))
	if err != nil {
		return 0, fmt.Errorf("the order of the version %.60q is unknown", a)
	}
	w, err := version.Parse(untagged(b))
	if err != nil {
		return 0, fmt.Errorf("the order of the version %.60q is unknown", b)
	}
	return v.Compare(w), nil
}

// bySemver compares by Semantic Versioning 2.0.0, and other versions by our order.
func bySemver(a, b string) (int, error) {
	x, y := "v"+strings.TrimPrefix(a, "v"), "v"+strings.TrimPrefix(b, "v")
	if semver.IsValid(x) && semver.IsValid(y) {
		return semver.Compare(x, y), nil
	}
	return byOurs(a, b)
}

// repacked is what distributions add to the version of a source that they changed.
var repacked = pattern.New(`[.+~-]?(dfsg|ds|repack)[.+~]?\d*$`)

// firstRevision is the revision of the first package of a release.
var firstRevision = pattern.New(`^(0|1|0\.1|0ubuntu[01]|1ubuntu1|r0|1\.[a-z][a-z0-9_.]*)?$`)

// distribution is the order of a distribution. Upstream's release is older than a package of it
// with a later revision, because only the package has the distribution's patches; it is the same
// as the first package of it.
func distribution(format ospackage.Format) order {
	split := func(theirs string) (upstream, revision string) {
		if epoch, rest, is := strings.Cut(theirs, ":"); is && strings.Trim(epoch, "0123456789") == "" {
			theirs = rest
		}
		if i := strings.LastIndexByte(theirs, '-'); i >= 0 {
			theirs, revision = theirs[:i], theirs[i+1:]
		}
		if _, real, is := strings.Cut(theirs, "really"); is { // of a version that had to be taken back
			theirs = real
		}
		return repacked.ReplaceAllString(theirs, ""), revision
	}
	compare := func(v version.Version, upstream string) int {
		switch format {
		case ospackage.Deb:
			return ospackage.CompareDeb(ospackage.DebVersion(v), upstream)
		case ospackage.RPM:
			return ospackage.CompareRPM(ospackage.RPMVersion(v), upstream)
		}
		return version.CompareTexts(v.String(), upstream)
	}
	return order{
		order: func(a, b string) (int, error) {
			if format == apk {
				x, r := split(a)
				y, s := split(b)
				return cmp.Or(version.CompareTexts(x, y), version.CompareTexts(strings.TrimPrefix(r, "r"),
					strings.TrimPrefix(s, "r"))), nil
			}
			return ospackage.CompareWhole(format, a, b), nil
		},
		compare: func(text, theirs string) (int, error) {
			v, err := version.Parse(repacked.ReplaceAllString(text, "")) // as archives of a mirror are called
			if err != nil {
				return 0, fmt.Errorf("the order of the version %.60q is unknown", text)
			}
			upstream, revision := split(theirs)
			c := compare(v, upstream)
			if c == 0 && !firstRevision.MatchString(revision) {
				return -1, nil
			}
			return c, nil
		},
		upstream: func(theirs string) string {
			upstream, _ := split(theirs)
			return upstream
		},
	}
}
