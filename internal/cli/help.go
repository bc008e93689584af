package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/cluster"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/settings"
	"fernladder/core/source"
	"fernladder/internal/term"
)

// helped is an error with lines of help, and how to type it.
type helped struct {
	err   error
	lines []string
}

func (e *helped) Error() string {
	var failure *build.Failure
	if errors.As(e.err, &failure) && failure == e.err {
		return failure.With(e.lines)
	}
	text := e.err.Error()
	for _, line := range e.lines {
		text += "\n  " + line
	}
	return text
}

func (e *helped) Unwrap() error { return e.err }

// helper finds help, by what a machine has.
type helper struct {
	m        *machine.Machine
	evidence advice.Evidence
}

func newHelper(m *machine.Machine) *helper { return &helper{m, advice.Look(m)} }

// with adds help to an error of the core. The core says what it is, and this says what to type.
func (h *helper) with(err error) error {
	if lines := h.lines(err); len(lines) > 0 {
		return &helped{err, lines}
	}
	return err
}

func (h *helper) lines(err error) []string {
	if err == nil || is[*helped](err) {
		return nil
	}
	var failure *build.Failure
	if errors.As(err, &failure) {
		r, err := h.m.Shelves.Find(failure.Package)
		if err != nil {
			return nil
		}
		if failure.Cause == nil {
			if lines := h.outside(r, failure); len(lines) > 0 {
				return lines
			}
			return h.tries(r, failure)
		}
		if programs := build.PlacedPrograms(failure.Work); failure.Stage == build.StageTry &&
			failure.Cause.Kind == diagnose.MissingProgram && len(programs) > 0 {
			const few = 12
			return []string{fmt.Sprintf("The package placed no such program; it has %s. A program of another package is a "+
				"[[need]] with role = \"runtime\" in %s.",
				strings.Join(programs[:min(few, len(programs))], ", "), r.File)}
		}
		return slices.Concat(h.advice(r, failure.Cause), h.tries(r, failure), h.says(failure))
	}
	var missing *host.Missing
	if errors.As(err, &missing) {
		return h.missing(missing)
	}
	var ended *cluster.Ended
	if errors.As(err, &ended) {
		return h.jobEnded(ended)
	}
	return linesOf(err)
}

// jobEnded says how the job of a cluster can get to its end.
func (h *helper) jobEnded(e *cluster.Ended) []string {
	switch state := e.Status.State; {
	case state == cluster.Impossible && len(e.Avoided) > 0:
		return []string{"Make the nodes like this machine, or plan on a machine like them."}
	case state == cluster.Impossible:
		return []string{"Reduce its request: [cluster] in the settings, memory and minutes in [build] in its recipe; or " +
			"check which nodes the scheduler has."}
	case state == cluster.OutOfMemory:
		return []string{fmt.Sprintf("It needs more memory than the %d MiB of its job: set memory in [build] in its recipe.",
			e.Size.Memory)}
	case state == cluster.TimedOut:
		return []string{fmt.Sprintf("It takes longer than the %s of its job: set minutes in [build] in its recipe.",
			term.Count(e.Size.Minutes, "minute"))}
	}
	return []string{"Repeat the command to build it again."}
}

// says is what the texts of a source that lacks something say about its needs.
func (h *helper) says(f *build.Failure) (lines []string) {
	if f.Work == "" || len(f.Cause.Questions()) == 0 {
		return nil
	}
	for _, hint := range draft.HintsOf(build.SourceOf(f.Work)) {
		for _, line := range hint.Lines(h.m.System.Family) {
			lines = append(lines, build.Printed(line))
		}
	}
	return lines
}

// tries says what a probe would try first, unless the recipe was probed already.
func (h *helper) tries(r *recipe.Recipe, f *build.Failure) []string {
	if install.WasProbed(r) {
		return nil
	}
	for _, a := range advice.To(r, f, h.evidence) {
		if what, changes := strings.CutPrefix(a.Text, "# "); changes && !a.Detour {
			return []string{fmt.Sprintf("fernladder draft %s --probe tries this: %s", r.Name,
				strings.ReplaceAll(what, "\n# ", "\n    "))}
		}
	}
	return nil
}

// outside says how files that were placed outside get into the tree.
func (h *helper) outside(r *recipe.Recipe, f *build.Failure) []string {
	if len(f.Outside) == 0 {
		return nil
	}
	answers := advice.To(r, f, h.evidence)
	if len(answers) == 0 || answers[0].Args == nil {
		return nil
	}
	return []string{fmt.Sprintf("The source has an argument for that; add to args in [build] of %s:", r.File),
		"    " + strings.Join(answers[0].Args, " ")}
}

