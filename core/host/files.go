package host

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"fernladder/core/durable"
	"fernladder/core/pattern"
)

// Files knows which packages of the operating system have which files: an index of all packages,
// installed or not, made from the package manager's lists on request and then usable without a
// network. It only has what builds ask for: headers, libraries, pkg-config modules and programs.
type Files struct{ Dir string }

func (f Files) index() string { return filepath.Join(f.Dir, "index.zst") }

// There reports whether the index exists.
func (f Files) There() bool {
	_, err := os.Stat(f.index())
	return err == nil
}

// Refresh fetches the package manager's lists and makes the index again. It does not change the
// package manager's own state.
func (f Files) Refresh(ctx context.Context, p Programs) (entries int, err error) {
	owners := owners{}
	if err := f.lists(ctx, p, owners.add); err != nil {
		return 0, err
	}
	if err := os.MkdirAll(f.Dir, 0o777); err != nil {
		return 0, err
	}
	if len(owners) == 0 {
		return 0, errors.New("the package manager's sources have no lists of files")
	}
	return len(owners), f.write(owners)
}

// owners are the packages with a file, by its key.
type owners map[string]map[string]bool

// add takes a file of a package. The path may begin with a slash or not.
func (o owners) add(path, name string) {
	for _, q := range answered(path) {
		key := q.String()
		if o[key] == nil {
			o[key] = map[string]bool{}
		}
		o[key][name] = true
	}
}

// Only looked up, never asked of the operating system.
const (
	Package Kind = "package" // that CMake's find_package finds, in small letters
	Shared  Kind = "shared"  // a library by the name that programs have in them: libleaf.so.2
)

// multiarch matches the directory of an architecture, if there is one.
const multiarch = `(?:[a-z0-9_]+-linux-gnu[a-z0-9_]*/)?`

// known matches the files that builds ask for.
var known = []struct {
	kind    Kind
	part    string // of every such path
	pattern *pattern.Pattern
}{
	{Header, "include/", pattern.New(`^usr/include/` + multiarch + `(.+\.(?:h|hpp|hh|hxx))$`)},
	{Module, "/pkgconfig/", pattern.New(`^usr/(?:lib(?:64)?|share)/` + multiarch + `pkgconfig/([^/]+)\.pc$`)},
	{Library, "/lib", pattern.New(`^(?:usr/)?lib(?:64)?/` + multiarch + `lib([^/]+)\.so$`)},
	{Library, ".a", pattern.New(`^(?:usr/)?lib(?:64)?/` + multiarch + `lib([^/]+)\.a$`)},
	{Shared, ".so.", pattern.New(`^(?:usr/)?lib(?:64)?/` + multiarch + `(lib[^/]+\.so\.[0-9]+)$`)},
	{Program, "bin/", pattern.New(`^(?:usr/)?s?bin/([^/]+)$`)},
	{Package, "/cmake/",
		pattern.New(`^usr/(?:lib(?:64)?|share)/` + multiarch + `cmake/(?:[^/]+/)*([^/]+?)(?:Config|-config)\.cmake$`)},
	{Package, "/Find", pattern.New(`^usr/share/cmake[^/]*/(?:[^/]+/)*Find([^/]+)\.cmake$`)},
	{Python, "-packages/",
		pattern.New(`^usr/lib(?:64)?/python3(?:\.\d+)?/(?:dist|site)-packages/([A-Za-z_]\w*)(?:/__init__\.py|\.py)$`)},
	{Perl, "perl",
		pattern.New(`^usr/(?:share|lib(?:64)?)/` + multiarch +
			`(?:perl5?|perl-base)/(?:vendor_perl/|core_perl/)?(?:5[.\d]*/)?((?:[A-Z]\w*/)*[A-Z]\w*)\.pm$`)},
	{File, "usr/share/aclocal", pattern.New(`^(usr/share/aclocal/[^/]+\.m4)$`)},
}

// answered are the questions that a file answers.
func answered(path string) []Question {
	var all []Question
	path = strings.TrimPrefix(path, "/")
	for _, k := range known {
		if !strings.Contains(path, k.part) {
			continue
		}
		if match := k.pattern.FindStringSubmatch(path); match != nil {
			all = append(all, Question{k.kind, named(k.kind, match[1])})
		}
	}
	return all
}

// AskedFor is the question to the operating system about a file.
func AskedFor(path string) (q Question, known bool) {
	for _, q := range answered(path) {
		if slices.Contains(Kinds, q.Kind) {
			return q, true
		}
	}
	return q, false
}

// named is the name of a file in a question.
func named(kind Kind, name string) string {
	switch kind {
	case Package:
		return strings.ToLower(name)
	case Perl:
		return strings.ReplaceAll(name, "/", "::")
	case File:
		return "/" + name
	}
	return name
}

