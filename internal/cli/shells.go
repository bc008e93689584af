package cli

import (
	"fmt"
	"strings"

	"fernladder/core/session"
	"fernladder/core/subprocess"
)

// forms are the ways in which variables are printed, by the names that are typed.
var forms = map[string]func([]session.Variable) []string{
	"sh": lines(shLine), "fish": lines(fishLine), "csh": lines(cshLine), "profile": profile, "modulefile": modulefile,
}

const formNames = "sh, fish, csh, profile, modulefile"

func lines(line func(session.Variable) string) func([]session.Variable) []string {
	return func(all []session.Variable) (texts []string) {
		for _, v := range all {
			texts = append(texts, line(v))
		}
		return texts
	}
}

// shLine is a variable as a line of a POSIX shell.
func shLine(v session.Variable) string {
	line := "export " + v.Name + "=" + subprocess.Quoted(v.Value)
	switch {
	case v.Join == "":
		return line
	case v.Open || v.Else != "":
		return line + `"` + v.Join + `${` + v.Name + `:-` + v.Else + `}"`
	}
	return line + `"${` + v.Name + `:+` + v.Join + `$` + v.Name + `}"`
}

// fishLine is a variable as a line of fish, in which PATH and MANPATH are lists.
func fishLine(v session.Variable) string {
	quote := func(text string) string {
		return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(text) + "'"
	}
	switch {
	case v.Join == "":
		return "set -gx " + v.Name + " " + quote(v.Value)
	case v.Name == "PATH" || v.Name == "MANPATH":
		var words []string
		for _, part := range strings.Split(v.Value, ":") {
			words = append(words, quote(part))
		}
		open := ""
		if v.Open {
			open = "set -q " + v.Name + "; or set " + v.Name + " ''; "
		}
		return open + "set -gx " + v.Name + " " + strings.Join(words, " ") + " $" + v.Name
	}
	without := quote(v.Value)
	if v.Else != "" {
		without = quote(v.Value + v.Join + v.Else)
	}
	return fmt.Sprintf("if test -n \"$%s\"; set -gx %s %s\"$%s\"; else; set -gx %s %s; end", v.Name, v.Name,
		quote(v.Value+v.Join), v.Name, v.Name, without)
}

// cshLine is a variable as a line of csh. One that is not set is first set to nothing, for
// csh puts variables in before it asks whether they are there.
func cshLine(v session.Variable) string {
	quote := func(text string) string { return strings.ReplaceAll(subprocess.Quoted(text), "!", `\!`) }
	if v.Join == "" {
		return "setenv " + v.Name + " " + quote(v.Value) + ";"
	}
	return fmt.Sprintf("if ( ! $?%s ) setenv %s %s; setenv %s %s\"%s$%s\";", v.Name, v.Name, quote(v.Else), v.Name,
		quote(v.Value), v.Join, v.Name)
}

// profile is a file for /etc/profile.d: read twice, it adds nothing twice.
func profile(all []session.Variable) []string {
	texts := []string{"# Made by fernladder env --as profile, for /etc/profile.d/fernladder.sh.",
		"# Make it again when packages that set variables are added or removed."}
	for _, v := range all {
		if v.Join == "" {
			texts = append(texts, shLine(v))
			continue
		}
		texts = append(texts, fmt.Sprintf("case \"%s${%s:-}%s\" in *%s*) ;; *) %s ;; esac", v.Join, v.Name, v.Join,
			subprocess.Quoted(v.Join+v.Value+v.Join), shLine(v)))
	}
	return texts
}

// modulefile is a file for environment modules.
func modulefile(all []session.Variable) []string {
	quote := func(text string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "[", `\[`, "]", `\]`).Replace(text) + `"`
	}
	texts := []string{"#%Module1.0", "# Made by fernladder env --as modulefile.",
		`module-whatis "What Fern Ladder has installed on this machine"`}
	for _, v := range all {
		if v.Join == "" {
			texts = append(texts, "setenv "+v.Name+" "+quote(v.Value))
			continue
		}
		if v.Else != "" {
			texts = append(texts, fmt.Sprintf("if {![info exists ::env(%s)]} { setenv %s %s }", v.Name, v.Name, quote(v.Else)))
		}
		if v.Open {
			texts = append(texts, fmt.Sprintf("if {![info exists ::env(%s)]} { append-path %s {} }", v.Name, v.Name))
		}
		delimiter := ""
		if v.Join != ":" {
			delimiter = "-d " + quote(v.Join) + " "
		}
		texts = append(texts, "prepend-path "+delimiter+v.Name+" "+quote(v.Value))
	}
	return texts
}
