package host

import (
	"context"
	"strings"
)

// SourcePackage is the name of the distribution's source package of a package, by the lists of
// apt, and whether it has the same home page; one with only the same name comes second. It is ""
// if there is none, or no apt.
func (p Programs) SourcePackage(ctx context.Context, name, home string) (source string, same bool) {
	apt := p.Find("apt-cache")
	if apt == "" {
		return "", false
	}
	var binary, of, page string
	end := func() { // of what is said about a package
		if of == "" {
			of = binary
		}
		switch {
		case same || of == "":
		case home != "" && samePage(home, page):
			source, same = of, true
		case of == name:
			source = of
		}
		binary, of, page = "", "", ""
	}
	err := lines(ctx, []string{"LC_ALL=C"}, func(line string) {
		key, value, _ := strings.Cut(line, ": ")
		switch key {
		case "":
			end()
		case "Package":
			binary = value
		case "Source":
			of, _, _ = strings.Cut(value, " ") // and its version in parentheses
		case "Homepage":
			page = value
		}
	}, apt, "dumpavail")
	if err != nil {
		return "", false
	}
	end()
	return source, same
}

// samePage compares the URLs of two pages without what often differs.
func samePage(a, b string) bool {
	plain := func(url string) string {
		_, url, _ = strings.Cut(strings.ToLower(url), "://")
		return strings.TrimSuffix(strings.TrimPrefix(url, "www."), "/")
	}
	return b != "" && plain(a) == plain(b)
}
