package recipe

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

func (r *Recipe) hostKeys(n *HostNeed) []tomlfile.Key {
	return append(hostThing(n),
		tomlfile.Flag("runtime", &n.Runtime,
			"True for what is also needed when the package runs and is not visible in its files: a program that it starts, a "+
				"module that it loads. Packages that are made of a build then depend on it."),
		tomlfile.Tables("either", &n.Either, hostThing,
			"Alternatives, each a table like this one. The build uses the first that is installed; those that --prefer or "+
				"prefer in the settings names take precedence."),
		r.whenKey(&n.When, "The condition under which it is needed."))
}

// hostThing are the keys for something that the operating system must have.
func hostThing(n *HostNeed) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("program", &n.Program, "A program on the PATH of builds.").Check(CheckSystemName),
		tomlfile.Text("header", &n.Header, "A header that the C compiler finds, as it stands in #include <…>.").
			Check(CheckSystemName),
		tomlfile.Text("library", &n.Library, "A library that the linker finds, without lib and suffix.").
			Check(CheckSystemName),
		tomlfile.Text("module", &n.Module, "A module that pkg-config knows.").Check(CheckSystemName),
		tomlfile.Text("python", &n.Python, "A module that python3 can import.").Check(checkScriptModule(pythonPattern)),
		tomlfile.Text("perl", &n.Perl, "A module of Perl, such as Leaf::Parser.").Check(checkScriptModule(perlPattern)),
		tomlfile.Text("file", &n.File, "A file, by its absolute path, for anything else, such as macros of autoconf.").
			Check(checkAbsolute),
		tomlfile.Parsed("version", "range of versions", &n.Range, version.ParseRange,
			"The accepted versions, for programs and modules. Default: all."),
		tomlfile.Pairs("packages", &n.Packages, false, checkFamily,
			"The packages that have it, by family of operating systems: "+strings.Join(host.Families, ", ")+
				". Several are separated by spaces.").Check(checkPackages),
	}
}

func (r *Recipe) launcherKeys(l *Launcher) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("name", &l.Name, "What the menu shows.").Must().Check(CheckOneLine),
		tomlfile.Text("about", &l.About, "A line of explanation. Default: the summary of the package.").Check(CheckOneLine),
		tomlfile.Text("run", &l.Run, "What it starts: a program of the package, and its arguments.").Must().Check(checkRun),
		tomlfile.Text("icon", &l.Icon, "A picture in the tree.").Check(checkInside),
		tomlfile.Texts("categories", &l.Categories,
			"The menus it belongs in, by the names of the Desktop Menu Specification.").Check(checkCategory),
		tomlfile.Flag("terminal", &l.Terminal, "True for a program that has to be started in a terminal."),
		r.whenKey(&l.When, "The condition under which there is an entry."),
	}
}

func (r *Recipe) configKeys(c *Config) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("file", &c.File, "Where the package reads it, below $FL_PREFIX.").Must().Check(checkInside).
			Check(checkConfig),
		tomlfile.Text("sample", &c.Sample,
			"A file of the tree with its initial contents. Default: the file itself, as the package installs it.").
			Check(checkInside),
		tomlfile.Text("mode", &c.Mode,
			"Its permissions when it is created, in three or four octal digits. Default: those of the sample. Later changes "+
				"by the administrator stay.").Check(checkMode),
		tomlfile.Flag("private", &c.Private,
			"True for a file with secrets: when it is created, only its owner and, if a group is named, that group can read "+
				"it."),
		tomlfile.Text("owner", &c.Owner, "Its owner when it is created by root.").Check(checkAccount),
		tomlfile.Text("group", &c.Group, "Its group when it is created by root.").Check(checkAccount),
		r.whenKey(&c.When, "The condition under which the package reads it."),
	}
}

func (r *Recipe) writableKeys(c *Config) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("directory", &c.File,
			"Its path below $FL_PREFIX. The files that the build places in it are its initial contents.").Must().
			Check(checkInside).Check(checkConfig),
		tomlfile.Text("mode", &c.Mode,
			"Its permissions when it is created, in three or four octal digits. Default: 0755. Later changes by the "+
				"administrator stay.").Check(checkMode),
		tomlfile.Text("owner", &c.Owner, "Its owner when it is created by root.").Check(checkAccount),
		tomlfile.Text("group", &c.Group, "Its group when it is created by root.").Check(checkAccount),
		r.whenKey(&c.When, "The condition under which the package writes there."),
	}
}

