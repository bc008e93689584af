// Package advice says what would help: who has what a build or the operating system lacks, and
// how a recipe requests it.
//
// A Remedy is a value. It changes nothing, and does not say how a person types it.
package advice

import (
	"context"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fernladder/core/buildfile"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
)

// A Remedy is an answer to something that is missing: a recipe on the shelves, the operating
// system, or either; or going without it.
type Remedy struct {
	Recipe  string // that has it, or ""
	Sure    bool   // it is known to have it; otherwise its name speaks for it
	Role    recipe.Role
	Version string // the range that will do, of either, or ""

	Host   host.Question // how the operating system is asked; with no kind where it is not, for such things
	Owners []string      // its packages that have it, as far as is known
	Family string
	Listed bool         // the lists of packages are known, so no owner means that no package has it
	Here   bool         // the operating system has it, and only the recipe does not name it
	Others []host.Found // the same header in other directories, of which one is to be chosen
	At     string       // the file that is there, where the log is of no recipe's build

	Without string // the argument that does without, as the source names it
	Needed  string // the recipe that has it, and is a need already: the search path is wrong
}

// Evidence is what remedies are found by.
type Evidence struct {
	Known  func() (*draft.Known, error) // what recipes and trees offer
	Files  host.Files                   // what the operating system's packages have
	Family string
	// What is installed, and by which package; nil: unknown.
	Here func(q host.Question) (owner string, there bool)
	At   func(questions []host.Question) string // the file that answers the first of them; nil: nothing is known
}

// Look returns the evidence of a machine. What recipes and trees offer is found out once, when
// it is needed.
func Look(m *machine.Machine) Evidence {
	return Evidence{Files: m.HostFiles, Family: m.System.Family,
		Here:  func(q host.Question) (string, bool) { return here(m, q) },
		At:    func(all []host.Question) string { return at(m, all) },
		Known: sync.OnceValues(func() (*draft.Known, error) { return draft.Survey(m.Shelves, m.Store) })}
}

// other reports whether another recipe offers something.
func (e Evidence) other(r *recipe.Recipe, q host.Question) bool {
	known, err := e.Known()
	if err != nil {
		return false
	}
	name, _, found := known.Find(string(q.Kind), q.Name)
	return found && name != r.Name
}

// For finds remedies for a cause. There are none if the recipe, which can be nil, requests it
// already.
func For(r *recipe.Recipe, c *diagnose.Cause, e Evidence) Remedy {
	m := Remedy{Family: e.Family, Without: c.Without, Listed: e.Files.There()}
	questions := c.Questions()
	if r != nil { // a file is no part of itself
		own := buildfile.Stem(r.Name)
		questions = slices.DeleteFunc(questions, func(q host.Question) bool {
			return q.Kind != host.Program && buildfile.Stem(q.Name) == own && !e.other(r, q)
		})
	}
	if len(questions) == 0 {
		return m
	}
	m.Role, m.Version = recipe.Library, c.Range
	if questions[0].Kind == host.Program {
		m.Role = recipe.Tool
	}
	m.Recipe, m.Sure = e.recipeFor(r, c, false)
	if !m.Sure && r != nil && c.Kind != diagnose.TooOld {
		if m.Needed, _ = e.recipeFor(r, c, true); m.Needed != "" {
			m.Recipe = ""
			return m
		}
	}
	m.Host, m.Owners, m.Others = e.hostFor(questions)
	named := func(header string) string { return strings.TrimRight(path.Dir(header), "0123456789.-") }
	m.Others = slices.DeleteFunc(m.Others, func(f host.Found) bool { return named(f.Name) != named(m.Host.Name) })
	slices.Reverse(m.Others) // the newest first
	q, owner, there := e.here(questions)
	if r == nil && e.At != nil && c.Kind != diagnose.TooOld {
		m.At = e.At(questions)
	}
	if r != nil && there {
		m.Host, m.Here, m.Owners = q, true, nil
		if owner != "" {
			m.Owners = []string{owner}
		}
	}
	if r != nil && declares(r, questions...) {
		m.Host, m.Owners, m.Here = host.Question{}, nil, false
	}
	return m
}

// here finds the first question that what is installed answers.
func (e Evidence) here(questions []host.Question) (q host.Question, owner string, there bool) {
	for _, q := range questions {
		if e.Here == nil || !slices.Contains(host.Kinds, q.Kind) {
			continue
		}
		if owner, there := e.Here(q); there {
			return q, owner, true
		}
	}
	return q, "", false
}

// here reports whether a machine has the answer to a question, and in which package.
func here(m *machine.Machine, q host.Question) (owner string, there bool) {
	ctx := context.Background()
	files := m.Programs.Where(ctx, q)
	// Which is not the module.
	if program := map[host.Kind]string{host.Python: "python3", host.Perl: "perl"}[q.Kind]; program != "" {
		own := m.Programs.Where(ctx, host.Question{Kind: host.Program, Name: program})
		files = slices.DeleteFunc(files, func(file string) bool { return slices.Contains(own, file) })
	}
	if len(files) == 0 {
		return "", false
	}
	if m.Packages != nil {
		if owners, err := m.Packages.Owning(ctx, files); err == nil { // without its name it is as well there
			for _, file := range files {
				if owners[file] != "" {
					return owners[file], true
				}
			}
		}
	}
	return "", true
}

