// Package settings reads fernladder.toml: where the shelves and the root are
// and how builds are run on this machine.
package settings

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// FileName is the name of a settings file.
const FileName = "fernladder.toml"

// Settings are what the file says, with paths made absolute and what it does
// not say filled in.
type Settings struct {
	File    string // "" when there is none
	Root    string
	Shelves []recipe.Shelf
	Jobs    int      // 0: as many as there are processors
	Path    []string // where builds find the operating system's programs

	Isolation sandbox.Level     // the least that will do
	Defaults  map[string]string // of options, for every recipe that has them
	NotBare   string            // why sealed builds see all of the operating system; "": they do not

	Downloads, DownloadsPerHost int
	LargestDownload             int      // MiB
	LargestSource               int      // MiB; 0: nothing is said
	LargestLog                  int      // MiB
	LargestTree                 int      // MiB
	LongestDownload             int      // minutes
	Credentials                 string   // a file, or ""
	LocalRepositories           []string // directories whose repositories any recipe may name

	Users          sandbox.Users  // whom root's builds run as
	Most           sandbox.Limits // of builds and tries
	TrustedOwners  []string       // packages whose recipes may give files to others
	TrustedNetwork []string       // packages that may gather extras with the network
	TrustedEnv     []string       // packages whose recipes may set any variable for everybody

	Access string // everyone, group, private, or "" where directories stay as they are
	Group  string // that may install

	Landing Landing // what is decided about the landing
	Pack    Pack    // of the operating system's packages that are made
	Cluster Cluster // whose nodes can build

	Prefer     []string  // packages that come before others which fill the same need
	HostCopies []string  // packages for which the host's own copy may stand in, or "*"
	Wanted     []*Wanted // what should be on the landing, in the order of the file
	Presets    []*Preset

	remote   []*recipe.Shelf
	defaults []tomlfile.Pair
	bare     struct { // as it is written
		is  bool
		why string
	}
	mib struct{ file, process, scratch int } // as they are written
}

// Cluster is what the settings say about the site's batch scheduler.
type Cluster struct {
	Scheduler                           string // slurm, or "" for none
	Partition, Account, QoS, Constraint string // "": as the scheduler has it
	Processors                          int    // of a job, at most
	Memory                              int    // MiB
	Minutes                             int    // after which it is ended
	Most                                int    // jobs at once; 0: as many as the scheduler lets
	Environment                         []tomlfile.Pair
}

// Pack is what the settings say about packages of operating systems that are made of builds.
type Pack struct {
	Prefix     string // of their names
	Maintainer string // NAME <ADDRESS>
	Suffix     string // of their versions
	Links      string // where the names of programs are
	Rebuild    int    // tells packages of one version apart
	Packing    string // of .deb files: zstd, or "" for gzip
	Epochs     []*Epoch
}

// An Epoch is a number that comes before everything else of a version.
type Epoch struct {
	tomlfile.Position
	Name   string
	Number int
}

// Landing is what the settings say about the landing.
type Landing struct {
	Shared       string   // a directory that others use too, in which all is linked besides; or ""
	BeforeSystem []string // packages whose programs may come before the operating system's, or "*"
	Links        []*Link  // decisions about single files
	Keep, Days   int      // how many earlier states stay, and how old the others become
	Caches       []string // that are renewed after a change
}

// Link is a decision about the name of a file on the landing.
type Link struct {
	tomlfile.Position
	Package, File string
	Off, First    bool
	As            string
}

// Caches are those that are kept of the files of a landing, by tools of others.
var Caches = []string{"desktop", "icons", "info", "libraries", "man", "mime", "schemas"}

// Wanted is a package that should be on the landing.
type Wanted struct {
	tomlfile.Position
	Name    string
	Version string // a range, "tip", or "" for any
	Preset  string // that its options are set by, before Options; or ""
	Options []tomlfile.Pair
}

// A Preset is a named set of options.
type Preset struct {
	tomlfile.Position
	Name    string
	Package string // that it is for; "": every package, as far as that has the options
	About   string
	Options []tomlfile.Pair
}

// SystemPath is where builds find the operating system's programs unless the
// settings say otherwise. It does not depend on who runs the build.
var SystemPath = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"}

