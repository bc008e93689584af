package recipe

import (
	"fmt"
	"regexp"
	"strings"

	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// Keys are the keys of a recipe, bound to r. They read recipes, and the reference of recipe keys
// is made from them.
func Keys(r *Recipe) []tomlfile.Key {
	format := 0
	return []tomlfile.Key{
		tomlfile.Number("format", &format, 1, 1, "The version of this format. It is 1.").Must(),
		tomlfile.Table("package", r.packageKeys, "What the package is.").Must(),
		tomlfile.Table("source", r.originKeys, "The default source of releases, and who signs them."),
		tomlfile.Tables("release", &r.Releases, r.releaseKeys,
			"A version that can be built: from an archive, or from a git or Subversion repository.").Must(),
		tomlfile.Tables("extra", &r.Extras, r.extraKeys,
			"A second archive, unpacked inside the source before patches are applied."),
		tomlfile.Tables("supply", &r.Supplies, r.supplyKeys,
			"A file that cannot be downloaded, because it is paid for or must not be passed on. The administrator supplies "+
				"it. The build finds it as $FL_SUPPLY/FILE."),
		tomlfile.Named("option", &r.Options, r.optionKeys, CheckOptionName,
			"A choice made before the build, [option.NAME]: on or off, one of several values, or free text."),
		tomlfile.Named("preset", &r.Presets, presetKeys, CheckPresetName,
			"A named set of options, [preset.NAME], for --preset NAME."),
		tomlfile.Tables("need", &r.Needs, r.needKeys, "Another recipe that this one depends on."),
		tomlfile.Tables("host", &r.HostNeeds, r.hostKeys,
			"Something that the operating system must have: a program, a header, a library, a module of pkg-config, Python "+
				"or Perl, or a file. It is looked for before anything is fetched."),
		tomlfile.Optional("host_copy", &r.HostCopy, hostThing,
			"The operating system's own copy of this package. It replaces a build if host_copies in the settings names the "+
				"package, and if it is installed and fits."),
		tomlfile.Table("build", r.buildKeys, "How the sources are built.").Must(),
		tomlfile.Table("steps", r.stepKeys,
			"Shell text that replaces a stage of the method (configure, compile, check, place), or runs before or after it. "+
				"sh runs it and stops at the first command that fails. before_configure runs in the source, all others in the "+
				"build directory. "+
				"Tests run only if there is a check step."),
		tomlfile.Tables("try", &r.Tries, r.tryKeys,
			"A command that checks whether the installed package works. It runs in an empty directory with the package and "+
				"its runtime needs on the PATH."),
		tomlfile.Pairs("env", &r.Env, false, CheckEnvironmentName,
			"Environment variables of users of the package. Their names begin with the package's, as in MISTPLAN_DATA; "+
				"MANPATH and INFOPATH can be added to. Others are refused unless trusted_env in the settings names the package.").
			Check(CheckOneLine).
			Check(knownVariables(variablePattern, r.tryVariables)),
		tomlfile.Tables("launcher", &r.Launchers, r.launcherKeys,
			"An entry in the menus of desktops, written into the tree as a freedesktop.org desktop entry."),
		tomlfile.Tables("config", &r.Configs, r.configKeys,
			"A file that the administrator edits. It is kept in the root, outside the tree, and survives upgrades; the tree "+
				"has a link to it."),
		tomlfile.Tables("writable", &r.Writable, r.writableKeys,
			"A directory of the tree that programs of the package write in. It is kept in the root, outside the tree, and "+
				"survives upgrades and removals; the tree has a link to it."),
		tomlfile.Tables("owner", &r.Owners, r.ownerKeys,
			"A file of the tree that belongs to a system user or group, or has setuid or setgid bits, which are removed "+
				"otherwise. Only root can set these, and reports it; other users get a remark. It is refused unless "+
				"trusted_owners in the settings names the package."),
		tomlfile.Tables("user", &r.Users, r.userKeys,
			"A system user that the package runs as. The tree has it as systemd-sysusers reads it (sysusers.d(5)); packages "+
				"made of it create it when they are installed. It is refused unless trusted_owners in the settings names the "+
				"package."),
		tomlfile.Tables("directory", &r.Folders, r.folderKeys,
			"A directory outside the tree in which the package keeps data. The tree has it as systemd-tmpfiles reads it "+
				"(tmpfiles.d(5)); packages made of it create it when they are installed, with what [[owner]] says. It is "+
				"refused unless trusted_owners in the settings names the package."),
		tomlfile.Tables("beside", &r.Beside, r.besideKeys,
			"An additional name of a file of the tree on the landing. Under it, this build can be used while another build "+
				"of the package has the plain names."),
		tomlfile.Table("upstream", r.upstreamKeys, "Where newer releases are announced."),
		tomlfile.Table("known_as", r.knownKeys,
			"What the package is called elsewhere: bills of materials state it, and security advisories are found by it."),
		tomlfile.Tables("patch", &r.PatchNotes, r.patchKeys, "What a patch of a release is for."),
		tomlfile.Named("not_affected", &r.NotAffected, r.statementKeys, CheckAdvisory,
			"A published hole that does not concern the package, [not_affected.\"CVE-2026-0001\"]. Receipts record it."),
		tomlfile.Table("offers", r.offersKeys,
			"What other packages find in this one's tree. Drafts of other recipes use it. The command offers shows what a "+
				"tree has, and writes it here."),
	}
}

func (r *Recipe) packageKeys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("name", &r.Name, "The package's name, the same as that of the recipe's folder.").Must().
			Check(CheckName),
		tomlfile.Text("summary", &r.Summary, "What it is, in one line.").Must().Check(CheckOneLine),
		tomlfile.Text("home", &r.Home, "Its home page.").Check(CheckOneLine),
		tomlfile.Text("license", &r.License, "Its licence, an SPDX expression.").Check(CheckOneLine),
		tomlfile.Flag("before_system", &r.BeforeSystem,
			"True for a package whose programs take precedence over the operating system's of the same name. Otherwise they "+
				"are not linked under that name, unless before_system in the settings names the package."),
		tomlfile.Text("notes", &r.Notes, "What the person who installs it should know. It is shown after the installation."),
	}
}

