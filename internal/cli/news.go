package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/upstream"
	"fernladder/core/version"
	"fernladder/internal/term"
)

func (a *app) newsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "news [NAME...]",
		Short: "Look for newer releases upstream",
		Long: `Reads the page that a recipe names in [upstream], and shows the versions on it
that are newer than those in the recipe; and for a package that was built from the
head of a branch, how many commits have come since, with the first lines of what
they say. Without names, all recipes that have either are looked at.`,
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

	Branch *branchNews `json:"branch,omitempty"`
}

// branchNews is what is new on the branch that a package was built from.
type branchNews struct {
	Built    string   `json:"built"`
	Now      string   `json:"now"`
	Commits  int      `json:"commits"`
	Messages []string `json:"messages"` // the first lines of the newest
	Gone     bool     `json:"gone,omitempty"`
}

func (a *app) news(ctx context.Context, names []string) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	all := len(names) == 0
	if all {
		if names, err = m.Shelves.Names(); err != nil {
			return err
		}
	}
	found := []newsOf{}
	var failed error
	for _, name := range names {
		r, err := m.Shelves.Find(name)
		if err != nil {
			return err
		}
		n := newsOf{Name: name, Has: upstream.Newest(r).String()}
		n.Newer, err = upstream.Newer(ctx, m, r)
		branch, wrong := upstream.OnBranch(ctx, m, r)
		if branch != nil && wrong == nil {
			n.Branch = &branchNews{branch.Built.Version, branch.Now.Version.String(), branch.Commits, append([]string{}, branch.Messages...), branch.Gone}
		}
		if errors.Is(err, upstream.Unannounced) && (branch != nil || wrong != nil) {
			err = nil // its branch is where it is announced
		}
		if err == nil {
			err = wrong
		}
		switch {
		case err == nil:
		case all && errors.Is(err, upstream.Unannounced):
			continue
		case ctx.Err() != nil || !all:
			return err
		default:
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
	for _, n := range found {
		if n.Branch != nil {
			a.showBranch(n.Name, n.Branch)
		}
	}
}

func (a *app) showBranch(name string, b *branchNews) {
	switch {
	case b.Gone:
		a.screen.Print("%s: what %s was built from is not on its branch any more, which is at %s.", a.screen.Strong(name), b.Built, b.Now)
		return
	case b.Commits == 0 && b.Now != b.Built: // the repository does not say how many
		a.screen.Print("%s: its branch is at %s, and %s is built.", a.screen.Strong(name), b.Now, b.Built)
		return
	case b.Commits == 0:
		a.screen.Print("%s: %s is the head of its branch.", a.screen.Strong(name), b.Now)
		return
	}
	a.screen.Print("%s: %s since %s, up to %s:", a.screen.Strong(name), term.Count(b.Commits, "commit"), b.Built, b.Now)
	for _, message := range b.Messages {
		a.screen.Print("    %s", build.Printed(message))
	}
	if more := b.Commits - len(b.Messages); more > 0 {
		a.screen.Print("    and %d more", more)
	}
	a.screen.Note("To build it: fernladder upgrade %s", name)
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
	m, err := a.open()
	if err != nil {
		return err
	}
	r, err := m.Shelves.Find(name)
	if err != nil {
		return err
	}
	v, err := bumpTo(ctx, m, r, wanted)
	if err != nil {
		return err
	}
	if v.IsZero() {
		if a.screen.JSON {
			return a.screen.PrintJSON(map[string]any{"recipe": r.File, "newest": upstream.Newest(r)})
		}
		a.screen.Print("%s has the newest release already, %s.", r.File, upstream.Newest(r))
		return nil
	}
	added, err := upstream.Add(ctx, m, r, v)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"recipe": filepath.Join(r.Dir, recipe.FileName), "version": v, "track": added.Track, "sha256": added.Digest.Hex, "signed": added.Signed})
	}
	as := ""
	if added.Track == recipe.Preview {
		as = " as a preview"
	}
	a.screen.Print("%s has the release %s now%s, %s", r.File, v, as, added.Digest)
	if added.Signed == "" {
		a.screen.Note("Nobody has vouched for this digest: compare it with what the makers of %s publish.", name)
	} else {
		a.screen.Print("Signed by %s", added.Signed)
	}
	var patched []string
	for _, x := range added.Patched {
		patched = append(patched, fmt.Sprintf("%s: %s", x.Version, term.Count(len(x.Patches), "patch")))
	}
	if len(patched) > 0 {
		a.screen.Note("Other releases have patches (%s); see whether this one needs them.", strings.Join(patched, ", "))
	}
	a.screen.Note("Next: fernladder check %s && fernladder install %s:%s", name, name, v)
	return nil
}

// bumpTo is the version to add, zero when there is nothing to do.
func bumpTo(ctx context.Context, m *machine.Machine, r *recipe.Recipe, wanted string) (version.Version, error) {
	if wanted != "" {
		v, err := version.Parse(wanted)
		if err != nil {
			return v, usage("%v", err)
		}
		return v, nil
	}
	newer, err := upstream.Newer(ctx, m, r)
	if err != nil || len(newer) == 0 {
		return version.Version{}, err
	}
	return newer[0], nil
}
