package recipe

import (
	"io/fs"
	"regexp"
	"strconv"
	"strings"

	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// A HostNeed is something that the operating system must have.
type HostNeed struct {
	tomlfile.Position
	Program, Header, Library, Module, Python, Perl, File string // one of them

	Either   []*HostNeed // alternatives, instead
	Range    version.Range
	Packages []tomlfile.Pair // family of operating systems to its packages
	Runtime  bool            // it is needed when the package runs, too
	When     Condition
}

// Questions are what is needed, by the keys that name it.
func (n *HostNeed) Questions() []host.Question {
	var asked []host.Question
	for _, q := range []host.Question{{Kind: host.Program, Name: n.Program}, {Kind: host.Header, Name: n.Header},
		{Kind: host.Library, Name: n.Library},
		{Kind: host.Module, Name: n.Module}, {Kind: host.Python, Name: n.Python}, {Kind: host.Perl, Name: n.Perl},
		{Kind: host.File, Name: n.File}} {
		if q.Name != "" {
			asked = append(asked, q)
		}
	}
	return asked
}

// Question returns the question for the machine; of alternatives, the first.
func (n *HostNeed) Question() host.Question {
	if n.Either != nil {
		return n.Either[0].Question()
	}
	asked := n.Questions()
	if len(asked) == 0 { // the recipe is wrong, and says so
		return host.Question{}
	}
	return asked[0]
}

// PackagesOf returns the packages that have what is needed, in a family of operating systems,
// according to the recipe.
func (n *HostNeed) PackagesOf(family string) []string {
	for _, p := range n.Packages {
		if p.Name == family {
			return strings.Fields(p.Values[0])
		}
	}
	return nil
}

// A Launcher is a desktop entry.
type Launcher struct {
	tomlfile.Position
	Name       string
	About      string
	Run        string
	Icon       string // a file of the tree, or ""
	Categories []string
	Terminal   bool
	When       Condition
}

// A Config is a file that the administrator edits, and that must survive
// upgrades.
type Config struct {
	tomlfile.Position
	File    string // in the tree, with slashes
	Sample  string // the same
	Mode    string // permissions in octal digits; "": those of the sample
	Private bool   // only its owner and its group may read it
	Owner   string // a user and a group of the machine, where root makes it; "": root's
	Group   string
	When    Condition
}

// A Beside is an additional name of a file on the landing, so that it can be used while another
// build of the package has the plain names.
type Beside struct {
	tomlfile.Position
	File string // in the tree, with slashes
	As   string // below the landing; with variables
	When Condition
}

// series matches the first two numbers of a version.
var series = pattern.New(`^(\d+)(?:\.\d+)?`)

// Name is the name for a version of a package. It keeps $FL_PRESET: see PresetName.
func (b *Beside) Name(name, version string) string {
	values := map[string]string{"FL_NAME": name, "FL_VERSION": version, "FL_SERIES": version, "FL_MAJOR": version}
	if match := series.FindStringSubmatch(version); match != nil {
		values["FL_SERIES"], values["FL_MAJOR"] = match[0], match[1]
	}
	return Expand(b.As, func(name string) (string, bool) {
		value, known := values[name]
		return value, known
	})
}

// presetVariable is the preset of a build, in its names beside others.
const presetVariable = "FL_PRESET"

// PresetName is the name beside others of a build by a preset; false if there is no preset, or
// the name does not distinguish presets.
func PresetName(as, preset string) (string, bool) {
	named := Expand(as, func(name string) (string, bool) { return preset, name == presetVariable })
	return named, named != as && preset != ""
}

// An Owner is a file of the tree that belongs to another user than the owner of the root, or has
// other permissions, as installers of system programs make them.
type Owner struct {
	tomlfile.Position
	File  string // in the tree, with slashes
	Owner string // of the machine; "": the default
	Group string
	Mode  string // permissions in octal digits, with those of setuid and setgid; "": as they are
	When  Condition
}

// FileMode is the mode that octal digits state, with setuid, setgid and sticky.
func FileMode(digits string) (fs.FileMode, error) {
	bits, err := strconv.ParseUint(digits, 8, 16)
	mode := fs.FileMode(bits & 0o777)
	for bit, is := range map[uint64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if bits&bit != 0 {
			mode |= is
		}
	}
	return mode, err
}

// A User is a system user that a package runs as.
type User struct {
	tomlfile.Position
	Name, About, Home string
	When              Condition
}

// A Folder is a directory outside of the tree in which a package keeps files.
type Folder struct {
	tomlfile.Position
	Path               string
	Owner, Group, Mode string // "": root, root and 0755
	When               Condition
}

// Who names the owner and group of the file.
func (o *Owner) Who() string {
	who := o.Owner
	if who == "" {
		who = "root"
	}
	if o.Group != "" {
		who += ":" + o.Group
	}
	if o.Mode != "" {
		who += " with mode " + o.Mode
	}
	return who
}

// Offers says what other packages find in the package's tree.
type Offers struct {
	Modules, Programs, Libraries, CMake []string
}

// Empty reports whether nothing is offered.
func (o Offers) Empty() bool {
	return len(o.Modules)+len(o.Programs)+len(o.Libraries)+len(o.CMake) == 0
}

// Upstream says where newer releases are announced.
type Upstream struct {
	Page    string
	Pattern *regexp.Regexp // its first group is a version; nil: not stated
}
