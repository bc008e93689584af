package buildfile

import (
	"strings"

	"fernladder/core/pattern"
)

// Headings of a help text that are not about choices, or only say that there are some.
var commonHeadings = pattern.New(`(?i)^(?:optional (?:features|packages)|features|packages|options|configuration` +
	`|usage|help|standard options|fine tuning.*|installation directories|.*directories.*|program names|system types` +
	`|x features|some influential environment variables|environment variables|by default.*|defaults?.*|examples?` +
	`|note.*|report bugs.*|cross compilers?|notes?)$`)

var (
	helpHeading    = pattern.New(`^(?:[ \t]*(?:echo|printf)\s+["'])?\s{0,2}([A-Z][\w /&,+'()-]{2,48}):(?:\\n)?["']?;?$`)
	commentHeading = pattern.New(`^[ \t]*#+[-=* \t]*([A-Z][\w /&,+'-]{2,40}?):?[-=* \t#]*$`)
	optionLine     = pattern.New(`(?i)^[ \t]*(?:option|set|cmake_dependent_option)[ \t]*\([ \t\n]*['"]?([\w.-]+)`)
	opensOption    = pattern.New(`(?i)^[ \t]*(?:option|set|cmake_dependent_option)[ \t]*\([ \t]*$`)
	quotedName     = pattern.New(`^[ \t]*['"]?([\w.-]+)['"]?`)
)

// heading is the heading in a line of a help text, which may stand for none; is reports whether
// it is one.
func heading(line string) (text string, is bool) {
	m := helpHeading.FindStringSubmatch(line)
	if m == nil {
		return "", false
	}
	text = strings.TrimSpace(m[1])
	for _, suffix := range []string{" options", " Options"} {
		text = strings.TrimSuffix(text, suffix)
	}
	if commonHeadings.MatchString(text) {
		return "", true
	}
	return text, true
}

// headings are the comments above several options in a file of options, with only an empty line
// before: for each option, by its name in the source, the last such comment.
func headings(text string) map[string]string {
	under := map[string]string{}
	current, since := "", []string{}
	end := func() {
		if len(since) > 1 && current != "" { // above one alone, it explains that one
			for _, name := range since {
				under[name] = current
			}
		}
		current, since = "", nil
	}
	before, candidate, opened, over := "", "", false, false
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		trimmed := strings.TrimSpace(line)
		switch m := optionLine.FindStringSubmatch(line); {
		case opened:
			if m := quotedName.FindStringSubmatch(line); m != nil {
				since = append(since, m[1])
			}
			opened = false
		case m != nil || opensOption.MatchString(line):
			if candidate != "" || over {
				end()
				current, candidate, over = candidate, "", false
			}
			if m != nil {
				since = append(since, m[1])
			}
			opened = m == nil
		case strings.HasPrefix(trimmed, "#"):
			found := commentHeading.FindStringSubmatch(line)
			above := strings.TrimSpace(before)
			switch {
			case found != nil && (above == "" || strings.Trim(above, "#-=* ") == ""):
				candidate = strings.TrimSpace(found[1])
			case strings.Trim(trimmed, "#-=* ") != "": // it goes on, or is a remark
				candidate, over = "", over || above == ""
			}
		case trimmed == "" && candidate != "" && before != "" && !strings.HasPrefix(strings.TrimSpace(before), "#"):
			candidate = ""
		}
		before = line
	}
	end()
	return under
}

// group assigns headings to switches and settings.
func (r *Reading) group(under map[string]string) {
	for i := range r.Switches {
		if g := under[r.Switches[i].Raw]; g != "" {
			r.Switches[i].Group = g
		}
	}
	for i := range r.Settings {
		if g := under[r.Settings[i].Raw]; g != "" {
			r.Settings[i].Group = g
		}
	}
}
