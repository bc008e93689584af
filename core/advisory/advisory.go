// Package advisory reads published security advisories in the OSV format
// (https://ossf.github.io/osv-schema/) and reports which builds they concern.
//
// It promises that an advisory that names a package is never left out in silence: where an
// order does not know a version, or a commit cannot be found, the build counts as affected, with
// the reason. It asks no clock and sends nothing.
package advisory

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"fernladder/core/recipe"
)

// An Entry is an advisory, as far as it is used.
type Entry struct {
	ID        string            `json:"id"`
	Modified  string            `json:"modified"` // RFC 3339
	Published string            `json:"published"`
	Withdrawn string            `json:"withdrawn"` // "": it holds
	Aliases   []string          `json:"aliases"`
	Upstream  []string          `json:"upstream"` // advisories that it is derived from
	Summary   string            `json:"summary"`
	Details   string            `json:"details"`
	Severity  []Severity        `json:"severity"`
	Affected  []AffectedPackage `json:"affected"`
	Links     []Reference       `json:"references"`
	Specific  specific          `json:"database_specific"`
}

// A Reference is a page about an advisory.
type Reference struct {
	Type string `json:"type"`
	URL  string `json:"url"`
}

// An AffectedPackage is a package that an advisory names.
type AffectedPackage struct {
	Package  Package    `json:"package"`
	Severity []Severity `json:"severity"`
	Ranges   []Range    `json:"ranges"`
	Versions []string   `json:"versions"`
	Specific specific   `json:"ecosystem_specific"`
}

// Package is the name of a package.
type Package struct {
	Ecosystem string `json:"ecosystem"` // and a release of it after a colon
	Name      string `json:"name"`
	Purl      string `json:"purl"`
}

// A Range is a span of versions or commits.
type Range struct {
	Type   string  `json:"type"` // SEMVER, ECOSYSTEM or GIT
	Repo   string  `json:"repo"` // of GIT
	Events []Event `json:"events"`
}

// An Event is where a range begins or ends. One field is set.
type Event struct {
	Introduced   string `json:"introduced"` // "0": from the beginning
	Fixed        string `json:"fixed"`
	LastAffected string `json:"last_affected"`
	Limit        string `json:"limit"`
}

// specific are fields that each database has its own way with.
type specific struct{ Severity string }

func (s *specific) UnmarshalJSON(data []byte) error {
	var any struct {
		Severity json.RawMessage `json:"severity"`
	}
	if json.Unmarshal(data, &any) == nil {
		_ = json.Unmarshal(any.Severity, &s.Severity) // which is a text in some
	}
	return nil
}

// parse reads an entry.
func parse(data []byte) (*Entry, error) {
	var e Entry
	if err := json.Unmarshal(data, &e); err != nil {
		return nil, err
	}
	if recipe.CheckAdvisory(e.ID) != nil {
		return nil, fmt.Errorf("%.60q is not the id of an advisory", e.ID)
	}
	return &e, nil
}

// Names are the ids under which the advisory is known.
func (e *Entry) Names() []string {
	names := append([]string{e.ID}, e.Aliases...)
	if len(e.Upstream) == 1 { // of several, it is not the same
		names = append(names, e.Upstream...)
	}
	return slices.DeleteFunc(names, func(id string) bool { return recipe.CheckAdvisory(id) != nil })
}

// A Subject is a release, of which advisories can say that it has a hole.
type Subject struct {
	Name, Version string
	Commit        string // of its source,
	Repository    string // that is from this one
	Known         recipe.KnownAs
}

// A Verdict is what an entry says of a subject, in rising order.
type Verdict int

// The verdicts.
const (
	Elsewhere  Verdict = iota // it is about other packages
	Unaffected                // it is about other versions
	Vulnerable
)

// An Opinion is the verdict of an entry, or of several that are joined.
type Opinion struct {
	Verdict Verdict
	Doubt   string   // why it may not be so; it counts as affected nevertheless
	Fixed   []string // versions that the entry says are mended
}

