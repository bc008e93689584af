package buildfile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// said is a reading as text: a line for each switch, then the look-ups.
func said(r *Reading) string {
	var lines []string
	for _, s := range r.Switches {
		line := s.Name + "=" + string(s.Default) + s.Value + " " + strings.Join(append(append([]string{}, s.On...), s.Off...), " ")
		for _, v := range s.Order {
			line += v + ":" + strings.Join(s.Values[v], "") + " "
		}
		lines = append(lines, strings.TrimSpace(line)+" ("+s.About+")"+string(s.Purpose))
	}
	for _, l := range r.Lookups {
		lines = append(lines, strings.TrimSpace(strings.TrimSpace(l.Kind+" "+strings.Join(l.Names, "/")+" "+l.Version)+map[bool]string{true: "!"}[l.Required]+" "+l.Switch+strings.Join(l.Off, "")))
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

// A script that was written by hand shows what it can by how it reads its arguments.
func TestTheArgumentsOfAScript(t *testing.T) {
	script := "#!/bin/sh\nfor arg; do case $arg in\n  --enable-plots) plots=1;;\n  --disable-plots) plots=0;;\n  --with-storage=loam|--with-storage=flat) storage=${arg#*=};;\n  --with-cal=*) cal=x;;\n  --without-net) n=;;\nesac; done\n"
	r := ConfigureHelp(script)
	assert.Equal(t, "net=auto --without-net (Net)\nplots=auto --enable-plots --disable-plots (Plots)\nstorage= loam:--with-storage=loam flat:--with-storage=flat (Storage)", said(r))
	assert.Equal(t, []Setting{{"--with-cal=…", ""}}, r.Settings)
}

// Macros of the package's own are looked into, where they are called; those that many
// packages share are not.
func TestMacros(t *testing.T) {
	ac := "AC_ARG_ENABLE([bed], [AS_HELP_STRING([--disable-bed],[x])])\nif test $enable_bed = yes; then\n  FERN_CHECK([moss])\nfi\ndnl PKG_CHECK_MODULES([NO], [gone])\nGL_INIT\nAM_PATH_REED([1.0])\nAC_PATH_PROGS([SPORE], [sporegen2 sporegen])\nPKG_CHECK_MODULES(X, [$modules])\n"
	r := Autoconf("configure.ac", ac, []string{"AC_DEFUN([FERN_CHECK], [\n  PKG_CHECK_MODULES([F], [$1 >= 1.2 leaf])\n])", "# Copyright Free Software Foundation\nAC_DEFUN([GL_INIT], [AC_CHECK_LIB([gl],[f])])"})
	assert.Equal(t, "bed=on --enable-bed --disable-bed (X)\nmodule moss >= 1.2! bed\nmodule leaf! bed\nprogram sporegen2/sporegen\npackage reed", said(r))
	assert.True(t, r.Modules)
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
	r := CMake(files("CMakeLists.txt", text, "src/CMakeLists.txt", "check_library_exists(reed grow \"\" HAVE_REED)\nenable_language(CXX)\n", "cmake/Bed.cmake", "find_package(Bed)\n"))
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
	options := "option('docs', type: 'boolean', value: true, description: 'Write ' + 'docs')\noption('db',\n  type: 'combo', choices: ['loam', 'flat'],\n  value: 'flat')\n# option('old', type: 'boolean')\noption('nls', type: 'feature', description: 'Speak (default: auto)')\noption('dir', type: 'string', value: '/x')\noption('mist', type: 'combo', choices: ['yes', 'no', 'auto'], value: 'auto')\n"
	text := "project('x', ['c', 'cpp'])\nd = dependency('dewcalc', version: '>= 1')\nl = dependency('loamdb', 'loam', required: false)\np = find_program('sporegen')\nm = cc.find_library('m')\nopt = get_option('nls')\nn = dependency('speech', required: opt)\nif get_option('mist') != 'no'\n  dependency('mist')\nendif\nif host_machine.system() == 'windows'\n  dependency('gone')\nendif\nsubdir('src')\n"
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
	r := Makefile("Makefile", "TLS ?= yes # speak safely\nOTHER ?= x\nDEEP ?=\nifeq ($(TLS),yes)\nLIBS += -lmoss -lm\nendif\nifdef DEEP\nendif\nCFLAGS += $(shell pkg-config --cflags --libs reed)\nfern: fern.cc\n\t$(CXX) $<\n")
	assert.Equal(t, "deep=off DEEP=1 DEEP= (DEEP)\ntls=on TLS=yes TLS=no (Speak safely)\nmodule reed\nlibrary moss", said(r))
	assert.True(t, r.CXX)
}

// Whatever a build file says, reading it comes to an end.
func FuzzBuildFiles(f *testing.F) {
	for _, seed := range []string{"AC_ARG_WITH([a],[AS_HELP_STRING([--with-a],[x])],[[", "if(A)\nfind_package(B\nelse(", "option('a', type: [[[", "if x; then\nAC_CHECK_LIB(", "A(B(C", "--enable-a[=b|c", "subdir('.')subdir('src')"} {
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
