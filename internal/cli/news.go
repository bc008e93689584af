package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/event"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/source"
	"fernladder/core/version"
	"fernladder/internal/term"
)

func (a *app) newsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "news [NAME...]",
		Short: "Look for newer releases upstream",
		Long: `Reads the page that a recipe names in [upstream], and shows the versions on it
that are newer than those in the recipe. Without names, all recipes that name a
page are looked at.`,
		Example:           "  fernladder news\n  fernladder news mistplan && fernladder bump mistplan",
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.news(c.Context(), args) },
	}
}

// newsOf is what is new of a package.
type newsOf struct {
	Name  string            `json:"name"`
	Has   string            `json:"newest_in_recipe"`
	Newer []version.Version `json:"newer"` // the newest first
	Error string            `json:"error,omitempty"`
}

func (a *app) news(ctx context.Context, names []string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	all := len(names) == 0
	if all {
		if names, err = s.shelves.Names(); err != nil {
			return err
		}
	}
	found := []newsOf{}
	var failed error
	for _, name := range names {
		r, err := s.shelves.Find(name)
		if err != nil {
			return err
		}
		if r.Upstream.Pattern == nil {
			if all {
				continue
			}
			return usage("%s does not say where its releases are announced; add [upstream] with page and pattern to %s", name, r.File)
		}
		n := newsOf{Name: name, Has: newest(r).String()}
		if n.Newer, err = a.newer(ctx, s, r); err != nil {
			if ctx.Err() != nil || !all {
				return err
			}
			n.Error, failed = err.Error(), err
		}
		found = append(found, n)
	}
	if a.screen.JSON {
		err = a.screen.PrintJSON(found)
	} else {
		a.showNews(found)
	}
	if err == nil && failed != nil {
		err = &alreadyShown{failed}
	}
	return err
}

func (a *app) showNews(found []newsOf) {
	if len(found) == 0 {
		a.screen.Print("No recipe says where its releases are announced ([upstream]).")
		return
	}
	rows := make([][]string, len(found))
	for i, n := range found {
		what := "nothing newer"
		switch {
		case n.Error != "":
			what = a.screen.Bad("not known")
			a.screen.Note("%s: %s", n.Name, n.Error)
		case len(n.Newer) > 0:
			words := make([]string, len(n.Newer))
			for j, v := range n.Newer {
				words[j] = v.String()
			}
			what = a.screen.Good(strings.Join(words, ", "))
		}
		rows[i] = []string{a.screen.Strong(n.Name), n.Has, what}
	}
	a.screen.Table([]string{"package", "in the recipe", "upstream"}, rows)
}

// newest is the highest version that a recipe has as a stable release, or zero.
func newest(r *recipe.Recipe) version.Version {
	var best version.Version
	for _, x := range r.Releases {
		if x.Track == recipe.Stable && (best.IsZero() || x.Version.Compare(best) > 0) {
			best = x.Version
		}
	}
	return best
}

// newer reads the page where a package's releases are announced.
func (a *app) newer(ctx context.Context, s *session, r *recipe.Recipe) ([]version.Version, error) {
	archives, err := a.archives(s, event.Nowhere)
	if err != nil {
		return nil, err
	}
	page, err := archives.Small(ctx, r.ExpandURL(r.Upstream.Page, ""))
	var failed *source.FetchError
	if errors.As(err, &failed) {
		failed.Wanted.Package, failed.What = r.Name, "the announcements"
	}
	if err != nil {
		return nil, err
	}
	has := newest(r)
	newer := []version.Version{}
	matches := r.Upstream.Pattern.FindAllStringSubmatch(string(page), -1)
	if len(matches) == 0 {
		return nil, &source.FetchError{Wanted: source.Wanted{Package: r.Name}, What: "the announcements", Attempts: []source.Attempt{
			{URL: r.ExpandURL(r.Upstream.Page, ""), Err: fmt.Errorf("nothing on the page matches the pattern %s of the recipe", r.Upstream.Pattern)}}}
	}
	for _, m := range matches {
		v, err := version.Parse(m[1])
		known := slices.ContainsFunc(r.Releases, func(x *recipe.Release) bool { return !x.Version.IsZero() && x.Version.Compare(v) == 0 })
		if err == nil && !known && (has.IsZero() || v.Compare(has) > 0) && !slices.ContainsFunc(newer, func(o version.Version) bool { return o.Compare(v) == 0 }) {
			newer = append(newer, v)
		}
	}
	slices.SortFunc(newer, func(a, b version.Version) int { return b.Compare(a) })
	return newer, nil
}

func (a *app) bumpCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "bump NAME [VERSION]",
		Short: "Add a newer release to a recipe",
		Long: `Fetches the archive of a release and adds the release to the recipe, in front of
the others, with its digest. Without a version, it is the newest that the page in
[upstream] names. Nothing else in the file changes. If the recipe names signatures,
that of the archive has to be good; otherwise the digest is of the file as it came,
and a person has to compare it with what its makers publish.`,
		Example: "  fernladder bump mistplan\n  fernladder bump mistplan 2.2.0",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 2 {
				return usage("bump takes a name and a version, not %d names", len(args))
			}
			return atLeastOne(c, args)
		},
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			wanted := ""
			if len(args) == 2 {
				wanted = args[1]
			}
			return a.bump(c.Context(), args[0], wanted)
		},
	}
}

