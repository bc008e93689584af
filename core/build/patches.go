package build

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/source"
	"fernladder/core/tomlfile"
)

// HasPatched reports whether an archive is stored that a recipe has patches for.
func HasPatched(m *machine.Machine, r *recipe.Recipe) bool {
	return slices.ContainsFunc(r.Releases, func(x *recipe.Release) bool {
		return len(x.Patches) > 0 && x.Repository() == "" && m.Archives.Has(x.Digest)
	})
}

// CheckPatches applies the patches of a recipe's releases to the stored archives, isolated like
// builds, and returns a warning for each that does not apply. It skips releases whose archive is
// not stored.
func CheckPatches(ctx context.Context, m *machine.Machine, r *recipe.Recipe) (tomlfile.Problems, error) {
	var warnings tomlfile.Problems
	level, err := m.Isolation(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range r.Releases {
		if len(x.Patches) == 0 || x.Repository() != "" || !m.Archives.Has(x.Digest) {
			continue
		}
		failed, says, err := tryPatches(ctx, m, level, r, x, m.Archives.Path(x.Digest))
		if err != nil {
			return warnings, err
		}
		if failed != "" {
			at := x.Position
			at.File = r.File
			warnings = append(warnings, tomlfile.Problem{Position: at, Source: "[[release]]",
				Message: "the patch " + failed + " does not apply to " + x.Version.String() + ": " + says,
				Advice:  "it was tried on the archive, which is here"})
		}
	}
	return warnings, nil
}

// patch is where a build finds one of its patches.
func (d workDirs) patch(job *Job, i int) string {
	return filepath.Join(d.given, fmt.Sprintf("%d-%s", i+1, filepath.Base(job.Patches[i].File)))
}

// givePatches copies the patches to where the build reads them, as they were when their digests
// were taken.
func (a *attempt) givePatches() error {
	for i, p := range a.job.Patches {
		file := a.job.Recipe.OnShelf(p.File)
		data, err := file.ReadFile(largestPatch)
		if err != nil {
			return err
		}
		if digestOf(data) != p.Digest {
			return a.failure(StagePatch,
				fmt.Sprintf("the patch %s has changed since the build was planned; run the same command again", file.Path()), "")
		}
		if err := durable.Note(a.dirs.patch(a.job, i), data, 0o444); err != nil {
			return err
		}
	}
	return nil
}

// largestPatch is more than any reviewed patch has.
const largestPatch = 256 << 20

// tryPatches returns the first patch that does not apply, and the output of patch.
func tryPatches(ctx context.Context, m *machine.Machine, level sandbox.Level, r *recipe.Recipe, x *recipe.Release,
	archive string) (failed, says string, err error) {
	base, user, done, err := m.Scratch(ctx, "patches")
	if err != nil {
		return "", "", err
	}
	defer done()
	box, given := filepath.Join(base, "box"), filepath.Join(base, "given")
	for _, dir := range []string{box, given, filepath.Join(base, "room")} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			return "", "", m.Store.Wrap(err)
		}
	}
	if _, err := source.Unpack(ctx, archive, box, m.Unpacking); err != nil {
		return "", "", err
	}
	top, err := source.Top(box)
	if err != nil {
		return "", "", err
	}
	if user.Other() {
		if err := safefs.Give(box, safefs.Ours, user.UID, user.GID); err != nil {
			return "", "", m.Store.Wrap(err)
		}
	}
	room := sandbox.Room{Level: level, Point: filepath.Join(base, "room"), Home: box, User: user, Limits: m.Settings.Most,
		Visible: append([]string{given}, m.Programs.Path...), Writable: []string{box}}
	inside, err := room.Enter(base)
	if err != nil {
		return "", "", err
	}
	defer inside.Leave()
	for _, name := range x.Patches {
		data, err := r.OnShelf(name).ReadFile(largestPatch)
		if err != nil {
			return name, err.Error(), nil
		}
		file := filepath.Join(given, filepath.Base(name))
		if err := durable.Note(file, data, 0o444); err != nil {
			return "", "", m.Store.Wrap(err)
		}
		output, err := runIn(ctx, inside, user,
			process{dir: top, argv: patchCommand(file), env: []string{"PATH=" + strings.Join(m.Programs.Path, ":"), "LC_ALL=C"}})
		if ctx.Err() != nil {
			return "", "", ctx.Err()
		}
		if err != nil {
			lines := shown(strings.Split(strings.TrimSpace(string(output)), "\n"))
			return name, strings.Join(lines[max(0, len(lines)-2):], "; "), nil
		}
	}
	return "", "", nil
}

// runIn runs a process in a room and returns its output, up to a limit.
func runIn(ctx context.Context, room *sandbox.Session, user sandbox.User, p process) ([]byte, error) {
	const most = 16 << 20
	var printed bytes.Buffer
	out, err := newOutlet(&printed, most, user, func() {})
	if err != nil {
		return nil, err
	}
	p.output = out.write
	err = p.run(ctx, room)
	err = errors.Join(err, out.close()) // now all that was printed is here
	return printed.Bytes(), err
}

// patchCommand applies a patch in the directory it runs in.
func patchCommand(file string) []string {
	return []string{"patch", "-p1", "--batch", "--forward", "--input=" + file}
}
