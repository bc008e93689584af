package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"fernladder/core/build"
	"fernladder/core/inspect"
	"fernladder/internal/term"
)

// differs is the error for builds that came out otherwise the second time.
type differs struct{ packages []string }

func (e *differs) Error() string {
	return fmt.Sprintf("%s came out differently the second time", isAnd(e.packages))
}

func isAnd(names []string) string {
	text := names[0]
	for i, name := range names[1:] {
		text += map[bool]string{true: " and ", false: ", "}[i == len(names)-2] + name
	}
	return text
}

// proven is what came of building a package twice.
type proven struct {
	Name        string               `json:"name"`
	Version     string               `json:"version"`
	ID          string               `json:"id"`
	Differences []inspect.Difference `json:"differences"`
}

// prove builds what is named a second time and compares.
func (a *app) prove(ctx context.Context, names []string, f *ladderFlags) error {
	l, err := a.buildLadder(ctx, names, f)
	if err != nil {
		return err
	}
	if err := a.isolate(ctx, l.session); err != nil {
		return err
	}
	asked := slices.DeleteFunc(slices.Clone(l.jobs), func(j *build.Job) bool { return !j.Package.Asked })
	var all []proven
	err = a.again(ctx, l, asked, func(b *build.Builder, j *build.Job) error {
		differences, err := b.Prove(ctx, j)
		all = append(all, proven{j.Name, j.Version, j.ID, append([]inspect.Difference{}, differences...)})
		return err
	})
	if err != nil {
		return err
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(all); err != nil {
			return err
		}
	}
	failed := &differs{}
	for _, p := range all {
		if len(p.Differences) > 0 {
			failed.packages = append(failed.packages, p.Name)
		}
		if a.screen.JSON {
			continue
		}
		if len(p.Differences) == 0 {
			a.screen.Print("%s %s comes out the same when it is built in another directory.", a.screen.Strong(p.Name), p.Version)
			continue
		}
		a.screen.Print("%s %s: %s differ:", a.screen.Strong(p.Name), p.Version, term.Count(len(p.Differences), "file"))
		for _, d := range p.Differences {
			a.screen.Print("    %s", d)
		}
	}
	if len(failed.packages) > 0 {
		return failed
	}
	return nil
}

// again has a builder do something with packages that are installed, for which it
// needs their sources.
func (a *app) again(ctx context.Context, l *ladder, jobs []*build.Job, do func(*build.Builder, *build.Job) error) error {
	b, end, err := a.builder(l, len(jobs))
	if err != nil {
		return err
	}
	defer end()
	if err := a.failed(ctx, b.Fetch(ctx, jobs)); err != nil {
		return err
	}
	for _, j := range jobs {
		err := do(b, j)
		if failure := new(build.Failure); errors.As(err, &failure) {
			a.advise(l.session, failure)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// buildShell opens a shell where a build has failed.
func (a *app) buildShell(ctx context.Context, names []string, f *ladderFlags) error {
	if len(names) != 1 {
		return usage("build --shell takes one name")
	}
	l, err := a.plan(ctx, names, f)
	if err != nil {
		return err
	}
	if err := a.isolate(ctx, l.session); err != nil {
		return err
	}
	for _, j := range l.jobs {
		if !j.Package.Asked {
			continue
		}
		shell, err := term.OpenShell(os.Stdin, os.Stdout)
		if err != nil {
			return err
		}
		status, err := l.workshop.Shell(ctx, j, shell.Terminal)
		shell.Close()
		if errors.Is(err, build.ErrNoWork) {
			return usage("%s %s has no build that has failed or was broken off; there is nothing to look at", j.Name, j.Version)
		}
		if err == nil && status != 0 {
			a.screen.Note("The shell ended with status %d.", status)
		}
		return err
	}
	return nil
}
