package recipe

import (
	"slices"

	"fernladder/core/tomlfile"
)

// Every package has options that its method provides, in addition to its own. They turn on what
// few users need and what costs more than everything else: static copies of shared libraries
// double the compiling, and debug information triples the size of trees.
const (
	StaticOption = "static" // static libraries beside the shared ones
	TestsOption  = "tests"  // the package's own tests
	DebugOption  = "debug"  // debug information
)

// Where debug information is.
const (
	DebugNone   = "none"
	DebugBeside = "beside" // in files of its own, in lib/debug
	DebugInside = "inside" // in the programs and libraries
	DebugSource = "source" // there, with the source files in lib/debug/src
)

// implied are the options of a method. The arguments for debug depend on more than its value:
// see package build.
func (r *Recipe) implied() []*Option {
	static := &Option{Name: StaticOption, About: "Static libraries, too", Default: "off"}
	tests := &Option{Name: TestsOption, About: "The package's own tests", Default: "off",
		On: []string{"-DBUILD_TESTING=ON"}, Off: []string{"-DBUILD_TESTING=OFF"}}
	debug := &Option{Name: DebugOption, About: "Debug information: none, beside, inside, with the source",
		Default: DebugNone}
	for _, value := range []string{DebugNone, DebugBeside, DebugInside, DebugSource} {
		debug.Values = append(debug.Values, tomlfile.Pair{Name: value})
	}
	switch r.Build.Method {
	case Configure:
		static.On, static.Off = []string{"--enable-static"}, []string{"--disable-static"}
		return []*Option{static, debug}
	case CMake:
		if r.Step("check") != "" {
			tests.Default = "on"
		}
		return []*Option{tests, debug}
	case Meson:
		static.On, static.Off = []string{"-Ddefault_library=both"}, []string{"-Ddefault_library=shared"}
		return []*Option{static, debug}
	case Make:
		return []*Option{debug}
	}
	return nil
}

// Imply adds the options of its method to the recipe, unless it has them itself or its arguments
// decide them; and the defaults that were set for all recipes, if its options accept them.
func (r *Recipe) Imply(defaults map[string]string) {
	for _, o := range r.implied() {
		if r.Option(o.Name) == nil && !r.decides(o) {
			o.Implied = true
			r.Options = append(r.Options, o)
		}
	}
	for _, o := range r.Options {
		if value, set := defaults[o.Name]; set && o.Accepts(o.Value(value)) {
			value = o.Value(value)
			o.Default, o.settled = value, true
		}
	}
}

// decides reports whether the arguments of the recipe, or of another of its options, set what an
// option sets.
func (r *Recipe) decides(o *Option) bool {
	mine := append(slices.Clone(o.On), o.Off...)
	all := slices.Clone(r.Build.Args)
	for _, other := range r.Options {
		all = slices.Concat(all, other.On, other.Off)
	}
	if o.Name == DebugOption {
		return slices.ContainsFunc(r.Build.Env, func(p tomlfile.Pair) bool { return p.Name == "CFLAGS" })
	}
	return slices.ContainsFunc(all, func(arg string) bool { return slices.Contains(mine, arg) })
}
