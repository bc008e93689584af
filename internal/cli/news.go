package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/recipe"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) newsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "news [NAME...]",
		Short: "Look for newer releases upstream",
		Long: `Reads the page that a recipe names in [upstream], and shows versions that are newer than
those in the recipe. For a package that was built from the head of a branch, it shows how
many commits were added since, and the first lines of their messages. Without names, it
looks at all recipes that have either.`,
		Example:           "  fernladder news\n  fernladder news mistplan && fernladder bump mistplan",
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.news(c.Context(), args) },
	}
}

func (a *app) news(ctx context.Context, names []string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	found, err := s.News(ctx, names)
	if found == nil {
		return err
	}
	if shown := a.answer(found, func() { a.showNews(found) }); shown != nil {
		return shown
	}
	if err != nil { // the table shows it
		err = &alreadyShown{err}
	}
	return err
}

func (a *app) showNews(found []session.News) {
	if len(found) == 0 {
		a.screen.Print("No recipe says where its releases are announced ([upstream]).")
		return
	}
	rows := make([][]string, len(found))
	for i, n := range found {
		what := "nothing newer"
		switch {
		case n.Error != "":
			what = a.screen.Bad("unknown")
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

func (a *app) showBranch(name string, b *session.BranchNews) {
	switch {
	case b.Gone:
		a.screen.Print("%s: the commit of %s is no longer on its branch, which is at %s.", a.screen.Strong(name),
			b.Built, b.Now)
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
		Long: `Fetches the archive of a release and adds the release to the recipe, before the others,
with its digest. The default version is the newest on the page in [upstream]. Nothing else
in the file changes. If the recipe names signatures, the archive must have a good one;
otherwise a person has to compare the digest with what the authors publish.`,
		Example: "  fernladder bump mistplan\n  fernladder bump mistplan 2.2.0",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 2 {
				return usage("bump takes a name and a version, not %d names", len(args))
			}
			return a.atLeastOne(c, args)
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
	r, err := s.Bump(ctx, name, wanted)
	if err != nil {
		return err
	}
	return a.answer(r, func() { a.showBumped(name, r) })
}

func (a *app) showBumped(name string, r *session.BumpReport) {
	if r.Newest != nil {
		a.screen.Print("%s already has the newest release, %s.", r.Shown, r.Newest)
		return
	}
	as := ""
	if r.Track == recipe.Preview {
		as = " as a preview"
	}
	a.screen.Print("%s has the release %s now%s, %s", r.Shown, r.Version, as, r.Added.Digest)
	if r.Signed == "" {
		a.screen.Note("No signature covers this digest: compare it with what the makers of %s publish.", name)
	} else {
		a.screen.Print("Signed by %s", r.Signed)
	}
	var patched []string
	for _, x := range r.Added.Patched {
		patched = append(patched, fmt.Sprintf("%s: %s", x.Version, term.Count(len(x.Patches), "patch")))
	}
	if len(patched) > 0 {
		a.screen.Note("Other releases have patches (%s); see whether this one needs them.", strings.Join(patched, ", "))
	}
	a.screen.Note("Next: fernladder check %s && fernladder install %s:%s", name, name, r.Version)
}
