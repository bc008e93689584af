package host

import (
	"context"
	"os"
	"path/filepath"
	"strings"
)

// Where lists the files of this machine that answer a question, with the links on the way to
// them; none if it has no answer. Unlike Ask, it only looks in the usual directories.
func (p Programs) Where(ctx context.Context, q Question) []string {
	var places []string
	add := func(patterns ...string) {
		for _, pattern := range patterns {
			found, _ := filepath.Glob(pattern)
			places = append(places, found...)
		}
	}
	name := escaped(q.Name)
	switch q.Kind {
	case Program:
		if file := p.Find(q.Name); file != "" {
			places = append(places, file)
		}
	case Header:
		add("/usr/include/"+name, "/usr/include/*-linux-*/"+name)
	case Library:
		for _, dir := range SystemLibraries() {
			add(dir+"/lib"+name+".so", dir+"/lib"+name+".a")
		}
	case Module:
		for _, dir := range p.ModulePath(ctx) {
			add(escaped(dir) + "/" + name + ".pc")
		}
	case Python:
		places = append(places, p.Where(ctx, Question{Program, "python3"})...)
		module := strings.ReplaceAll(name, ".", "/")
		for _, dir := range []string{"/usr/lib/python3", "/usr/lib*/python3*", "/usr/lib*/python3*/site-packages",
			"/usr/lib/python3/dist-packages", "/usr/lib/python3*/lib-dynload"} {
			add(dir+"/"+module+"/__init__.py", dir+"/"+module+".py", dir+"/"+module+".*.so")
		}
	case Perl:
		places = append(places, p.Where(ctx, Question{Program, "perl"})...)
		module := strings.ReplaceAll(name, "::", "/") + ".pm"
		for _, dir := range []string{"/usr/share/perl5", "/usr/share/perl5/vendor_perl", "/usr/share/perl/*",
			"/usr/lib*/perl5", "/usr/lib*/perl5/vendor_perl", "/usr/lib/*/perl5/*", "/usr/lib/*/perl/*",
			"/usr/lib/*/perl-base"} {
			add(dir + "/" + module)
		}
	case File:
		add(name)
	}
	return linked(places)
}

// Each lists the files of a program in all directories of the path, each with the links on the
// way to it.
func (p Programs) Each(name string) (all [][]string) {
	if filepath.IsAbs(name) {
		return [][]string{linked([]string{name})}
	}
	for _, dir := range p.Path {
		if file := executable(filepath.Join(dir, name)); file != "" {
			all = append(all, linked([]string{file}))
		}
	}
	return all
}

// escaped is a name as a pattern that only matches itself.
func escaped(name string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(name)
}

// linked adds the targets of files that are links, step by step.
func linked(files []string) []string {
	var all []string
	seen := map[string]bool{}
	const deepest = 16
	for _, file := range files {
		for range deepest {
			if seen[file] {
				break
			}
			seen[file] = true
			all = append(all, file)
			target, err := os.Readlink(file)
			if err != nil {
				break
			}
			if !filepath.IsAbs(target) {
				target = filepath.Join(filepath.Dir(file), target)
			}
			file = target
		}
	}
	return all
}
