// Package settings reads fernladder.toml: the shelves, the root, and how builds run on this
// machine.
package settings

import (
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/signature"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// FileName is the name of a settings file.
const FileName = "fernladder.toml"

// Settings are the contents of the file, with absolute paths and with defaults for what it
// omits.
type Settings struct {
	File    string // "" if there is none
	Root    string
	Shelves []recipe.Shelf
	Jobs    int      // 0: as many as there are processors
	Path    []string // where builds find the operating system's programs

	Isolation sandbox.Level     // the least that will do
	Defaults  map[string]string // of options, for every recipe that has them
	NotBare   string            // why sealed builds see all of the operating system; "": they do not

	Downloads, DownloadsPerHost int
	LargestDownload             int      // MiB
	LargestSource               int      // MiB; 0: not stated
	LargestLog                  int      // MiB
	CompileCache                int      // MiB; 0: none
	LargestTree                 int      // MiB
	LongestDownload             int      // minutes
	Credentials                 string   // a file, or ""
	LocalRepositories           []string // directories whose repositories any recipe may name

	Users          sandbox.Users  // whom root's builds run as
	Most           sandbox.Limits // of builds and tries
	TrustedOwners  []string       // packages whose recipes may give files to others
	TrustedNetwork []string       // packages that may gather extras with the network
	TrustedEnv     []string       // packages whose recipes may set any variable for all users

	Access string // everyone, group, private, or "" where directories stay as they are
	Group  string // that may install

	Landing Landing // decisions about the landing
	Pack    Pack    // of the operating system's packages that are made
	Cluster Cluster // its nodes can build

	Prefer     []string  // packages preferred to others that meet the same need
	HostCopies []string  // packages that the host's own copy may replace, or "*"
	Wanted     []*Wanted // packages that should be on the landing, in the order of the file
	Presets    []*Preset

	Advisories  []*Advisories // databases that are read
	Policy      Policy
	NotAffected []*NotAffected

	Depots     []*Depot // with builds of others, or for them
	OnlyDepots bool     // nothing is built here

	remote   []*recipe.Shelf
	defaults []tomlfile.Pair
	bare     struct { // as written
		is  bool
		why string
	}
	mib struct{ file, process, scratch int } // as they are written
}

// Cluster are the settings for the site's batch scheduler.
type Cluster struct {
	Scheduler                           string // slurm, or "" for none
	Partition, Account, QoS, Constraint string // "": as the scheduler has it
	Processors                          int    // of a job, at most
	Memory                              int    // MiB
	Minutes                             int    // after which it is ended
	Most                                int    // jobs at once; 0: as many as the scheduler lets
	Environment                         []tomlfile.Pair
}

// Pack are the settings for packages of operating systems made from builds.
type Pack struct {
	Prefix     string // of their names
	Maintainer string // NAME <ADDRESS>
	Suffix     string // of their versions
	Links      string // where the names of programs are
	Rebuild    int    // distinguishes packages of one version
	Packing    string // of .deb files: gzip, zstd, or "" for what this machine's dpkg unpacks
	Epochs     []*Epoch
}

// An Epoch is a number that precedes the rest of a version.
type Epoch struct {
	tomlfile.Position
	Name   string
	Number int
}

// Landing are the settings of the landing.
type Landing struct {
	Shared       string   // a directory that others use too, in which all is linked besides; or ""
	BeforeSystem []string // packages whose programs may hide the operating system's, or "*"
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

// Advisories is a database of security advisories in the OSV format.
type Advisories struct {
	tomlfile.Position
	URL       string   // or
	Path      string   // a file or directory
	Signature []string // URLs
	Keys      []string // files
}

// Depot is a place with builds: a repository of an OCI registry, or a directory.
type Depot struct {
	tomlfile.Position
	Name string
	URL  string   // of a repository, or
	Path string   // of a directory
	Keys []string // files; builds signed by them are taken
	Sign string   // the secret key that builds are signed with when they are put there, or ""
}

// Policy is what is done about builds with published holes.
type Policy struct {
	Advisories string // tell, refuse
	Severity   string // the least that counts: low, medium, high, critical
}

// NotAffected says why a published hole does not concern builds here.
type NotAffected struct {
	tomlfile.Position
	ID      string
	Package string // "": every package that the advisory names
	Because string
	When    recipe.Condition
}

// Caches are the caches of a landing's files that tools of others keep.
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

// SystemPath is where builds find the operating system's programs by default. It does not depend
// on the user who runs the build.
var SystemPath = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"}

// Keys are the keys of a settings file, bound to s. Paths are stored as written; Read makes them
// absolute.
func Keys(s *Settings, shelves *[]string) []tomlfile.Key {
	mib := &s.mib
	remote := func(r *recipe.Shelf) []tomlfile.Key {
		return []tomlfile.Key{
			tomlfile.Text("git", &r.Git, "The URL of the repository.").Must().Check(recipe.CheckRepository),
			tomlfile.Parsed("commit", "40 or 64 hexadecimal digits", &r.Commit, recipe.CommitID,
				"The commit whose recipes count.").Must(),
			tomlfile.Text("dir", &r.Inside, "The folder of the repository that is the shelf. Default: the whole repository.").
				Check(mustBeInside),
			tomlfile.Texts("keys", &r.Keys,
				"Files with the only public keys that are trusted for it: OpenPGP or SSH. The commit must be signed by one of "+
					"them, or the tag, and must come after the one that was used before."),
			tomlfile.Text("tag", &r.Tag, "The tag that is signed in the place of the commit. It must name the commit."),
		}
	}
	return []tomlfile.Key{
		tomlfile.Text("root", &s.Root,
			"The directory in which Fern Ladder keeps everything. Default: /opt/fernladder for root, otherwise "+
				"$XDG_DATA_HOME/fernladder."),
		tomlfile.Texts("shelves", shelves,
			"Folders of recipes, searched in order; the first that has a name wins. Relative to the settings file."),
		tomlfile.Tables("remote_shelf", &s.remote, remote,
			"A shelf that is a git repository, pinned to a commit. Such shelves are searched after those in shelves, in "+
				"order. The command shelves brings them."),
		tomlfile.Number("jobs", &s.Jobs, 0, 4096,
			"How many jobs may run at once, over all packages. Default: 0, as many as the machine has processors."),
		tomlfile.Number("downloads", &s.Downloads, 1, 256, "How many files are downloaded at once. Default: 12."),
		tomlfile.Number("downloads_per_host", &s.DownloadsPerHost, 1, 256, "How many of them from one host. Default: 8."),
		tomlfile.Number("largest_download", &s.LargestDownload, 1, 1<<30,
			"The largest file that is downloaded, in MiB. Default: 32768."),
		tomlfile.Number("largest_source", &s.LargestSource, 1, 1<<30,
			"The most that one archive may unpack to, in MiB. Default: 102400, and above 1 GiB at most 200 times the size of "+
				"the archive."),
		tomlfile.Number("largest_log", &s.LargestLog, 1, 1<<30,
			"The most that a stage of a build may print, in MiB, before it is ended. Default: 1024."),
		tomlfile.Number("compile_cache", &s.CompileCache, 0, 1<<30,
			"How much of what compilers have made is kept for later builds, in MiB, with ccache, if this machine has it. Only "+
				"builds of the same recipe share it. Default: 0, nothing; what was kept is deleted."),
		tomlfile.Number("largest_tree", &s.LargestTree, 1, 1<<30, "The most that a build may place, in MiB. Default: 65536."),
		tomlfile.Number("longest_download", &s.LongestDownload, 1, 1<<20,
			"The longest that one download may take, in minutes. Default: 720."),
		tomlfile.Parsed("build_users", "FIRST-LAST or none", &s.Users, sandbox.ParseUsers,
			"The numbers of unused users and groups that builds of root run as; builds that run at the same time have "+
				"different users. Default: "+sandbox.DefaultUsers.String()+
				". With none, builds of root run as root; use that only in a container whose root is not the machine's."),
		tomlfile.Number("most_processes", &s.Most.Processes, 16, 1<<22,
			"The most processes and threads of one build. Default: 4096."),
		tomlfile.Number("most_files", &s.Most.Files, 64, 1<<20,
			"The most open files of one process of a build. Default: 65536."),
		tomlfile.Number("largest_file", &mib.file, 1, 1<<30,
			"The largest file that a build may write, in MiB. Default: 65536."),
		tomlfile.Number("largest_process", &mib.process, 0, 1<<30,
			"The most writable memory that one process of a build may have, in MiB. Default: 0, no limit; but the kernel "+
				"kills builds first when memory runs out."),
		tomlfile.Number("largest_scratch", &mib.scratch, 0, 1<<30,
			"The most that a sealed build may put into /tmp, /var/tmp and /dev/shm, which are in memory, in MiB. Default: 0, "+
				"a quarter of the memory."),
		tomlfile.Texts("trusted_env", &s.TrustedEnv,
			"Packages whose recipes may set any variable in the environment of all users of the landing, including variables "+
				"that other programs obey, such as LD_PRELOAD. Other packages can only set variables that begin with their own "+
				"name, and add to MANPATH and INFOPATH.").Check(recipe.CheckName),
		tomlfile.Texts("trusted_network", &s.TrustedNetwork,
			"Packages whose recipes may gather parts of their source with the network (gather in [[extra]]). Such a step can "+
				"reach everything that this machine can, including its own services. It sees what a build sees, without supplies.").
			Check(recipe.CheckName),
		tomlfile.Texts("trusted_owners", &s.TrustedOwners,
			"Packages whose recipes may give files of their trees to system users and groups, make programs run with their "+
				"rights ([[owner]]), require system users and directories ([[user]], [[directory]]), and place any file in "+
				"/usr/local and in packages, including files on which the operating system acts by itself, as root. The author "+
				"of such a recipe, or of its source, can become root through it.").Check(recipe.CheckName),
		tomlfile.Texts("local_repositories", &s.LocalRepositories,
			"Directories of this machine in which recipes may name git and Subversion repositories by file://. Recipes in "+
				"folders that belong to you or to root need no such line, unless their shelf is itself a repository."),
		tomlfile.Text("credentials", &s.Credentials,
			"A file with the credentials for hosts. It must be readable only by its owner."),
		tomlfile.Parsed("isolation", "open, fenced or sealed", &s.Isolation,
			recipe.WordAmong("isolation", sandbox.Levels...),
			"The minimum isolation of builds: open (the default), fenced or sealed. Builds use the strongest level that the "+
				"machine allows; if that is below the minimum, nothing is built."),
		tomlfile.Flag("bare", &s.bare.is,
			"False if sealed builds have to see all of the operating system; say why in bare_why. Default: true, they see "+
				"its base and what recipes declare."),
		tomlfile.Text("bare_why", &s.bare.why, "Why bare is false, in one line. Receipts record it."),
		tomlfile.Parsed("access", "everyone, group or private", &s.Access,
			recipe.WordAmong("access", "everyone", "group", "private"),
			"Access to the root: everyone may use what is installed; with group, members of group may also install; with "+
				"private, only the owner of the root can see anything in it. Default: directories are made readable for "+
				"everyone, and later changes of their permissions stay."),
		tomlfile.Text("group", &s.Group, "The group whose members may install, where access is group."),
		tomlfile.Text("shared_landing", &s.Landing.Shared,
			"A directory shared with other software, such as /usr/local or ~/.local, in which everything on the landing is "+
				"also linked. Files of other software in it are never changed. Default: none."),
		tomlfile.Texts("before_system", &s.Landing.BeforeSystem,
			"Packages whose programs are linked on the landing even if the operating system has programs of the same name, "+
				"over which they then take precedence; likewise their menu entries, completions and units and, in /usr/local "+
				"and in packages, their libraries. [\"*\"] means all packages. Default: those whose recipes set before_system.").
			Check(mustBeName),
		tomlfile.Tables("link", &s.Landing.Links, linkKeys,
			"A decision about one file of a package on the landing: it is not linked, has another name, or takes precedence "+
				"over the same file of other packages. The command landing settle writes these."),
		tomlfile.Number("keep_landings", &s.Landing.Keep, 1, 1<<20,
			"How many earlier states of the landing are kept, with everything they use. Default: 20."),
		tomlfile.Number("keep_landings_days", &s.Landing.Days, 0, 1<<16,
			"Earlier states that are younger than this many days are kept, too. Default: 30."),
		tomlfile.Texts("caches", &s.Landing.Caches,
			"The caches to renew after each change of the landing, if their tools are installed: "+strings.Join(Caches, ", ")+
				". libraries runs ldconfig, for a landing that the loader searches. Default: none.").Check(mustBeCache),
		tomlfile.Table("cluster", s.Cluster.keys,
			"The batch scheduler of a cluster whose nodes share the root, for --cluster."),
		tomlfile.Table("pack", s.Pack.keys, "Packages of the operating system that fernladder pack makes of builds."),
		tomlfile.Texts("prefer", &s.Prefer,
			"Packages, and names of things of the operating system, that are preferred where a need lists alternatives "+
				"(either). Existing builds stay; --prefer changes them, too.").Check(recipe.CheckSystemName),
		tomlfile.Texts("host_copies", &s.HostCopies,
			"Packages that the operating system's own copy may replace, if their recipes describe it ([host_copy]) and it is "+
				"installed and fits. [\"*\"] means all packages. Default: none. Packages that are named on the command line are "+
				"always built.").Check(mustBeName),
		tomlfile.Named("wanted", &s.Wanted, wantedKeys, recipe.CheckName,
			"A package that should be on the landing, [wanted.NAME]. Commands without names work on this list; install "+
				"without names brings the landing to it."),
		tomlfile.Named("preset", &s.Presets, presetKeys, recipe.CheckPresetName,
			"A named set of options, [preset.NAME], for --preset NAME. It takes precedence over a preset of a recipe with "+
				"the same name."),
		tomlfile.Tables("advisories", &s.Advisories, advisoriesKeys,
			"A database of security advisories in the OSV format, which the command advisories reads: files, directories of "+
				"them, or the zip archives in which databases publish them. Nothing is sent anywhere about what is installed."),
		tomlfile.Table("policy", s.Policy.keys, "What is done about builds with published holes."),
		tomlfile.Named("not_affected", &s.NotAffected, notAffectedKeys, recipe.CheckAdvisory,
			"A published hole that does not concern this machine's builds, [not_affected.\"CVE-2026-0001\"]."),
		tomlfile.Tables("depot", &s.Depots, depotKeys,
			"A place with builds: a repository of an OCI registry, or a directory in the OCI image layout. Builds with "+
				"exactly the wanted build id and a signature by one of its keys are taken from it instead of being built here; "+
				"share puts builds into those that have a key to sign with. They are searched in order."),
		tomlfile.Parsed("depots", "use or only", &s.OnlyDepots, depotsUse,
			"With only, nothing is built on this machine: what no depot has is an error. Build ids are then those of the "+
				"compilers in ladder.lock. Default: use."),
		tomlfile.Choices("defaults", &s.defaults,
			"Defaults of options in every recipe that has them: static, tests, documentation, debug, or others, as in "+
				"[defaults] static = true. Existing builds stay as they are until they are requested."),
		tomlfile.Texts("path", &s.Path,
			"Directories in which builds find the operating system's programs, including the compiler. Default: the usual "+
				"ones below / and /usr.").Check(mustBeAbsolute),
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
			problems = append(problems,
				tomlfile.Problem{Position: l.Position, Message: "a [[link]] says one of off = true, as = \"…\" and first = true"})
		}
	}
	return problems
}

func advisoriesKeys(d *Advisories) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("url", &d.URL, "Its URL. It is fetched again when the server has a newer one.").Check(recipe.CheckURL),
		tomlfile.Text("path", &d.Path, "Instead of url: a file or directory on this machine."),
		tomlfile.OneOrMore("signature", &d.Signature, "The URLs of the signature of what url has, tried in order.").
			Check(recipe.CheckURL),
		tomlfile.Texts("keys", &d.Keys, "Files with the only public keys that are trusted for it."),
	}
}

