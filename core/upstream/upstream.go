// Package upstream looks for newer releases where a recipe says that they are
// announced, and adds them to recipes.
package upstream

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"fernladder/core/event"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/source"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// Newest is the highest version that a recipe has as a stable release, or zero.
func Newest(r *recipe.Recipe) version.Version {
	if x := r.Newest(); x != nil {
		return x.Version
	}
	return version.Version{}
}

// Unannounced is the problem of a recipe that does not say where its releases are announced.
const Unannounced problem.Code = "unannounced"

// Newer reads the page where a package's releases are announced, and returns the
// versions on it that are newer than those of the recipe, the newest first. Errors
// have the code Unannounced, or are a *source.FetchError.
func Newer(ctx context.Context, m *machine.Machine, r *recipe.Recipe) ([]version.Version, error) {
	if r.Upstream.Pattern == nil {
		return nil, problem.New(problem.Usage, r.Name,
			"%s does not say where its releases are announced; add [upstream] with page and pattern to %s", r.Name, r.File).
			Coded(Unannounced).Remedy(problem.NameRelease, r.Name)
	}
	const what = "the announcements"
	url := r.ExpandURL(r.Upstream.Page, "")
	page, err := m.Archives.FetchSmall(ctx, url)
	var failed *source.FetchError
	if errors.As(err, &failed) {
		failed.Wanted.Package, failed.What = r.Name, what
	}
	if err != nil {
		return nil, err
	}
	matches := r.Upstream.Pattern.FindAllStringSubmatch(string(page), -1)
	if len(matches) == 0 {
		return nil, &source.FetchError{Wanted: source.Wanted{Package: r.Name}, What: what, Attempts: []source.Attempt{
			{URL: source.Redacted(url), Err: fmt.Errorf("nothing on the page matches the pattern %s of the recipe",
				r.Upstream.Pattern)}}}
	}
	has := Newest(r)
	newer := []version.Version{}
	for _, match := range matches {
		v, err := version.Parse(match[1])
		if err == nil && r.Release(v) == nil && (has.IsZero() || v.Compare(has) > 0) &&
			!slices.ContainsFunc(newer, func(o version.Version) bool { return o.Compare(v) == 0 }) {
			newer = append(newer, v)
		}
	}
	slices.SortFunc(newer, func(a, b version.Version) int { return b.Compare(a) })
	return newer, nil
}

// A Branch is what is new of a package that was built from the head of a branch.
type Branch struct {
	Built store.Ref
	source.Since
}

// OnBranch says what has come onto a recipe's branch since the newest build from it; nil without one.
func OnBranch(ctx context.Context, m *machine.Machine, r *recipe.Recipe) (*Branch, error) {
	tip := r.Tip()
	if tip == nil {
		return nil, nil
	}
	receipts, err := m.Store.ReceiptsOf(r.Name)
	if err != nil {
		return nil, m.Store.Wrap(err)
	}
	var newest *store.Receipt
	commit := ""
	for _, x := range receipts {
		v, err := version.Parse(x.Version)
		if err != nil || r.Release(v) != nil || newest != nil && x.Began.Before(newest.Began) {
			continue
		}
		if i := slices.IndexFunc(x.Sources, func(s store.Source) bool { return s.Commit != "" && s.Into == "" }); i >= 0 {
			newest, commit = x, x.Sources[i].Commit
		}
	}
	if newest == nil {
		return nil, nil
	}
	if err := m.MayRead(r, tip); err != nil {
		return nil, err
	}
	since, err := m.Repositories.Since(ctx, tip, r.Name, r.ExpandURL(tip.Repository(), ""), commit)
	return &Branch{newest.Ref, since}, m.Stored(err)
}

// Added is a release that was added to a recipe.
type Added struct {
	*recipe.Release
	Signed  string            // by whom, or "" where no signature covers the digest
	Patched []*recipe.Release // other releases, which have patches
}

