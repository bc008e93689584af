package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// facts are what the long help of a command says beside what it does.
type facts struct {
	reads, changes string
	statuses       []int    // beside 0, and 2 and 3, which every command can have
	related        []string // commands
}

// commandFacts has the facts of all commands.
func commandFacts() map[string]facts {
	return map[string]facts{
		"new": {"nothing", "makes the folder, in which nothing may be yet", nil, []string{"draft", "check"}},
		"draft": {"the source, and the shelves and builds for what it needs",
			"writes a recipe; downloads go into the root", []int{1, 5, 6, 7, 130}, []string{"check", "plan", "explain"}},
		"check": {"the shelves; with --online, the sites of archives",
			"nothing; with --fix, the recipes that it names", nil, []string{"draft", "shelves", "news"}},
		"shelves": {"the settings and the shelves", "nothing; with --fetch, the copies of remote shelves in the root",
			[]int{5, 7}, []string{"check", "lock"}},
		"news": {"[upstream] of recipes, and the pages that it names", "nothing", []int{5}, []string{"bump", "upgrade"}},
		"bump": {"[upstream] of a recipe, and the new archive", "adds a release to the recipe", []int{5, 7},
			[]string{"news", "upgrade"}},
		"offers": {"the tree of an installed build", "nothing; with --write, the recipe", []int{1}, []string{"draft",
			"check"}},
		"tinker": {"the source and the recipe of a package",
			"makes a folder with the source; keep writes a patch and the recipe", []int{1, 5, 6, 7, 130}, []string{"build",
				"compare"}},
		"options": {"recipes, settings, lock file and builds", "nothing; on the screen, the settings, if you say so",
			[]int{4}, []string{"plan", "install"}},
		"host": {"recipes and this machine", "nothing; --install runs the package manager, --refresh fetches its " +
			"lists, --write changes recipes", []int{4, 5, 6}, []string{"plan", "check", "build"}},
		"plan": {"recipes, settings, lock file, builds and this machine", "nothing; with --draw, the file", []int{4},
			[]string{"install", "options", "host", "why"}},
		"lock": {"recipes and settings; for tips, their repositories", "ladder.lock", []int{4, 5, 7},
			[]string{"plan", "install"}},
		"supply": {"the recipe, and files that you bring", "copies them into the root", []int{5, 7}, []string{"fetch",
			"build"}},
		"fetch": {"recipes and settings, and the sites of archives", "the archives in the root", []int{4, 5, 7, 130},
			[]string{"plan", "build", "supply"}},
		"build": {"recipes, settings, lock file and this machine", "adds trees to the root; the landing stays",
			[]int{1, 4, 5, 6, 7, 130}, []string{"install", "log", "explain", "history"}},
		"install": {"recipes, settings, lock file and this machine",
			"adds trees to the root, then changes the landing, once; the lock file, if there is one", []int{1, 4, 5, 6, 7, 8,
				130}, []string{"plan", "build", "upgrade", "landing"}},
		"upgrade": {"recipes, settings and builds", "adds trees to the root, then changes the landing, once; the lock " +
			"file, if there is one", []int{1, 4, 5, 6, 7, 8, 130}, []string{"news", "plan", "landing"}},
		"front": {"the landing and its builds", "the landing", []int{4, 7}, []string{"install", "landing"}},
		"remove": {"the landing and its builds", "the landing; with --trees, deletes builds", []int{4, 7},
			[]string{"landing", "clean", "why"}},
		"landing": {"the states of the landing", "nothing; undo, use and settle change the landing, settle also the " +
			"settings", []int{4, 7}, []string{"install", "remove", "front"}},
		"follow": {"the run on the cluster", "the landing, when all is built; --end ends the jobs", []int{1, 4, 7,
			130}, []string{"install", "build"}},
		"mend": {"all files of all builds, the landing, and what builds use of this machine",
			"nothing; --fix and --rebuild repair", []int{1, 5, 6, 7, 130}, []string{"advisories", "clean", "build"}},
		"clean": {"the root", "nothing before you agree; then deletes what it has listed", []int{7},
			[]string{"remove", "list", "mend"}},
		"env":     {"the landing, or a build", "nothing", nil, []string{"install", "show"}},
		"try":     {"a build", "nothing; tries run in a directory of their own", []int{1, 6}, []string{"build", "mend"}},
		"list":    {"the root", "nothing", nil, []string{"show", "landing", "clean"}},
		"show":    {"the receipt of a build", "nothing", nil, []string{"files", "why", "history"}},
		"files":   {"the list of a tree", "nothing", nil, []string{"owner", "show"}},
		"owner":   {"the root, and the package manager's own lists", "nothing", []int{1}, []string{"files", "why"}},
		"why":     {"the landing, the lock file and all builds", "nothing", nil, []string{"plan", "remove"}},
		"compare": {"two trees", "nothing; with --draw, the file", nil, []string{"show", "history", "build"}},
		"log":     {"the logs of a build", "nothing", nil, []string{"explain", "history"}},
		"explain": {"logs, or standard input; the shelves, for what has the missing thing", "nothing", []int{1},
			[]string{"log", "host", "draft"}},
		"history": {"the history in the root", "nothing; with --draw, the file", nil, []string{"log", "compare", "report"}},
		"advisories": {"receipts, recipes and the databases in the settings",
			"copies and indexes of the databases in the root", []int{5, 7, 8}, []string{"upgrade", "sbom", "mend"}},
		"report": {"receipts, the history, and the databases of advisories",
			"index.html and report.json in the directory", []int{7}, []string{"list", "history", "advisories"}},
		"pack": {"builds", "writes packages; with --prefix, adds trees to the root", []int{1, 4, 5, 6, 7, 130},
			[]string{"repository", "share"}},
		"repository": {"the repository and packages", "the repository, in one step", []int{5, 7}, []string{"pack"}},
		"share": {"builds, and the depots of the settings", "the depots", []int{5, 7, 130}, []string{"install",
			"pack", "clean"}},
		"sbom": {"receipts, recipes, and with --files all files", "nothing", []int{7}, []string{"advisories", "report"}},
		"demo": {"nothing of yours", "a temporary folder; with --keep, a new one", []int{1, 6, 130}, []string{"new",
			"draft"}},
	}
}