func depotKeys(d *Depot) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("name", &d.Name, "What messages and flags call it. Default: its url or path.").
			Check(recipe.CheckOneLine),
		tomlfile.Text("url", &d.URL,
			"The repository, as in https://registry.vale.example/builds. With http, nothing secret is sent.").
			Check(mustBeRegistry),
		tomlfile.Text("path", &d.Path, "Instead of url: a directory, such as one on a stick, or one that machines share."),
		tomlfile.Texts("keys", &d.Keys,
			"Files with the only public keys that are trusted for its builds: OpenPGP, minisign or SSH. Without, nothing is "+
				"taken from it."),
		tomlfile.Text("sign", &d.Sign,
			"The secret key that share signs builds with: a file that only its owner can read, with an SSH, minisign or "+
				"OpenPGP key; the public part of an SSH key that an agent has; or gpg:ID. Without, share puts nothing there."),
	}
}

func depotsUse(text string) (bool, error) {
	if text != "use" && text != "only" {
		return false, &tomlfile.At{Advice: "it can be: use, only", Err: fmt.Errorf("depots cannot be %q", text)}
	}
	return text == "only", nil
}

var registryForm = pattern.New(`^https?://[A-Za-z0-9.-]+(:[0-9]+)?(/[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*)+/?$`)

