package buildfile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"fernladder/core/recipe"
)

// said is a reading as text: a line for each switch, then the look-ups.
func said(r *Reading) string {
	var lines []string
	for _, s := range r.Switches {
		line := s.Name + "=" + string(s.Default) + s.Value + " " +
			strings.Join(append(append([]string{}, s.On...), s.Off...), " ")
		for _, v := range s.Order {
			line += v + ":" + strings.Join(s.Values[v], "") + " "
		}
		lines = append(lines, strings.TrimSpace(line)+" ("+s.About+")"+string(s.Purpose))
	}
	for _, l := range r.Lookups {
		lines = append(lines,
			strings.TrimSpace(strings.TrimSpace(l.Kind+" "+strings.Join(l.Names, "/")+" "+
				l.Version)+map[bool]string{true: "!"}[l.Required]+" "+l.Switch+strings.Join(l.Off, "")))
	}
	return strings.Join(lines, "\n")
}

func files(pairs ...string) Files {
	return func(name string) string {
		for i := 0; i < len(pairs); i += 2 {
			if pairs[i] == name {
				return pairs[i+1]
			}
		}
		return ""
	}
}

func TestTheHelpOfAScript(t *testing.T) {
	script := `Optional Features:
  --disable-option-checking  ignore unrecognized --enable/--with options
  --enable-FEATURE[=ARG]  include FEATURE [ARG=yes]
  --enable-plots          draw plans
                          as SVG
  --disable-nls           do not use Native Language Support
  --enable-alarm          raise alarms [default=yes]
  --with-mist[=ARG]       spray (default is auto)
  --with-cal=DIR          where the calibration is
  --without-Loam.DB       keep no book
  --with-store=loam|flat  where
  --enable-version        cannot be an option's name
echo "  --enable-hand        by hand"
printf '  --disable-examples   build no examples\n'
`
	assert.Equal(t, strings.TrimSpace(`
alarm=on --enable-alarm --disable-alarm (Raise alarms)
examples=on --enable-examples --disable-examples (Build no examples)examples
hand=off --enable-hand --disable-hand (By hand)
loam-db=on --with-Loam.DB --without-Loam.DB (Keep no book)
mist=auto --with-mist --without-mist (Spray)
nls=on --enable-nls --disable-nls (Use Native Language Support)
plots=off --enable-plots --disable-plots (Draw plans as SVG)
store= loam:--with-store=loam flat:--with-store=flat (Where)`), said(ConfigureHelp(script)))
}

// A hand-written script reveals its options by how it reads its arguments.
func TestTheArgumentsOfAScript(t *testing.T) {
	script := "#!/bin/sh\nfor arg; do case $arg in\n  --enable-plots) plots=1;;\n  --disable-plots) plots=0;;\n  " +
		"--with-storage=loam|--with-storage=flat) storage=${arg#*=};;\n  --with-cal=*) cal=x;;\n  --without-net) " +
		"n=;;\nesac; done\n"
	r := ConfigureHelp(script)
	assert.Equal(t,
		"net=auto --without-net (Net)\nplots=auto --enable-plots --disable-plots (Plots)\nstorage= "+
			"loam:--with-storage=loam flat:--with-storage=flat (Storage)", said(r))
	assert.Equal(t, []Setting{{Name: "cal", Raw: "cal", About: "cal", Form: recipe.Line, Given: "--with-cal=$FL_VALUE"}},
		r.Settings)
}

// The package's own macros are followed where they are called; those that many packages share
// are not.
func TestMacros(t *testing.T) {
	ac := "AC_ARG_ENABLE([bed], [AS_HELP_STRING([--disable-bed],[x])])\nif test $enable_bed = yes; then\n  " +
		"FERN_CHECK([moss])\nfi\ndnl PKG_CHECK_MODULES([NO], " +
		"[gone])\nGL_INIT\nAM_PATH_REED([1.0])\nAC_PATH_PROGS([SPORE], [sporegen2 sporegen])\nPKG_CHECK_MODULES(X, " +
		"[$modules])\n"
	r := Autoconf("configure.ac", ac, []string{"AC_DEFUN([FERN_CHECK], [\n  PKG_CHECK_MODULES([F], [$1 >= 1.2 leaf])\n])",
		"# Copyright Free Software Foundation\nAC_DEFUN([GL_INIT], [AC_CHECK_LIB([gl],[f])])"})
	assert.Equal(t,
		"bed=on --enable-bed --disable-bed (X)\nmodule moss >= 1.2! bed\nmodule leaf! bed\nprogram "+
			"sporegen2/sporegen\npackage reed", said(r))
	assert.True(t, r.Modules)
}

// The end of a help text can be a state in parentheses, with the end of the macro after it.
func TestStatesInParentheses(t *testing.T) {
	r := Autoconf("configure.ac", "AC_ARG_WITH(bed,[  --with-bed   add a bed (on)])\n"+
		"AC_ARG_WITH(moss,[  --with-moss  add moss (off)])\n", nil)
	assert.Equal(t, "bed=on --with-bed --without-bed (Add a bed)\nmoss=off --with-moss --without-moss (Add moss)", said(r))
}