// write writes the index: a line KIND NAME<tab>PACKAGE[,PACKAGE] for each file,
// sorted.
func (f Files) write(owners owners) error {
	return durable.Stream(f.index(), 0o644, func(file io.Writer) error {
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
		return packed.Close()
	})
}

// each visits the index: the key and the packages of each file. It is a no-op without an index.
func (f Files) each(take func(key, packages []byte)) {
	file, err := os.Open(f.index())
	if err != nil {
		return
	}
	defer file.Close()
	packed, err := zstd.NewReader(file)
	if err != nil {
		return
	}
	defer packed.Close()
	lines := bufio.NewScanner(packed)
	lines.Buffer(make([]byte, 1<<16), 1<<20)
	for lines.Scan() {
		if key, packages, is := bytes.Cut(lines.Bytes(), []byte{'\t'}); is {
			take(key, packages)
		}
	}
}

// Owners returns the packages that answer a question, the likeliest first; none without an
// index.
func (f Files) Owners(questions []Question) map[Question][]string {
	found := map[Question][]string{}
	if len(questions) == 0 {
		return found
	}
	asked := map[string]Question{}
	for _, q := range questions {
		asked[q.String()] = q
	}
	f.each(func(key, packages []byte) {
		q, is := asked[string(key)]
		if !is {
			return
		}
		found[q] = strings.Split(string(packages), ",")
		slices.SortStableFunc(found[q], func(a, b string) int {
			exact := func(name string) int { return map[bool]int{true: 0, false: 1}[name == q.Name] }
			return cmp.Or(exact(a)-exact(b), len(a)-len(b))
		})
	})
	return found
}

// A Found is a thing that packages have.
type Found struct {
	Question
	Owners []string
	Others []Found // of headers, the same in directories of other versions or packages
}

// Near finds things with almost the requested name:
//
//   - a header in the directories in which packages keep theirs, as leaf.h in
//     leaf-2/leaf.h. A directory named after the header comes first, then the
//     shortest name, then the newest;
//   - a module with a version as a part of its name, as leaf in leaf-2.0: the newest.
func (f Files) Near(questions []Question) map[Question]Found {
	found := map[Question]Found{}
	f.each(func(key, packages []byte) {
		for _, q := range questions {
			if !q.near(key) {
				continue
			}
			name := string(key[len(q.Kind)+1:])
			best, is := found[q]
			next := Found{Question: Question{q.Kind, name}, Owners: strings.Split(string(packages), ",")}
			switch {
			case !is:
			case q.prefers(name, best.Name):
				next.Others = append(best.Others, Found{Question: best.Question, Owners: best.Owners})
			default:
				best.Others = append(best.Others, next)
				next = best
			}
			found[q] = next
		}
	})
	return found
}

// ofOtherC matches headers of C libraries beside the operating system's own.
var ofOtherC = pattern.New(`^(?:diet|klibc|newlib|\w+-linux-musl\w*)/`)

// numbered matches a version at the end of a module's name, as in leaf-2.0.
var numbered = pattern.New(`^-?[\d.]+$`)

// near reports whether a key of the index almost fits a question.
func (q Question) near(key []byte) bool {
	name, is := bytes.CutPrefix(key, []byte(q.Kind))
	if !is || len(name) == 0 || name[0] != ' ' {
		return false
	}
	switch name = name[1:]; q.Kind {
	case Header:
		return bytes.HasSuffix(name, []byte("/"+q.Name)) && !ofOtherC.Compiled().Match(name)
	case Module:
		version, is := bytes.CutPrefix(name, []byte(q.Name))
		return is && numbered.MatchString(string(version))
	}
	return false
}

// prefers reports whether a name is nearer than an earlier one in the index: of the same length,
// the last is the newest.
func (q Question) prefers(name, other string) bool {
	if q.Kind == Module {
		return len(name) >= len(other)
	}
	first, _, _ := strings.Cut(strings.TrimSuffix(strings.ToLower(q.Name), ".h"), "/")
	rank := func(name string) int {
		if strings.HasPrefix(strings.ToLower(name), first) {
			return len(name)
		}
		return len(name) + 1<<10
	}
	return rank(name) <= rank(other)
}

// Of returns something of a package to ask the operating system for: preferably a module, then a
// header, a library or a program, and of those the one with the shortest name.
func (f Files) Of(name string) (best Question, found bool) {
	rank := func(q Question) int { return slices.Index([]Kind{Module, Header, Library, Program}, q.Kind) }
	f.each(func(key, packages []byte) {
		if !slices.Contains(strings.Split(string(packages), ","), name) {
			return
		}
		kind, thing, _ := strings.Cut(string(key), " ")
		q := Question{Kind(kind), thing}
		if at := rank(q); at >= 0 && (!found || at < rank(best) || at == rank(best) && len(q.Name) < len(best.Name)) {
			best, found = q, true
		}
	})
	return best, found
}