func mustBeRegistry(text string) error {
	if !registryForm.MatchString(text) {
		return &tomlfile.At{Advice: "for example: https://registry.vale.example/builds",
			Err: fmt.Errorf("%q is not the URL of a repository of a registry", text)}
	}
	return nil
}

func (p *Policy) keys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Parsed("advisories", "tell or refuse", &p.Advisories, recipe.WordAmong("advisories", "tell", "refuse"),
			"What plan and install do about builds with published holes: tell (the default), or refuse to install them."),
		tomlfile.Parsed("severity", "low, medium, high or critical", &p.Severity,
			recipe.WordAmong("severity", "low", "medium", "high", "critical"),
			"The least severity that counts. Default: low. A hole of unknown severity always counts."),
	}
}

func notAffectedKeys(id string, n *NotAffected) []tomlfile.Key {
	n.ID = id
	return []tomlfile.Key{
		tomlfile.Text("package", &n.Package, "The package. Default: all that the advisory names.").Check(recipe.CheckName),
		tomlfile.Text("because", &n.Because, "Why, in one line.").Must().Check(recipe.CheckOneLine),
		tomlfile.Parsed("when", "condition", &n.When, recipe.AnyCondition,
			"The condition on options and version under which it is so. It is evaluated for each build."),
	}
}