// missing names recipes that have what the operating system lacks, and how to find the packages
// of the rest.
func (h *helper) missing(missing *host.Missing) []string {
	var lines []string
	offers := advice.Offer(missing, h.evidence)
	for _, f := range missing.Needs {
		if name := offers[f.Question]; name != "" {
			lines = append(lines, fmt.Sprintf("The recipe %s also has the %s: a [[need]] on it can replace this.", name,
				f.Question))
		}
	}
	if _, unknown := missing.InstallLine(); len(unknown) > 0 && !h.evidence.Files.There() {
		lines = append(lines, "To fetch those lists: fernladder host --refresh")
	}
	return lines
}

// typed are the commands and changes for each remedy, in one line each. %s is the list of its
// arguments.
var typed = map[problem.Action]string{
	problem.AcceptOlder:   "To accept it: the same command with --older",
	problem.AddAdvisories: "Name one:\n    [[advisories]]\n    url = \"https://…/all.zip\"     or path = \"DIR\"",
	problem.AddDepot: "Name one:\n    [[depot]]\n    url  = \"https://HOST/REPOSITORY\"     or path = \"DIR\"\n    " +
		"sign = \"FILE\"     the secret key",
	problem.AllowSystemPrefix: "If you mean it: the same command with --system-prefix",
	problem.BeginTinkering:    "To begin: fernladder tinker %s",
	problem.BringShelf:        "To fetch it: fernladder shelves --fetch",
	problem.ChooseFolder:      "To use another folder: --in DIR",
	problem.CleanArchives:     "To delete only the archives: fernladder clean --archives %s",
	problem.CleanBuilds:       "To delete it: fernladder clean",
	problem.ContinueTinkering: "To continue: fernladder tinker try %[1]s; to start over: fernladder tinker drop %[1]s",
	problem.DeleteTrees:       "To delete the trees, too: --trees",
	problem.DropEdits:         "To discard the changes: the same command with --edited fresh",
	problem.DropTinkering:     "To delete it and start over (the folder stays): fernladder tinker drop %s",
	problem.EndRun: "It continues as it was submitted. To end it and start over: fernladder follow --end " +
		"%s, and then the command again",
	problem.FetchSources:    "To fetch them: fernladder fetch",
	problem.GiveName:        "Set it: --name NAME",
	problem.GiveRelease:     "Set it: --release VERSION",
	problem.InstallAgain:    "To get them back: fernladder install %s",
	problem.InstallPackage:  "To build it: fernladder install %s",
	problem.KeepEdits:       "To build from it, and mark the result: the same command with --edited keep",
	problem.MakeFolder:      "To make one: fernladder new DIR",
	problem.MendFix:         "To make it again from its sample: fernladder mend --fix",
	problem.MendRebuild:     "To see everything that is wrong, and build it again: fernladder mend --rebuild",
	problem.MoveAside:       "To move this tree aside: fernladder mend --fix. Then install the package again.",
	problem.MoveLock:        "To move the lock: fernladder upgrade, or fernladder lock",
	problem.NameRelease:     "Or name the version: fernladder bump %s VERSION",
	problem.NameRepository:  "Set the name of a repository with --name, and of a suite with --suite.",
	problem.NameSettings:    "To use these settings anyway: --settings %s",
	problem.PrintDraft:      "To see the draft without a file: --print",
	problem.RemoveAndRepeat: "To do both: fernladder remove --trees %s, and the same command again",
	problem.RemoveFirst:     "Remove that first: fernladder remove %s",
	problem.RemovePackage:   "fernladder remove %s",
	problem.RemoveReinstall: "To build it from the verified source: fernladder remove --trees %s, and install it again",
	problem.ReplaceKey: "Other machines trust the first key. To replace it anyway, add --another-key, and give " +
		"them the new key.",
	problem.SeparateFiles: "They cannot be installed together. Let the recipe of one of them leave that file out, or " +
		"place it elsewhere.",
	problem.ShareBuilds:    "and there: fernladder share %s",
	problem.BuildElsewhere: "On a machine that builds: fernladder build %s",
	problem.ShareWanted:    "Or share everything that the settings want: --wanted",
	problem.KeepLocked:     "Give the lock files of those who use it (--keep FILE), or an age (--older AGE).",
	problem.SetCluster:     "Name its scheduler in the settings:\n    [cluster]\n    scheduler = \"slurm\"",
	problem.SetEpoch: "Set an epoch in the settings, and raise it with such a release:\n    [pack.epoch.%s]\n    " +
		"number = 1",
	problem.SupplyFile:     "When you have it: fernladder supply %s FILE",
	problem.UseLanding:     "To use another state of the landing: fernladder landing use N (0 is the empty one)",
	problem.ShowAdvisories: "To see them: fernladder advisories --shelves %s",
	problem.UpgradePackage: "fernladder upgrade %s",
	problem.WatchBuild:     "To record it: fernladder build --watch %s",
	problem.WriteLock:      "To write one: fernladder lock",
}

