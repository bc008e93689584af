package build

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// addLaunchersAndConfigs adds to the placed files what the recipe promises besides: desktop
// entries, and links to configuration files in the root. The placed files may contain links;
// none that leads out of the tree is followed.
func (a *attempt) addLaunchersAndConfigs(log string) error {
	staged, err := os.OpenRoot(a.dirs.placed)
	if err != nil {
		return err
	}
	defer staged.Close()
	for i, l := range a.job.Recipe.Launchers {
		if err := a.launcher(staged, log, i, l); err != nil {
			return err
		}
	}
	for _, c := range a.job.Recipe.Configs {
		if err := a.config(staged, log, c); err != nil {
			return err
		}
	}
	for _, c := range a.job.Recipe.Writable {
		if err := a.writable(staged, log, c.File); err != nil {
			return err
		}
	}
	if err := a.throughLanding(staged, log); err != nil {
		return err
	}
	for file, text := range a.job.declarations() {
		if err := staged.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return a.notInTree(filepath.Dir(file), err, log)
		}
		if _, err := staged.Lstat(file); err == nil {
			return a.failure(StagePlace, "the package places "+file+" itself; take [[user]] and [[directory]] out of the recipe",
				log)
		}
		if err := staged.WriteFile(file, []byte(text), 0o644); err != nil {
			return a.notInTree(file, err, log)
		}
	}
	return nil
}

