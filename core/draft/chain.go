package draft

import (
	"context"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/version"
)

// Places are archives from which the needs of a draft can be drafted, too.
type Places struct{ archives []string } // files and URLs

// PlacesOf finds the archives in folders and on pages.
func PlacesOf(ctx context.Context, m *machine.Machine, places []string) (*Places, error) {
	p := &Places{}
	for _, place := range places {
		if !strings.Contains(place, "://") {
			entries, err := os.ReadDir(place)
			if err != nil {
				return nil, problem.New(problem.Usage, "",
					"a chain is drafted from a folder of archives, or a page of them: %v", err).
					Coded(BadSource)
			}
			for _, e := range entries {
				if archiveSuffix.MatchString(e.Name()) && e.Type().IsRegular() {
					p.archives = append(p.archives, filepath.Join(place, e.Name()))
				}
			}
			continue
		}
		page, err := url.Parse(place)
		if err != nil {
			return nil, problem.New(problem.Usage, "", "%v", err).Coded(BadSource)
		}
		text, err := m.Archives.FetchSmall(ctx, place)
		if err != nil {
			return nil, err
		}
		for _, found := range references.FindAllStringSubmatch(string(text), 20_000) {
			if to, err := page.Parse(found[1]); err == nil && archiveSuffix.MatchString(to.Path) && to.Host == page.Host {
				p.archives = append(p.archives, to.String())
			}
		}
	}
	slices.Sort(p.archives)
	p.archives = slices.Compact(p.archives)
	return p, nil
}

// references matches the targets of links in a page.
var references = pattern.New(`(?i)\bhref\s*=\s*["']?([^"'\s>]+)`)

// For finds the archive that should have something: one with that name; of several releases, the
// newest.
func (p *Places) For(l buildfile.Lookup) (archive string, found bool) {
	best, newest := 0, version.Version{}
	for _, candidate := range p.archives {
		m := archiveParts.FindStringSubmatch(path.Base(candidate))
		if m == nil {
			continue
		}
		v, err := version.Parse(m[2])
		if err != nil {
			continue
		}
		name := strings.ToLower(m[1])
		first, _, _ := strings.Cut(name, "-")
		for _, wanted := range l.Names {
			fits := 0
			switch stem := buildfile.Stem(wanted); {
			case name == strings.ToLower(wanted):
				fits = 3
			case buildfile.Stem(name) == stem:
				fits = 2
			case buildfile.Stem(first) == stem && len(stem) > 2:
				fits = 1
			}
			if fits > best || fits > 0 && fits == best && v.Compare(newest) > 0 {
				best, newest, archive = fits, v, candidate
			}
		}
	}
	return archive, best > 0
}

// Lacks are the look-ups for which no recipe is known.
func (s *Source) Lacks(known *Known) (lacks []buildfile.Lookup) {
	d := &decision{source: s, e: Evidence{Known: known}, recipes: map[string]string{}}
	for _, l := range s.Lookups {
		if l.Kind == "program" {
			continue
		}
		if _, sure, found := d.provider(l); !found || !sure {
			lacks = append(lacks, l)
		}
	}
	return lacks
}

// Promise records what a source seems to offer once it is built, judged by the files that it
// installs. Where a tree or a recipe says more, that counts.
func (k *Known) Promise(s *Source, files fs.FS) {
	name := s.Name.Value
	if !slices.Contains(k.recipes, name) {
		k.recipes = append(k.recipes, name)
	}
	if k.versions[name] == "" {
		k.versions[name] = s.Version.Value
	}
	promise := func(kind, what string) {
		if key := keyOf(kind, what); k.provides[key] == "" {
			k.provides[key] = name
		}
	}
	promise("library", strings.TrimPrefix(name, "lib"))
	promise("package", name)
	t := &tree{files: files, texts: map[string]string{}}
	const deepest = 4
	fs.WalkDir(files, ".", func(file string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || d.IsDir() && (strings.Count(file, "/") >= deepest || file != "." && aside.MatchString(d.Name())):
			return fs.SkipDir
		case d.IsDir():
		case strings.HasSuffix(file, ".pc.in") || strings.HasSuffix(file, ".pc"):
			promise("module", strings.TrimSuffix(strings.TrimSuffix(path.Base(file), ".in"), ".pc"))
			for _, m := range linked.FindAllStringSubmatch(t.text(file), 20) {
				promise("library", m[1])
			}
		case strings.HasSuffix(file, ".h"):
			if _, below, is := strings.Cut("/"+file, "/include/"); is {
				promise("header", below)
			} else if strings.Count(file, "/") < 2 {
				promise("header", path.Base(file))
			}
		}
		return nil
	})
}

// linked matches the libraries named in a module's file.
var linked = pattern.New(`(?m)^Libs:.*?\s-l([\w+.-]+)`)
