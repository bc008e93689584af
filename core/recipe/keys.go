package recipe

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fernladder/core/keyfile"
	"fernladder/core/version"
)

// Keys are the keys of a recipe, bound to r. They read recipes and are what
// the reference of recipe keys is made from.
func Keys(r *Recipe) []keyfile.Key {
	format := 0
	return []keyfile.Key{
		keyfile.Number("format", &format, 1, 1, "The version of this format. It is 1.").Must(),
		keyfile.Table("package", []keyfile.Key{
			keyfile.Text("name", &r.Name, "The package's name, the same as that of the recipe's folder.").Must().Check(CheckName),
			keyfile.Text("summary", &r.Summary, "What it is, in one line.").Must(),
			keyfile.Text("home", &r.Home, "Its home page."),
			keyfile.Text("license", &r.License, "Its licence, an SPDX expression."),
			keyfile.Text("notes", &r.Notes, "What the person who installs it should know. Shown after it was installed."),
		}, "What the package is.").Must(),
		keyfile.Table("source", []keyfile.Key{
			r.archiveKey(&r.Archive, "The URLs of the archive, tried in order. They can be http, https or file URLs and use $FL_NAME and $FL_VERSION."),
		}, "Where releases come from that do not say so themselves."),
		keyfile.Tables("release", &r.Releases, r.releaseKeys, "A version that can be built.").Must(),
		keyfile.Named("option", &r.Options, r.optionKeys, checkOptionName, "A choice made before the build, [option.NAME]."),
		keyfile.Tables("need", &r.Needs, r.needKeys, "Another recipe that this one depends on."),
		keyfile.Table("build", r.buildKeys(), "How the sources become programs.").Must(),
		keyfile.Table("steps", r.stepKeys(), "Shell text that replaces a stage of the method (configure, compile, check, place), or runs before or after it. "+
			"It is run by sh, which stops at the first command that fails. before_configure runs in the source, all others in the build directory. "+
			"Tests run only where there is a check step."),
		keyfile.Tables("try", &r.Tries, r.tryKeys, "A command that shows whether the installed package works. It runs in an empty directory with the package and its runtime needs on the PATH."),
		keyfile.Pairs("env", &r.Env, false, checkEnvironmentName, "Variables that users of the package get in their environment.").
			Check(knownVariables(variablePattern, r.tryVariables)),
	}
}

func (r *Recipe) archiveKey(into *[]string, about string) keyfile.Key {
	return keyfile.OneOrMore("archive", into, about).
		Check(CheckURL).Check(knownVariables(variablePattern, r.sourceVariables))
}

func (r *Recipe) releaseKeys(x *Release) []keyfile.Key {
	x.Track = Stable
	return []keyfile.Key{
		keyfile.Parsed("version", "version", &x.Version, version.Parse, "The version, in quotes.").Must(),
		keyfile.Parsed("track", "stable or preview", &x.Track, wordAmong("track", Stable, Preview), "How settled it is: stable, if nothing is said, or preview. Previews are only built when they are asked for by their exact version."),
		r.archiveKey(&x.Archive, "The URLs of this release's archive, where they are not those of [source]."),
		keyfile.Parsed("sha256", "64 hexadecimal digits", &x.Digest, digest("sha256", 64), "The SHA-256 of the archive. A release has this or sha512."),
		keyfile.Parsed("sha512", "128 hexadecimal digits", &x.Digest, digest("sha512", 128), "The SHA-512 of the archive."),
		keyfile.Texts("patches", &x.Patches, "Patches beside the recipe, applied in order with the leading directory of their file names left out.").Check(r.checkBeside),
	}
}

func (r *Recipe) optionKeys(name string, o *Option) []keyfile.Key {
	o.Name = name
	return []keyfile.Key{
		keyfile.Text("about", &o.About, "What it chooses, in one line.").Must(),
		keyfile.Choice("default", &o.Default, "What it is when nobody says anything: true, false or one of the values.").Must(),
		keyfile.Texts("on", &o.On, "The arguments it adds when it is on.").Check(r.checkBuildText),
		keyfile.Texts("off", &o.Off, "The arguments it adds when it is off.").Check(r.checkBuildText),
		keyfile.Pairs("values", &o.Values, true, checkWord, "What it can be, with the arguments that each value adds, for an option that is not on or off.").Check(r.checkBuildText),
	}
}

func (r *Recipe) needKeys(n *Need) []keyfile.Key {
	return []keyfile.Key{
		keyfile.Text("recipe", &n.Recipe, "The recipe that is needed.").Check(CheckName),
		keyfile.Texts("either", &n.Either, "Recipes of which one is enough: the first that can be had is taken. Instead of recipe.").Check(CheckName),
		keyfile.Parsed("version", "range of versions", &n.Range, version.ParseRange, "The versions that will do. All, if nothing is said."),
		keyfile.Parsed("role", "tool, library or runtime", &n.Role, wordAmong("role", Tool, Library, Runtime), "What it is for: tool (runs during the build), library (compiled or linked against) or runtime (needed when the program runs).").Must(),
		r.whenKey(&n.When, "The condition under which it is needed."),
		keyfile.Choices("options", &n.Options, "How it must have been built: its options and what they must be."),
	}
}

func (r *Recipe) whenKey(into *Condition, about string) keyfile.Key {
	text := ""
	return keyfile.Text("when", &text, about).Check(func(text string) (err error) {
		*into, err = ParseCondition(text, r.Options)
		return err
	})
}

