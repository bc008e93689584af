package host

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/subprocess"
)

// errNoLists is the error for an operating system whose package manager has no lists of files.
var errNoLists = errors.New("lists of files come from apt, dnf or pacman, and this machine has none of them")

// lists fetches what the package manager knows about the files of all packages, and passes each
// file with its package to add.
func (f Files) lists(ctx context.Context, p Programs, add func(path, name string)) error {
	for _, known := range []struct {
		program string
		read    func(context.Context, string, func(path, name string)) error
	}{{"apt-get", f.apt}, {"dnf", f.dnf}, {"pacman", f.pacman}} {
		if program := p.Find(known.program); program != "" {
			return known.read(ctx, program, add)
		}
	}
	return errNoLists
}

// contents makes apt use its own index of contents, and leave the machine's own state alone. apt
// documents both settings.
const contents = `Acquire::IndexTargets::deb::Contents-deb {
  MetaKey "$(COMPONENT)/Contents-$(ARCHITECTURE)"; flatMetaKey "Contents-$(ARCHITECTURE)";
  ShortDescription "Contents-$(ARCHITECTURE)"; Description "$(RELEASE)/$(COMPONENT) $(ARCHITECTURE) Contents";
  flatDescription "$(RELEASE) Contents";
  Identifier "Contents-deb"; PDiffs "false"; KeepCompressed "true"; DefaultEnabled "true";
};
Acquire::IndexTargets::deb::Packages::DefaultEnabled "false";
Acquire::IndexTargets::deb::Translations::DefaultEnabled "false";
Acquire::IndexTargets::deb::DEP-11::DefaultEnabled "false";
Acquire::Languages "none";
APT::Sandbox::User "";
Dir::State::Lists "%[1]s/lists";
Dir::Cache "%[1]s/cache";
`

// apt reads the Contents indices of all sources: lines of
// PATH SECTION/PACKAGE[,SECTION/PACKAGE].
func (f Files) apt(ctx context.Context, apt string, add func(path, name string)) error {
	for _, dir := range []string{"lists/partial", "cache"} {
		if err := os.MkdirAll(filepath.Join(f.Dir, dir), 0o777); err != nil {
			return err
		}
	}
	config := filepath.Join(f.Dir, "apt.conf")
	if err := os.WriteFile(config, fmt.Appendf(nil, contents, f.Dir), 0o644); err != nil {
		return err
	}
	env := []string{"APT_CONFIG=" + config}
	if err := lines(ctx, env, func(string) {}, apt, "update"); err != nil {
		return err
	}
	found, err := filepath.Glob(filepath.Join(f.Dir, "lists", "*Contents*"))
	if err != nil {
		return err
	}
	for _, list := range found {
		err := lines(ctx, env, func(line string) {
			i := strings.LastIndexAny(line, " \t")
			if i < 0 {
				return
			}
			for name := range strings.SplitSeq(line[i+1:], ",") {
				add(strings.TrimSpace(line[:i]), name[strings.LastIndexByte(name, '/')+1:])
			}
		}, "/usr/lib/apt/apt-helper", "cat-file", list)
		if err != nil {
			return err
		}
	}
	return os.RemoveAll(filepath.Join(f.Dir, "lists")) // they are large, and the index has it all
}

// dnf asks for the files of all packages: a line with the name, then one for each file. Newer
// versions only fetch lists of files on request.
func (f Files) dnf(ctx context.Context, dnf string, add func(path, name string)) error {
	name := ""
	return lines(ctx, nil, func(line string) {
		if at, is := strings.CutPrefix(line, "package "); is {
			name = at
		} else if strings.HasPrefix(line, "/") {
			add(line, name)
		}
	}, dnf, "-q", "--setopt=optional_metadata_types=filelists", "repoquery", "--queryformat",
		"package %{name}\\n%{files}\\n")
}

// pacman reads its database of files into a directory of its own: lines of
// PACKAGE PATH.
func (f Files) pacman(ctx context.Context, pacman string, add func(path, name string)) error {
	own := filepath.Join(f.Dir, "pacman")
	if err := os.MkdirAll(own, 0o777); err != nil {
		return err
	}
	defer os.RemoveAll(own)
	if err := lines(ctx, nil, func(string) {}, pacman, "-Fy", "--dbpath", own); err != nil {
		return err
	}
	return lines(ctx, nil, func(line string) {
		if name, path, is := strings.Cut(line, " "); is {
			add(path, name)
		}
	}, pacman, "-Fl", "--dbpath", own)
}

// lines runs a command and passes on each line of its output. Its error has the last line of the
// command's error messages.
func lines(ctx context.Context, env []string, take func(string), argv ...string) error {
	var wrong strings.Builder
	pipe, wait, err := subprocess.Command{Argv: argv, Env: append(append(os.Environ(), "LC_ALL=C"), env...),
		Stderr: &wrong}.Pipe(ctx)
	if err != nil {
		return err
	}
	defer pipe.Close()
	scan := bufio.NewScanner(pipe)
	scan.Buffer(make([]byte, 1<<16), 1<<20)
	for scan.Scan() {
		take(scan.Text())
	}
	err = scan.Err()
	io.Copy(io.Discard, pipe)
	if failed := wait(); err == nil {
		err = failed
	}
	if err == nil || ctx.Err() != nil {
		return ctx.Err()
	}
	said := strings.Split(strings.TrimSpace(wrong.String()), "\n")
	return fmt.Errorf("%s: %w: %s", filepath.Base(argv[0]), err, said[len(said)-1])
}
