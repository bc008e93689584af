package diagnose

import "strings"

// absolute distinguishes a library or header of the operating system, with an absolute path,
// from a file of the source.
func absolute(c *Cause, _ []string, _ int) bool {
	name := c.Name()
	if !strings.HasPrefix(name, "/usr/") {
		return true
	}
	file := name[strings.LastIndexByte(name, '/')+1:]
	switch stem, _, library := strings.Cut(strings.TrimPrefix(file, "lib"), ".so"); {
	case library:
		c.Kind, c.Names = MissingLibrary, []string{stem}
	case strings.HasSuffix(file, ".a"):
		c.Kind, c.Names = MissingLibrary, []string{strings.TrimSuffix(strings.TrimPrefix(file, "lib"), ".a")}
	case strings.HasPrefix(name, "/usr/include/"):
		c.Kind, c.Names = MissingHeader, []string{strings.TrimPrefix(name, "/usr/include/")}
	}
	return true
}

// makeSaid reads a message written by the author of a makefile.
func makeSaid(c *Cause, lines []string, at int) bool {
	text := c.Name()
	c.Names = nil
	if strings.HasPrefix(text, "missing separator") || strings.HasPrefix(text, "commands commence") ||
		strings.HasPrefix(text, "unterminated") {
		return true
	}
	return conclude(c, text, nil)
}

// complained reads a message of a hand-written script, if it names something missing.
func complained(c *Cause, lines []string, at int) bool {
	c.Names = []string{lines[at]}
	said(c, lines, at)
	return len(c.Names) > 0 && missingWords.MatchString(lines[at])
}

// atTheEnd reads a message of a script if almost nothing follows it.
func atTheEnd(c *Cause, lines []string, at int) bool {
	const few = 5
	return len(lines)-at <= few && complained(c, lines, at)
}

var missingWords = re(`(?i)not found|not be found|could not find|failed to find|cannot find|can't find` +
	`|unable to find|not present|no suitable|required|missing|installed|you need`)