// Keys are the keys of a settings file, bound to s. Paths are filled in as they
// are written; Read makes them absolute.
func Keys(s *Settings, shelves *[]string) []tomlfile.Key {
	mib := &s.mib
	remote := func(r *recipe.Shelf) []tomlfile.Key {
		return []tomlfile.Key{
			tomlfile.Text("git", &r.Git, "The URL of the repository.").Must().Check(recipe.CheckRepository),
			tomlfile.Parsed("commit", "40 or 64 hexadecimal digits", &r.Commit, recipe.CommitID, "The commit whose recipes count.").Must(),
			tomlfile.Text("dir", &r.Inside, "The folder of the repository that is the shelf. The whole repository, if nothing is said.").Check(mustBeInside),
		}
	}
	return []tomlfile.Key{
		tomlfile.Text("root", &s.Root, "The directory in which Fern Ladder keeps everything. If nothing is said: /opt/fernladder for root, otherwise $XDG_DATA_HOME/fernladder."),
		tomlfile.Texts("shelves", shelves, "Folders of recipes, searched in order; the first that has a name wins. Relative to the settings file."),
		tomlfile.Tables("remote_shelf", &s.remote, remote, "A shelf that is a git repository, pinned to a commit. Such shelves are searched after those in shelves, in order. The command shelves brings them."),
		tomlfile.Number("jobs", &s.Jobs, 0, 4096, "How many jobs may run at once, over all packages that are being built. 0, if nothing is said: as many as the machine has processors."),
		tomlfile.Number("downloads", &s.Downloads, 1, 256, "How many files are downloaded at once. 12, if nothing is said."),
		tomlfile.Number("downloads_per_host", &s.DownloadsPerHost, 1, 256, "How many of them from one host. 8, if nothing is said."),
		tomlfile.Number("largest_download", &s.LargestDownload, 1, 1<<30, "The most that one file may have, in MiB. 32768, if nothing is said."),
		tomlfile.Number("largest_source", &s.LargestSource, 1, 1<<30, "The most that one archive may unpack to, in MiB. If nothing is said: 102400, and, once that is over a GiB, not more than 200 times the archive's own size."),
		tomlfile.Number("largest_log", &s.LargestLog, 1, 1<<30, "The most that a stage of a build may print, in MiB; then it is ended. 1024, if nothing is said."),
		tomlfile.Number("largest_tree", &s.LargestTree, 1, 1<<30, "The most that a build may place, in MiB. 65536, if nothing is said."),
		tomlfile.Number("longest_download", &s.LongestDownload, 1, 1<<20, "The longest that one file may take to come, in minutes. 720, if nothing is said."),
		tomlfile.Parsed("build_users", "FIRST-LAST or none", &s.Users, sandbox.ParseUsers, "The numbers of users and groups that belong to nobody, for root's builds to run as: each build as another of those that run at the same time. "+sandbox.DefaultUsers.String()+", if nothing is said. With none, builds of root are root; only inside a container that is nobody's root should they be."),
		tomlfile.Number("most_processes", &s.Most.Processes, 16, 1<<22, "The most processes and threads that one build may have. 4096, if nothing is said."),
		tomlfile.Number("most_files", &s.Most.Files, 64, 1<<20, "The most files that one process of a build may have open. 65536, if nothing is said."),
		tomlfile.Number("largest_file", &mib.file, 1, 1<<30, "The most that one file may have that a build writes, in MiB. 65536, if nothing is said."),
		tomlfile.Number("largest_process", &mib.process, 0, 1<<30, "The most memory that one process of a build may have to write to, in MiB. 0, if nothing is said: no limit, but builds are what the kernel ends first when memory runs out."),
		tomlfile.Number("largest_scratch", &mib.scratch, 0, 1<<30, "The most that a sealed build may put into /tmp, /var/tmp and /dev/shm, which are memory, in MiB. 0, if nothing is said: a quarter of the memory."),
		tomlfile.Texts("trusted_env", &s.TrustedEnv, "Packages whose recipes may set any variable in the environment of everybody who uses the landing, also those that other programs follow, such as LD_PRELOAD. Without it, they set variables that begin with their own name, and add to MANPATH and INFOPATH.").Check(recipe.CheckName),
		tomlfile.Texts("trusted_network", &s.TrustedNetwork, "Packages whose recipes may gather parts of their source with the network (gather in [[extra]]). Such a step can reach everything that this machine can, including its own services. It sees what a build sees, without supplies.").Check(recipe.CheckName),
		tomlfile.Texts("trusted_owners", &s.TrustedOwners, "Packages whose recipes may give files of their trees to system users and groups, let them run with the rights of those ([[owner]]), want system users and directories ([[user]], [[directory]]), and have any file in /usr/local and in packages, also where the operating system acts on it by itself, as root. Who writes such a recipe, or its source, can become root by it.").Check(recipe.CheckName),
		tomlfile.Texts("local_repositories", &s.LocalRepositories, "Directories of this machine in which recipes may name git and Subversion repositories by file://. A recipe whose folder belongs to you, or to root, needs no such line, unless its shelf is a repository itself."),
		tomlfile.Text("credentials", &s.Credentials, "A file with what hosts want to know before they serve a file. Nobody but its owner may be able to read it."),
		tomlfile.Parsed("isolation", "open, fenced or sealed", &s.Isolation, isolation, "The least isolation in which packages may be built: open, if nothing is said, fenced or sealed. The strongest that the machine allows is used; where that is less, nothing is built."),
		tomlfile.Flag("bare", &s.bare.is, "False where sealed builds have to see all of the operating system; say why in bare_why. True, if nothing is said: they see its base, and what recipes declare."),
		tomlfile.Text("bare_why", &s.bare.why, "Why bare is false, in one line. Receipts say it."),
		tomlfile.Parsed("access", "everyone, group or private", &s.Access, access, "Who may do what in the root: everyone may use what is installed; the members of group may install, too; or, private, nobody but who owns the root sees anything in it. If nothing is said, directories are made for everyone to use, and stay as they are."),
		tomlfile.Text("group", &s.Group, "The group whose members may install, where access is group."),
		tomlfile.Text("shared_landing", &s.Landing.Shared, "A directory that others use too, such as /usr/local or ~/.local, in which everything on the landing is linked besides. Files of others there are never touched. If nothing is said: none."),
		tomlfile.Texts("before_system", &s.Landing.BeforeSystem, "Packages whose programs are linked on the landing though the operating system has programs of the same name, which they then come before; the same of their entries in menus, completions and units and, in /usr/local and in packages, of libraries. [\"*\"] means all of them; none, if nothing is said, but for those whose recipes say it.").Check(mustBeName),
		tomlfile.Tables("link", &s.Landing.Links, linkKeys, "A decision about the name of one file of a package on the landing: that it is left off, has another name, or comes before the same file of others. The command landing settle writes them."),
		tomlfile.Number("keep_landings", &s.Landing.Keep, 1, 1<<20, "How many earlier states of the landing stay, with all that they use. 20, if nothing is said."),
		tomlfile.Number("keep_landings_days", &s.Landing.Days, 0, 1<<16, "Earlier states that are younger than so many days stay, too. 30, if nothing is said."),
		tomlfile.Texts("caches", &s.Landing.Caches, "What is renewed after each change of the landing, where its tool is there: "+strings.Join(Caches, ", ")+". libraries is ldconfig, of a landing that the loader looks in. None, if nothing is said.").Check(mustBeCache),
		tomlfile.Table("cluster", s.Cluster.keys, "The batch scheduler of a cluster whose nodes share the root, for --cluster."),
		tomlfile.Table("pack", s.Pack.keys, "Packages of the operating system that fernladder pack makes of builds."),
		tomlfile.Texts("prefer", &s.Prefer, "Packages, and names of things of the operating system, that are preferred where a need lists alternatives (either). Existing builds stay; --prefer changes them, too.").Check(recipe.CheckSystemName),
		tomlfile.Texts("host_copies", &s.HostCopies, "Packages for which the operating system's own copy may stand in, where their recipes say what that is ([host_copy]) and where it is there and fits. [\"*\"] means all of them; none, if nothing is said. What a person asks for is always built.").Check(mustBeName),
		tomlfile.Named("wanted", &s.Wanted, wantedKeys, recipe.CheckName, "A package that should be on the landing, [wanted.NAME]. Commands that take names work on this list when they are given none; an install without names brings the landing to it."),
		tomlfile.Named("preset", &s.Presets, presetKeys, recipe.CheckPresetName, "A named set of options, [preset.NAME], to be built with --preset NAME. It comes before one of a recipe with the same name."),
		tomlfile.Choices("defaults", &s.defaults, "What options are by default in every recipe that has them: static, tests, documentation, debug, or others, as in [defaults] static = true. What is built already stays as it is until it is asked for."),
		tomlfile.Texts("path", &s.Path, "Directories in which builds find the operating system's programs, the compiler among them. If nothing is said: the usual ones below / and /usr.").Check(mustBeAbsolute),
	}
}

