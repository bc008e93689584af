package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"

	"fernladder/core/build"
	"fernladder/core/draft"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/seal"
	"fernladder/internal/term"
)

// probe builds a drafted recipe in a sealed room, and writes into it what came
// of that.
func (a *app) probe(ctx context.Context, name string) error {
	a.isolation = string(seal.Sealed)
	l, err := a.plan(ctx, []string{name}, &ladderFlags{})
	if err != nil {
		return err
	}
	r, err := l.shelves.Find(name)
	if err != nil {
		return err
	}
	built := a.construct(ctx, l)
	if ctx.Err() != nil {
		return built
	}
	today := a.now().Format("2006-01-02")
	var failure *build.Failure
	if built != nil && !errors.As(built, &failure) {
		return built
	}
	if failure != nil {
		text := fmt.Sprintf("# Probed on %s: it does not build yet. %s %s failed in stage %s: %s", today, failure.Package, failure.Version, failure.Stage, oneLine(failure.What))
		for _, line := range failure.Lines {
			text += "\n#   " + line
		}
		if err := noteIn(r, text, nil); err != nil {
			return err
		}
		a.screen.Note("%s says so now. Change it, then: fernladder build %s", r.File, name)
		return built
	}
	job := l.jobs[len(l.jobs)-1]
	receipt, err := l.store.Receipt(job.Ref)
	if err != nil {
		return l.store.Wrap(err)
	}
	files, err := l.store.Files(job.Ref)
	if err != nil {
		return err
	}
	offers := draft.Offered(files)
	text := fmt.Sprintf("# Probed on %s: it builds, %s, in %s; %s were placed.", today, receipt.Isolation, seconds(receipt.Seconds), term.Count(receipt.Files, "file"))
	if err := noteIn(r, text, &offers); err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"probed": job.Ref, "files": receipt.Files, "seconds": receipt.Seconds})
	}
	a.screen.Print("It builds: %s in %s. The recipe says so, and what it offers.", term.Count(receipt.Files, "file"), seconds(receipt.Seconds))
	return nil
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// noteIn adds a comment to a recipe, and what its package offers.
func noteIn(r *recipe.Recipe, comment string, offers *recipe.Offers) error {
	file := filepath.Join(r.Dir, recipe.FileName)
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	edit, err := keyfile.Parse(r.File, data)
	if err != nil {
		return err
	}
	if offers != nil && !offers.Empty() {
		setOffers(edit, *offers)
	}
	edit.Append(comment)
	return renameio.WriteFile(file, edit.Bytes(), 0o644)
}