func (a *app) bump(ctx context.Context, name, wanted string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.shelves.Find(name)
	if err != nil {
		return err
	}
	v, err := a.bumpTo(ctx, s, r, wanted)
	if err != nil || v.IsZero() {
		return err
	}
	for _, x := range r.Releases {
		if !x.Version.IsZero() && x.Version.Compare(v) == 0 {
			return usage("%s has the release %s already (%s)", name, v, x.Position)
		}
	}
	if len(r.Archive) == 0 {
		return usage("%s says no URL for all releases; add archive with $FL_VERSION to [source] in %s", name, r.File)
	}
	if err := s.store.Prepare(); err != nil {
		return err
	}
	release := &recipe.Release{Version: v, Track: recipe.Stable}
	signed, err := a.obtainRelease(ctx, s, r, release)
	if err != nil {
		return s.stored(err)
	}
	if err := editRecipe(r, func(e *keyfile.Edit) { e.InsertBefore("release", releaseText(e.Style("release"), release)) }); err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"recipe": filepath.Join(r.Dir, recipe.FileName), "version": v, "sha256": release.Digest.Hex, "signed": signed})
	}
	a.screen.Print("%s has the release %s now, %s", r.File, v, release.Digest)
	if signed == "" {
		a.screen.Note("Nobody has vouched for this digest: compare it with what the makers of %s publish.", name)
	} else {
		a.screen.Print("Signed by %s", signed)
	}
	if patched := patchedReleases(r); len(patched) > 0 {
		a.screen.Note("Other releases have patches (%s); see whether this one needs them.", strings.Join(patched, ", "))
	}
	a.screen.Note("Next: fernladder check %s && fernladder install %s:%s", name, name, v)
	return nil
}

// bumpTo is the version to add, zero when there is nothing to do.
func (a *app) bumpTo(ctx context.Context, s *session, r *recipe.Recipe, wanted string) (version.Version, error) {
	if wanted != "" {
		v, err := version.Parse(wanted)
		if err != nil {
			return v, usage("%v", err)
		}
		return v, nil
	}
	if r.Upstream.Pattern == nil {
		return version.Version{}, usage("%s does not say where its releases are announced; name the version: fernladder bump %s VERSION", r.Name, r.Name)
	}
	newer, err := a.newer(ctx, s, r)
	if err != nil {
		return version.Version{}, err
	}
	if len(newer) > 0 {
		return newer[0], nil
	}
	if a.screen.JSON {
		return version.Version{}, a.screen.PrintJSON(map[string]any{"recipe": r.File, "newest": newest(r)})
	}
	a.screen.Print("%s has the newest release already, %s.", r.File, newest(r))
	return version.Version{}, nil
}

// obtainRelease fetches the archive of a release that is not in the recipe yet, fills in what it is,
// and verifies its signature if the recipe names one.
func (a *app) obtainRelease(ctx context.Context, s *session, r *recipe.Recipe, x *recipe.Release) (signed string, err error) {
	progress := a.screen.Progress(1, a.now)
	defer progress.Close()
	archives, err := a.archives(s, progress)
	if err != nil {
		return "", err
	}
	var failed error
	for _, url := range r.Sources(x) {
		var file string
		if file, x.Digest, err = archives.Obtain(ctx, url); err == nil {
			x.Size = int(fileSize(file))
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
	wanted := source.Wanted{Package: r.Name, Version: x.Version.String(), URLs: r.Sources(x), Digest: x.Digest, At: r.File, Signed: &source.Signed{URLs: r.Signatures(x)}}
	for _, key := range r.Keys {
		wanted.Signed.Keys = append(wanted.Signed.Keys, filepath.Join(r.Dir, key))
	}
	archives.Events = event.Nowhere
	got, err := archives.Fetch(ctx, wanted) // whose signature it is, is said with the result
	if err != nil {
		return "", err
	}
	return got.Signed.String(), nil
}

// releaseText is a release as it stands in a recipe, laid out like the others.
func releaseText(column int, x *recipe.Release) string {
	width := max(column-1, 0)
	text := fmt.Sprintf("[[release]]\n%-*s = %s\n%-*s = %s\n", width, "version", keyfile.Quote(x.Version.String()), width, x.Digest.Algorithm, keyfile.Quote(x.Digest.Hex))
	if x.Size > 0 {
		text += fmt.Sprintf("%-*s = %d\n", width, "size", x.Size)
	}
	return text
}

func patchedReleases(r *recipe.Recipe) []string {
	var patched []string
	for _, x := range r.Releases {
		if len(x.Patches) > 0 {
			patched = append(patched, fmt.Sprintf("%s: %s", x.Version, term.Count(len(x.Patches), "patch")))
		}
	}
	return patched
}