func linkKeys(l *Link) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("package", &l.Package, "The package whose file it is.").Must().Check(recipe.CheckName),
		tomlfile.Text("file", &l.File, "The file, below the landing, as bin/glasshouse.").Must().Check(mustBeInside),
		tomlfile.Flag("off", &l.Off, "True for a file that is not linked."),
		tomlfile.Text("as", &l.As, "The name that it is linked under instead, below the landing.").Check(mustBeInside),
		tomlfile.Flag("first", &l.First, "True for a file that is linked, and the same file of other packages is not."),
	}
}

// mustBeDecided returns a problem for a decision that decides nothing, or too much.
func mustBeDecided(links []*Link) (problems tomlfile.Problems) {
	for _, l := range links {
		n := 0
		for _, given := range []bool{l.Off, l.As != "", l.First} {
			if given {
				n++
			}
		}
		if n != 1 {
			problems = append(problems, tomlfile.Problem{Position: l.Position, Message: "a [[link]] says one of off = true, as = \"…\" and first = true"})
		}
	}
	return problems
}

func (c *Cluster) keys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Parsed("scheduler", "slurm", &c.Scheduler, schedulerOf, "Which it is: slurm.").Must(),
		tomlfile.Text("partition", &c.Partition, "The partition, or queue, that jobs go into. The scheduler's own default, if nothing is said.").Check(mustBeWord),
		tomlfile.Text("account", &c.Account, "The account that they are for.").Check(mustBeWord),
		tomlfile.Text("qos", &c.QoS, "Their quality of service.").Check(mustBeWord),
		tomlfile.Text("constraint", &c.Constraint, "What their nodes have to have, in the scheduler's words.").Check(mustBeWord),
		tomlfile.Number("processors", &c.Processors, 1, 4096, "The most processors that a job gets, and what it gets while nothing is known of an earlier build. 4, if nothing is said."),
		tomlfile.Number("memory", &c.Memory, 1, 1<<30, "The memory of a job, in MiB, while nothing is known of an earlier build and the recipe says nothing. 4096, if nothing is said."),
		tomlfile.Number("minutes", &c.Minutes, 1, 1<<20, "The same of the time after which the scheduler ends a job. 240, if nothing is said."),
		tomlfile.Number("most_jobs", &c.Most, 1, 1<<20, "The most jobs of one ladder that run at once. As many as the scheduler lets, if nothing is said."),
		tomlfile.Pairs("environment", &c.Environment, false, recipe.CheckEnvironmentName, "Variables that jobs get on their nodes. Builds do not see them.").Check(recipe.CheckOneLine),
	}
}