func TestCMake(t *testing.T) {
	text := `cmake_minimum_required(VERSION 3)
project(fern VERSION 1 LANGUAGES C)
option(FERN_PLOTS "Draw plans" ON) # option(OLD "x" ON)
cmake_dependent_option(FERN_ALARM "Raise alarms" OFF "FERN_PLOTS" OFF)
set(BED deep CACHE STRING "Which bed")
set_property(CACHE BED PROPERTY STRINGS deep raised)
set(FERN_DOC TRUE CACHE BOOL "Documentation")
find_package(Threads REQUIRED)
find_package(LoamDB 0.9 REQUIRED COMPONENTS a b)
find_package(Dew)
if(FERN_PLOTS)
  find_package(Moss REQUIRED)
endif()
if(WIN32)
  find_package(Gone REQUIRED)
endif()
pkg_check_modules(F REQUIRED IMPORTED_TARGET frond>=2)
find_library(S NAMES soil soil2 REQUIRED)
find_program(G sporegen)
find_package(Python3 REQUIRED)
add_subdirectory(src)
include(Bed)
`
	r := CMake(files("CMakeLists.txt", text, "src/CMakeLists.txt",
		"check_library_exists(reed grow \"\" HAVE_REED)\nenable_language(CXX)\n", "cmake/Bed.cmake", "find_package(Bed)\n"))
	assert.Equal(t, strings.TrimSpace(`
bed=deep deep:-DBED=deep raised:-DBED=raised (Which bed)
fern_alarm=off -DFERN_ALARM=ON -DFERN_ALARM=OFF (Raise alarms)
fern_doc=on -DFERN_DOC=ON -DFERN_DOC=OFF (Documentation)documentation
fern_plots=on -DFERN_PLOTS=ON -DFERN_PLOTS=OFF (Draw plans)
package LoamDB!
package Dew -DCMAKE_DISABLE_FIND_PACKAGE_Dew=ON
package Moss! fern_plots
module frond >= 2!
library soil/soil2!
program sporegen
program python3!
library reed
package Bed -DCMAKE_DISABLE_FIND_PACKAGE_Bed=ON`), said(r))
	assert.True(t, r.CXX)
	assert.True(t, CMake(files("CMakeLists.txt", "project(fern)")).CXX, "that is what it means")
}

func TestMeson(t *testing.T) {
	options := "option('docs', type: 'boolean', value: true, description: 'Write ' + 'docs')\noption('db',\n  type: " +
		"'combo', choices: ['loam', 'flat'],\n  value: 'flat')\n# option('old', type: 'boolean')\noption('nls', type: " +
		"'feature', description: 'Speak (default: auto)')\noption('dir', type: 'string', value: '/x')\noption('mist', " +
		"type: 'combo', choices: ['yes', 'no', 'auto'], value: 'auto')\n"
	text := "project('x', ['c', 'cpp'])\nd = dependency('dewcalc', version: '>= 1')\nl = dependency('loamdb', 'loam', " +
		"required: false)\np = find_program('sporegen')\nm = cc.find_library('m')\nopt = get_option('nls')\nn = " +
		"dependency('speech', required: opt)\nif get_option('mist') != 'no'\n  dependency('mist')\nendif\nif " +
		"host_machine.system() == 'windows'\n  dependency('gone')\nendif\nsubdir('src')\n"
	r := Meson(files("meson.build", text, "meson_options.txt", options, "src/meson.build", "dependency('reed')\n"))
	assert.Equal(t, strings.TrimSpace(`
db=flat loam:-Ddb=loam flat:-Ddb=flat (db)
docs=on -Ddocs=true -Ddocs=false (Write docs)documentation
mist=auto -Dmist=yes -Dmist=no (mist)
nls=auto -Dnls=enabled -Dnls=disabled (Speak)
module dewcalc >= 1!
module loamdb/loam
program sporegen!
module speech! nls
module mist! mist
module reed!`), said(r))
	assert.True(t, r.CXX)
}

func TestMakefiles(t *testing.T) {
	r := Makefile("Makefile",
		"TLS ?= yes # speak safely\nOTHER ?= x\nDEEP ?=\nifeq ($(TLS),yes)\nLIBS += -lmoss -lm\nendif\nifdef "+
			"DEEP\nendif\nCFLAGS += $(shell pkg-config --cflags --libs reed)\nfern: fern.cc\n\t$(CXX) $<\n")
	assert.Equal(t, "deep=off DEEP=1 DEEP= (DEEP)\ntls=on TLS=yes TLS=no (Speak safely)\nmodule reed\nlibrary moss",
		said(r))
	assert.True(t, r.CXX)
}