// launcher writes a desktop entry, by the Desktop Entry Specification 1.5.
func (a *attempt) launcher(staged *os.Root, log string, number int, l *recipe.Launcher) error {
	words := strings.Fields(l.Run)
	program := filepath.Join("bin", words[0])
	if info, err := staged.Stat(program); err != nil || info.Mode()&0o111 == 0 {
		return a.failure(StagePlace, fmt.Sprintf("the launcher %q runs %s, but the build placed no program bin/%s (%s)",
			l.Name, words[0], words[0], l.Position), log)
	}
	icon := ""
	if l.Icon != "" {
		if _, err := staged.Stat(l.Icon); err != nil {
			return a.failure(StagePlace, fmt.Sprintf("the icon %s of the launcher %q was not placed (%s)", l.Icon, l.Name,
				l.Position), log)
		}
		icon = filepath.Join(a.job.Prefix, l.Icon)
	}
	words[0] = filepath.Join(a.job.Prefix, program)
	var command []string
	if env := a.userEnvironment(); len(env) > 0 {
		command = append(command, "env")
		for _, v := range env {
			command = append(command, v.Name+"="+v.Value)
		}
	}
	command = append(command, words...)
	for i, word := range command {
		command[i] = execWord(word)
	}
	about := l.About
	if about == "" {
		about = a.job.Recipe.Summary
	}
	var text bytes.Buffer
	line := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&text, "%s=%s\n", key, strings.ReplaceAll(value, `\`, `\\`))
		}
	}
	text.WriteString("[Desktop Entry]\n")
	line("Type", "Application")
	line("Version", "1.5")
	line("Name", l.Name)
	line("Comment", about)
	line("TryExec", words[0])
	line("Exec", strings.Join(command, " "))
	line("Icon", icon)
	line("Terminal", fmt.Sprint(l.Terminal))
	if len(l.Categories) > 0 {
		line("Categories", strings.Join(l.Categories, ";")+";")
	}
	dir := "share/applications"
	if err := staged.MkdirAll(dir, 0o755); err != nil {
		return a.notInTree(dir, err, log)
	}
	name := a.job.Name
	if number > 0 {
		name = fmt.Sprintf("%s-%d", name, number+1)
	}
	file := filepath.Join(dir, name+".desktop")
	if _, err := staged.Lstat(file); err == nil {
		return a.failure(StagePlace,
			fmt.Sprintf("the package places share/applications/%s.desktop itself; take the launcher %q out of the recipe (%s)",
				name, l.Name, l.Position), log)
	}
	return a.notInTree(file, staged.WriteFile(file, text.Bytes(), 0o644), log)
}

// throughLanding rewrites the tree's path in desktop entries to its path through the landing:
// people copy entries to their desktops, and a copy must outlive the tree.
func (a *attempt) throughLanding(staged *os.Root, log string) error {
	if a.job.Away() {
		return nil
	}
	entries, err := safefs.OpenDir(a.dirs.placed)
	if err != nil {
		return err
	}
	defer entries.Close()
	files, _ := fs.Glob(staged.FS(), "share/applications/*.desktop")
	for _, file := range files {
		data, err := entries.ReadFile(file, store.LargestEntry)
		if err != nil {
			continue // not a file that desktops read
		}
		text := bytes.ReplaceAll(data, []byte(a.job.Prefix), []byte(a.m.Store.InUse(a.job.Name)))
		if bytes.Equal(text, data) {
			continue
		}
		delete(a.digests, file)
		if err := errors.Join(staged.Remove(file), staged.WriteFile(file, text, 0o644)); err != nil {
			return a.notInTree(file, err, log)
		}
	}
	return nil
}

// notInTree makes an error a failure of the build if the tree is the reason: it has a link that
// leads elsewhere, or a file, in the place of a directory that the program needs.
func (a *attempt) notInTree(name string, err error, log string) error {
	if err == nil {
		return nil
	}
	if disk := a.failure(StagePlace, fmt.Sprintf("%s cannot be made in what was placed: %v", name, reason(err)),
		log); !disk.DiskFull {
		return disk
	}
	return err
}

func reason(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

// execWord quotes a word of an Exec key where it has to be.
func execWord(word string) string {
	word = strings.ReplaceAll(word, "%", "%%")
	if !strings.ContainsAny(word, " \t\n\"'\\><~|&;$*?#()`") {
		return word
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", "$", `\$`).Replace(word) + `"`
}

// userEnvironment is what users of the package get in their environment.
func (a *attempt) userEnvironment() []store.Variable {
	values := treeVariables(a.job)
	var env []store.Variable
	for _, pair := range a.job.Recipe.Env {
		env = append(env, store.Variable{Name: pair.Name, Value: recipe.Expand(pair.Values[0], lookup(values))})
	}
	return env
}

// sampleOf is what a configuration file begins as. One without a sample of its
// own begins as what the package installs, which is moved aside.
func sampleOf(c *recipe.Config) string {
	if c.Sample == "" {
		return c.File + ".sample"
	}
	return c.Sample
}

// configs converts configuration files, or writable directories, for the receipt.
func configs(of []*recipe.Config) (all []store.Config) {
	for _, c := range of {
		all = append(all, store.Config{File: c.File, Sample: sampleOf(c), Mode: c.Mode, Private: c.Private, Owner: c.Owner,
			Group: c.Group})
	}
	return all
}

// writable replaces a directory that programs write in with a link to the state directory. What
// the build placed there moves to DIR.sample.
func (a *attempt) writable(staged *os.Root, log, dir string) error {
	if a.job.Away() { // there is no root where it will be
		return a.notInTree(dir, staged.MkdirAll(dir, 0o755), log)
	}
	if info, err := staged.Lstat(dir); err == nil && info.IsDir() {
		for name := range a.digests {
			if below, is := strings.CutPrefix(name, dir+"/"); is {
				a.digests[dir+".sample/"+below] = a.digests[name]
				delete(a.digests, name)
			}
		}
		if err := staged.Rename(dir, dir+".sample"); err != nil {
			return a.notInTree(dir+".sample", err, log)
		}
	}
	if err := errors.Join(staged.RemoveAll(dir), staged.MkdirAll(filepath.Dir(dir), 0o755)); err != nil {
		return a.notInTree(dir, err, log)
	}
	return a.notInTree(dir, staged.Symlink(a.m.Store.StateDir(a.job.Name, dir), dir), log)
}

// config puts a link in the place of a configuration file; or, in what is built for
// another directory, the file as it is at first.
func (a *attempt) config(staged *os.Root, log string, c *recipe.Config) error {
	sample, missing := sampleOf(c), c.Sample
	delete(a.digests, sample) // it may be another file than the build has placed
	if c.Sample == "" {
		missing = c.File
		if info, err := staged.Lstat(c.File); err == nil && info.Mode().IsRegular() {
			if err := staged.Rename(c.File, sample); err != nil {
				return a.notInTree(sample, err, log)
			}
		}
	}
	if info, err := staged.Lstat(sample); err != nil || !info.Mode().IsRegular() {
		return a.failure(StagePlace, fmt.Sprintf("%s, the sample of the configuration file %s, was not placed", missing,
			c.File), log)
	}
	if err := staged.RemoveAll(c.File); err != nil {
		return a.notInTree(c.File, err, log)
	}
	if err := staged.MkdirAll(filepath.Dir(c.File), 0o755); err != nil {
		return a.notInTree(c.File, err, log)
	}
	if a.job.Away() { // there is no root where it will be
		data, err := staged.ReadFile(sample)
		if err == nil {
			err = staged.WriteFile(c.File, data, 0o644)
		}
		return a.notInTree(c.File, err, log)
	}
	return a.notInTree(c.File, staged.Symlink(a.m.Store.ConfigFile(a.job.Name, c.File), c.File), log)
}
