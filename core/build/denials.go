package build

import (
	"bufio"
	"os"
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/sandbox"
)

// denials finds, in the output of a build, what it wanted of the machine and could not have in
// its room: a file to read or change, or an address. Programs that print nothing about it are
// missed.
func denials(log string, level sandbox.Level) []string {
	if level == sandbox.Open || level == "" {
		return nil
	}
	f, err := os.Open(log)
	if err != nil {
		return nil
	}
	defer f.Close()
	const enough = 3
	var found []string
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 1<<16), 1<<20)
	for lines.Scan() && len(found) < enough {
		line := lines.Text()
		for _, trace := range denied {
			if match := trace.pattern.FindStringSubmatch(line); match != nil {
				what := strings.ReplaceAll(trace.says, "$", match[len(match)-1])
				if !slices.Contains(found, what) {
					found = append(found, what)
				}
				break
			}
		}
	}
	return found
}

// denied are messages of programs that a room keeps something from. The last group of a pattern
// is what they wanted.
var denied = []struct {
	pattern *pattern.Pattern
	says    string
}{
	{pattern.New("(?i)(?:could not|unable to|can't|cannot) resolve (?:host(?:name)?|address)?(?: address)?:? " +
		"*['`\"‘“]?([A-Za-z0-9.-]+\\.[A-Za-z0-9-]+)"), "the address $; builds have no network"},
	{pattern.New(`(?i)(?:Name or service not known` +
		`|Temporary failure in name resolution).*?([A-Za-z0-9-]+\.[A-Za-z0-9.-]+)`), "the address $; builds have no network"},
	{pattern.New(`([A-Za-z0-9.:-]+\.[A-Za-z0-9.:-]+).*(?:Name or service not known` +
		`|Temporary failure in name resolution|Network is unreachable)`), "the network"},
	{pattern.New(`()Network is unreachable`), "the network"},
	{pattern.New("['`\"‘“]?(/[^'`\"’”:]+)['`\"’”]?: Read-only file system"), "to change $, which is read-only for builds"},
	{pattern.New("(?:^|[^\\w./-])(/(?:home|root)/[^'`\"’”: ]+)['`\"’”]?: (?:No such file or directory|Permission denied)"),
		"the file $; builds see no home directories"},
	{pattern.New("['`\"‘“]?(/(?:usr|etc|opt|var|srv|lib|bin|sbin|boot)[^'`\"’”: ]*)['`\"’”]?: Permission denied"),
		"to change or read $, which builds may not"},
}
