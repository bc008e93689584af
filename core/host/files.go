package host

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/google/renameio/v2"
	"github.com/klauspost/compress/zstd"
)

// Files knows which packages of the operating system have which files: an index
// of what its package manager says of all packages, installed or not, made when
// it is asked for and then usable without a network. It only has what builds ask
// for: headers, libraries, modules of pkg-config and programs.
type Files struct{ Dir string }

// ErrNoLists is the error for an operating system whose package manager is not
// asked for lists of files.
var ErrNoLists = errors.New("only the lists of files of apt are read, and this machine has no apt")

func (f Files) index() string { return filepath.Join(f.Dir, "index.zst") }

// There tells whether there is an index.
func (f Files) There() bool {
	_, err := os.Stat(f.index())
	return err == nil
}

// contents tells apt about its own index of contents, and to leave what this
// machine uses alone. Both are settings that apt documents.
const contents = `Acquire::IndexTargets::deb::Contents-deb {
  MetaKey "$(COMPONENT)/Contents-$(ARCHITECTURE)"; flatMetaKey "Contents-$(ARCHITECTURE)";
  ShortDescription "Contents-$(ARCHITECTURE)"; Description "$(RELEASE)/$(COMPONENT) $(ARCHITECTURE) Contents"; flatDescription "$(RELEASE) Contents";
  Identifier "Contents-deb"; PDiffs "false"; KeepCompressed "true"; DefaultEnabled "true";
};
Acquire::IndexTargets::deb::Packages::DefaultEnabled "false";
Acquire::IndexTargets::deb::Translations::DefaultEnabled "false";
Acquire::IndexTargets::deb::DEP-11::DefaultEnabled "false";
Acquire::Languages "none";
APT::Sandbox::User "";
Dir::State::Lists "%[1]s/lists";
Dir::Cache "%[1]s/cache";
`

// Refresh fetches the package manager's lists and makes the index anew. Nothing
// of the package manager's own state changes.
func (f Files) Refresh(ctx context.Context, p Programs) (entries int, err error) {
	apt := p.Find("apt-get")
	if apt == "" {
		return 0, ErrNoLists
	}
	for _, dir := range []string{"lists/partial", "cache"} {
		if err := os.MkdirAll(filepath.Join(f.Dir, dir), 0o755); err != nil {
			return 0, err
		}
	}
	config := filepath.Join(f.Dir, "apt.conf")
	if err := os.WriteFile(config, fmt.Appendf(nil, contents, f.Dir), 0o644); err != nil {
		return 0, err
	}
	env := append(os.Environ(), "APT_CONFIG="+config, "LC_ALL=C")
	update := exec.CommandContext(ctx, apt, "update")
	update.Env = env
	if out, err := update.CombinedOutput(); err != nil {
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		return 0, fmt.Errorf("apt-get update: %s", lines[len(lines)-1])
	}
	lists, err := filepath.Glob(filepath.Join(f.Dir, "lists", "*Contents*"))
	if err != nil {
		return 0, err
	}
	owners := map[string]map[string]bool{}
	for _, list := range lists {
		read := exec.CommandContext(ctx, "/usr/lib/apt/apt-helper", "cat-file", list)
		read.Env = env
		pipe, err := read.StdoutPipe()
		if err != nil {
			return 0, err
		}
		if err := read.Start(); err != nil {
			return 0, err
		}
		err = collect(pipe, owners)
		if err = errors.Join(err, read.Wait()); err != nil {
			return 0, fmt.Errorf("%s: %w", filepath.Base(list), err)
		}
	}
	if len(owners) == 0 {
		return 0, errors.New("the package manager's sources have no lists of files")
	}
	os.RemoveAll(filepath.Join(f.Dir, "lists")) // they are large, and the index has it all
	return len(owners), f.write(owners)
}

