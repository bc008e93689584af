package tinker

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/inspect"
	"fernladder/core/safefs"
	"fernladder/core/subprocess"
)

// repository is the directory in which git keeps its data. An archive may contain one, with
// commands that git would run: it is never copied.
const repository = ".git"

// layOut copies a source, which a build could have written, into a new folder.
func layOut(source, folder string) error {
	from, err := safefs.OpenDir(source)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer to.Close()
	return from.Walk(false, func(e safefs.Entry) error {
		switch {
		case filepath.Base(e.Name) == repository && e.Mode.IsDir():
			return safefs.Skip
		case filepath.Base(e.Name) == repository:
			return nil
		case e.Mode.IsDir():
			return to.Mkdir(e.Name, e.Mode.Perm()|0o700)
		case e.Mode&fs.ModeSymlink != 0:
			target, err := e.Target()
			if err != nil {
				return err
			}
			return to.Symlink(target, e.Name)
		case !e.Mode.IsRegular():
			return nil
		}
		file, err := e.OpenAnyway()
		if err != nil {
			return err
		}
		defer file.Close()
		return write(to, e.Name, file, e.Mode.Perm()|0o600, e.Modified)
	})
}

// write writes a file below a root, and replaces an old one.
func write(to *os.Root, name string, from io.Reader, mode fs.FileMode, modified time.Time) error {
	if err := to.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	out, err := to.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, from)
	err = errors.Join(err, out.Chmod(mode), out.Close())
	if err == nil && !modified.IsZero() {
		err = to.Chtimes(name, modified, modified)
	}
	return err
}

// each visits the files and links of a folder, except for git's.
func each(folder string, visit func(safefs.Entry) error) error {
	d, err := safefs.OpenDir(folder)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Walk(false, func(e safefs.Entry) error {
		switch {
		case filepath.Base(e.Name) == repository && e.Mode.IsDir():
			return safefs.Skip
		case filepath.Base(e.Name) == repository, e.Mode.IsDir():
			return nil
		}
		return visit(e)
	})
}

func stampOf(e safefs.Entry) stamp { return stamp{e.Size, e.Modified.UTC(), e.Mode} }

// stamps are the stamps of all files of a folder.
func stamps(folder string) (map[string]stamp, error) {
	all := map[string]stamp{}
	return all, each(folder, func(e safefs.Entry) error {
		all[e.Name] = stampOf(e)
		return nil
	})
}

// bring copies the changes of the folder into the source of a build, and returns their paths.
// Files that a build has made in its source stay.
func (b *Bench) bring(source *os.Root, own func(path string) error) (changed []string, err error) {
	there := map[string]bool{}
	err = each(b.Folder, func(e safefs.Entry) error {
		there[e.Name] = true
		now := stampOf(e)
		if old, known := b.Brought[e.Name]; known && old == now {
			return nil
		}
		same, err := b.same(source, e)
		if err != nil {
			return err
		}
		if !same {
			if err := put(source, e, own); err != nil {
				return fmt.Errorf("%s cannot be brought into the build: %w", e.Name, err)
			}
			changed = append(changed, e.Name)
		}
		b.Brought[e.Name] = now
		return nil
	})
	if err != nil {
		return changed, err
	}
	for name := range b.Brought {
		if there[name] {
			continue
		}
		if err := source.RemoveAll(name); err != nil {
			return changed, err
		}
		delete(b.Brought, name)
		changed = append(changed, name)
	}
	slices.Sort(changed)
	return changed, nil
}

// same reports whether the source already has a file of the folder.
func (b *Bench) same(source *os.Root, e safefs.Entry) (bool, error) {
	info, err := source.Lstat(e.Name)
	if err != nil {
		return false, nil
	}
	if e.Mode&fs.ModeSymlink != 0 {
		target, err := e.Target()
		theirs, err2 := source.Readlink(e.Name)
		return err == nil && err2 == nil && target == theirs, nil
	}
	if !e.Mode.IsRegular() || !info.Mode().IsRegular() || info.Size() != e.Size || info.Mode().
		Perm()&0o111 != e.Mode.Perm()&0o111 {
		return false, nil
	}
	mine, err := e.Open()
	if err != nil {
		return false, err
	}
	defer mine.Close()
	theirs, err := source.Open(e.Name)
	if err != nil {
		return false, nil
	}
	defer theirs.Close()
	_, same, err := inspect.Common(mine, theirs)
	return same, err
}