func schedulerOf(text string) (string, error) {
	if text != "slurm" {
		return "", fmt.Errorf("%q is no scheduler that is known here", text)
	}
	return text, nil
}

func mustBeWord(text string) error {
	if strings.ContainsFunc(text, func(c rune) bool { return c <= ' ' || c == 0x7f }) || strings.HasPrefix(text, "-") {
		return fmt.Errorf("%q is no word that a scheduler takes", text)
	}
	return nil
}

func (p *Pack) keys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("prefix", &p.Prefix, "What their names begin with, so that they never stand for one of the distribution, as vale-. fl-, if nothing is said.").Check(mustBePackageName),
		tomlfile.Text("maintainer", &p.Maintainer, "Who maintains them: NAME <ADDRESS>.").Check(mustBeMaintainer),
		tomlfile.Text("suffix", &p.Suffix, "What their versions end with, as the distribution that they are for: vale12. Nothing, if nothing is said.").Check(mustBeSuffix),
		tomlfile.Number("rebuild", &p.Rebuild, 1, 99999, "Tells packages of one version apart: raise it when the same version is packed anew. 1, if nothing is said."),
		tomlfile.Parsed("packing", "gzip or zstd", &p.Packing, packing, "How .deb files are packed: gzip, if nothing is said, which every dpkg reads, or zstd, which is faster and smaller, from dpkg 1.21.18 on."),
		tomlfile.Text("links", &p.Links, "The directory that has the names of their programs. /usr/local, if nothing is said.").Check(mustBeAbsolute),
		tomlfile.Named("epoch", &p.Epochs, epochKeys, recipe.CheckName, "A number before the version of a package, [pack.epoch.NAME], for one whose versions are not in order otherwise."),
	}
}