// statusWords say what exit statuses mean.
var statusWords = map[int]string{0: "done", 1: "a build, check or try failed, or a named package is not built",
	2: "the command makes no sense", 3: "a recipe or the settings are wrong",
	4: "no ladder fits, or not on the landing together",
	5: "fetching or verifying failed", 6: "this machine lacks something", 7: "the root cannot be written, or is damaged",
	8: "published holes", 130: "interrupted"}

// addFacts adds the facts of a command to its long help.
func addFacts(c *cobra.Command) {
	f, is := commandFacts()[c.Name()]
	if !is || c.Parent() == nil || c.Parent().HasParent() {
		return
	}
	long := c.Long
	if long == "" {
		long = c.Short + "."
	}
	var statuses, related []string
	for _, s := range append([]int{0, 2, 3}, f.statuses...) {
		statuses = append(statuses, fmt.Sprintf("%d %s", s, statusWords[s]))
	}
	for _, name := range f.related {
		related = append(related, "fernladder "+name)
	}
	c.Long = strings.TrimRight(strings.TrimRight(long, "\n")+"\n\n"+label("Reads", f.reads)+label("Changes", f.changes)+
		label("Exit status", strings.Join(statuses, "; "))+label("See also", strings.Join(related, ", ")), "\n")
}

// label is a labelled text of the help, wrapped.
func label(name, text string) string {
	const wide, indent = 86, 13
	line, out := fmt.Sprintf("%-*s", indent, name+":"), ""
	for _, word := range strings.Fields(text) {
		if len(line)+1+len(word) > wide && strings.TrimSpace(line) != "" {
			out += strings.TrimRight(line, " ") + "\n"
			line = strings.Repeat(" ", indent)
		}
		if !strings.HasSuffix(line, " ") {
			line += " "
		}
		line += word
	}
	return out + line + "\n"
}

// A word is one of our own, with what it means, and an example of it.
type word struct {
	names   []string
	means   string
	example string
}