// at is the file of a machine that answers the first question: where compilers look or, for a
// header, in a directory below that.
func at(m *machine.Machine, questions []host.Question) string {
	q := questions[0]
	if !slices.Contains([]host.Kind{host.Header, host.Library, host.Module, host.Program}, q.Kind) {
		return ""
	}
	if files := m.Programs.Where(context.Background(), q); len(files) > 0 {
		return files[0]
	}
	if q.Kind != host.Header || recipe.CheckSystemName(q.Name) != nil {
		return ""
	}
	for _, below := range []string{"/usr/include/*/", "/usr/include/*/*/", "/usr/local/include/*/"} {
		if files, _ := filepath.Glob(below + q.Name); len(files) > 0 {
			return files[0]
		}
	}
	return ""
}

// Nowhere reports whether no package of the operating system has it, according to its lists.
func (m Remedy) Nowhere() bool { return len(m.Owners) == 0 && m.Listed }

// Need is the need on the recipe that has it.
func (m Remedy) Need() recipe.NeedEntry {
	return recipe.NeedEntry{Recipe: m.Recipe, Version: m.Version, Role: m.Role}
}

// HostNeed is the need on the operating system.
func (m Remedy) HostNeed() recipe.HostEntry {
	const few = 4
	e := recipe.HostEntry{Question: m.Host, Version: m.Version, Packages: recipe.OfFamily(m.Family, m.Owners...)}
	if len(m.Owners) > 1 {
		e.Others = m.Owners[1:min(few, len(m.Owners))]
	}
	return e
}

// declares reports whether a recipe requests one of these from the operating system.
func declares(r *recipe.Recipe, questions ...host.Question) bool {
	return slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool {
		return slices.Contains(questions, n.Question())
	})
}

// dependencyKinds are the kinds of needs that answer a cause. Something with only a name can be
// of any kind.
var dependencyKinds = map[diagnose.Kind][]string{
	diagnose.MissingProgram: {"program"}, diagnose.MissingHeader: {"header"}, diagnose.MissingLibrary: {"library"},
	diagnose.MissingModule:  {"module", "package"},
	diagnose.MissingPackage: {"package"}, diagnose.Missing: {"module", "library", "program", "package"},
	diagnose.TooOld: {"module", "program", "package"},
}

// recipeFor finds the recipe on the shelves that answers a cause: among existing needs, or among
// the others.
func (e Evidence) recipeFor(r *recipe.Recipe, c *diagnose.Cause, needed bool) (name string, sure bool) {
	packages, err := e.Known()
	if err != nil {
		return "", false
	}
	for _, wanted := range c.Names {
		for _, kind := range dependencyKinds[c.Kind] {
			provider, known, found := packages.Find(kind, wanted)
			if kind == "module" && !known { // its library may be there without a module
				if need, has := packages.WithLibrary(wanted); has {
					provider, found = need.Recipe, true
				}
			}
			if !found ||
				r != nil && (provider == r.Name || needed != slices.ContainsFunc(r.Needs, func(n *recipe.Need) bool {
					return slices.Contains(n.Names(), provider)
				})) {
				continue
			}
			if known || name == "" {
				name, sure = provider, known
			}
			if known {
				return name, sure
			}
		}
	}
	return name, sure
}

// hostFor finds the question that the operating system's packages answer, and which of them. If
// that is not known, it is the first.
func (e Evidence) hostFor(questions []host.Question) (q host.Question, packages []string, others []host.Found) {
	owners := e.Files.Owners(questions)
	for _, q := range questions {
		if len(owners[q]) == 0 {
			continue
		}
		if slices.Contains(host.Kinds, q.Kind) {
			return q, owners[q], nil
		}
		// Nothing can ask the operating system for this, except for something else in its package.
		if other, found := e.Files.Of(owners[q][0]); found {
			return other, owners[q], nil
		}
	}
	near := e.Files.Near(questions)
	for _, q := range questions {
		if packages := host.PackageOf(q.Name, e.Family); q.Kind == host.Program && packages != nil {
			return q, packages, nil
		}
		if found, is := near[q]; is {
			return found.Question, found.Owners, found.Others
		}
	}
	if slices.Contains(host.Kinds, questions[0].Kind) {
		return questions[0], nil, nil
	}
	return host.Question{}, nil, nil
}

// Offer names the recipe that has what the operating system lacks, by its question, for things
// that a recipe is known to have.
func Offer(missing *host.Missing, e Evidence) map[host.Question]string {
	known, err := e.Known()
	if err != nil {
		return nil
	}
	offers := map[host.Question]string{}
	for _, f := range missing.Needs {
		if name, sure, found := known.Find(string(f.Kind), f.Name); found && sure && !slices.Contains(f.By, name) {
			offers[f.Question] = name
		}
	}
	return offers
}
