package draft

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/recipe"
)

// reading reads the files of the build system that the source is built with.
func (t *tree) reading(s *Source) {
	r := &buildfile.Reading{}
	switch recipe.Method(s.Method.Value) {
	case recipe.Configure:
		if script := t.text("configure"); script != "" {
			r = buildfile.ConfigureHelp(script)
		}
		if ac := t.first("configure.ac", "configure.in"); ac != "" {
			r.Merge(buildfile.Autoconf(ac, t.text(ac), t.macros()))
		} else if s.InTree { // what there is, is the script
			r.CXX = t.compiles(".cc", ".cpp", ".cxx")
		}
	case recipe.CMake:
		r = buildfile.CMake(t.text)
	case recipe.Meson:
		r = buildfile.Meson(t.text)
	case recipe.Make:
		r = buildfile.Makefile(s.Method.From, t.text(s.Method.From))
	}
	own := buildfile.Stem(s.Name.Value)
	r.Lookups = slices.DeleteFunc(r.Lookups, func(l buildfile.Lookup) bool {
		return l.Kind != "program" && slices.ContainsFunc(l.Names, func(name string) bool { return buildfile.Stem(name) == own })
	})
	s.Reading = *r
	s.Lookups = append(s.Lookups, s.generated...)
	need := func(program, from string) {
		s.Lookups = append(s.Lookups, buildfile.Lookup{Kind: "program", Names: []string{program}, Required: true, From: from})
	}
	if r.CXX {
		need("c++", "there is C++ to compile")
	}
	if r.Modules {
		need("pkg-config", "modules are looked for with it")
	}
}

// macros are the texts in which macros of a configure script are defined.
func (t *tree) macros() []string {
	var texts []string
	for _, pattern := range []string{"acinclude.m4", "m4/*.m4", "config/*.m4", "macros/*.m4", "cmulocal/*.m4", "build-aux/*.m4", "build/*.m4", "*.m4"} {
		names, _ := fs.Glob(t.files, pattern)
		for _, name := range names {
			if text := t.text(name); !strings.Contains(text, "generated automatically by aclocal") {
				texts = append(texts, text)
			}
		}
	}
	return texts
}

// compiles tells whether there are files with one of these endings where sources are.
func (t *tree) compiles(endings ...string) bool {
	for _, dir := range []string{"*", "src/*", "lib/*", "source/*"} {
		names, _ := fs.Glob(t.files, dir)
		if slices.ContainsFunc(names, func(name string) bool { return slices.Contains(endings, path.Ext(name)) }) {
			return true
		}
	}
	return false
}