// glossary has our words, in the order of the work.
func glossary() []word {
	return []word{
		{[]string{"recipe"}, "A TOML file that says how one package is fetched, verified, built, tried and installed, with " +
			"patches and keys beside it.", "recipes/mistplan/recipe.toml"},
		{[]string{"shelf", "shelves"}, "A folder of recipes, one folder for each package. Several are searched in order; " +
			"the first that has a name wins.", `shelves = ["recipes", "/srv/recipes"] in the settings`},
		{[]string{"release"}, "A version of a package that its recipe can build: on the track stable, preview, or tip (the " +
			"head of a branch).", "fernladder plan mistplan:1.9.4"},
		{[]string{"tip"}, "The head of the branch that a recipe names. It is pinned to a commit in the lock file when it " +
			"is first requested.", "fernladder build mistplan:tip"},
		{[]string{"option"}, "A choice made before the build: on or off, one of several values, or open. It can add " +
			"arguments, needs and archives.", "fernladder plan mistplan -o plots=off"},
		{[]string{"preset"}, "A named set of options, in a recipe or in the settings.",
			"fernladder install mistplan --preset small"},
		{[]string{"need"}, "Something that a recipe depends on: another recipe, as a tool (runs during the build), a " +
			"library, or at runtime.", `[[need]] recipe = "dewcalc" role = "library"`},
		{[]string{"host"}, "A host need is what the operating system must have: a program, header, library, file, or " +
			"module.", `[[host]] program = "bison"`},
		{[]string{"ladder"}, "The plan: every package to build, in order, with releases, options and the reason for each.",
			"fernladder plan glasshouse"},
		{[]string{"rung"}, "The packages of a ladder that only stand on lower rungs. They are built side by side.",
			"rung 1: dewcalc, loamdb, sporegen"},
		{[]string{"build"}, "One release of one package, with its options, sources and needs all fixed. Its build id is a " +
			"digest of these.", "mistplan 2.1.0 (3f9c…), named as mistplan@3f9c"},
		{[]string{"stage"}, "A part of a build: fetch, unpack, patch, configure, compile, check, place, try.",
			"fernladder build --until configure mistplan"},
		{[]string{"try", "tries"}, "A command, or a small program, that shows that a package works. It runs after the " +
			"build, in the new tree.", `[[try]] run = "mistplan --version"`},
		{[]string{"root"}, "The directory in which everything is kept: archives, work directories, trees, landings, logs.",
			"/opt/fernladder, or --root DIR"},
		{[]string{"tree"}, "The directory that one build is installed in, alone. It appears complete or not at all.",
			"ROOT/trees/mistplan/2.1.0-dcf3ef35b443"},
		{[]string{"receipt"}, "The file in a tree that says everything about how it came to be.", "fernladder show mistplan"},
		{[]string{"landing"}, "The directory of links that people put on their PATH: what is in use. Its earlier states " +
			"are numbered, and any can be brought back.", "fernladder landing undo"},
		{[]string{"beside"}, "Another build of a package on the landing, with names of its own, while one build has the " +
			"plain names (the front).", "fernladder install mistplan:1.9.4 --beside"},
		{[]string{"supply", "supplies"}, "A file that cannot be downloaded and that you bring. It is never passed on.",
			"fernladder supply mistplan station.cal"},
		{[]string{"lock"}, "The lock file, ladder.lock, says exactly what was resolved: releases, digests, commits, " +
			"options, build ids.", "fernladder install --locked"},
		{[]string{"sealed", "fenced", "open", "isolation"}, "How far a build is kept from the machine: sealed (namespaces, " +
			"no network), fenced (Landlock), or open.", "fernladder build --isolation sealed mistplan"},
		{[]string{"bare"}, "A bare room: of the operating system, a sealed build sees the base and what its recipe names, " +
			"and nothing else.", "a [[host]] line lets a build see a package"},
		{[]string{"listening"}, "The listening room, in which draft runs a source's own configure step and writes down " +
			"everything that it looks for.", "fernladder draft mistplan-2.1.0.tar.gz"},
		{[]string{"draft"}, "A recipe that draft has written. Guesses and open questions have a remark.",
			"fernladder draft URL --probe"},
		{[]string{"probe"}, "To build a draft, answer what it lacks, and judge the result.",
			"fernladder draft mistplan-2.1.0.tar.gz --probe"},
		{[]string{"depot"}, "A repository of a registry, or a directory, with signed builds that other machines take " +
			"instead of building.", "fernladder share glasshouse"},
		{[]string{"slot", "slots"}, "A job that may run: all builds take their jobs from one pool of job slots, so the " +
			"machine is never overloaded.", "fernladder build -j 8 glasshouse"},
		{[]string{"run"}, "All builds that one command has made, recorded with the times of their stages.",
			"fernladder history --runs"},
	}
}

// helpCommand is help for commands and for our words.
func (a *app) helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND | WORD | words]",
		Short: "Help about a command, or about one of our words",
		Example: `  fernladder help install
  fernladder help rung
  fernladder help words          all of them`,
		ValidArgsFunction: func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			names := []string{"words"}
			for _, w := range glossary() {
				names = append(names, w.names[0])
			}
			for _, x := range c.Root().Commands() {
				if x.IsAvailableCommand() {
					names = append(names, x.Name())
				}
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Root().Help()
			}
			if len(args) == 1 && args[0] == "words" {
				for i, w := range glossary() {
					if i > 0 {
						a.screen.Print("")
					}
					a.define(w)
				}
				return nil
			}
			known := false
			for _, w := range glossary() {
				if len(args) == 1 && slices.Contains(w.names, strings.ToLower(args[0])) {
					known = true
					a.define(w)
				}
			}
			found, rest, err := c.Root().Find(args)
			if err == nil && found != c.Root() && len(rest) == 0 {
				if known {
					a.screen.Print("\nThe command:\n")
				}
				return found.Help()
			}
			if !known {
				return usage("%q is neither a command nor one of our words\n  See: fernladder --help, fernladder help words",
					strings.Join(args, " "))
			}
			return nil
		},
	}
}

// define shows a word.
func (a *app) define(w word) {
	a.screen.Print("%s", strings.TrimRight(label(w.names[0], w.means), "\n"))
	a.screen.Print("%-12s %s", "", a.screen.Faint(w.example))
}
