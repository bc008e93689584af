// Package recipe reads recipes: TOML files that say how packages are fetched, verified, built,
// tried and installed. It finds them on shelves.
//
// It promises that a Recipe it returns is consistent: every name in a condition, an argument or
// a step is known, every version and digest is well-formed. Whether other recipes exist is not
// its concern.
package recipe

import (
	"strings"

	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// FileName is the name of a recipe in its folder on a shelf.
const FileName = "recipe.toml"

// Largest is more than any recipe, or other hand-written file of keys, has.
const Largest = 16 << 20

// A Recipe says how the source archive of one package becomes its tree.
type Recipe struct {
	File string // as shown to people
	Dir  string // absolute; patches are beside the recipe

	Name, Summary, Home, License, Notes string

	BeforeSystem bool // its programs hide the operating system's of the same name

	Archive   []string // URLs for releases that name none, tried in order
	Signature []string // the same, of the archive's signature
	Keys      []string // files beside the recipe; the only keys trusted for it
	Releases  []*Release
	Extras    []*Extra
	Supplies  []*Supply
	Options   []*Option
	Presets   []*Preset
	Needs     []*Need
	HostNeeds []*HostNeed
	HostCopy  *HostNeed // the operating system's copy that can replace this package, or nil
	Build     Build
	Steps     []Step
	Tries     []*Try
	Env       []tomlfile.Pair // additions to the environment of the package's users
	Launchers []*Launcher
	Configs   []*Config
	Writable  []*Config // directories that its programs write in
	Owners    []*Owner
	Users     []*User
	Folders   []*Folder
	Beside    []*Beside // names on the landing for when another build has the plain ones
	Upstream  Upstream
	Offers    Offers

	KnownAs     KnownAs
	PatchNotes  []*PatchNote
	NotAffected []*Statement
}

// Role says what a needed package is for.
type Role string

// The roles.
const (
	Tool    Role = "tool"    // runs during the build
	Library Role = "library" // compiled or linked against
	Runtime Role = "runtime" // needed when the program runs
)

// A Need is another recipe that this one depends on.
type Need struct {
	tomlfile.Position
	Recipe  string   // or
	Either  []string // the first that can be had
	Range   version.Range
	Role    Role
	When    Condition
	Options []tomlfile.Pair // how it must have been built
}

// Names returns the recipes that can meet the need, the preferred one first.
func (n *Need) Names() []string {
	if n.Recipe != "" {
		return []string{n.Recipe}
	}
	return n.Either
}

// Method says how a build system is driven.
type Method string

// The methods.
const (
	Configure Method = "configure"
	CMake     Method = "cmake"
	Meson     Method = "meson"
	Make      Method = "make"
	Script    Method = "script"
)

// methods are all methods.
var methods = []Method{Configure, CMake, Meson, Make, Script}

// Build says how the sources become programs.
type Build struct {
	Method   Method
	Dir      string // of the source that the build system is in; "" for its top
	Args     []string
	Parallel bool
	Memory   int // MiB that it takes at most; 0: not stated
	Minutes  int // the same
	InTree   bool
	// What is not placed is not compiled.
	SkipUnplaced bool
	Bare         bool   // a sealed build sees only the declared part of the operating system
	BareWhy      string // why not
	Env          []tomlfile.Pair
}

// OpenStep is the text of a step that still has to be written.
const OpenStep = "echo 'error: this step is still to be written'; exit 1"

// SkipsNothing is why what is not placed cannot be left out of the build, or "".
func (r *Recipe) SkipsNothing() string {
	if r.Build.Method == Make || r.Build.Method == Script {
		return "the method " + string(r.Build.Method) + " does not know what is placed"
	}
	for _, s := range r.Steps { // which may not run twice
		if strings.HasSuffix(s.Name, StepCompile) || strings.HasSuffix(s.Name, StepPlace) {
			return "what the step " + s.Name + " needs is unknown, so nothing can be skipped"
		}
	}
	return ""
}

// Open names the steps that still have to be written.
func (r *Recipe) Open() (steps []string) {
	for _, s := range r.Steps {
		if strings.TrimSpace(s.Script) == OpenStep {
			steps = append(steps, s.Name)
		}
	}
	return steps
}

// A Step is shell text that replaces or surrounds a stage of the method.
type Step struct {
	Name   string // one of StepNames
	Script string
}

// The stages of a method, which steps replace or surround.
const (
	StepConfigure = "configure"
	StepCompile   = "compile"
	StepCheck     = "check"
	StepPlace     = "place"
)

// StepNames are the names of steps, in the order in which they run.
var StepNames = stepNames()

func stepNames() (names []string) {
	for _, stage := range []string{StepConfigure, StepCompile, StepCheck, StepPlace} {
		names = append(names, "before_"+stage, stage, "after_"+stage)
	}
	return names
}

// Step returns the shell text of the step, or "".
func (r *Recipe) Step(name string) string {
	for _, s := range r.Steps {
		if s.Name == name {
			return s.Script
		}
	}
	return ""
}

// A Try is a command that shows whether the installed package works.
type Try struct {
	tomlfile.Position
	Run    string
	Expect string // a regular expression that the output must match, or ""
	When   Condition
	Status int // the exit status it must have

	Program        string   // C source, compiled against the tree, or ""
	Flags, Modules []string // of its compilation
}

// VariableName returns what follows FL_TREE_ or FL_OPTION_ for a name: upper case, with '_' in
// place of characters that a shell variable cannot contain.
func VariableName(name string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case 'a' <= c && c <= 'z':
			return c - 'a' + 'A'
		case 'A' <= c && c <= 'Z', '0' <= c && c <= '9':
			return c
		}
		return '_'
	}, name)
}
