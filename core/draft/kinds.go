package draft

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	toml "github.com/pelletier/go-toml/v2"

	"fernladder/core/buildfile"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
)

// Build systems without a method. Their recipes have the method script, with the usual steps;
// nothing in them uses the network, so the sources of their needs have to be in the archive, or
// be extras.

// A kind is such a build system.
type kind struct {
	file string // by which it is known
	make func(t *tree, s *Source)
}

var kinds = []kind{
	{"Build.PL", (*tree).perlBuild}, {"Makefile.PL", (*tree).perlMake},
	{"pyproject.toml", (*tree).python}, {"setup.py", (*tree).python},
	{"Cargo.toml", (*tree).cargo}, {"go.mod", (*tree).golang},
	{"wscript", (*tree).waf}, {"SConstruct", (*tree).scons}, {"build.sh", (*tree).buildScript},
}

// scripted finds out whether the source has one of these, and writes its steps.
func (t *tree) scripted(s *Source) bool {
	for _, k := range kinds {
		if t.has(k.file) {
			s.Method = Finding{"method", string(recipe.Script), k.file, Certain}
			k.make(t, s)
			return true
		}
	}
	return t.prebuilt(s)
}

// needs adds something that the steps need.
func (s *Source) needs(kind, from string, names ...string) {
	for _, name := range names {
		s.generated = append(s.generated, required(kind, name, from))
	}
}

// required is a look-up of something that the build requires.
func required(kind, name, from string) buildfile.Lookup {
	return buildfile.Lookup{Kind: kind, Names: []string{name}, Required: true, From: from}
}

// open notes something that a person has to find out.
func (s *Source) open(what, value, from string) {
	s.Remarks = append(s.Remarks, Finding{what, value, from, Open})
}

