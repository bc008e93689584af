package build

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernladder/core/buildfile"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// A Neighbour is the tree of another package, as a build sees it.
type Neighbour struct {
	store.Ref
	Tree   string // where it sees it
	Away   bool   // that is another directory than the tree, which others have too
	Role   recipe.Role
	Direct bool // a declared need, or one that such a need makes public, rather than a need of a needed library
}

// Surroundings are the variables that let compilers, pkg-config, cmake and
// shells find the trees of needs, in the order in which they are looked
// through:
//
//   - PATH has the bin and sbin of tools, and of libraries, for their …-config programs;
//   - CPPFLAGS and LDFLAGS have the headers and libraries of direct library
//     needs (of a tree that has none in include itself, those a directory
//     deeper), LDFLAGS with run paths, so that nothing has to be set when the
//     result runs;
//   - PKG_CONFIG_PATH and CMAKE_PREFIX_PATH also have the libraries that those
//     libraries need.
//
// What is in /usr is found without.
func Surroundings(neighbours []Neighbour) []tomlfile.Pair {
	var path, cppflags, ldflags, modules, prefixes, macros []string
	type seen struct {
		tree          string
		direct, wants bool
	}
	done := map[seen]bool{}
	for _, n := range neighbours {
		as := seen{n.Tree, n.Direct || n.Role != recipe.Library, n.Role == recipe.Library}
		if n.Tree == systemPrefix || done[as] {
			continue
		}
		done[as] = true
		if as.direct {
			path = append(path, filepath.Join(n.Tree, "bin"), filepath.Join(n.Tree, "sbin"))
			if dir := filepath.Join(n.Tree, "share", "aclocal"); safefs.Exists(dir) {
				macros = append(macros, dir)
			}
		}
		if n.Role != recipe.Library {
			continue
		}
		lib := filepath.Join(n.Tree, "lib")
		if n.Direct {
			cppflags = append(cppflags, "-I"+filepath.Join(n.Tree, "include"))
			for _, dir := range HeadersBelow(n.Tree) { // after the system's own, which may have the same names
				cppflags = append(cppflags, "-idirafter", filepath.Join(n.Tree, dir))
			}
			ldflags = append(ldflags, "-L"+lib, "-Wl,-rpath,"+lib)
		} else {
			ldflags = append(ldflags, "-Wl,-rpath-link,"+lib)
		}
		modules = append(modules, filepath.Join(lib, "pkgconfig"), filepath.Join(n.Tree, "share", "pkgconfig"))
		prefixes = append(prefixes, n.Tree)
	}
	path, modules, prefixes = firsts(path), firsts(modules), firsts(prefixes) // several may be in one directory
	return []tomlfile.Pair{
		{Name: "PATH", Values: []string{strings.Join(path, ":")}},
		{Name: "CPPFLAGS", Values: []string{strings.Join(cppflags, " ")}},
		{Name: "LDFLAGS", Values: []string{strings.Join(ldflags, " ")}},
		{Name: "PKG_CONFIG_PATH", Values: []string{strings.Join(modules, ":")}},
		{Name: "CMAKE_PREFIX_PATH", Values: []string{strings.Join(prefixes, ":")}},
		{Name: "ACLOCAL_PATH", Values: []string{strings.Join(firsts(macros), ":")}},
	}
}

// HeadersBelow are the directories that programs include headers of a tree from if it has none
// directly in include, as include/moss. Programs that do not ask for the directory find them
// through these.
func HeadersBelow(tree string) (dirs []string) {
	entries, err := os.ReadDir(filepath.Join(tree, "include"))
	if err != nil || slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return !e.IsDir() }) {
		return nil
	}
	for _, e := range entries {
		dirs = append(dirs, filepath.Join("include", e.Name()))
	}
	return dirs
}

// firsts are the distinct values of a list, in the order of their first occurrence.
func firsts(list []string) (once []string) {
	for _, value := range list {
		if !slices.Contains(once, value) {
			once = append(once, value)
		}
	}
	return once
}

// systemPrefix is the prefix that compilers and shells search by default.
const systemPrefix = "/usr"

// libraryDirs are the directories in which a job's programs find libraries: its own, and those
// of its direct needs.
func libraryDirs(job *Job) []string {
	prefixes := []string{job.Prefix}
	for i, link := range job.Package.Needs {
		if link.Role == recipe.Library {
			prefixes = append(prefixes, job.Needs[i].Prefix)
		}
	}
	var dirs []string
	for _, prefix := range firsts(prefixes) { // also of /usr: not every system's loader looks in its lib
		dirs = append(dirs, filepath.Join(prefix, "lib"))
	}
	return dirs
}

// visible are the trees that a job's build may see, each once.
func visible(job *Job) []Neighbour {
	all := neighbours(job)
	seen := map[store.Ref]bool{}
	return slices.DeleteFunc(all, func(n Neighbour) bool {
		was := seen[n.Ref]
		seen[n.Ref] = true
		return was
	})
}