// collect reads lines of PATH SECTION/PACKAGE[,SECTION/PACKAGE].
func collect(from io.Reader, owners map[string]map[string]bool) error {
	lines := bufio.NewScanner(from)
	lines.Buffer(make([]byte, 1<<16), 1<<20)
	for lines.Scan() {
		path, packages, is := lastField(lines.Text())
		key := keyOf(path)
		if !is || key == "" {
			continue
		}
		for name := range strings.SplitSeq(packages, ",") {
			if owners[key] == nil {
				owners[key] = map[string]bool{}
			}
			owners[key][name[strings.LastIndexByte(name, '/')+1:]] = true
		}
	}
	return lines.Err()
}

func lastField(line string) (path, packages string, is bool) {
	i := strings.LastIndexAny(line, " \t")
	if i < 0 {
		return "", "", false
	}
	return strings.TrimSpace(line[:i]), line[i+1:], true
}

// known matches the files that builds ask for.
var known = []struct {
	kind    Kind
	pattern *regexp.Regexp
}{
	{Header, regexp.MustCompile(`^usr/include/(?:[a-z0-9_]+-linux-[a-z0-9]+/)?(.+\.(?:h|hpp|hh|hxx))$`)},
	{Module, regexp.MustCompile(`^usr/(?:lib(?:64)?|share|lib/[a-z0-9_]+-linux-[a-z0-9]+)/pkgconfig/([^/]+)\.pc$`)},
	{Library, regexp.MustCompile(`^(?:usr/)?lib(?:64)?/(?:[a-z0-9_]+-linux-[a-z0-9]+/)?lib([^/]+)\.so$`)},
	{Program, regexp.MustCompile(`^(?:usr/)?s?bin/([^/]+)$`)},
}

// keyOf is the key of a file in the index, as a question is written, or "".
func keyOf(path string) string {
	if !strings.HasPrefix(path, "usr/") && !strings.HasPrefix(path, "lib") && !strings.HasPrefix(path, "bin/") && !strings.HasPrefix(path, "sbin/") {
		return ""
	}
	for _, k := range known {
		if match := k.pattern.FindStringSubmatch(path); match != nil {
			return Question{k.kind, match[1]}.String()
		}
	}
	return ""
}

// write writes the index: a line KIND NAME<tab>PACKAGE[,PACKAGE] for each file,
// sorted.
func (f Files) write(owners map[string]map[string]bool) error {
	file, err := renameio.NewPendingFile(f.index(), renameio.WithPermissions(0o644))
	if err != nil {
		return err
	}
	defer file.Cleanup()
	packed, err := zstd.NewWriter(file)
	if err != nil {
		return err
	}
	for _, key := range slices.Sorted(maps.Keys(owners)) {
		names := slices.Sorted(maps.Keys(owners[key]))
		if _, err := fmt.Fprintf(packed, "%s\t%s\n", key, strings.Join(names, ",")); err != nil {
			return err
		}
	}
	if err := packed.Close(); err != nil {
		return err
	}
	return file.CloseAtomicallyReplace()
}

// Owners returns the packages that have what is asked for, in the order in which
// they are likely; none where there is no index.
func (f Files) Owners(questions []Question) map[Question][]string {
	file, err := os.Open(f.index())
	if err != nil || len(questions) == 0 {
		return nil
	}
	defer file.Close()
	packed, err := zstd.NewReader(file)
	if err != nil {
		return nil
	}
	defer packed.Close()
	asked := map[string]Question{}
	for _, q := range questions {
		asked[q.String()] = q
	}
	found := map[Question][]string{}
	lines := bufio.NewScanner(packed)
	lines.Buffer(make([]byte, 1<<16), 1<<20)
	for lines.Scan() {
		i := strings.IndexByte(lines.Text(), '\t')
		if q, is := asked[lines.Text()[:max(i, 0)]]; is {
			found[q] = strings.Split(lines.Text()[i+1:], ",")
			slices.SortStableFunc(found[q], func(a, b string) int {
				exact := func(name string) int { return map[bool]int{true: 0, false: 1}[name == q.Name] }
				return cmp.Or(exact(a)-exact(b), len(a)-len(b))
			})
		}
	}
	return found
}