func (r *Recipe) besideKeys(b *Beside) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("file", &b.File, "The file, below $FL_PREFIX.").Must().Check(checkInside),
		tomlfile.Text("as", &b.As,
			"The name, below the landing. It can use $FL_NAME, $FL_VERSION, $FL_SERIES (the first two numbers of the "+
				"version), $FL_MAJOR (the first) and $FL_PRESET (the preset by which a build was made; others do not have the "+
				"name).").Must().
			Check(knownVariables(variablePattern, besideVariables)).Check(checkInside).Check(func(as string) error {
			if !strings.Contains(as, "$FL_") && !strings.Contains(as, "${FL_") {
				return &tomlfile.At{Advice: "for example: bin/glasshouse$FL_SERIES",
					Err: fmt.Errorf("%q is the same for every version, so no two could be side by side", as)}
			}
			return nil
		}),
		r.whenKey(&b.When, "The condition under which the file is there."),
	}
}

func besideVariables() []string {
	return []string{"FL_MAJOR", "FL_NAME", presetVariable, "FL_SERIES", "FL_VERSION"}
}

func (r *Recipe) ownerKeys(o *Owner) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("file", &o.File, "The file, below $FL_PREFIX. It cannot be a link.").Must().Check(checkInside),
		tomlfile.Text("owner", &o.Owner, "Its owner.").Check(checkAccount),
		tomlfile.Text("group", &o.Group, "Its group.").Check(checkAccount),
		tomlfile.Text("mode", &o.Mode, "Its permissions, in three or four octal digits, as in 4755 or 2755.").
			Check(checkAnyMode),
		r.whenKey(&o.When, "The condition under which it applies."),
	}
}

func (r *Recipe) userKeys(u *User) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("name", &u.Name, "Its name, and that of its group.").Must().Check(checkAccount),
		tomlfile.Text("about", &u.About, "What it is for, in a few words.").Check(CheckOneLine).Check(checkPlain),
		tomlfile.Text("home", &u.Home, "Its home directory. Default: none.").Check(checkAbsolute).Check(checkPlain),
		r.whenKey(&u.When, "The condition under which it is needed."),
	}
}

func (r *Recipe) folderKeys(d *Folder) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("path", &d.Path,
			"Where it is: inside /etc, /run, /srv, or /var/cache, /var/lib, /var/log, /var/opt or /var/spool.").Must().
			Check(checkFolder).Check(checkPlain),
		tomlfile.Text("owner", &d.Owner, "Its owner.").Check(checkAccount),
		tomlfile.Text("group", &d.Group, "Its group.").Check(checkAccount),
		tomlfile.Text("mode", &d.Mode, "Its permissions, in three or four octal digits. Default: 0755.").Check(checkAnyMode),
		r.whenKey(&d.When, "The condition under which it is needed."),
	}
}

// checkFolder refuses directories that do not belong to a package.
func checkFolder(path string) error {
	if err := checkAbsolute(path); err != nil {
		return err
	}
	for _, in := range []string{"/etc/", "/run/", "/srv/", "/var/cache/", "/var/lib/", "/var/log/", "/var/opt/",
		"/var/spool/"} {
		if strings.HasPrefix(path, in) {
			return nil
		}
	}
	return fmt.Errorf("%s is not a place for a directory of a package", path)
}

// checkPlain refuses characters with a meaning in sysusers.d(5) and tmpfiles.d(5).
func checkPlain(text string) error {
	if strings.ContainsAny(text, "%\"\\") {
		return fmt.Errorf("%q has a character that means something to systemd: %% \" or \\", text)
	}
	return nil
}

// checkAnyMode refuses texts that are not permissions, and permissions for all users to write.
func checkAnyMode(mode string) error {
	n, err := strconv.ParseUint(mode, 8, 16)
	switch {
	case err != nil || len(mode) < 3 || len(mode) > 4:
		return fmt.Errorf("%q is not a mode; write octal digits, as in 4755", mode)
	case n&0o002 != 0 && n&0o1000 == 0:
		return fmt.Errorf("mode %s lets everyone write to the file", mode)
	}
	return nil
}