// Reading any build file terminates.
func FuzzBuildFiles(f *testing.F) {
	for _, seed := range []string{"AC_ARG_WITH([a],[AS_HELP_STRING([--with-a],[x])],[[", "if(A)\nfind_package(B\nelse(",
		"option('a', type: [[[", "if x; then\nAC_CHECK_LIB(", "A(B(C", "--enable-a[=b|c", "subdir('.')subdir('src')"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		Autoconf("configure.ac", text, []string{text, "AC_DEFUN([A_B], [" + text + "])"})
		ConfigureHelp(text)
		CMake(func(string) string { return text })
		Meson(func(string) string { return text })
		Makefile("Makefile", text)
	})
}

// The text of a switch decides what it is when on, whichever way round the source says it; a
// switch keeps its heading; and a switch with a free value is recognised.
func TestWordsAndHeadings(t *testing.T) {
	lines := func(r *Reading) []string {
		var all []string
		for _, s := range r.Switches {
			all = append(all, strings.Join([]string{s.Group, s.Name, string(s.Default), s.About, strings.Join(s.On, " ")}, "|"))
		}
		for _, s := range r.Settings {
			all = append(all,
				strings.Join([]string{s.Group, s.Name, string(s.Form) + s.Between + s.Matches, s.About, s.Given, s.Usual}, "|"))
		}
		return all
	}
	help := `Optional Features:
  --disable-plots         do not build plots
  --enable-frost          disable the heating

Beds and borders:
  --without-moss          build without moss
  --with-beds=N           how many beds
  --with-data=DIR         where data is kept
  --with-langs=LIST       languages
  --with-vendor=NAME      who made it
Some influential environment variables:
  --enable-last           the last one
`
	assert.ElementsMatch(t, []string{
		"Beds and borders|moss|on|Moss|--with-moss", "|frost|off|Disable the heating|--enable-frost",
		"|last|off|The last one|--enable-last", "|plots|on|Build plots|--enable-plots",
		"Beds and borders|beds|number|How many beds|--with-beds=$FL_VALUE|",
		"Beds and borders|data|path|Where data is kept|--with-data=$FL_VALUE|",
		"Beds and borders|langs|list|Languages|--with-langs=$FL_VALUE|",
		"Beds and borders|vendor|text|Who made it|--with-vendor=$FL_VALUE|",
	}, lines(ConfigureHelp(help)))

	cmake := CMake(func(name string) string {
		return map[string]string{"CMakeLists.txt": `# What is grown
option(FERN_DISABLE_MOSS "Disables moss" OFF)
option(FERN_PLOTS "Do not wait for plots" ON)

#----------
# Places
#----------
set(FERN_DATA "/var/fern" CACHE PATH "Where data is kept")
set(FERN_BEDS 4 CACHE STRING "How many beds")

# An explanation of one, which is none of several
option(FERN_LAST "The last one" OFF)
set(FERN_LANGS "c;d" CACHE STRING "Languages")
`}[name]
	})
	assert.ElementsMatch(t, []string{
		"What is grown|fern_moss|on|Moss|-DFERN_DISABLE_MOSS=OFF",
		"What is grown|fern_plots|on|Do not wait for plots|-DFERN_PLOTS=ON", "|fern_last|off|The last one|-DFERN_LAST=ON",
		"Places|fern_beds|number|How many beds|-DFERN_BEDS=$FL_VALUE|4",
		"Places|fern_data|path|Where data is kept|-DFERN_DATA=$FL_VALUE|/var/fern",
		"|fern_langs|list;|Languages|-DFERN_LANGS=$FL_VALUE|c,d",
	}, lines(cmake))

	meson := Meson(func(name string) string {
		return map[string]string{"meson_options.txt": "# Drivers\noption('moss', type: 'boolean', value: false, " +
			"description: 'Moss')\noption('tools', type: 'array', choices: ['rake', 'hoe'], value: ['rake'], description: " +
			"'Tools')\noption(\n  'beds',\n  type: 'integer', value: 4, min: 1)\n\n# About one only.\noption('data', type: " +
			"'string', value: '/var', description: 'Where')\n"}[name]
	})
	assert.ElementsMatch(t, []string{"Drivers|moss|off|Moss|-Dmoss=true", "Drivers|beds|number|beds|-Dbeds=$FL_VALUE|4",
		"|data|path|Where|-Ddata=$FL_VALUE|/var", "Drivers|tools|listrake|hoe|Tools|-Dtools=$FL_VALUE|rake"}, lines(meson))
}

// A format is documentation only if the description says so.
func TestFormatsAreFeatures(t *testing.T) {
	for about, want := range map[string]Purpose{"Add HTML support": "", "Add Docbook SGML support": "",
		"Build the HTML documentation": Documentation, "Install the manual as HTML": Documentation} {
		switches := []Switch{{Name: "html", About: about, Purpose: purposeOf("html")}}
		OwnPurposes(switches, "fern")
		assert.Equal(t, want, switches[0].Purpose, about)
	}
}
