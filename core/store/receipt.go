package store

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernladder/core/host"
	"fernladder/core/inspect"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/signature"
	"fernladder/core/version"
)

// receiptFile and filesFile are in every tree.
const (
	ownDirectory = inspect.Own
	receiptFile  = ownDirectory + "/receipt.json"
	filesFile    = ownDirectory + "/files.mtree"
)

// FilesName is the path of a tree's list of files in it, and OwnDirectory of the directory.
const (
	FilesName    = filesFile
	OwnDirectory = ownDirectory
)

// OwnFiles are a tree's own records, which its list of files does not include.
func OwnFiles() []string { return []string{receiptFile, filesFile} }

// LicenceDir has the licence texts of the source, in the tree's own directory.
const LicenceDir = "licences"

// A Licence is such a text.
type Licence struct {
	File   string `json:"file"` // as the source calls it
	SHA256 string `json:"sha256"`
}

// Path is its path in the tree.
func (l Licence) Path() string { return ownDirectory + "/" + LicenceDir + "/" + l.File }

// receiptFormat is the version of the receipt's format.
const receiptFormat = 1

// A Receipt says everything about how a tree was made.
type Receipt struct {
	Format int `json:"format"`
	Ref
	Summary string `json:"summary"`
	Home    string `json:"home,omitempty"`
	License string `json:"license,omitempty"`
	Notes   string `json:"notes,omitempty"`
	Recipe  string `json:"recipe"` // the file it was read from
	// The digest of that file.
	RecipeSHA256 string `json:"recipe_sha256,omitempty"`
	// Where the build came from, and who signed it there; nil: it was built here.
	From *Origin `json:"from,omitempty"`
	Tree string  `json:"tree"`
	// The directory that its files are for, if that is not the tree.
	Prefix       string            `json:"prefix,omitempty"`
	Options      map[string]string `json:"options"`
	Chosen       map[string]string `json:"chosen,omitempty"` // those of them that are not as they were by default
	Preset       string            `json:"preset,omitempty"` // the named set of options that it was built by
	Track        recipe.Track      `json:"track,omitempty"`  // of the release
	Sources      []Source          `json:"sources"`
	Supplies     []Supply          `json:"supplies,omitempty"` // not to be passed on
	Patches      []Source          `json:"patches,omitempty"`
	Needs        []Link            `json:"needs"`
	Public       []Ref             `json:"public,omitempty"`  // libraries among them that builds against this one see, too
	ByHost       []string          `json:"by_host,omitempty"` // needs that the operating system met, as NAME VERSION
	Method       recipe.Method     `json:"method"`
	Tries        []Try             `json:"tries,omitempty"`
	Env          []Variable        `json:"env,omitempty"`
	Beside       []Beside          `json:"beside,omitempty"`        // names for when another build has the plain ones
	BeforeSystem bool              `json:"before_system,omitempty"` // its programs hide the operating system's
	RunsWith     []HostNeed        `json:"runs_with,omitempty"`     // of the operating system
	// Files that should belong to other users than root.
	Owned []Owned `json:"owned,omitempty"`
	// Files of the tree that declare system users and directories.
	Declares []string         `json:"declares,omitempty"`
	Licences []Licence        `json:"licences,omitempty"` // texts of the source, kept in the tree
	Configs  []Config         `json:"configs,omitempty"`
	Writable []Config         `json:"writable,omitempty"` // directories that its programs write in
	Remarks  []inspect.Remark `json:"remarks,omitempty"`  // on the files of the tree
	// What it is called elsewhere, and published holes that do not concern it, as its recipe said.
	KnownAs     recipe.KnownAs `json:"known_as,omitzero"`
	NotAffected []NotAffected  `json:"not_affected,omitempty"`
	Edited      bool           `json:"edited,omitempty"` // its source was changed by hand after it was verified
	// What is not placed was not compiled.
	SkippedUnplaced bool         `json:"skipped_unplaced,omitempty"`
	Cached          Cached       `json:"compile_cache,omitzero"`
	Machine         host.Machine `json:"machine"`
	Compiler        string       `json:"compiler"`
	Isolation       string       `json:"isolation"`
	// The isolation of earlier runs that ended before the build was complete.
	Resumed  []string  `json:"resumed,omitempty"`
	Given    []Owned   `json:"given,omitempty"`    // changes of owner by its installer, which were not made
	Features []Feature `json:"features,omitempty"` // features that the source says it was configured with and without
	// Features that the source was configured without, although no argument asked for that.
	Without []string `json:"without,omitempty"`
	// Why the build has seen all of the operating system; "": it has seen what it declares.
	NotBare  string      `json:"not_bare,omitempty"`
	Began    time.Time   `json:"began"`
	Seconds  float64     `json:"seconds"` // over all stages
	Stages   []StageTime `json:"stages"`
	Files    int         `json:"files"`
	Size     int64       `json:"size"`                // bytes in its files
	WorkSize int64       `json:"work_size,omitempty"` // bytes that its work directory had in the end
	Memory   int64       `json:"memory,omitempty"`    // bytes that the largest of its processes had
}