func (r *Recipe) originKeys() []tomlfile.Key {
	return []tomlfile.Key{
		r.archiveKey(&r.Archive,
			"The URLs of the archive, tried in order. They can be http, https or file URLs and use $FL_NAME and $FL_VERSION."),
		r.signatureKey(&r.Signature,
			"The URLs of the archive's signature, tried in order. See Signatures in recipes.md for what can be signed."),
		tomlfile.Texts("keys", &r.Keys,
			"Files beside the recipe with public keys: OpenPGP (armoured or binary), minisign or SSH. Only signatures by "+
				"these keys are trusted.").Check(r.checkBeside),
	}
}

func (r *Recipe) optionKeys(name string, o *Option) []tomlfile.Key {
	o.Name, o.Most = name, mostNumber
	when := ""
	return []tomlfile.Key{
		tomlfile.Text("about", &o.About, "What it chooses, in one line.").Must(),
		tomlfile.Text("group", &o.Group, "The heading under which it is listed.").Check(CheckOneLine),
		tomlfile.Choice("default", &o.Default,
			"Its default: true, false or one of the values. For an option with takes: a value, or \"\", which leaves it to "+
				"the source.").Must(),
		tomlfile.Texts("on", &o.On, "Arguments that it adds when it is on.").Check(r.checkBuildText),
		tomlfile.Texts("off", &o.Off, "Arguments that it adds when it is off.").Check(r.checkBuildText),
		tomlfile.Pairs("values", &o.Values, true, CheckWord,
			"Its values, with the arguments that each adds, for an option that is not on or off.").Check(r.checkBuildText),
		tomlfile.Parsed("takes", "number, text, list or path", &o.Takes, WordAmong("takes", Number, Line, Words, Path),
			"The type of its value, where that is free: a whole number, one line of text, a list of words, or an absolute "+
				"path."),
		tomlfile.Texts("given", &o.Given,
			"Arguments that an option with takes adds for a value, which is $FL_VALUE in them.").
			Check(knownVariables(variablePattern, func() []string { return append(r.buildVariables(), valueVariable) })),
		tomlfile.Text("between", &o.Between, "The separator of the words of a list in $FL_VALUE. Default: a comma.").
			Check(CheckOneLine),
		tomlfile.Number("least", &o.Least, -mostNumber, mostNumber, "The smallest number. Default: 0."),
		tomlfile.Number("most", &o.Most, -mostNumber, mostNumber, "The largest number."),
		tomlfile.Parsed("matches", "regular expression", &o.Matches, regexp.Compile,
			"A regular expression (RE2) that a text, or each word of a list, must match as a whole."),
		tomlfile.Text("when", &when,
			"The releases and machines that have it: a condition on version, arch and host. Default: all.").
			Check(func(text string) (err error) {
				o.When, err = parseCondition(text, nil)
				return err
			}),
	}
}

func presetKeys(name string, p *Preset) []tomlfile.Key {
	p.Name = name
	return []tomlfile.Key{
		tomlfile.Text("about", &p.About, "What it is for, in one line."),
		tomlfile.Choices("options", &p.Options, "The options that it sets, and their values. All others are as without it.").
			Must(),
	}
}