// put copies a file of the folder into the source.
func put(source *os.Root, e safefs.Entry, own func(path string) error) error {
	dir := filepath.Dir(e.Name)
	for _, parent := range parents(dir) {
		err := source.Mkdir(parent, 0o755)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err == nil {
			err = own(parent)
		}
		if err != nil {
			return err
		}
	}
	switch {
	case e.Mode&fs.ModeSymlink != 0:
		target, err := e.Target()
		if err != nil {
			return err
		}
		if err := source.Remove(e.Name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := source.Symlink(target, e.Name); err != nil {
			return err
		}
	case e.Mode.IsRegular():
		file, err := e.Open()
		if err != nil {
			return err
		}
		defer file.Close()
		if err := write(source, e.Name, file, e.Mode.Perm()|0o600, time.Time{}); err != nil {
			return err
		}
	default:
		return errors.New("it is not a file")
	}
	return own(e.Name)
}

// parents are a directory and all directories above it, the outermost first.
func parents(dir string) (all []string) {
	for ; dir != "."; dir = filepath.Dir(dir) {
		all = append([]string{dir}, all...)
	}
	return all
}

// git runs git in a folder, without user settings or commands that the folder could name.
func git(ctx context.Context, program, folder string, args ...string) (string, error) {
	args = append([]string{"-c", "core.hooksPath=/dev/null", "-c", "core.fsmonitor=false", "-c", "core.autocrlf=false",
		"-c", "core.quotePath=false",
		"-c", "user.name=Fern Ladder", "-c", "user.email=fernladder@localhost", "-c", "commit.gpgSign=false", "-c",
		"gc.auto=0",
		"-c", "safe.directory=" + folder, "-C", folder}, args...)
	out, complaints, err := subprocess.Command{Argv: append([]string{program}, args...),
		Env: []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1",
			"GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0", "LC_ALL=C"}}.Text(ctx)
	if err != nil {
		line, _, _ := strings.Cut(strings.TrimSpace(complaints), "\n")
		return "", fmt.Errorf("git %s in %s: %s", args[len(args)-1], folder, cmp.Or(line, err.Error()))
	}
	return out, nil
}

// asItIs overrides the source's .gitattributes (gitattributes(5)): a patch has the exact bytes
// of its files, including line ends, and treats all of them as text.
const asItIs = "* -text !eol -ident -filter !working-tree-encoding !diff\n"

// begin puts a folder under git, and returns the commit with all of it.
func begin(ctx context.Context, program, folder, message string) (string, error) {
	if _, err := git(ctx, program, folder, "init", "-q", "-b", "main"); err != nil {
		return "", err
	}
	info := filepath.Join(folder, repository, "info")
	if err := errors.Join(os.MkdirAll(info, 0o755), os.WriteFile(filepath.Join(info, "attributes"), []byte(asItIs),
		0o644)); err != nil {
		return "", err
	}
	return commit(ctx, program, folder, message)
}

// commit commits everything in a folder, including ignored files.
func commit(ctx context.Context, program, folder, message string) (string, error) {
	if _, err := git(ctx, program, folder, "add", "-f", "-A"); err != nil {
		return "", err
	}
	if _, err := git(ctx, program, folder, "commit", "-q", "--allow-empty", "--no-verify", "-m", message); err != nil {
		return "", err
	}
	id, err := git(ctx, program, folder, "rev-parse", "HEAD")
	return strings.TrimSpace(id), err
}

// difference is the difference between a folder and a commit, as a patch for patch -p1. It
// contains new files, even ignored ones.
func difference(ctx context.Context, program, folder, from string) (string, error) {
	if _, err := git(ctx, program, folder, "add", "-f", "-A", "--intent-to-add"); err != nil {
		return "", err
	}
	return git(ctx, program, folder, "diff", "--no-color", "--no-ext-diff", "--no-textconv", "--no-renames",
		"--src-prefix=a/", "--dst-prefix=b/", from, "--", ".")
}
