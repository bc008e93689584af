package diagnose

import (
	"slices"
	"strings"
)

// Build files also report missing things in their own words. A name in such a message is only
// the likely cause, unless something of that name was looked for before.

// conclude finds out what a message reports as missing, given what was looked for before it and
// not found, the last one first. The first line of a message says more than later ones. If
// nothing can be found out, it leaves the cause as it is. It returns true, as the last word of a
// rule.
func conclude(c *Cause, text string, failed []check) bool {
	c.Without = without(text)
	first, _, _ := strings.Cut(strings.TrimLeft(text, "\n *"), "\n")
	for _, text := range []string{first, text} {
		if c.confirmed(text, failed) || c.worded(text, false) || c.lastOf(failed) || c.worded(text, true) ||
			c.functionIn(text) {
			return true
		}
	}
	c.nearest(failed)
	return true
}

// confirmed looks in a text for things that were looked for. One thing may be looked for in
// several ways; of several programs, one will do.
func (c *Cause) confirmed(text string, failed []check) bool {
	named := map[string]string{}
	for _, word := range words.FindAllString(text, -1) {
		named[plain(word)] = strings.TrimRight(word, ".-+")
	}
	for _, as := range []func(check) string{check.plain, check.family, check.stem, check.unnumbered} {
		for _, f := range failed {
			word, is := named[as(f)]
			if !is {
				continue
			}
			kind, name := f.meant(word, text)
			switch {
			case c.Kind == Unknown:
				c.Kind, c.Names, c.Range = kind, []string{name}, f.rang
			case c.Kind == kind && kind == MissingProgram: // of which one will do
				if !slices.Contains(c.Names, name) {
					c.Names = append([]string{name}, c.Names...)
				}
			case kind != MissingProgram && plain(name) != plain(c.Name()) && f.family() != plain(c.Name()):
				c.Also = append(c.Also, Cause{Kind: kind, Names: []string{name}, Range: f.rang})
			}
			delete(named, as(f))
		}
		if len(c.Names) > 0 {
			c.orNumbered(failed)
			return true
		}
	}
	return false
}

// orNumbered adds the other names by which a script has looked for the same library: leaf2 and leaf.
func (c *Cause) orNumbered(failed []check) {
	for _, f := range failed {
		if c.Kind == MissingLibrary && f.kind == c.Kind && f.unnumbered() == plain(c.Name()) &&
			!slices.Contains(c.Names, f.name) {
			c.Names = append(c.Names, f.name)
		}
	}
}

// meant is what was looked for, given the word for it in a message.
func (f check) meant(word, text string) (kind Kind, name string) {
	kind, name = f.kindIn(text), f.name
	switch {
	case strings.HasSuffix(name, "-config") && !strings.HasSuffix(word, "-config"): // which would only report it
		return Missing, word
	case kind == MissingProgram && strings.HasPrefix(strings.ToLower(word), "lib"):
		return Missing, word
	case kind == Missing && plain(word) == f.plain() && !f.warned:
		return Missing, word
	case kind == Missing && strings.ToUpper(name) == name: // the names of its variables
		return Missing, strings.ToLower(name)
	}
	return kind, name
}

// worded looks for the usual phrases about something missing: of a known kind, or else of things
// with only a name.
func (c *Cause) worded(text string, anything bool) bool {
	for _, w := range wordings {
		if (w.kind == Missing) != anything {
			continue
		}
		for _, match := range w.pattern.FindAllStringSubmatch(text, -1) {
			name := strings.TrimRight(match[1], ".-_+")
			if len(name) < 2 || slices.Contains(commonWords, strings.ToLower(name)) ||
				name == "pkg-config" && !pkgConfigItself.MatchString(text) {
				continue
			}
			c.Kind, c.Names, c.Likely = w.kind, []string{name}, true
			if w.kind == MissingHeader && !strings.Contains(name, ".") {
				c.Names[0] += ".h"
			}
			if library := libraryOf(name); library != "" && anything {
				c.Kind, c.Names[0] = MissingLibrary, library
			}
			if len(match) > 2 {
				c.Range = strings.TrimSpace(match[2])
			}
			return true
		}
	}
	return false
}

// pkgConfigItself matches reports that pkg-config is missing; other messages only mention it as
// a way to look for something else.
var pkgConfigItself = re(`pkg-config\S* (?:\S+ )?(?:is |was |could )?(?:not |missing|required|needed)`)

// lastOf takes what was looked for right before a message, if its kind is known.
func (c *Cause) lastOf(failed []check) bool {
	return slices.ContainsFunc(failed, func(f check) bool { return f.last && f.certain() }) && c.nearest(failed)
}

// functionIn replaces a function in a message by its library.
func (c *Cause) functionIn(text string) bool {
	for _, word := range words.FindAllString(text, -1) {
		if library := libraryOf(word); library != "" {
			c.Kind, c.Names, c.Likely = MissingLibrary, []string{library}, true
			return true
		}
	}
	return false
}

// near is how many answers before a message may be its subject.
const near = 8

// nearest takes what was looked for last, if nothing says that it is the missing one. Of
// libraries that were looked for one after the other, one will do.
func (c *Cause) nearest(failed []check) bool {
	for _, f := range failed[:min(len(failed), near)] {
		switch {
		case c.Kind == MissingLibrary && f.kind == MissingLibrary:
			if !slices.Contains(c.Names, f.name) {
				c.Names = append([]string{f.name}, c.Names...)
			}
		case c.Kind != Unknown:
			return true
		case f.warned:
			c.Kind, c.Names = Missing, []string{f.name}
		case f.kind == functionCheck && libraryOf(f.name) != "":
			c.Kind, c.Names = MissingLibrary, []string{libraryOf(f.name)}
		case f.certain():
			c.Kind, c.Names, c.Range = f.kind, []string{f.name}, f.rang
		}
		c.Likely = c.Kind != Unknown
	}
	return c.Kind != Unknown
}