// and joins opinions: the worst counts, and a sure one before a doubtful one.
func (o Opinion) and(other Opinion) Opinion {
	fixed := append(slices.Clone(o.Fixed), other.Fixed...)
	slices.Sort(fixed)
	fixed = slices.Compact(fixed)
	if c := cmp.Compare(other.Verdict, o.Verdict); c > 0 || c == 0 && other.Doubt == "" {
		o = other
	}
	o.Fixed = fixed
	return o
}

// Ancestry answers whether a commit is that of the subject or comes before it. Its error says why
// that is unknown.
type Ancestry func(s *Subject, before string) (bool, error)

// judge says what the entry says of a subject. A withdrawn one says nothing.
func (e *Entry) judge(s *Subject, ask Ancestry) Opinion {
	var all Opinion
	if e.Withdrawn != "" {
		return all
	}
	for i := range e.Affected {
		if a := &e.Affected[i]; a.names(s) {
			all = all.and(a.judge(s, ask))
		}
	}
	return all
}

// names reports whether it is about the subject's package.
func (a *AffectedPackage) names(s *Subject) bool {
	if s.Known.Purl != "" && a.Package.Purl != "" && plainPurl(a.Package.Purl) == plainPurl(s.Known.Purl) {
		return true
	}
	for _, n := range s.Known.Names {
		if n.Ecosystem == ecosystem(a.Package.Ecosystem) && plainName(n.Ecosystem, n.Name) ==
			plainName(n.Ecosystem, a.Package.Name) {
			return true
		}
	}
	return slices.ContainsFunc(a.Ranges, func(r Range) bool { return r.inRepository(s) })
}

func (r *Range) inRepository(s *Subject) bool {
	return r.Type == "GIT" && s.Known.Git != "" && plainURL(r.Repo) == plainURL(s.Known.Git)
}

func (a *AffectedPackage) judge(s *Subject, ask Ancestry) Opinion {
	o := orderOf(a.Package.Ecosystem)
	var all Opinion
	if slices.ContainsFunc(a.Versions, func(v string) bool { return o.same(s.Version, v) }) {
		all.Verdict = Vulnerable
	}
	git := false
	for _, r := range a.Ranges {
		if r.Type != "GIT" {
			all = all.and(r.judge(s.Version, o))
			continue
		}
		if s.Known.Git != "" && !r.inRepository(s) {
			continue // a copy of the package
		}
		git = true
		if s.Commit != "" {
			all = all.and(r.judgeCommit(s, ask))
		}
	}
	switch {
	case git && s.Commit == "" && all.Verdict == Elsewhere:
		return all.and(a.judgeTags(s.Version))
	case len(a.Ranges) == 0 && len(a.Versions) == 0:
		return all.and(Opinion{Vulnerable, "the advisory names no versions", nil})
	}
	return all.and(Opinion{Verdict: Unaffected})
}

// judge follows the algorithm of the format: events in order, each of which turns the state.
func (r *Range) judge(v string, o order) Opinion {
	if r.Type == "SEMVER" {
		o = semantic
	}
	var doubt error
	compare := func(theirs string) int { // of ours with theirs
		c, err := o.compare(v, theirs)
		if err != nil && doubt == nil {
			doubt = err
		}
		return c
	}
	events := slices.Clone(r.Events)
	slices.SortStableFunc(events, func(a, b Event) int {
		x, y := a.at(), b.at()
		if x == y || x == "0" || y == "0" {
			return cmp.Compare(btoi(x != "0"), btoi(y != "0"))
		}
		c, err := o.order(x, y)
		if err != nil {
			doubt = err
		}
		return c
	})
	result, limited, within := Opinion{Verdict: Unaffected}, false, false
	for _, e := range events {
		switch {
		case e.Introduced == "0" || e.Introduced != "" && compare(e.Introduced) >= 0:
			result.Verdict = Vulnerable
		case e.Fixed != "" && compare(e.Fixed) >= 0, e.LastAffected != "" && compare(e.LastAffected) > 0:
			result.Verdict = Unaffected
		}
		if release := o.upstream(e.Fixed); e.Fixed != "" {
			if c, err := o.compare(release, e.Fixed); err == nil && c >= 0 { // else only the distribution's package is
				result.Fixed = append(result.Fixed, release)
			}
		}
		if e.Limit != "" {
			limited, within = true, within || e.Limit == "*" || compare(e.Limit) < 0
		}
	}
	if limited && !within {
		result.Verdict = Unaffected
	}
	if doubt != nil {
		result.Verdict, result.Doubt = Vulnerable, doubt.Error()
	}
	return result
}