// Cached is how many compilations of a build there were, and how many came from the cache.
type Cached struct {
	Hits         int `json:"hits"`
	Compilations int `json:"compilations"`
}

// At is the directory that the files of the build are for.
func (r *Receipt) At() string {
	if r.Prefix != "" {
		return r.Prefix
	}
	return r.Tree
}

// Settings are options as NAME=VALUE, sorted.
func Settings(options map[string]string) (texts []string) {
	for name, value := range options {
		texts = append(texts, name+"="+value)
	}
	slices.Sort(texts)
	return texts
}

// A Source is a file that went into a build.
type Source struct {
	File   string          `json:"file,omitempty"`   // of a patch, beside the recipe
	URL    string          `json:"url,omitempty"`    // that served it
	Digest recipe.Digest   `json:"digest,omitzero"`  // of an archive or a patch; of a repository, of all its files
	Commit string          `json:"commit,omitempty"` // or revision, of a repository
	Into   string          `json:"into,omitempty"`   // the directory of the source that an extra went into
	Signed *signature.Good `json:"signed,omitempty"`
	Fixes  []string        `json:"fixes,omitempty"` // advisories that a patch resolves
	Purl   string          `json:"purl,omitempty"`  // of an extra, as its recipe says
}

// NotAffected is the statement that a published hole does not concern a build.
type NotAffected struct {
	ID      string `json:"id"`
	Because string `json:"because"`
	When    string `json:"when,omitempty"` // the condition, which the build fulfils
}

// An Origin is the depot that a build came from.
type Origin struct {
	Depot    string         `json:"depot"` // its url or path
	Manifest string         `json:"manifest"`
	Signed   signature.Good `json:"signed"`
	At       time.Time      `json:"at"` // when it came
	Recipe   string         `json:"recipe"`
	Untried  []string       `json:"untried,omitempty"` // tries that this machine could not run
}

// A Supply is a file that the administrator supplied. It must not be redistributed.
type Supply struct {
	File   string        `json:"file"`
	About  string        `json:"about"`
	Digest recipe.Digest `json:"digest"`
}

// A Link is a needed build.
type Link struct {
	Ref
	Role recipe.Role `json:"role"`
}

// A Try is a command that shows whether the package works.
type Try struct {
	Run     string   `json:"run,omitempty"`
	Expect  string   `json:"expect,omitempty"`
	Status  int      `json:"status,omitempty"`
	Program string   `json:"program,omitempty"` // C source
	Flags   []string `json:"flags,omitempty"`
	Modules []string `json:"modules,omitempty"`
}

// String is what was run, in one line.
func (t Try) String() string {
	switch {
	case t.Run == "":
		return "a program compiled against the package"
	case t.Program != "":
		return t.Run + ", a program compiled against the package"
	}
	return t.Run
}

// Owned is a file that belongs to another user than root, or whose owner the installer of a
// package would have changed.
type Owned struct {
	File  string `json:"file"` // in the tree
	Owner string `json:"owner,omitempty"`
	Group string `json:"group,omitempty"`
	Mode  string `json:"mode,omitempty"` // permissions in octal digits, where they are others than the file's
}

// Who names the owner and group.
func (o Owned) Who() string {
	switch {
	case o.Group == "":
		return "the user " + o.Owner
	case o.Owner == "":
		return "the group " + o.Group
	}
	return o.Owner + ":" + o.Group
}

// A Config is a file that the administrator edits: it is in the root, and the tree has a link to
// it.
type Config struct {
	File    string `json:"file"`           // in the tree
	Sample  string `json:"sample"`         // in the tree, with its original contents
	Mode    string `json:"mode,omitempty"` // in octal digits, when it is made; "": as the sample
	Private bool   `json:"private,omitempty"`
	Owner   string `json:"owner,omitempty"` // where root makes it
	Group   string `json:"group,omitempty"`
}

// Permissions are those of a new file, derived from those of its sample.
func (c Config) Permissions(sample fs.FileMode) (fs.FileMode, error) {
	mode := sample
	if c.Mode != "" {
		n, err := strconv.ParseUint(c.Mode, 8, 16)
		if err != nil {
			return 0, fmt.Errorf("mode %q of %s: %w", c.Mode, c.File, err)
		}
		mode = fs.FileMode(n) & 0o777
	}
	if c.Private {
		if mode &^= 0o077; c.Group != "" {
			mode |= 0o040
		}
	}
	return mode, nil
}