func (c *Cluster) keys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Parsed("scheduler", "slurm", &c.Scheduler, schedulerOf, "Which it is: slurm.").Must(),
		tomlfile.Text("partition", &c.Partition, "The partition, or queue, of the jobs. Default: that of the scheduler.").
			Check(mustBeWord),
		tomlfile.Text("account", &c.Account, "The account that they are for.").Check(mustBeWord),
		tomlfile.Text("qos", &c.QoS, "Their quality of service.").Check(mustBeWord),
		tomlfile.Text("constraint", &c.Constraint, "Features that their nodes must have, in the scheduler's syntax.").
			Check(mustBeWord),
		tomlfile.Number("processors", &c.Processors, 1, 4096,
			"The most processors of a job, and those of a job without an earlier build. Default: 4."),
		tomlfile.Number("memory", &c.Memory, 1, 1<<30,
			"The memory of a job, in MiB, without an earlier build and a value in the recipe. Default: 4096."),
		tomlfile.Number("minutes", &c.Minutes, 1, 1<<20,
			"The time limit of a job, in minutes, without an earlier build and a value in the recipe. Default: 240."),
		tomlfile.Number("most_jobs", &c.Most, 1, 1<<20,
			"The most jobs of one ladder that run at once. Default: as many as the scheduler allows."),
		tomlfile.Pairs("environment", &c.Environment, false, recipe.CheckEnvironmentName,
			"Environment variables of jobs on their nodes. Builds do not see them.").Check(recipe.CheckOneLine),
	}
}