// lineOf is a remedy as a person types it.
func lineOf(r problem.Remedy) string {
	args := strings.Join(r.Args, " ")
	switch r.Action {
	case problem.BumpPackage:
		return "fernladder bump " + args + " && fernladder upgrade " + r.Args[0]
	case problem.InstallWith:
		return "fernladder install " + r.Args[0] + " -o " + r.Args[1]
	case problem.ListLandings:
		return "There are: " + orDefault(strings.Join(r.Args, ", "), "none") + ". To see them: fernladder landing"
	case problem.PinTips:
		return "To pin it: fernladder lock " + strings.Join(r.Args, ":tip ") + ":tip"
	case problem.RemoveBoth:
		return "To delete both: fernladder remove --trees " + args
	case problem.RaiseRebuild:
		if len(r.Args) > 0 {
			return "Raise rebuild in [pack] in the settings and pack it again, or rename one of them: pack --prefix DIR " +
				"--name NAME"
		}
		return "Raise rebuild in [pack] in the settings, or write it elsewhere with --to."
	case problem.SetMaintainer:
		return "Add to " + orDefault(args, settings.FileName) + ":\n    [pack]\n    maintainer = \"NAME <ADDRESS>\""
	}
	text := typed[r.Action]
	if strings.Contains(text, "%") {
		return fmt.Sprintf(text, args)
	}
	return text
}

// helpedBy adds to an error the remedies that it has itself.
func helpedBy(err error) error {
	if lines := linesOf(err); len(lines) > 0 {
		return &helped{err, lines}
	}
	return err
}

// linesOf are the remedies of an error as a person types them.
func linesOf(err error) (lines []string) {
	var conflict *landing.Conflict
	if errors.As(err, &conflict) {
		return waysOut(conflict)
	}
	for _, r := range problem.Remedies(err) {
		lines = append(lines, lineOf(r))
	}
	return lines
}

// advice says what to do about a cause, and about what else its log reports as missing. The
// recipe is nil if the log is not of a recipe's build.
func (h *helper) advice(r *recipe.Recipe, c *diagnose.Cause) []string {
	lines, packages := h.against(r, c)
	if c.Asks != "" {
		line := fmt.Sprintf("The source suggests it: args = [%q] in [build] of %s.", c.Asks, cmp.Or(fileOf(r), "its recipe"))
		if r != nil {
			if o := advice.OptionOf(r, c.Asks); o != nil {
				line = fmt.Sprintf("The source suggests %s: -o %s=on", c.Asks, o.Name)
			}
		}
		lines = append([]string{line}, lines...)
	}
	for _, also := range c.Also {
		more, needed := h.against(r, &also)
		if r == nil {
			lines = append(lines, "Also: "+also.String()+".")
		}
		for _, line := range more { // earlier output is not repeated
			if strings.HasPrefix(line, " ") || !slices.Contains(lines, line) {
				lines = append(lines, line)
			}
		}
		packages = append(packages, needed...)
	}
	if i := slices.Index(lines, refresh); i >= 0 {
		lines = append(slices.Delete(lines, i, i+1), refresh)
	}
	slices.Sort(packages)
	packages = slices.Compact(packages)
	install := ""
	switch installer := host.Installer(h.m.System.Family); {
	case len(packages) == 0:
		return lines
	case r != nil:
		install = "and then: fernladder host " + r.Name + " --install"
	case installer != nil:
		install = "and then: " + strings.Join(append(slices.Clone(installer), packages...), " ")
	default:
		return lines
	}
	at := slices.IndexFunc(lines, func(line string) bool { return strings.HasPrefix(line, "Or without it") })
	if at < 0 {
		at = len(lines)
	}
	return slices.Insert(lines, at, install)
}

func fileOf(r *recipe.Recipe) string {
	if r == nil {
		return ""
	}
	return r.File
}