func (r *Recipe) needKeys(n *Need) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("recipe", &n.Recipe, "The recipe that is needed.").Check(CheckName),
		tomlfile.Texts("either", &n.Either,
			"Recipes of which one is enough: the first that is available. Instead of recipe.").Check(CheckName),
		tomlfile.Parsed("version", "range of versions", &n.Range, version.ParseRange, "The accepted versions. Default: all."),
		tomlfile.Parsed("role", "tool, library or runtime", &n.Role, WordAmong("role", Tool, Library, Runtime),
			"Its role: tool (runs during the build), library (compiled or linked against) or runtime (needed when the "+
				"program runs).").Must(),
		r.whenKey(&n.When, "The condition under which it is needed."),
		tomlfile.Choices("options", &n.Options, "The options it must have been built with, and their values."),
	}
}

func (r *Recipe) whenKey(into *Condition, about string) tomlfile.Key {
	text := ""
	return tomlfile.Text("when", &text, about).Check(func(text string) (err error) {
		*into, err = parseCondition(text, r.Options)
		return err
	})
}

func (r *Recipe) buildKeys() []tomlfile.Key {
	r.Build.Parallel, r.Build.Bare = true, true
	return []tomlfile.Key{
		tomlfile.Parsed("method", "configure, cmake, meson, make or script", &r.Build.Method, WordAmong("method", methods...),
			"The build system. With script, everything is in [steps].").Must(),
		tomlfile.Text("dir", &r.Build.Dir,
			"The directory of the source that the build system is in, where that is not its top.").Check(checkInside),
		tomlfile.Texts("args", &r.Build.Args, "Arguments to configure, cmake or meson; variables and targets for make.").
			Check(r.checkBuildText),
		tomlfile.Flag("parallel", &r.Build.Parallel,
			"False for a package that only builds with one job at a time. Default: true."),
		tomlfile.Number("memory", &r.Build.Memory, 1, 1<<30,
			"The most memory that its build takes, in MiB, for batch jobs without an earlier build. Default: that of the "+
				"settings."),
		tomlfile.Number("minutes", &r.Build.Minutes, 1, 1<<20, "The time limit of such a batch job, in minutes."),
		tomlfile.Flag("in_tree", &r.Build.InTree,
			"True for a package that must be built in its source directory. Packages built with make or script always are."),
		tomlfile.Flag("skip_unplaced", &r.Build.SkipUnplaced,
			"True to compile only what is placed: no test programs, samples or benchmarks, with configure (automake), cmake "+
				"and meson. If that fails, everything is compiled. With --prove, the second build compiles everything."),
		tomlfile.Flag("bare", &r.Build.Bare,
			"False for a package that has to see all of the operating system; say why in bare_why. Default: true, a sealed "+
				"build sees the base of the system and what [[host]] declares."),
		tomlfile.Text("bare_why", &r.Build.BareWhy, "Why bare is false, in one line. The receipt records it."),
		tomlfile.Pairs("env", &r.Build.Env, false, CheckEnvironmentName,
			"Environment variables of the build. CPPFLAGS, LDFLAGS and search paths are added to what the needs require.").
			Check(r.checkBuildText),
	}
}

func (r *Recipe) stepKeys() []tomlfile.Key {
	var keys []tomlfile.Key
	for _, name := range StepNames {
		about := "Shell text for this stage, instead of that of the method."
		if when, stage, found := strings.Cut(name, "_"); found {
			about = fmt.Sprintf("Shell text that runs %s the stage %s.", when, stage)
		}
		keys = append(keys, tomlfile.Parsed(name, "shell text", &r.Steps, func(text string) ([]Step, error) {
			return append(r.Steps, Step{Name: name, Script: text}), nil
		}, about).Check(knownVariables(shellVariablePattern, r.buildVariables)))
	}
	return keys
}

func (r *Recipe) tryKeys(t *Try) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("run", &t.Run,
			"The command, run by sh. It must exit with status 0, or the stated one. Default, with a program: ./program.").
			Check(knownVariables(shellVariablePattern, r.tryVariables)),
		tomlfile.Text("program", &t.Program, "A small C program that is compiled against the installed package."),
		tomlfile.Texts("flags", &t.Flags,
			"Compiler flags for the program, such as -ldewcalc. The paths of headers and libraries of the package and its "+
				"needs are set.").Check(checkFlag),
		tomlfile.Texts("modules", &t.Modules, "Modules of pkg-config that the program is compiled with.").
			Check(CheckSystemName),
		tomlfile.Number("status", &t.Status, 0, 255, "The exit status of the command. Default: 0."),
		tomlfile.Text("expect", &t.Expect,
			"A regular expression (RE2) that must match somewhere in its output. ^ and $ match at the beginning and end of "+
				"lines.").Check(checkPattern),
		r.whenKey(&t.When, "The condition under which it is tried."),
	}
}

// checkFlag refuses what the shell would split.
func checkFlag(flag string) error {
	if strings.ContainsAny(flag, " \t\n'\"$`;&|<>()\\") {
		return fmt.Errorf("%q cannot be a flag of the compiler here: it has a character that the shell reads", flag)
	}
	return nil
}

func (r *Recipe) checkBuildText(text string) error {
	return knownVariables(variablePattern, r.buildVariables)(text)
}
