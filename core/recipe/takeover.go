package recipe

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/keyfile"
)

// takeovers are variables by which a package would not tell its own programs
// something, but take over those of everybody who uses the landing: what shells run
// and how they read, what every program loads, what interpreters and other programs
// start. Names that end in * are beginnings of names.
var takeovers = map[string][]string{
	"shells find programs by it; what is on the landing is found without it": {"PATH"},
	"every program loads what it names":                                      {"LD_*", "GCONV_PATH", "LOCPATH", "GLIBC_TUNABLES", "MALLOC_*", "NLSPATH", "HOSTALIASES", "RES_OPTIONS", "LOCALDOMAIN"},
	"shells run what it names, or read differently for it":                   {"BASH_*", "ENV", "IFS", "PROMPT_COMMAND", "PS0", "PS1", "PS2", "PS3", "PS4", "SHELLOPTS", "BASHOPTS", "CDPATH", "GLOBIGNORE", "EXECIGNORE", "ZDOTDIR", "FPATH", "FIGNORE", "HISTFILE", "INPUTRC"},
	"interpreters load or run what it names":                                 {"PYTHON*", "PERL*", "RUBYOPT", "RUBYLIB", "NODE_OPTIONS", "NODE_PATH", "JAVA_TOOL_OPTIONS", "_JAVA_OPTIONS", "JDK_JAVA_OPTIONS", "LUA_INIT*", "TCLLIBPATH", "GUILE_LOAD_*", "R_PROFILE*", "AWKPATH", "AWKLIBPATH"},
	"other programs start what it names":                                     {"EDITOR", "VISUAL", "PAGER", "MANPAGER", "BROWSER", "LESSOPEN", "LESSCLOSE", "GIT_*", "SSH_*", "SUDO_*", "CC", "CXX", "LD", "MAKEFLAGS", "MAKEFILES", "GNUMAKEFLAGS", "DISPLAY", "DBUS_*", "XDG_RUNTIME_DIR", "TERMINFO*", "TERMCAP"},
	"it is the user's, not a package's":                                      {"HOME", "USER", "LOGNAME", "SHELL", "TERM", "TMPDIR", "TZ", "LANG", "LANGUAGE", "LC_*", "MAIL", "PWD", "OLDPWD", "UID", "http_proxy", "https_proxy", "ftp_proxy", "all_proxy", "no_proxy", "HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY", "NO_PROXY", "SSL_CERT_FILE", "SSL_CERT_DIR", "CURL_*"},
}

// TakesOver says why a variable may not be set for everybody, or "" where it may.
func TakesOver(name string) string {
	for why, names := range takeovers {
		if slices.ContainsFunc(names, func(known string) bool {
			beginning, open := strings.CutSuffix(known, "*")
			return known == name || open && strings.HasPrefix(name, beginning)
		}) {
			return why
		}
	}
	return ""
}

// GivesAway lists what of the recipe would belong to others than the tree, or run with the
// rights of its owner: files, system users, and directories outside of the tree.
func (r *Recipe) GivesAway() keyfile.Problems {
	var problems keyfile.Problems
	add := func(at keyfile.Position, format string, args ...any) {
		at.File = r.File
		problems = append(problems, keyfile.Problem{Position: at, Source: r.line(at.Line), Message: r.Name + " would make " + fmt.Sprintf(format, args...),
			Advice: fmt.Sprintf("take it out; or, if you trust the package with that, trusted_owners = [%q] in the settings", r.Name)})
	}
	for _, o := range r.Owners {
		add(o.Position, "%s belong to %s", o.File, o.Who())
	}
	for _, u := range r.Users {
		add(u.Position, "the system user %s", u.Name)
	}
	for _, d := range r.Folders {
		add(d.Position, "the directory %s, outside of its tree", d.Path)
	}
	return problems
}

// TakesOver lists the variables of the recipe that may not be set for everybody.
func (r *Recipe) TakesOver() keyfile.Problems {
	var problems keyfile.Problems
	for _, pair := range r.Env {
		why := TakesOver(pair.Name)
		if why == "" {
			continue
		}
		at := pair.Position
		at.File = r.File
		problems = append(problems, keyfile.Problem{Position: at, Source: r.line(at.Line),
			Message: fmt.Sprintf("%s would set %s for everybody who uses the landing: %s", r.Name, pair.Name, why),
			Advice:  fmt.Sprintf("take it out; or, if you trust the package with that, trusted_env = [%q] in the settings", r.Name)})
	}
	return problems
}