// against says what to do about one cause, and which packages of the operating system that
// takes.
func (h *helper) against(r *recipe.Recipe, c *diagnose.Cause) (lines, packages []string) {
	file := cmp.Or(fileOf(r), "its recipe")
	say := func(format string, args ...any) ([]string, []string) {
		return []string{fmt.Sprintf(format, args...)}, nil
	}
	if c.Helps != "" {
		lines = []string{c.Helps}
		if len(c.Questions()) > 0 && c.Kind != diagnose.Missing {
			more, packages := h.adviceForMissing(r, c)
			return append(lines, more...), packages
		}
		return lines, nil
	}
	switch c.Kind {
	case diagnose.InSource:
		return say("If the package has to be built in its own directory: in_tree = true in [build] of %s.", file)
	case diagnose.MissingInSource:
		return say("The archive is incomplete: some lack what their repository has (submodules, generated files). Add "+
			"that with an [[extra]] or a git release in %s.", file)
	case diagnose.TooNew:
		if c.Name() == "cmake" {
			return say("Use a newer release. For this one: args = [\"-DCMAKE_POLICY_VERSION_MINIMUM=3.5\"] in [build] of %s.",
				file)
		}
		return say("Use a newer release, or an older %s as a tool with a recipe of its own.", c.Name())
	case diagnose.WrongOption:
		return say("Remove it from args or the options in %s, or choose a release that has it.", file)
	case diagnose.NoTarget:
		return say("Replace the step that runs this target in %s.", file)
	case diagnose.NoMemory:
		return say("Build with fewer jobs at once: -j 1")
	case diagnose.Race:
		return say("If it succeeds with -j 1: parallel = false in [build] of %s.", file)
	case diagnose.Network:
		lines := []string{"Builds have no network. Add what it downloads to " + file +
			": as [[extra]] with archive and sha256, or as [[supply]] for a file that you bring;",
			"or gather it before the build: [[extra]] with gather = '''…''' runs with the network once, and its result is " +
				"pinned by a digest."}
		if urls := urlsIn(c.Lines); len(urls) > 0 {
			lines = append(lines, "It asks for "+strings.Join(urls, ", "))
		}
		return lines, nil
	case diagnose.CompilerTooNew, diagnose.CompileError:
		return say("Use a newer release, or a patch beside the recipe (patches = [\"patches/….patch\"]).")
	case diagnose.CompilerTooOld:
		return say("Use an older release, or a newer compiler as a need with role = \"tool\" in %s.", file)
	case diagnose.WarningError:
		return say("In %s: [build.env] with CFLAGS = \"-O2 -Wno-error\" (CXXFLAGS for C++), or the option of the source "+
			"that turns it off.", file)
	case diagnose.NotRelocatable:
		return say("In %s: [build.env] with CFLAGS = \"-O2 -fPIC\".", file)
	case diagnose.Undefined:
		if library, is := strings.CutPrefix(c.Found, "-l"); is && (r == nil || r.Build.Method != recipe.Make) {
			return say("It is in the library %s: LIBS = %q in [build.env] of %s makes configure scripts link it.", library,
				c.Found, file)
		}
	}
	return h.adviceForMissing(r, c)
}

// urlsIn finds the URLs in lines of a log, without secrets.
func urlsIn(lines []string) (urls []string) {
	for _, line := range lines {
		for _, url := range aURL.FindAllString(line, -1) {
			if url = source.Redacted(build.Printed(strings.TrimRight(url, ".,;:"))); !slices.Contains(urls, url) {
				urls = append(urls, url)
			}
		}
	}
	return urls
}

var aURL = pattern.New(`\b(?:https?|ftp|git|svn)://[^\s'"‘’<>)\]]+`)

