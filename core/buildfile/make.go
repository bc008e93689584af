package buildfile

import (
	"strings"

	"fernladder/core/pattern"
)

var (
	makeSwitch = pattern.New(`(?m)^[ \t]*(?:export[ \t]+)?([A-Z][A-Z0-9_]*)[ \t]*\?=[ \t]*(yes|no|true|false|on|off|0` +
		`|1|y|n)?[ \t]*(?:#[ \t]*(.*))?$`)
	makeAsks    = pattern.New(`(?m)^[ \t]*(?:ifeq|ifneq|ifdef|ifndef)\b(.*)$`)
	makeCXX     = pattern.New(`\$[({]CXX[)}]|\bg\+\+`)
	makeModules = pattern.New(`(?m)^[^\t#\n][^\n]*?(?:pkg-config|\$[({]PKG_?CONFIG[)}])[^\n]*?--(?:cflags|libs|exists` +
		`|modversion|atleast-version=[\d.]+)(?:[ \t]+--(?:cflags|libs|static` +
		`|silence-errors))*[ \t]+["']?([\w.+-]+(?:[ \t]+[\w.+-]+)*)`)
	makeRuns = pattern.New(`(?m)^\t[ \t@+-]*(?:[A-Z_]+=\S*[ \t]+)*(msgfmt|makeinfo|help2man|bison|flex|yacc|lex` +
		`|perl|python3?|pod2man|xsltproc|asciidoc|a2x|xmlto|gperf|m4|ed|re2c|ragel|nasm|yasm|tclsh|ruby|go|rst2man|pandoc` +
		`|groff|txt2man|ronn)\b`)
	makeLinks   = pattern.New(`(?m)^[ \t]*(?:LIBS|LDLIBS|LDADD|LDFLAGS)[ \t]*[:+?]?=(.*)$`)
	makeLibrary = pattern.New(`-l([\w+.-]+)`)
)

// Makefile reads a plain makefile: switches are variables with a default that can be overridden
// and that conditions mention.
func Makefile(file, text string) *Reading {
	r := &Reading{CXX: makeCXX.MatchString(text)}
	asked := ""
	for _, m := range makeAsks.FindAllStringSubmatch(text, -1) {
		asked += m[1] + "\n"
	}
	for _, m := range makeSwitch.FindAllStringSubmatch(text, -1) {
		raw, value := m[1], m[2]
		if !mentions(asked, raw) || optionName(raw) == "" {
			continue
		}
		yes, no := "1", ""
		s := Switch{Name: optionName(raw), Raw: raw, About: about(m[3], raw, false), Purpose: purposeOf(optionName(raw)),
			Default: Off, vars: []string{raw}}
		switch value {
		case "yes", "no":
			yes, no = "yes", "no"
		case "true", "false":
			yes, no = "true", "false"
		case "on", "off":
			yes, no = "on", "off"
		case "0", "1":
			no = "0"
		case "y", "n":
			yes, no = "y", "n"
		}
		if value == yes {
			s.Default = On
		}
		s.On, s.Off = []string{raw + "=" + yes}, []string{raw + "=" + no}
		r.Switches = append(r.Switches, s)
	}
	r.Switches = distinct(r.Switches)
	for _, m := range makeModules.FindAllStringSubmatch(text, -1) {
		r.Modules = true
		for _, name := range strings.Fields(m[1]) {
			if !Ordinary(name) && !strings.HasPrefix(name, "-") {
				r.Lookups = append(r.Lookups, Lookup{Kind: "module", Names: []string{name}, Ran: true, From: file})
			}
		}
	}
	for _, m := range makeRuns.FindAllStringSubmatch(text, -1) {
		r.Lookups = append(r.Lookups, Lookup{Kind: "program", Names: []string{m[1]}, Ran: true, From: file})
	}
	for _, m := range makeLinks.FindAllStringSubmatch(text, -1) {
		for _, l := range makeLibrary.FindAllStringSubmatch(m[1], -1) {
			if !Ordinary(l[1]) {
				r.Lookups = append(r.Lookups, Lookup{Kind: "library", Names: []string{l[1]}, From: file})
			}
		}
	}
	r.join()
	return r
}