// A Beside is an additional name of a file on the landing.
type Beside struct {
	File string `json:"file"` // in the tree
	As   string `json:"as"`   // below the landing
}

// A Variable is set in the environment of the package's users.
type Variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// List reports, judging by the name, whether a variable is a colon-separated list of
// directories, which can be joined to others.
func (v Variable) List() bool {
	return strings.HasSuffix(v.Name, "PATH") || strings.HasSuffix(v.Name, "_DIRS")
}

// A StageTime says how long a stage took.
type StageTime struct {
	Stage   string  `json:"stage"`
	Seconds float64 `json:"seconds"`
	CPU     float64 `json:"cpu_seconds,omitempty"` // that processors were busy with it
}

// Installed reports whether the tree of r exists.
func (s *Store) Installed(r Ref) bool {
	info, err := os.Lstat(filepath.Join(s.Tree(r), receiptFile))
	if err != nil || !info.Mode().IsRegular() {
		return false
	}
	_, err = os.Lstat(s.lent(r))
	return errors.Is(err, fs.ErrNotExist)
}

// Moved is the problem of a receipt in a root that was moved.
type Moved struct{ Tree string } // as it was built to be

func (e *Moved) Error() string {
	return fmt.Sprintf("this tree was built for %s, and its programs look for each other there", e.Tree)
}

// damage is the problem of a receipt that makes no sense.
type damage struct{ error }

func (e *damage) Error() string { return "this receipt is damaged: " + e.error.Error() }

func (e *damage) Unwrap() error { return e.error }

// RefOf is the build whose tree belongs into a directory.
func (s *Store) RefOf(dir string) (Ref, bool) {
	return parseBuildName(filepath.Base(filepath.Dir(dir)), filepath.Base(dir))
}

// largestReceipt is more than any receipt has.
const largestReceipt = 64 << 20

// Receipt reads the receipt of a build, and checks that it is of that build, in this root. Its
// error is fs.ErrNotExist if there is no such tree.
func (s *Store) Receipt(r Ref) (*Receipt, error) {
	file := filepath.Join(s.Tree(r), receiptFile)
	if _, err := os.Lstat(s.lent(r)); err == nil {
		return nil, &fs.PathError{Op: "open", Path: file, Err: fs.ErrNotExist}
	}
	info, err := os.Lstat(file)
	if err != nil {
		return nil, s.Wrap(err)
	}
	if receipt := s.known.get(r, info); receipt != nil {
		return receipt, nil
	}
	data, err := s.readReceipt(r)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	damaged := func(what string, args ...any) error {
		return &Error{Path: file, Err: &damage{fmt.Errorf(what, args...)},
			Remedies: []problem.Remedy{problem.Do(problem.MoveAside)}}
	}
	if errors.As(err, new(*safefs.TooLarge)) {
		return nil, damaged("%w", err)
	}
	if err != nil {
		return nil, s.Wrap(err)
	}
	var receipt Receipt
	if err := json.Unmarshal(data, &receipt); err != nil {
		return nil, damaged("%w", err)
	}
	switch {
	case receipt.Format > receiptFormat:
		return nil, &Error{Path: file, Err: errors.New("this receipt was written by a newer Fern Ladder"),
			Advice: "Use that version with this root."}
	case receipt.Format < 1:
		return nil, damaged("it states no format")
	case receipt.Ref != r:
		return nil, damaged("it is that of %s", receipt.Ref)
	case receipt.Tree != s.Tree(r) && filepath.Base(receipt.Tree) == filepath.Base(s.Tree(r)):
		return nil, &Error{Path: file, Err: &Moved{receipt.Tree},
			Advice: "The root was moved. Move it back, or make its old path a link to it and use that."}
	case receipt.Tree != s.Tree(r):
		return nil, damaged("it is that of the tree %s", receipt.Tree)
	}
	for _, l := range receipt.Licences {
		if !safefs.ValidName(l.File) || strings.Contains(l.File, "/") {
			return nil, damaged("%q cannot be a licence", l.File)
		}
	}
	for _, c := range slices.Concat(receipt.Configs, receipt.Writable) {
		if !configurable(c.File) || !filepath.IsLocal(c.Sample) {
			return nil, damaged("%q cannot be a configuration file", c.File)
		}
	}
	s.known.put(r, info, &receipt)
	return &receipt, nil
}

func (s *Store) readReceipt(r Ref) ([]byte, error) {
	tree, err := safefs.OpenDir(s.Tree(r))
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	return tree.ReadFile(receiptFile, largestReceipt)
}

// Needs returns the needs of an installed build, from its receipt.
func (s *Store) Needs(r Ref) ([]Link, error) {
	receipt, err := s.Receipt(r)
	if err != nil {
		return nil, s.Gone(r, err)
	}
	return receipt.Needs, nil
}