// neighbours are the trees that a job's build may see, once for each role: those of its direct needs,
// of the runtime needs of its tools, and of the libraries of its libraries.
func neighbours(job *Job) []Neighbour {
	var found []Neighbour
	type as struct { // one job can be a tool and a library
		job  *Job
		role recipe.Role
	}
	seen := map[as]bool{}
	add := func(j *Job, role recipe.Role, direct bool) (added bool) {
		if added = !seen[as{j, role}]; added {
			seen[as{j, role}] = true
			found = append(found, Neighbour{j.Ref, j.Prefix, j.Away(), role, direct})
		}
		return added
	}
	for i, link := range job.Package.Needs {
		add(job.Needs[i], link.Role, true)
	}
	var follow func(j *Job, role recipe.Role)
	follow = func(j *Job, role recipe.Role) {
		for i, link := range j.Package.Needs {
			if link.Role == role && add(j.Needs[i], role, false) {
				follow(j.Needs[i], role)
			}
		}
	}
	for i, link := range job.Package.Needs {
		switch link.Role {
		case recipe.Tool:
			follow(job.Needs[i], recipe.Runtime)
		case recipe.Library:
			follow(job.Needs[i], recipe.Library)
		}
	}
	// In a combined directory, there may be another build of a tool.
	slices.SortStableFunc(found, func(a, b Neighbour) int {
		switch {
		case a.Away == b.Away:
			return 0
		case b.Away:
			return -1
		}
		return 1
	})
	return found
}

// joined says how a variable of the recipe is joined to the one that the needs require; other
// variables of the recipe replace theirs.
var joined = map[string]string{
	"CPPFLAGS": " ", "LDFLAGS": " ", "PATH": ":", "PKG_CONFIG_PATH": ":", "CMAKE_PREFIX_PATH": ":", "ACLOCAL_PATH": ":",
}

// earliest is the first time that zip archives can express; for sources with an impossible time,
// or none.
var earliest = time.Date(1980, time.January, 1, 0, 0, 0, 0, time.UTC)

// environment is the whole environment of the commands of a job's stages. The environment of the
// calling user is not part of it.
func environment(t Target, job *Job, d workDirs, newest time.Time) []string {
	env := map[string]string{
		"HOME": d.home, "TMPDIR": d.tmp, "PATH": strings.Join(t.Path, ":"),
		"LC_ALL": "C.UTF-8", "TZ": "UTC", "SHELL": "/bin/sh", "TERM": "dumb", "USER": "builder", "LOGNAME": "builder",
		"SOURCE_DATE_EPOCH": strconv.FormatInt(max(newest.Unix(), earliest.Unix()), 10),
		// Makefiles that know DESTDIR fill the stage instead of the tree.
		"DESTDIR": d.stage,
	}
	// A program finds the libraries of its own tree.
	env["LDFLAGS"] = "-Wl,-rpath," + libraryDirs(job)[0]
	near := publish(t.Store, neighbours(job))
	for _, pair := range Surroundings(near) {
		switch value := pair.Values[0]; {
		case value == "":
		case env[pair.Name] != "":
			env[pair.Name] = value + joined[pair.Name] + env[pair.Name]
		default:
			env[pair.Name] = value
		}
	}
	for name, value := range toolEnvironment(job) {
		switch before, set := env[name]; {
		case !set:
			env[name] = value
		case listed(name) != "": // of others, required ones first
			env[name] = value + listed(name) + before
		}
	}
	expand := variables(t, job, d)
	for name, value := range expand {
		env[name] = value
	}
	for _, pair := range job.Recipe.Build.Env {
		value := recipe.Expand(pair.Values[0], lookup(expand))
		if between, both := joined[pair.Name]; both && env[pair.Name] != "" {
			value += between + env[pair.Name]
		}
		env[pair.Name] = value
	}
	m := job.Recipe.Build.Method
	for name, value := range CompilerPaths(m, near) {
		if m == recipe.CMake { // flags, to which the recipe may have added
			value = strings.TrimSpace(env[name] + " " + value)
		}
		env[name] = value
	}
	if !findsNeeds(m) {
		env["LD_RUN_PATH"] = strings.TrimPrefix(env["LD_RUN_PATH"]+":"+libraryDirs(job)[0], ":")
	}
	mapPaths(m, d, job, env)
	environment := make([]string, 0, len(env))
	for name, value := range env {
		environment = append(environment, name+"="+value)
	}
	slices.Sort(environment)
	return environment
}

// toolEnvironment is what a job's tools, and their runtime needs, set for their users.
func toolEnvironment(job *Job) map[string]string {
	env := map[string]string{}
	seen := map[*Job]bool{}
	var add func(j *Job)
	add = func(j *Job) {
		if seen[j] {
			return
		}
		seen[j] = true
		for i, link := range j.Package.Needs {
			if link.Role == recipe.Runtime {
				add(j.Needs[i])
			}
		}
		for _, pair := range j.Recipe.Env {
			value := recipe.Expand(pair.Values[0], lookup(treeVariables(j)))
			if between := listed(pair.Name); between != "" && env[pair.Name] != "" {
				value += between + env[pair.Name]
			}
			env[pair.Name] = value
		}
	}
	for i, link := range job.Package.Needs {
		if link.Role == recipe.Tool {
			add(job.Needs[i])
		}
	}
	return env
}