func schedulerOf(text string) (string, error) {
	if text != "slurm" {
		return "", fmt.Errorf("%q is not a known scheduler", text)
	}
	return text, nil
}

func mustBeWord(text string) error {
	if strings.ContainsFunc(text, func(c rune) bool { return c <= ' ' || c == 0x7f }) || strings.HasPrefix(text, "-") {
		return fmt.Errorf("%q is not a word that a scheduler accepts", text)
	}
	return nil
}

func (p *Pack) keys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("prefix", &p.Prefix,
			"Prefix of package names, for example vale-, so that they never clash with those of the distribution. Default: "+
				"fl-.").Check(mustBePackageName),
		tomlfile.Text("maintainer", &p.Maintainer, "Their maintainer: NAME <ADDRESS>.").Check(mustBeMaintainer),
		tomlfile.Text("suffix", &p.Suffix,
			"Suffix of versions, such as the distribution that the packages are for: vale12. Default: none.").
			Check(mustBeSuffix),
		tomlfile.Number("rebuild", &p.Rebuild, 1, 99999,
			"Distinguishes packages of the same version: raise it when you pack a version again. Default: 1."),
		tomlfile.Parsed("packing", "gzip or zstd", &p.Packing, packing,
			"The compression of .deb files: zstd, which is faster and smaller, or gzip, which every dpkg unpacks. Default: "+
				"zstd if this machine's dpkg unpacks it, as those of Debian since 12 and of Ubuntu do."),
		tomlfile.Text("links", &p.Links, "The directory in which their programs are linked. Default: /usr/local.").
			Check(mustBeAbsolute),
		tomlfile.Named("epoch", &p.Epochs, epochKeys, recipe.CheckName,
			"A number before the version of a package, [pack.epoch.NAME], for one whose versions are not in order otherwise."),
	}
}