// adviceForMissing says who has what is missing, and how a recipe asks for it.
func (h *helper) adviceForMissing(r *recipe.Recipe, c *diagnose.Cause) (lines, packages []string) {
	m := advice.For(r, c, h.evidence)
	a := &missingAdvice{Remedy: m, by: "a recipe requests it by", in: "a recipe"}
	if r != nil {
		a.by, a.in = "add to "+r.File, r.File
	}
	switch {
	case m.Needed != "":
		a.add("", "%s already needs %s, which has it or has its name: the build looks elsewhere, or for a part that %s "+
			"was built without.", a.in, m.Needed, m.Needed)
		if need, args := advice.Undescribed(r, c, h.evidence); need.Recipe == m.Needed {
			a.add(fmt.Sprintf("args = [%q, %q]", args[0], args[1]), "It has the library, but no module: in [build] of %s", a.in)
		}
		return a.lines, nil
	case m.At != "":
		a.add("", "This machine has it: %s. If the log is from this machine, nothing has to be installed: the build looks "+
			"elsewhere, or for another version or architecture.", m.At)
		return a.lines, nil
	}
	a.fromShelf()
	if c.Kind == diagnose.TooOld && m.Recipe == "" {
		a.add("", "Write a recipe for %s in that version, and a [[need]] on it with version = %q.", c.Name(), c.Range)
		return a.lines, nil
	}
	a.fromHost()
	switch {
	case m.Host.Kind == "" || m.Here:
	case len(m.Owners) > 0:
		packages = m.Owners[:1]
	case !m.Listed:
		a.add("", refresh)
	}
	if r != nil {
		if o := advice.Belongs(r, c); o != nil {
			a.add("", "Or without it, by the option %s: -o %s=off", o.Name, o.Name)
		}
	}
	a.apart(c)
	if c.Without != "" {
		a.add(fmt.Sprintf("args = [%q]", c.Without), "Or without it, as it says itself: in [build] of %s", a.in)
	}
	return a.lines, packages
}

// missingAdvice is advice about something that is missing, line by line.
type missingAdvice struct {
	advice.Remedy
	by, in string // how, and in which file, a recipe requests it
	lines  []string
}

// add adds a line, and a text for a recipe below it.
func (a *missingAdvice) add(text, format string, args ...any) {
	a.lines = append(a.lines, fmt.Sprintf(format, args...))
	for line := range strings.Lines(text) {
		a.lines = append(a.lines, "    "+strings.TrimRight(line, "\n"))
	}
}

func (a *missingAdvice) fromShelf() {
	switch {
	case a.Recipe != "" && a.Sure:
		a.add(a.Need().Text(), "The recipe %s has it; %s:", a.Recipe, a.by)
	case a.Recipe != "":
		a.add(a.Need().Text(), "The recipe %s has this name; if it is the right one, %s:", a.Recipe, a.by)
	}
}

func (a *missingAdvice) fromHost() {
	built := a.Host.Kind == host.Header || a.Host.Kind == host.Library || a.Host.Kind == host.Module
	if a.Recipe == "" && !a.Here && !a.Nowhere() && built {
		a.add("", "No recipe has it. To build it, too, draft a recipe from its archive or repository: fernladder draft "+
			"SOURCE")
	}
	switch {
	case a.Host.Kind == "" || a.Nowhere() && a.Recipe != "" && !a.Here:
	case a.Here && a.Recipe != "":
		a.add(a.HostNeed().Text(), "The %s is on this machine, but the recipe does not name it. To use that one:",
			thing(a.Host))
	case a.Here:
		a.add(a.HostNeed().Text(),
			"The %s is on this machine, but the recipe does not name it, so the build does not see it; %s:", thing(a.Host), a.by)
	case a.Nowhere():
		a.add("", "No recipe on the shelves and no listed package of this operating system has the %s. To build it, too: "+
			"fernladder draft SOURCE", thing(a.Host))
	case a.Recipe != "":
		a.add(a.HostNeed().Text(), "Or, to use the operating system's:")
	case len(a.Owners) > 0:
		a.add(a.HostNeed().Text(), "%s of this operating system has the %s; %s:", a.Owners[0], thing(a.Host), a.by)
	default:
		a.add(a.HostNeed().Text(), "To use the operating system's, %s:", a.by)
	}
}

// apart adds how to find a header that a package has in a directory of its own.
func (a *missingAdvice) apart(c *diagnose.Cause) {
	if len(a.Owners) == 0 || a.Host.Kind != host.Header || !strings.HasSuffix(a.Host.Name, "/"+c.Name()) {
		return
	}
	a.add("", "It is in a separate directory: CPPFLAGS = \"-I/usr/include/%s\" in [build.env], if the build does not use "+
		"pkg-config.", strings.TrimSuffix(strings.TrimSuffix(a.Host.Name, c.Name()), "/"))
	const few = 3
	for _, other := range a.Others[:min(few, len(a.Others))] {
		a.add("", "Or %s of %s.", other.Name, other.Owners[0])
	}
}

const refresh = "fernladder host --refresh finds out which package has it."

// thing says what a question asks for.
func thing(q host.Question) string {
	kind := map[host.Kind]string{host.Module: "pkg-config module", host.Python: "Python module",
		host.Perl: "Perl module"}[q.Kind]
	return cmp.Or(kind, string(q.Kind)) + " " + q.Name
}