// Trees returns the builds with a tree.
func (s *Store) Trees() (map[Ref]bool, error) {
	dirs, err := filepath.Glob(filepath.Join(s.TreesDir(), "*", "*"))
	if err != nil {
		return nil, err
	}
	trees := map[Ref]bool{}
	for _, dir := range dirs {
		if r, ok := parseBuildName(filepath.Base(filepath.Dir(dir)), filepath.Base(dir)); ok && s.Installed(r) {
			trees[r] = true
		}
	}
	return trees, nil
}

// Receipts returns the receipts of all trees, by name, then the newest version and the latest
// build first.
func (s *Store) Receipts() ([]*Receipt, error) { return s.ReceiptsOf("*") }

// ReceiptsOf returns those of a package's trees, in the same order.
func (s *Store) ReceiptsOf(name string) ([]*Receipt, error) {
	files, err := filepath.Glob(filepath.Join(s.TreesDir(), name, "*", receiptFile))
	if err != nil {
		return nil, err
	}
	var receipts []*Receipt
	for _, file := range files {
		tree := filepath.Dir(filepath.Dir(filepath.Dir(file)))
		ref, ok := parseBuildName(filepath.Base(filepath.Dir(tree)), filepath.Base(tree))
		if !ok {
			continue // not a name that Tree gives
		}
		r, err := s.Receipt(ref)
		if errors.Is(err, fs.ErrNotExist) {
			continue // removed since
		}
		if err != nil {
			return nil, err
		}
		receipts = append(receipts, r)
	}
	slices.SortFunc(receipts, func(a, b *Receipt) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), version.CompareTexts(b.Version, a.Version), b.Began.Compare(a.Began))
	})
	return receipts, nil
}

// idLength is the number of characters of a build id.
const idLength = 12

// ShortID cuts a digest in hexadecimal to the length of a build id.
func ShortID(hex string) string { return hex[:idLength] }

// parseBuildName splits VERSION-ID, the name of a tree's directory.
func parseBuildName(name, base string) (Ref, bool) {
	i := len(base) - idLength
	if i < 2 || base[i-1] != '-' {
		return Ref{}, false
	}
	return Ref{Name: name, Version: base[:i-1], ID: base[i:]}, true
}

// A Logged build left logs, whatever its outcome.
type Logged struct {
	Ref
	Wrote time.Time // when it wrote the last of them
}

// AllLogged returns the builds that left logs, in no order.
func (s *Store) AllLogged() ([]Logged, error) {
	dirs, err := filepath.Glob(filepath.Join(s.Root, "logs", "*"))
	if err != nil {
		return nil, err
	}
	names := map[string]bool{}
	for _, dir := range dirs {
		// The name ends where a version begins; if there are several ways to split it, all are tried.
		base := filepath.Base(dir)
		for i := range base {
			if base[i] == '-' {
				names[base[:i]] = true
			}
		}
	}
	var all []Logged
	for name := range names {
		builds, err := s.Logged(name)
		if err != nil {
			return nil, err
		}
		all = append(all, builds...)
	}
	return all, nil
}

// Logged returns the builds of a package that left logs, in no order.
func (s *Store) Logged(name string) ([]Logged, error) {
	dirs, err := filepath.Glob(filepath.Join(s.Root, "logs", name+"-*"))
	if err != nil {
		return nil, err
	}
	var builds []Logged
	for _, dir := range dirs {
		r, ok := parseBuildName(name, filepath.Base(dir)[len(name)+1:])
		if _, err := version.Parse(r.Version); !ok || err != nil {
			continue // of another package with the same prefix
		}
		logs, err := os.ReadDir(dir)
		if err != nil {
			return nil, s.Wrap(err)
		}
		l := Logged{Ref: r}
		for _, log := range logs {
			if info, err := log.Info(); err == nil && info.ModTime().After(l.Wrote) {
				l.Wrote = info.ModTime()
			}
		}
		builds = append(builds, l)
	}
	return builds, nil
}

// A HostNeed is a runtime need on the operating system that is not visible in a build's files.
type HostNeed struct {
	host.Question
	Packages []FamilyPackages `json:"packages,omitempty"` // that have it, as the recipe says
}

// FamilyPackages are packages of a family of operating systems.
type FamilyPackages struct {
	Family string   `json:"family"`
	Names  []string `json:"names"`
}

// Of are the packages of a family that have it.
func (n HostNeed) Of(family string) []string {
	for _, p := range n.Packages {
		if p.Family == family {
			return p.Names
		}
	}
	return nil
}

// Equal compares two needs.
func (n HostNeed) Equal(o HostNeed) bool {
	return n.Question == o.Question && slices.EqualFunc(n.Packages, o.Packages, func(a, b FamilyPackages) bool {
		return a.Family == b.Family && slices.Equal(a.Names, b.Names)
	})
}
