package host

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/pattern"
	"fernladder/core/subprocess"
)

// Kind is the kind of a thing that the operating system may have.
type Kind string

// The kinds.
const (
	Program Kind = "program"
	Header  Kind = "header"
	Library Kind = "library"
	Module  Kind = "module" // of pkg-config
	Python  Kind = "python" // a module that python3 imports
	Perl    Kind = "perl"   // a module of Perl
	File    Kind = "file"   // by its absolute path
)

// Kinds are all kinds.
var Kinds = []Kind{Program, Header, Library, Module, Python, Perl, File}

// A Question asks whether the operating system has something.
type Question struct {
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
}

// String returns KIND NAME.
func (q Question) String() string { return string(q.Kind) + " " + q.Name }

// An Answer says what the operating system has. Version is "" if it cannot be found out; headers
// and libraries have none.
type Answer struct {
	There   bool   `json:"there"`
	Version string `json:"version,omitempty"`
	Where   string `json:"where,omitempty"` // of a program
}

// Ask answers questions: all headers with one call of the compiler cc, all libraries with one
// call of the linker, all modules with two of pkg-config, and those of Python and Perl with one
// of each. Without the compiler or pkg-config, nothing of these is there. Programs for which
// versioned is false are not asked for their versions.
func (p Programs) Ask(ctx context.Context, cc string, questions []Question,
	versioned func(Question) bool) map[Question]Answer {
	answers := map[Question]Answer{}
	byKind := map[Kind][]string{}
	for _, q := range questions {
		if _, asked := answers[q]; asked {
			continue
		}
		var known bool
		if answers[q], known = p.Asked.recall(memory{q, cc, versioned(q)}); !known {
			byKind[q.Kind] = append(byKind[q.Kind], q.Name)
		}
	}
	for _, name := range byKind[Program] {
		if file := p.Find(name); file != "" {
			q, answer := Question{Program, name}, Answer{There: true, Where: file}
			if versioned(q) {
				answer.Version = p.version(ctx, file)
			}
			answers[q] = answer
		}
	}
	for name, there := range p.headers(ctx, cc, byKind[Header]) {
		answers[Question{Header, name}] = Answer{There: there}
	}
	for name, there := range p.libraries(ctx, cc, byKind[Library]) {
		answers[Question{Library, name}] = Answer{There: there}
	}
	for name, version := range p.modules(ctx, byKind[Module]) {
		answers[Question{Module, name}] = Answer{There: true, Version: version}
	}
	for kind, script := range scripts {
		for name, version := range p.scriptModules(ctx, script, byKind[kind]) {
			answers[Question{kind, name}] = Answer{There: true, Version: version}
		}
	}
	for _, path := range byKind[File] {
		if _, err := os.Stat(path); err == nil {
			answers[Question{File, path}] = Answer{There: true, Where: path}
		}
	}
	for q, answer := range answers {
		p.Asked.remember(memory{q, cc, versioned(q)}, answer)
	}
	return answers
}

// run runs a program of the operating system without the user's environment, and outside of the
// working directory, which may contain anything that it would read. It returns its output,
// stderr last.
func (p Programs) run(ctx context.Context, input string, argv ...string) (string, string, error) {
	return subprocess.Command{Argv: argv, Env: []string{"LC_ALL=C", "PATH=" + strings.Join(p.Path, ":")}, Dir: "/",
		Stdin: strings.NewReader(input), Longest: 2 * time.Minute}.Text(ctx)
}

var versionNumber = pattern.New(`\d+(?:\.\d+)+[a-z0-9.+-]*|\b\d+\b`)

// version asks a program for its version, which most print in the first line.
func (p Programs) version(ctx context.Context, file string) string {
	for _, question := range []string{"--version", "-V", "-version"} {
		out, errOut, err := p.run(ctx, "", file, question)
		if err != nil {
			continue
		}
		for _, line := range strings.SplitN(out+errOut, "\n", 4) {
			if number := versionNumber.FindString(line); number != "" {
				return strings.TrimRight(number, ".-+")
			}
		}
	}
	return ""
}

// compiler returns the words of a command that calls a compiler, with the program's file, or
// nil.
func (p Programs) compiler(cc string) []string {
	words := strings.Fields(cc)
	if len(words) == 0 {
		return nil
	}
	if words[0] = p.Find(words[0]); words[0] == "" {
		return nil
	}
	return words
}