// perlModules are the modules that a distribution of Perl says it needs, in META.json.
func (t *tree) perlModules(s *Source) {
	var meta struct {
		Prereqs map[string]struct{ Requires map[string]any }
	}
	if json.Unmarshal([]byte(t.text("META.json")), &meta) != nil {
		return
	}
	var names []string
	for _, phase := range []string{"configure", "build", "runtime"} {
		for name := range meta.Prereqs[phase].Requires {
			if name != "perl" && strings.ToLower(name) != name && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	s.needs("perl", "META.json", names...)
}

func (t *tree) perlMake(s *Source) {
	s.needs("program", "Makefile.PL", "perl", "make", "cc")
	s.needs("perl", "Makefile.PL", "ExtUtils::MakeMaker")
	t.perlModules(s)
	configure := "perl Makefile.PL INSTALL_BASE=$FL_PREFIX NO_PERLLOCAL=1 NO_PACKLIST=1"
	if t.hasDir("inc") { // modules of its own, which it looks for where it is
		configure = "PERL_USE_UNSAFE_INC=1 " + configure
	}
	s.Steps = [][2]string{
		{"configure", configure},
		{"compile", "make -j$FL_JOBS"}, {"place", "make install DESTDIR=$DESTDIR"},
	}
	s.Env = [][2]string{{"PERL5LIB", "$FL_PREFIX/lib/perl5"}}
}

func (t *tree) perlBuild(s *Source) {
	s.needs("program", "Build.PL", "perl", "cc")
	s.needs("perl", "Build.PL", "Module::Build")
	t.perlModules(s)
	s.Steps = [][2]string{
		{"configure", "perl Build.PL --install_base=$FL_PREFIX"}, {"compile", "./Build"},
		{"place", "./Build install --destdir=$DESTDIR --create_packlist=0"},
	}
	s.Env = [][2]string{{"PERL5LIB", "$FL_PREFIX/lib/perl5"}}
}

var (
	pythonName  = pattern.New(`^[A-Za-z_][\w.-]*`)
	setupCalled = pattern.New(`(?s)\bsetup\s*\(.*?\bname\s*=\s*['"]([\w.-]+)['"]`)
	setupVer    = pattern.New(`(?s)\bsetup\s*\(.*?\bversion\s*=\s*['"]([\w.+-]+)['"]`)
	extensions  = pattern.New(`\b(?:Extension|ext_modules|cffi_modules)\b`)
)

// python places a Python package in a directory of the tree whose name does not depend on the
// version of Python, with programs in bin that find it.
func (t *tree) python(s *Source) {
	from := s.Method.From
	var project struct {
		Build struct {
			Requires []string `toml:"requires"`
			Backend  string   `toml:"build-backend"`
		} `toml:"build-system"`
		Project struct {
			Name, Version, Description string
			Dependencies               []string
		}
	}
	if err := toml.Unmarshal([]byte(t.text("pyproject.toml")), &project); err == nil {
		p := project.Project
		s.called, s.versioned = p.Name, p.Version
		if p.Description != "" {
			s.Summary = Finding{"summary", p.Description, "pyproject.toml", Certain}
		}
	}
	if s.called == "" {
		s.called = t.match("setup.py", setupCalled)
	}
	if s.versioned == "" {
		s.versioned = t.match("setup.py", setupVer)
	}
	modules := []string{"pip"}
	for _, r := range project.Build.Requires {
		if name := strings.ToLower(pythonName.FindString(r)); name != "" {
			modules = append(modules, strings.ReplaceAll(strings.ReplaceAll(name, "-core", ".core"), "-", "_"))
		}
	}
	if len(modules) == 1 {
		modules = append(modules, "setuptools", "wheel")
	}
	s.needs("program", from, "python3")
	s.needs("python", from, modules...)
	for _, r := range project.Project.Dependencies {
		if name := pythonName.FindString(r); name != "" && !strings.Contains(r, ";") {
			s.needs("python", "pyproject.toml, to run", strings.ReplaceAll(strings.ToLower(name), "-", "_"))
		}
	}
	if extensions.MatchString(t.text("setup.py")) {
		s.needs("program", "setup.py", "cc")
	}
	s.Steps = [][2]string{{"place",
		`python3 -m pip install --no-index --no-deps --no-build-isolation --no-compile --no-warn-script-location \
	--target=$DESTDIR$FL_PREFIX/lib/python .
rm -f $DESTDIR$FL_PREFIX/lib/python/*.dist-info/direct_url.json
mkdir -p $DESTDIR$FL_PREFIX/bin
for program in $DESTDIR$FL_PREFIX/lib/python/bin/*; do
	test -f "$program" || continue
	name=${program##*/}
	printf '#!/bin/sh\nPYTHONPATH=%s${PYTHONPATH:+:$PYTHONPATH} exec python3 %s "$@"\n' \
		$FL_PREFIX/lib/python $FL_PREFIX/lib/python/bin/$name >$DESTDIR$FL_PREFIX/bin/$name
	sed -i '1s,^#!.*,#!/usr/bin/env python3,' "$program"
	chmod 755 $DESTDIR$FL_PREFIX/bin/$name
done`}}
}

// cargo builds a Rust package from crates in the archive. If they are not there, Cargo.lock has
// their digests, and a person has to state their URLs.
func (t *tree) cargo(s *Source) {
	var manifest struct {
		Package struct{ Name, Version, Description, Homepage, License string }
		Bin     []struct{ Name string }
	}
	if toml.Unmarshal([]byte(t.text("Cargo.toml")), &manifest) == nil {
		p := manifest.Package
		s.called, s.versioned = p.Name, p.Version
		if p.Description != "" {
			s.Summary = Finding{"summary", p.Description, "Cargo.toml", Certain}
		}
	}
	s.needs("program", "Cargo.toml", "cargo", "cc")
	s.Steps = [][2]string{{"compile", "cargo build --release --offline --frozen -j $FL_JOBS"}}
	names := []string{manifest.Package.Name}
	if len(manifest.Bin) > 0 {
		names = nil
		for _, b := range manifest.Bin {
			names = append(names, b.Name)
		}
	}
	place := "mkdir -p $DESTDIR$FL_PREFIX/bin"
	for _, name := range names {
		if programName.MatchString(name) {
			place += fmt.Sprintf("\ncp target/release/%s $DESTDIR$FL_PREFIX/bin", name)
		}
	}
	s.Steps = append(s.Steps, [2]string{"place", place})
	if t.hasDir("vendor") {
		return
	}
	var lock struct {
		Package []struct{ Name, Version, Source, Checksum string }
	}
	if toml.Unmarshal([]byte(t.text("Cargo.lock")), &lock) != nil || len(lock.Package) == 0 {
		s.open("extras", "the crates that it needs; there is no Cargo.lock", "Cargo.toml")
		return
	}
	crates := 0
	for _, p := range lock.Package {
		if p.Checksum != "" && programName.MatchString(p.Name) && programName.MatchString(p.Version) {
			crates++
			s.Extras = append(s.Extras, ExtraOf{Name: p.Name + "-" + p.Version, SHA256: p.Checksum, File: p.Name + "-" +
				p.Version + ".crate", Into: "vendor/" + p.Name + "-" + p.Version, Sum: `{"files":{},"package":"` +
				p.Checksum + `"}`})
		}
	}
	if crates > 0 {
		s.open("extras", fmt.Sprintf("where its %d crates come from", crates), "Cargo.lock")
		s.Steps[0][1] = "mkdir -p .cargo\nprintf '[source.crates-io]\\nreplace-with = " +
			"\"here\"\\n[source.here]\\ndirectory = \"vendor\"\\n' >.cargo/config.toml\n" + s.Steps[0][1]
	}
}

// plainPath matches paths without characters that are special to a shell.
var plainPath = pattern.New(`^[\w./+-]+$`)

var programName = pattern.New(`^[\w][\w.+-]*$`)

// golang builds a Go module from modules in the archive.
func (t *tree) golang(s *Source) {
	module := t.match("go.mod", goModule)
	s.called = path.Base(majorVersion.ReplaceAllString(module, ""))
	s.needs("program", "go.mod", "go")
	var mains []string
	if names, _ := fs.Glob(t.files, "cmd/*/*.go"); len(names) > 0 {
		for _, name := range names {
			if dir := path.Dir(name); plainPath.MatchString(dir) && !slices.Contains(mains, "./"+dir) &&
				strings.Contains(t.text(name), "package main") {
				mains = append(mains, "./"+dir)
			}
		}
	}
	if t.has("main.go") {
		mains = append(mains, ".")
	}
	if len(mains) == 0 {
		mains = []string{"."}
		s.open("steps", "which package is the program", "go.mod")
	}
	flags := "-trimpath -buildvcs=false"
	switch {
	case t.hasDir("vendor"):
		flags += " -mod=vendor"
	case strings.Contains(t.text("go.mod"), "require"):
		s.open("extras", "its modules; there is no vendor directory, which `go mod vendor` makes", "go.mod")
		flags += " -mod=vendor"
	}
	s.Steps = [][2]string{
		{"compile", "mkdir -p $FL_BUILD/out\nGOFLAGS= GOPROXY=off GOTOOLCHAIN=local CGO_ENABLED=0 go build " + flags +
			" -o $FL_BUILD/out/ " + strings.Join(mains, " ")},
		{"place", "mkdir -p $DESTDIR$FL_PREFIX/bin\ncp $FL_BUILD/out/* $DESTDIR$FL_PREFIX/bin"},
	}
}

var (
	goModule     = pattern.New(`(?m)^module\s+(\S+)`)
	majorVersion = pattern.New(`/v[0-9]+$`)
)

func (t *tree) waf(s *Source) {
	s.needs("program", "wscript", "python3", "cc")
	waf := "python3 ./waf"
	if !t.has("waf") {
		s.open("extras", "waf itself, which the archive does not have", "wscript")
	}
	s.Steps = [][2]string{{"configure", waf + " configure --prefix=$FL_PREFIX"}, {"compile", waf + " build -j$FL_JOBS"},
		{"place", waf + " install --destdir=$DESTDIR"}}
}

var sconsPrefix = pattern.New(`(?i)['"](prefix|PREFIX|install_prefix)['"]`)

func (t *tree) scons(s *Source) {
	s.needs("program", "SConstruct", "scons", "cc")
	prefix := "prefix"
	if m := sconsPrefix.FindStringSubmatch(t.text("SConstruct")); m != nil {
		prefix = m[1]
	} else {
		s.open("steps", "the variable for the place to install in", "SConstruct names none")
	}
	destdir := ""
	if strings.Contains(t.text("SConstruct"), "DESTDIR") {
		destdir = " DESTDIR=$DESTDIR"
	}
	arg := prefix + "=$FL_PREFIX"
	s.Steps = [][2]string{{"compile", "scons -j$FL_JOBS " + arg}, {"place", "scons install " + arg + destdir}}
}

func (t *tree) buildScript(s *Source) {
	s.needs("program", "build.sh", "cc")
	s.Steps = [][2]string{{"compile", "sh ./build.sh"}}
	s.Place = true
	s.Remarks = append(s.Remarks,
		Finding{"steps", "compile and place", "build.sh, which is run without arguments", Guessed})
}

// prebuilt recognises a source that only has to be placed: programs, with the files that they
// need.
func (t *tree) prebuilt(s *Source) bool {
	names, _ := fs.Glob(t.files, "bin/*")
	if len(names) == 0 ||
		slices.ContainsFunc(names, func(name string) bool { return path.Ext(name) == ".c" || path.Ext(name) == ".go" }) {
		return false
	}
	s.Method = Finding{"method", string(recipe.Script), "it is built already", Guessed}
	s.Steps = [][2]string{{"place", "mkdir -p $DESTDIR$FL_PREFIX\ncp -R . $DESTDIR$FL_PREFIX"}}
	return true
}

// data recognises a source with nothing to build: fonts, pictures and the like, with texts about
// them.
func (t *tree) data(s *Source) bool {
	fonts, found, other := false, false, false
	err := fs.WalkDir(t.files, ".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		switch name := path.Base(file); {
		case font.MatchString(name):
			fonts, found = true, true
		case material.MatchString(name):
			found = true
		case !prose.MatchString(name) && strings.ToUpper(name) != name:
			other = true
			return fs.SkipAll
		}
		return nil
	})
	if err != nil || !found || other {
		return false
	}
	place := "mkdir -p $DESTDIR$FL_PREFIX/share/$FL_NAME\ncp -R . $DESTDIR$FL_PREFIX/share/$FL_NAME"
	if fonts {
		place = "mkdir -p $DESTDIR$FL_PREFIX/share/fonts/$FL_NAME\nfind . -type f | grep -E '" + fontName +
			"' | while IFS= read -r file; do\n\tcp \"$file\" $DESTDIR$FL_PREFIX/share/fonts/$FL_NAME\ndone"
	}
	s.Method = Finding{"method", string(recipe.Script), "there is nothing to build", Guessed}
	s.Steps = [][2]string{{"place", place}}
	s.Remarks = append(s.Remarks, Finding{"steps", "place", "where its files belong is a guess", Guessed})
	return true
}

const fontName = `\.([ot]t[fc]|pf[ab]|afm|pcf(\.gz)?|bdf|woff2?)$`

var (
	font     = pattern.New(fontName)
	prose    = pattern.New(`(?i)\.(?:txt|md|rst|html?|css|pdf)$`)
	material = pattern.New(`(?i)\.(?:xml|json|csv|dat|conf|ini|po|desktop|theme|png|svgz?|xpm|xbm|jpe?g|gif|ico|webp` +
		`|wav|ogg|flac|mp3)$`)
)

func (t *tree) hasDir(name string) bool {
	info, err := fs.Stat(t.files, name)
	return err == nil && info.IsDir()
}