func epochKeys(name string, e *Epoch) []tomlfile.Key {
	e.Name = name
	return []tomlfile.Key{tomlfile.Number("number", &e.Number, 0, 99999, "The number.").Must()}
}

var (
	packagePrefix = regexp.MustCompile(`^[a-z0-9][a-z0-9.+-]*$`)
	maintainer    = regexp.MustCompile(`^[^<>\n"]+ <[^<>@\s]+@[^<>@\s]+>$`)
	suffixForm    = regexp.MustCompile(`^[A-Za-z0-9.+~]+$`)
)

func packing(text string) (string, error) {
	switch text {
	case "gzip":
		return "", nil
	case "zstd":
		return text, nil
	}
	return "", &tomlfile.At{Advice: "it can be: gzip, zstd", Err: fmt.Errorf("packing cannot be %q", text)}
}

func mustBePackageName(text string) error {
	if !packagePrefix.MatchString(text) {
		return &tomlfile.At{Advice: "it has lower-case letters, digits, + - and dots", Err: fmt.Errorf("%q cannot begin the name of a package", text)}
	}
	return nil
}

func mustBeMaintainer(text string) error {
	if !maintainer.MatchString(text) {
		return &tomlfile.At{Advice: "for example: Vale Growers <growers@vale-glasshouse.example>", Err: fmt.Errorf("%q is no name with an address", text)}
	}
	return nil
}

func mustBeSuffix(text string) error {
	if !suffixForm.MatchString(text) {
		return fmt.Errorf("%q cannot end a version: it has letters, digits and . + ~", text)
	}
	return nil
}

func access(text string) (string, error) {
	if !slices.Contains([]string{"everyone", "group", "private"}, text) {
		return "", &tomlfile.At{Advice: "it can be: everyone, group, private", Err: fmt.Errorf("access cannot be %q", text)}
	}
	return text, nil
}

func mustBeCache(name string) error {
	if !slices.Contains(Caches, name) {
		return &tomlfile.At{Advice: "it can be: " + strings.Join(Caches, ", "), Err: fmt.Errorf("there is no cache %q", name)}
	}
	return nil
}

func wantedKeys(name string, w *Wanted) []tomlfile.Key {
	w.Name = name
	return []tomlfile.Key{
		tomlfile.Text("version", &w.Version, "The versions that will do, or tip. The newest stable one, if nothing is said.").Check(mustBeVersions),
		tomlfile.Text("preset", &w.Preset, "The preset by which its options are set, before those in options.").Check(recipe.CheckPresetName),
		tomlfile.Choices("options", &w.Options, "How it is to be built: its options and what they are set to."),
	}
}

func presetKeys(name string, p *Preset) []tomlfile.Key {
	p.Name = name
	return []tomlfile.Key{
		tomlfile.Text("package", &p.Package, "The package that it is for. Every package that has at least one of the options, if nothing is said.").Check(recipe.CheckName),
		tomlfile.Text("about", &p.About, "What it is for, in one line."),
		tomlfile.Choices("options", &p.Options, "The options it sets, and what to.").Must(),
	}
}

func mustBeVersions(text string) error {
	if text == string(recipe.Tip) {
		return nil
	}
	_, err := version.ParseRange(text)
	return err
}

func mustBeName(name string) error {
	if name == "*" {
		return nil
	}
	return recipe.CheckName(name)
}

// A Place says where settings can be.
type Place struct {
	Working string                   // the current directory
	Getenv  func(name string) string // the environment
	Super   bool                     // whether root runs the program
}

// home returns a directory of the XDG base directory specification.
func (p Place) home(variable, below string) string {
	if dir := p.Getenv(variable); filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(p.Getenv("HOME"), below)
}

// defaults are the settings where a file says nothing, but for paths.
func defaults() Settings {
	s := Settings{Downloads: 12, DownloadsPerHost: 8, LargestDownload: 32 << 10, LargestLog: 1 << 10, LargestTree: 64 << 10,
		LongestDownload: 12 * 60, Users: sandbox.DefaultUsers, Most: sandbox.Limits{Processes: 4096, Files: 1 << 16, FileSize: 64 << 30}}
	s.mib.file = 64 << 10
	s.bare.is = true
	s.Landing.Keep, s.Landing.Days = 20, 30
	s.Cluster = Cluster{Processors: 4, Memory: 4096, Minutes: 240}
	s.Pack = Pack{Prefix: "fl-", Links: "/usr/local", Rebuild: 1}
	return s
}