// listed is the separator of a variable that is a list, judged by its name, or "".
func listed(name string) string {
	if (store.Variable{Name: name}).List() {
		return ":"
	}
	return ""
}

// mapPaths makes compilers write a name that does not depend on the root in place of the work
// directory, for example in debug information. Makefiles and scripts choose their own flags.
func mapPaths(m recipe.Method, d workDirs, job *Job, variables map[string]string) {
	flag := prefixMap(d.box, boxName(job))
	var names []string
	switch m {
	case recipe.Configure, recipe.Meson:
		names = []string{"CPPFLAGS"} // which leaves the usual CFLAGS as they are
	case recipe.CMake:
		names = []string{"CFLAGS", "CXXFLAGS"}
	}
	for _, name := range names {
		variables[name] = strings.TrimSpace(variables[name] + " " + flag)
	}
}

// boxName is what compilers write in place of the path of the box.
func boxName(job *Job) string {
	if keepsSource(job) {
		return filepath.Join(job.Prefix, sourcesIn)
	}
	return "/build/" + job.Name + "-" + job.Version
}

func prefixMap(from, to string) string { return "-ffile-prefix-map=" + from + "=" + to }

// harmless reports whether no header in a directory has the name of a header of the C library,
// which it would replace.
func harmless(dir string) bool {
	entries, err := os.ReadDir(dir)
	return err == nil && !slices.ContainsFunc(entries, func(e fs.DirEntry) bool {
		return buildfile.OfC(strings.TrimSuffix(e.Name(), ".h")+".h") || buildfile.OfC(e.Name()+"/")
	})
}

// findsNeeds reports whether a method looks for headers and libraries in all usual directories of
// the needs.
func findsNeeds(m recipe.Method) bool { return m == recipe.CMake || m == recipe.Meson }

// CompilerPaths are variables with which compilers also find needs where CPPFLAGS and LDFLAGS do not
// count: makefiles without them, or with their own, get those that gcc, clang and ld read themselves;
// CMake gets flags, for projects that do not ask it for what they include. pkg-config would leave out
// directories that are in CPATH, and CMake looks in those that it names.
func CompilerPaths(m recipe.Method, neighbours []Neighbour) map[string]string {
	var headers, libraries, after []string
	for _, n := range neighbours {
		if n.Role != recipe.Library || !n.Direct || n.Tree == systemPrefix {
			continue
		}
		include := filepath.Join(n.Tree, "include")
		headers, after = append(headers, include), append(after, "-idirafter "+include)
		for _, dir := range HeadersBelow(n.Tree) {
			dir = filepath.Join(n.Tree, dir)
			if after = append(after, "-idirafter "+dir); harmless(dir) {
				headers = append(headers, dir)
			}
		}
		libraries = append(libraries, filepath.Join(n.Tree, "lib"))
	}
	switch {
	case m == recipe.CMake && len(after) > 0:
		flags := strings.Join(firsts(after), " ")
		return map[string]string{"CFLAGS": flags, "CXXFLAGS": flags}
	case findsNeeds(m), len(headers) == 0:
		return nil
	}
	found := strings.Join(firsts(libraries), ":")
	return map[string]string{"CPATH": strings.Join(firsts(headers), ":"), "LIBRARY_PATH": found, "LD_RUN_PATH": found}
}

// variables are the values of the FL_ variables in a job's recipe.
func variables(t Target, job *Job, d workDirs) map[string]string {
	jobs := t.Jobs
	if !job.Recipe.Build.Parallel {
		jobs = 1
	}
	values := treeVariables(job)
	values["FL_SOURCE"] = d.source
	values["FL_BUILD"] = d.build
	values["FL_JOBS"] = strconv.Itoa(jobs)
	values["FL_STAGE"] = d.stage
	values["FL_SUPPLY"] = d.supply
	return values
}

// treeVariables are the variables that are still valid after the build.
func treeVariables(job *Job) map[string]string {
	values := map[string]string{"FL_NAME": job.Name, "FL_VERSION": job.Version, "FL_PREFIX": job.Prefix}
	for _, need := range job.Needs {
		values["FL_TREE_"+recipe.VariableName(need.Name)] = need.Prefix
	}
	for _, link := range job.Package.ByHost {
		values["FL_TREE_"+recipe.VariableName(link.Name)] = "/usr"
	}
	for _, o := range job.Package.Recipe.Options {
		values["FL_OPTION_"+recipe.VariableName(o.Name)] = job.Package.Options[o.Name]
	}
	return values
}

func lookup(values map[string]string) func(string) (string, bool) {
	return func(name string) (string, bool) {
		value, known := values[name]
		return value, known
	}
}