func epochKeys(name string, e *Epoch) []tomlfile.Key {
	e.Name = name
	return []tomlfile.Key{tomlfile.Number("number", &e.Number, 0, 99999, "The number.").Must()}
}

var (
	packagePrefix = pattern.New(`^[a-z0-9][a-z0-9.+-]*$`)
	maintainer    = pattern.New(`^[^<>\n"]+ <[^<>@\s]+@[^<>@\s]+>$`)
	suffixForm    = pattern.New(`^[A-Za-z0-9.+~]+$`)
)

func packing(text string) (string, error) {
	if text == "gzip" || text == "zstd" {
		return text, nil
	}
	return "", &tomlfile.At{Advice: "it can be: gzip, zstd", Err: fmt.Errorf("packing cannot be %q", text)}
}

func mustBePackageName(text string) error {
	if !packagePrefix.MatchString(text) {
		return &tomlfile.At{Advice: "it has lower-case letters, digits, + - and dots",
			Err: fmt.Errorf("%q cannot begin the name of a package", text)}
	}
	return nil
}

func mustBeMaintainer(text string) error {
	if !maintainer.MatchString(text) {
		return &tomlfile.At{Advice: "for example: Vale Growers <growers@vale-glasshouse.example>",
			Err: fmt.Errorf("%q is not a name with an address", text)}
	}
	return nil
}

func mustBeSuffix(text string) error {
	if !suffixForm.MatchString(text) {
		return fmt.Errorf("%q cannot end a version: it has letters, digits and . + ~", text)
	}
	return nil
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
		tomlfile.Text("version", &w.Version, "The accepted versions, or tip. Default: the newest stable one.").
			Check(mustBeVersions),
		tomlfile.Text("preset", &w.Preset, "The preset that sets its options, before those in options.").
			Check(recipe.CheckPresetName),
		tomlfile.Choices("options", &w.Options, "Its options and their values."),
	}
}