// headers asks the preprocessor, which knows whether it would find them.
func (p Programs) headers(ctx context.Context, cc string, names []string) map[string]bool {
	there := map[string]bool{}
	argv := p.compiler(cc)
	if len(names) == 0 || argv == nil {
		return there
	}
	var text strings.Builder
	for i, name := range names {
		fmt.Fprintf(&text, "#if __has_include(<%s>)\nthere %d\n#endif\n", name, i)
	}
	out, _, err := p.run(ctx, text.String(), append(argv, "-E", "-P", "-x", "c", "-")...)
	if err != nil {
		return there
	}
	for i, name := range names {
		there[name] = slices.Contains(strings.Split(out, "\n"), fmt.Sprintf("there %d", i))
	}
	return there
}

var notFoundByLinker = pattern.New(`(?:cannot find|unable to find library|library not found for) -l([\w.+-]+)`)

// libraries links a program with all of them. Linkers name each missing one.
func (p Programs) libraries(ctx context.Context, cc string, names []string) map[string]bool {
	there := map[string]bool{}
	argv := p.compiler(cc)
	if len(names) == 0 || argv == nil {
		return there
	}
	argv = append(argv, "-x", "c", "-", "-o", "/dev/null")
	for _, name := range names {
		argv = append(argv, "-l"+name)
	}
	_, errOut, err := p.run(ctx, "int main(void) { return 0; }\n", argv...)
	missing := map[string]bool{}
	for _, m := range notFoundByLinker.FindAllStringSubmatch(errOut, -1) {
		missing[m[1]] = true
	}
	if err != nil && len(missing) == 0 {
		return there // it failed for another reason, so the answer is unknown
	}
	for _, name := range names {
		there[name] = !missing[name]
	}
	return there
}

// modules returns the versions of the existing ones.
func (p Programs) modules(ctx context.Context, names []string) map[string]string {
	versions := map[string]string{}
	pkgConfig := p.Find("pkg-config")
	if len(names) == 0 || pkgConfig == "" {
		return versions
	}
	list, _, err := p.run(ctx, "", pkgConfig, "--list-all")
	if err != nil {
		return versions
	}
	known := map[string]bool{}
	for line := range strings.Lines(list) {
		if words := strings.Fields(line); len(words) > 0 {
			known[words[0]] = true
		}
	}
	var there []string
	for _, name := range names {
		if known[name] {
			there = append(there, name)
		}
	}
	if len(there) == 0 {
		return versions
	}
	out, _, _ := p.run(ctx, "", append([]string{pkgConfig, "--modversion"}, there...)...)
	lines := strings.Fields(out)
	if len(lines) != len(there) { // one of them is broken: ask for each
		lines = nil
		for _, name := range there {
			out, _, _ := p.run(ctx, "", pkgConfig, "--modversion", name)
			lines = append(lines, strings.TrimSpace(out))
		}
	}
	for i, name := range there {
		versions[name] = lines[i]
	}
	return versions
}

// scripts are the commands that print NAME VERSION for each existing module of their language.
// They look for the modules and load none.
var scripts = map[Kind][]string{
	Python: {"python3", "-I", "-c", `
import sys, importlib.util, importlib.metadata
for name in sys.argv[1:]:
    try:
        if importlib.util.find_spec(name) is None: continue
    except Exception: continue
    try: version = importlib.metadata.version(name)
    except Exception: version = ""
    print(name, version)
`},
	Perl: {"perl", "-e", `
for my $name (@ARGV) {
    (my $file = "$name.pm") =~ s{::}{/}g;
    for my $dir (grep { !ref } @INC) {
        open my $text, "<", "$dir/$file" or next;
        my $version = "";
        while (<$text>) { last if (($version) = /VERSION\s*=\s*["']?v?([\d.]+)/) }
        print $name, " ", $version // "", "\n";
        last;
    }
}
`},
}

// scriptModules returns the versions of the existing modules.
func (p Programs) scriptModules(ctx context.Context, script, names []string) map[string]string {
	versions := map[string]string{}
	interpreter := p.Find(script[0])
	if len(names) == 0 || interpreter == "" {
		return versions
	}
	out, _, _ := p.run(ctx, "", slices.Concat([]string{interpreter}, script[1:], names)...)
	for line := range strings.Lines(out) {
		name, version, _ := strings.Cut(strings.TrimSpace(line), " ")
		if slices.Contains(names, name) {
			versions[name] = version
		}
	}
	return versions
}

// ModulePath is where pkg-config looks for modules, by default.
func (p Programs) ModulePath(ctx context.Context) []string {
	pkgConfig := p.Find("pkg-config")
	if pkgConfig == "" {
		return nil
	}
	out, _, err := p.run(ctx, "", pkgConfig, "--variable", "pc_path", "pkg-config")
	if err != nil {
		return nil
	}
	return filepath.SplitList(strings.TrimSpace(out))
}
