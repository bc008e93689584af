package host

import (
	"context"
	"strings"
)

// SourcePackage is the name of the distribution's source package of a package, by the lists of
// apt, and whether it names the same home page. It is "" where there is none, or no apt.
func (p Programs) SourcePackage(ctx context.Context, name, home string) (source string, same bool) {
	apt := p.Find("apt-cache")
	if apt == "" {
		return "", false
	}
	var candidates []string
	for _, form := range []string{"%", "lib%", "%-dev", "lib%-dev", "lib%1", "%-bin", "%-utils"} {
		candidates = append(candidates, strings.ReplaceAll(form, "%", name))
	}
	out, _, err := p.run(ctx, "", append([]string{apt, "--quiet", "show", "--"}, candidates...)...)
	if err != nil && out == "" {
		return "", false
	}
	for paragraph := range strings.SplitSeq(out, "\n\n") {
		field := map[string]string{}
		for line := range strings.Lines(paragraph) {
			if key, value, is := strings.Cut(strings.TrimSpace(line), ": "); is && line[0] != ' ' {
				field[key] = value
			}
		}
		of, _, _ := strings.Cut(field["Source"], " ") // and its version in parentheses
		if of == "" {
			of = field["Package"]
		}
		switch {
		case home != "" && samePage(home, field["Homepage"]):
			return of, true
		case of == name:
			source = of
		}
	}
	return source, false
}

// samePage compares the URLs of two pages without what often differs.
func samePage(a, b string) bool {
	plain := func(url string) string {
		_, url, _ = strings.Cut(strings.ToLower(url), "://")
		return strings.TrimSuffix(strings.TrimPrefix(url, "www."), "/")
	}
	return b != "" && plain(a) == plain(b)
}