func presetKeys(name string, p *Preset) []tomlfile.Key {
	p.Name = name
	return []tomlfile.Key{
		tomlfile.Text("package", &p.Package,
			"The package that it is for. Default: every package that has at least one of the options.").Check(recipe.CheckName),
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

// A Place is the set of places where settings can be.
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

// defaults are the default settings, except for paths.
func defaults() Settings {
	s := Settings{Downloads: 12, DownloadsPerHost: 8, LargestDownload: 32 << 10, LargestLog: 1 << 10,
		LargestTree:     64 << 10,
		LongestDownload: 12 * 60, Users: sandbox.DefaultUsers,
		Most: sandbox.Limits{Processes: 4096, Files: 1 << 16, FileSize: 64 << 30}}
	s.mib.file = 64 << 10
	s.bare.is = true
	s.Landing.Keep, s.Landing.Days = 20, 30
	s.Policy = Policy{"tell", "low"}
	s.Cluster = Cluster{Processors: 4, Memory: 4096, Minutes: 240}
	s.Pack = Pack{Prefix: "fl-", Links: "/usr/local", Rebuild: 1}
	return s
}

// Read reads a settings file; without a name it returns the defaults. Errors are
// tomlfile.Problems.
func Read(file string, p Place) (Settings, error) {
	s := defaults()
	s.File = file
	var shelves []string
	base := p.Working
	if file != "" {
		data, err := safefs.ReadFile(file, recipe.Largest)
		if err != nil {
			return s, tomlfile.Problems{{Position: tomlfile.Position{File: p.Shown(file)},
				Message: fmt.Sprintf("these settings cannot be read: %v", cause(err))}}
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
			return s, tomlfile.Problems{{Position: tomlfile.Position{File: p.Shown(file)},
				Message: "builds that see all of the operating system need a reason; add bare_why = \"…\""}}
		}
	}
	if (s.Access == "group") != (s.Group != "") {
		return s, tomlfile.Problems{{Position: tomlfile.Position{File: p.Shown(file)},
			Message: "access = \"group\" and group = \"NAME\" go together"}}
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
	s.Most.FileSize, s.Most.Memory, s.Most.Scratch = int64(s.mib.file)<<20, int64(s.mib.process)<<20,
		int64(s.mib.scratch)<<20
	switch {
	case s.Root != "":
		s.Root = absolute(base, s.Root)
	case p.Super:
		s.Root = "/opt/fernladder"
	default:
		s.Root = filepath.Join(p.home("XDG_DATA_HOME", ".local/share"), "fernladder")
	}
	if err := placeAdvisories(s.Advisories, base); err != nil {
		return s, err
	}
	if err := placeDepots(s.Depots, base); err != nil {
		return s, err
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
		id := shelf.Git + " " + shelf.Commit
		for i := range shelf.Keys { // its files come to the root when these keys have proved good
			shelf.Keys[i] = absolute(base, shelf.Keys[i])
			data, err := safefs.ReadFile(shelf.Keys[i], signature.LargestFile)
			if err != nil {
				return s, tomlfile.Problems{{Position: shelf.Position, Source: "[[remote_shelf]]",
					Message: fmt.Sprintf("the key %s cannot be read: %v", p.Shown(shelf.Keys[i]), cause(err))}}
			}
			id += fmt.Sprintf(" %x", blake3.Sum256(data))
		}
		if shelf.Keys != nil {
			id += " " + shelf.Tag
		}
		sum := blake3.Sum256([]byte(id))
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

// placeAdvisories makes the paths of databases absolute, and refuses those that name no place, or
// two.
func placeAdvisories(all []*Advisories, base string) error {
	for _, d := range all {
		if (d.URL == "") == (d.Path == "") || d.URL == "" && d.Signature != nil || (d.Signature == nil) != (d.Keys == nil) {
			return tomlfile.Problems{{Position: d.Position, Source: "[[advisories]]",
				Message: "[[advisories]] names a url or a path; what a url has can be signed: signature and keys go together"}}
		}
		if d.Path != "" {
			d.Path = absolute(base, d.Path)
		}
		for i := range d.Keys {
			d.Keys[i] = absolute(base, d.Keys[i])
		}
	}
	return nil
}

// placeDepots makes the paths of depots absolute, and refuses those that name no place, or two, and
// names that several have.
func placeDepots(all []*Depot, base string) error {
	names := map[string]bool{}
	for _, d := range all {
		wrong := ""
		switch d.Name = cmp.Or(d.Name, d.URL, d.Path); {
		case (d.URL == "") == (d.Path == ""):
			wrong = "[[depot]] names a url or a path"
		case len(d.Keys) == 0 && d.Sign == "":
			wrong = "[[depot]] needs keys, to take builds from it, or sign, to put builds there"
		case names[d.Name]:
			wrong = fmt.Sprintf("two depots are called %s", d.Name)
		}
		if wrong != "" {
			return tomlfile.Problems{{Position: d.Position, Source: "[[depot]]", Message: wrong}}
		}
		names[d.Name] = true
		if d.Path != "" {
			d.Path = absolute(base, d.Path)
		}
		for i := range d.Keys {
			d.Keys[i] = absolute(base, d.Keys[i])
		}
		if d.Sign != "" && signature.IsFile(d.Sign) {
			d.Sign = absolute(base, d.Sign)
		}
	}
	return nil
}

// Shown returns the shortest name of a path for a user in the working directory: relative, if it
// is below it.
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