func (e Event) at() string { return cmp.Or(e.Introduced, e.Fixed, e.LastAffected, e.Limit) }

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// judgeCommit asks the repository.
func (r *Range) judgeCommit(s *Subject, ask Ancestry) Opinion {
	doubtful := func(err error) Opinion { return Opinion{Vulnerable, err.Error(), nil} }
	if ask == nil {
		return doubtful(errors.New("there is no clone that could be asked"))
	}
	begun, ended := false, false
	for _, e := range r.Events {
		at := e.at()
		if at == "0" {
			begun = begun || e.Introduced != ""
			continue
		}
		has, err := ask(s, at)
		if err != nil {
			return doubtful(err)
		}
		switch {
		case e.Introduced != "":
			begun = begun || has
		case e.Fixed != "":
			ended = ended || has
		case e.LastAffected != "":
			ended = ended || has && at != s.Commit
		}
	}
	if begun && !ended {
		return Opinion{Verdict: Vulnerable}
	}
	return Opinion{Verdict: Unaffected}
}

// judgeTags judges a release by the list of tags that a range of commits covers, among which it
// is not.
func (a *AffectedPackage) judgeTags(v string) Opinion {
	if len(a.Versions) == 0 {
		return Opinion{Vulnerable, "the advisory names commits, and no versions", nil}
	}
	for _, r := range a.Ranges {
		if slices.ContainsFunc(r.Events, func(e Event) bool { return e.Introduced == "" }) {
			return Opinion{Verdict: Unaffected}
		}
	}
	for _, tag := range a.Versions {
		c, err := ours.compare(v, tag)
		switch {
		case err != nil && strings.ContainsAny(tag, "0123456789"):
			return Opinion{Vulnerable, err.Error(), nil}
		case err == nil && c <= 0:
			return Opinion{Verdict: Unaffected}
		}
	}
	return Opinion{Vulnerable, "it is newer than all listed versions, and no fix is known", nil}
}

// ecosystem is the name of an ecosystem without its release.
func ecosystem(name string) string {
	name, _, _ = strings.Cut(name, ":")
	return name
}

// plainName is a name as an ecosystem compares it.
func plainName(ecosystem, name string) string {
	if ecosystem == "PyPI" {
		return strings.NewReplacer("_", "-", ".", "-").Replace(strings.ToLower(name))
	}
	return name
}

// plainPurl is a package URL without version, qualifiers and subpath.
func plainPurl(purl string) string {
	purl, _, _ = strings.Cut(purl, "#")
	purl, _, _ = strings.Cut(purl, "?")
	if i := strings.LastIndexByte(purl, '@'); i > strings.LastIndexByte(purl, '/') {
		purl = purl[:i]
	}
	if text, err := url.PathUnescape(purl); err == nil {
		purl = text
	}
	return strings.ToLower(strings.Trim(purl, "/"))
}

// plainURL is what is the same in the URLs of a repository.
func plainURL(text string) string {
	_, rest, _ := strings.Cut(text, "://")
	host, path, _ := strings.Cut(rest, "/")
	if _, named, is := strings.Cut(host, "@"); is {
		host = named
	}
	return strings.ToLower(host) + "/" + strings.TrimSuffix(strings.Trim(path, "/"), ".git")
}

// keys are what the subject is looked up by.
func (s *Subject) keys() (keys []string) {
	if s.Known.Purl != "" {
		keys = append(keys, keyPurl+plainPurl(s.Known.Purl))
	}
	if s.Known.Git != "" {
		keys = append(keys, keyRepo+plainURL(s.Known.Git))
	}
	for _, n := range s.Known.Names {
		keys = append(keys, keyName+plainName(n.Ecosystem, n.Name))
	}
	return keys
}

// Prefixes of keys in an index.
const (
	keyID   = "i:"
	keyName = "n:"
	keyPurl = "p:"
	keyRepo = "r:"
)