func (r *Recipe) upstreamKeys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Text("page", &r.Upstream.Page, "The URL of a page that names the releases. It can use $FL_NAME.").Must().
			Check(CheckURL).Check(knownVariables(variablePattern, r.nameVariable)),
		tomlfile.Parsed("pattern", "regular expression", &r.Upstream.Pattern, upstreamPattern,
			"A regular expression (RE2) that matches a release in the text of the page. Its first group is the version.").Must(),
	}
}

func (r *Recipe) offersKeys() []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Texts("modules", &r.Offers.Modules,
			"pkg-config modules, each with its own version behind a blank, which need not be the package's.").Check(checkModule),
		tomlfile.Texts("programs", &r.Offers.Programs, "Programs.").Check(CheckSystemName),
		tomlfile.Texts("libraries", &r.Offers.Libraries, "Libraries, without lib and suffix.").Check(CheckSystemName),
		tomlfile.Texts("cmake", &r.Offers.CMake, "Packages that CMake's find_package finds.").Check(CheckSystemName),
	}
}

// checkMode refuses texts that are not permissions, and permissions for all users to write.
func checkMode(mode string) error {
	n, err := strconv.ParseUint(mode, 8, 16)
	switch {
	case err != nil || len(mode) < 3 || len(mode) > 4:
		return fmt.Errorf("%q is not a mode; write octal digits, as in 0640", mode)
	case n > 0o777:
		return fmt.Errorf("mode %s: a configuration file has no setuid, setgid or sticky bit", mode)
	case n&0o002 != 0:
		return fmt.Errorf("mode %s lets everyone write to the file", mode)
	}
	return nil
}

func checkAccount(name string) error {
	if !accountPattern.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a user or group", name)
	}
	return nil
}

// checkConfig refuses files that people do not edit.
func checkConfig(file string) error {
	if file == "." || file == ".samples.json" || file == "share" || file == "share/fernladder" ||
		strings.HasPrefix(file, "share/fernladder/") {
		return fmt.Errorf("%q cannot be a configuration file: Fern Ladder uses that path", file)
	}
	return nil
}

func upstreamPattern(text string) (*regexp.Regexp, error) {
	re, err := regexp.Compile(text)
	if err == nil && re.NumSubexp() == 0 {
		err = errors.New("the pattern needs a group, in parentheses, that matches the version")
	}
	return re, err
}

func CheckSystemName(name string) error {
	if !systemNamePattern.MatchString(name) {
		return fmt.Errorf("%q cannot be a name here: names have letters, digits and . _ + / -", name)
	}
	return nil
}

// SplitModule splits an offered module into its name and its version, or "".
func SplitModule(module string) (name, version string) {
	name, version, _ = strings.Cut(module, " ")
	return name, version
}

func checkModule(module string) error {
	name, v := SplitModule(module)
	if v != "" {
		if _, err := version.Parse(v); err != nil {
			return err
		}
	}
	return CheckSystemName(name)
}

func checkScriptModule(pattern *pattern.Pattern) func(string) error {
	return func(name string) error {
		if !pattern.MatchString(name) {
			return fmt.Errorf("%q cannot be the name of such a module", name)
		}
		return nil
	}
}

func checkAbsolute(path string) error {
	if !filepath.IsAbs(path) || filepath.Clean(path) != path {
		return fmt.Errorf("%q is not an absolute path", path)
	}
	return nil
}

func checkFamily(name string) error {
	_, err := WordAmong("a family of operating systems", host.Families...)(name)
	return err
}

func checkPackages(names string) error {
	for _, name := range strings.Fields(names) {
		if err := host.CheckPackageName(name); err != nil {
			return err
		}
	}
	return nil
}

// CheckOneLine returns an error for a text with control characters.
func CheckOneLine(text string) error {
	if strings.ContainsFunc(text, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		return errors.New("this has to be one line")
	}
	return nil
}

// checkRun refuses what means something else in the Exec key of desktop entries, which has
// quoting rules of its own and no shell.
func checkRun(text string) error {
	if i := strings.IndexAny(text, "\"'\\`$&;|<>*?#()~\n\t"); i >= 0 {
		return &tomlfile.At{Offset: i, Advice: "install a script that does it, and start that",
			Err: fmt.Errorf("%q cannot be part of what a launcher runs: it does not use a shell", text[i])}
	}
	return nil
}

func checkCategory(name string) error {
	if !categoryPattern.MatchString(name) {
		return fmt.Errorf("%q cannot be a category: they are words like Utility or Science", name)
	}
	return nil
}