// Read reads a settings file; without a name it returns what holds when there
// is none. Errors are tomlfile.Problems.
func Read(file string, p Place) (Settings, error) {
	s := defaults()
	s.File = file
	var shelves []string
	base := p.Working
	if file != "" {
		data, err := safefs.ReadFile(file, recipe.Largest)
		if err != nil {
			return s, tomlfile.Problems{{Position: tomlfile.Position{File: p.Shown(file)}, Message: fmt.Sprintf("these settings cannot be read: %v", cause(err))}}
		}
		if err := tomlfile.Read(p.Shown(file), data, Keys(&s, &shelves)).Err(); err != nil {
			return s, err
		}
		if base, err = filepath.Abs(filepath.Dir(file)); err != nil {
			return s, err
		}
	}
	if !s.bare.is {
		if s.NotBare = strings.TrimSpace(s.bare.why); s.NotBare == "" {
			return s, tomlfile.Problems{{Position: tomlfile.Position{File: p.Shown(file)}, Message: "builds that see all of the operating system need a reason; add bare_why = \"…\""}}
		}
	}
	if (s.Access == "group") != (s.Group != "") {
		return s, tomlfile.Problems{{Position: tomlfile.Position{File: p.Shown(file)}, Message: "access = \"group\" and group = \"NAME\" go together"}}
	}
	if problems := mustBeDecided(s.Landing.Links); len(problems) > 0 {
		return s, problems
	}
	if dir, below := strings.CutPrefix(s.Landing.Shared, "~/"); below {
		s.Landing.Shared = filepath.Join(p.Getenv("HOME"), dir)
	}
	if s.Landing.Shared != "" {
		s.Landing.Shared = absolute(base, s.Landing.Shared)
	}
	for _, pair := range s.defaults {
		if s.Defaults == nil {
			s.Defaults = map[string]string{}
		}
		s.Defaults[pair.Name] = pair.Values[0]
	}
	s.Most.FileSize, s.Most.Memory, s.Most.Scratch = int64(s.mib.file)<<20, int64(s.mib.process)<<20, int64(s.mib.scratch)<<20
	switch {
	case s.Root != "":
		s.Root = absolute(base, s.Root)
	case p.Super:
		s.Root = "/opt/fernladder"
	default:
		s.Root = filepath.Join(p.home("XDG_DATA_HOME", ".local/share"), "fernladder")
	}
	if s.Credentials != "" {
		s.Credentials = absolute(base, s.Credentials)
	}
	for i, dir := range s.LocalRepositories {
		s.LocalRepositories[i] = absolute(base, dir)
	}
	for _, dir := range shelves {
		dir = absolute(base, dir)
		s.Shelves = append(s.Shelves, recipe.Shelf{Dir: dir, Shown: p.Shown(dir)})
	}
	for _, shelf := range s.remote {
		sum := blake3.Sum256([]byte(shelf.Git + " " + shelf.Commit))
		shelf.Checkout = filepath.Join(s.Root, "shelves", hex.EncodeToString(sum[:10]))
		shelf.Dir = filepath.Join(shelf.Checkout, shelf.Inside)
		shelf.Shown = p.Shown(shelf.Dir)
		s.Shelves = append(s.Shelves, *shelf)
	}
	if len(s.Path) == 0 {
		s.Path = SystemPath
	}
	return s, nil
}

// Shown returns the shortest name of a path for a person in the working
// directory: relative, if it is below it.
func (p Place) Shown(path string) string {
	if rel, err := filepath.Rel(p.Working, path); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return path
}

func absolute(base, path string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(base, path)
}

func mustBeAbsolute(path string) error {
	if !filepath.IsAbs(path) {
		return fmt.Errorf("%q must begin with /", path)
	}
	return nil
}

func isolation(text string) (sandbox.Level, error) {
	if !slices.Contains(sandbox.Levels, sandbox.Level(text)) {
		return "", &tomlfile.At{Advice: "it can be: open, fenced, sealed", Err: fmt.Errorf("isolation cannot be %q", text)}
	}
	return sandbox.Level(text), nil
}

func mustBeInside(dir string) error {
	if !filepath.IsLocal(dir) {
		return fmt.Errorf("%q is not a folder of the repository", dir)
	}
	return nil
}

func cause(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}