func (r *Recipe) buildKeys() []keyfile.Key {
	r.Build.Parallel = true
	return []keyfile.Key{
		keyfile.Parsed("method", "configure, cmake, meson, make or script", &r.Build.Method, wordAmong("method", Methods...), "The build system. With script, everything is in [steps].").Must(),
		keyfile.Texts("args", &r.Build.Args, "Arguments to configure, cmake or meson; variables and targets for make.").Check(r.checkBuildText),
		keyfile.Flag("parallel", &r.Build.Parallel, "False for a package that only builds with one job at a time. True, if nothing is said."),
		keyfile.Flag("in_tree", &r.Build.InTree, "True for a package that must be built in its source directory. Packages built with make or script always are."),
		keyfile.Pairs("env", &r.Build.Env, false, checkEnvironmentName, "Variables in the environment of the build. CPPFLAGS, LDFLAGS and the search paths are added to what the needs require.").
			Check(r.checkBuildText),
	}
}

func (r *Recipe) stepKeys() []keyfile.Key {
	var keys []keyfile.Key
	for _, name := range StepNames {
		about := "Shell text for this stage, in place of what the method does."
		if when, stage, found := strings.Cut(name, "_"); found {
			about = fmt.Sprintf("Shell text that runs %s the stage %s.", when, stage)
		}
		keys = append(keys, keyfile.Parsed(name, "shell text", &r.Steps, func(text string) ([]Step, error) {
			return append(r.Steps, Step{Name: name, Script: text}), nil
		}, about).Check(knownVariables(shellVariablePattern, r.buildVariables)))
	}
	return keys
}

func (r *Recipe) tryKeys(t *Try) []keyfile.Key {
	return []keyfile.Key{
		keyfile.Text("run", &t.Run, "The command, run by sh. It must end with status 0.").Must().Check(knownVariables(shellVariablePattern, r.tryVariables)),
		keyfile.Text("expect", &t.Expect, "A regular expression (RE2) that must match somewhere in what it prints. In it, ^ and $ stand for the beginning and end of a line.").Check(checkPattern),
		r.whenKey(&t.When, "The condition under which it is tried."),
	}
}

func (r *Recipe) checkBuildText(text string) error {
	return knownVariables(variablePattern, r.buildVariables)(text)
}

// wordAmong returns a reader for a key that takes one of a few words.
func wordAmong[T ~string](key string, words ...T) func(string) (T, error) {
	return func(text string) (T, error) {
		if slices.Contains(words, T(text)) {
			return T(text), nil
		}
		names := make([]string, len(words))
		for i, w := range words {
			names[i] = string(w)
		}
		advice := "it can be: " + strings.Join(names, ", ")
		if near, found := keyfile.Nearest(text, names); found {
			advice = fmt.Sprintf("did you mean %q?", near)
		}
		return "", &keyfile.At{Advice: advice, Err: fmt.Errorf("%s cannot be %q", key, text)}
	}
}

func digest(algorithm string, length int) func(string) (Digest, error) {
	return func(text string) (Digest, error) {
		if len(text) != length || strings.Trim(text, "0123456789abcdefABCDEF") != "" {
			return Digest{Algorithm: algorithm}, fmt.Errorf("a %s has %d hexadecimal digits; this is %s", algorithm, length, strconv.Quote(text))
		}
		return Digest{algorithm, strings.ToLower(text)}, nil
	}
}

var (
	namePattern        = regexp.MustCompile(`^[a-z0-9][a-z0-9+._-]*$`)
	optionPattern      = regexp.MustCompile(`^[a-z][a-z0-9_-]*$`)
	wordPattern        = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]*$`)
	environmentPattern = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	schemePattern      = regexp.MustCompile(`^(https?|file)://[^\s]+$`)
)

// longestName keeps NAME-VERSION-ID below the 255 bytes of a file name.
const longestName = 100

// CheckName tells whether a package can be called name.
func CheckName(name string) error {
	if !namePattern.MatchString(name) || len(name) > longestName {
		return fmt.Errorf("%q cannot be a package's name: names have lower-case letters, digits and + . _ -, and begin with a letter or digit", name)
	}
	return nil
}

func checkOptionName(name string) error {
	if !optionPattern.MatchString(name) {
		return fmt.Errorf("%q cannot be an option's name: names have lower-case letters, digits, - and _, and begin with a letter", name)
	}
	if slices.Contains([]string{"version", "arch", "host", "and", "or", "not", "on", "off", "true", "false"}, name) {
		return fmt.Errorf("an option cannot be called %q, which means something else in conditions", name)
	}
	return nil
}

func checkWord(word string) error {
	if !wordPattern.MatchString(word) {
		return fmt.Errorf("%q cannot be an option's value: values have letters, digits and . _ + -", word)
	}
	return nil
}

func checkEnvironmentName(name string) error {
	if !environmentPattern.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of an environment variable", name)
	}
	if strings.HasPrefix(name, "FL_") {
		return fmt.Errorf("%q: names that begin with FL_ are Fern Ladder's own", name)
	}
	return nil
}

// CheckURL tells whether url is one that archives can be fetched from.
func CheckURL(url string) error {
	if !schemePattern.MatchString(url) {
		return fmt.Errorf("%q is not a URL that can be fetched: it begins with https://, http:// or file://", url)
	}
	return nil
}

func checkPattern(pattern string) error {
	_, err := regexp.Compile(pattern)
	return err
}