// Add fetches the archive of a release and adds the release to the recipe, in front of
// the others, with its digest. Nothing else in the file changes. If the recipe names
// signatures, that of the archive has to be good. A version that is a preview by its
// own words is one.
func Add(ctx context.Context, m *machine.Machine, r *recipe.Recipe, v version.Version) (Added, error) {
	if x := r.Release(v); x != nil {
		return Added{}, problem.New(problem.Usage, r.Name, "%s has release %s already (%s)", r.Name, x.Version, x.Position)
	}
	x := &recipe.Release{Version: v, Track: recipe.Stable}
	if v.Preview() {
		x.Track = recipe.Preview
	}
	if len(r.Archive) == 0 && !likeOthers(r, x) {
		return Added{}, problem.New(problem.Usage, r.Name,
			"%s does not say where other releases of %s are: no URL contains the version; add archive with $FL_VERSION to "+
				"[source]", r.File, r.Name)
	}
	if err := m.Store.Prepare(); err != nil {
		return Added{}, err
	}
	added := Added{Release: x}
	var err error
	if added.Signed, err = obtain(ctx, m, r, x); err != nil {
		return added, m.Stored(err)
	}
	for _, other := range r.Releases {
		if len(other.Patches) > 0 {
			added.Patched = append(added.Patched, other)
		}
	}
	return added, r.Change(func(e *tomlfile.Edit) { e.InsertBefore("release", recipe.ReleaseText(e.Style("release"), x)) })
}

// likeOthers gives a release the URLs of the newest other one, with its version in the
// place of that one's. It returns false where no URL has a version in it.
func likeOthers(r *recipe.Recipe, x *recipe.Release) bool {
	var model *recipe.Release
	for _, other := range r.Releases {
		if len(other.Archive) > 0 && strings.Contains(other.Archive[0], other.Version.String()) &&
			(model == nil || other.Version.Compare(model.Version) > 0) {
			model = other
		}
	}
	if model == nil {
		return false
	}
	renamed := func(urls []string) []string {
		var all []string
		for _, url := range urls {
			all = append(all, strings.ReplaceAll(url, model.Version.String(), x.Version.String()))
		}
		return all
	}
	x.Archive, x.Signature = renamed(model.Archive), renamed(model.Signature)
	return true
}

// obtain fetches the archive of a release that is not in the recipe yet, fills in what
// it is, and verifies its signature if the recipe names one.
func obtain(ctx context.Context, m *machine.Machine, r *recipe.Recipe, x *recipe.Release) (signed string, err error) {
	var failed error
	for _, url := range r.Sources(x) {
		var file string
		if file, x.Digest, err = m.Archives.FetchUnpinned(ctx, url); err == nil {
			info, err := os.Stat(file)
			if err != nil {
				return "", m.Store.Wrap(err)
			}
			x.Size = int(info.Size())
			break
		}
		failed = errors.Join(failed, err)
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
	}
	if err != nil {
		return "", failed
	}
	if len(r.Signatures(x)) == 0 {
		return "", nil
	}
	wanted := source.Wanted{Package: r.Name, Version: x.Version.String(), URLs: r.Sources(x), Digest: x.Digest, At: r.File,
		Signed: &source.Signed{URLs: r.Signatures(x), Keys: r.KeyFiles()}}
	// Whose signature it is, is said with the result.
	network, quiet := *m.Archives.Network, *m.Archives
	network.Events, quiet.Network = event.Nowhere, &network
	got, err := quiet.Fetch(ctx, wanted)
	if err != nil {
		return "", err
	}
	return got.Signed.String(), nil
}

// Warnings asks the sites of a recipe's releases whether they still have the archives,
// serve them by https, and offer signatures that the recipe does not name.
func Warnings(ctx context.Context, m *machine.Machine, r *recipe.Recipe) (tomlfile.Problems, error) {
	var warnings tomlfile.Problems
	for _, x := range r.Releases {
		for _, url := range r.Sources(x) {
			offer, err := m.Archives.Ask(ctx, url, len(r.Signatures(x)) > 0)
			if err != nil {
				return nil, err
			}
			warn := func(advice, format string, args ...any) {
				at := x.Position
				at.File = r.File
				warnings = append(warnings,
					tomlfile.Problem{Position: at, Source: "[[release]]", Message: fmt.Sprintf(format, args...), Advice: advice})
			}
			if offer.Gone != "" {
				warn("", "%s: %s", offer.URL, offer.Gone)
			}
			if offer.HTTPS != "" {
				warn("write https", "%s is served by https too", offer.URL)
			}
			if offer.Sig != "" {
				warn("name it as signature, and its key in [source]", "release %s names no signature, but there is one: %s",
					x.Version, offer.Sig)
			}
		}
	}
	return warnings, nil
}
