package draft

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
)

// downloads adds what the build of a source would download.
func (s *Source) downloads(all []Download) {
	for _, d := range all {
		e := ExtraOf{Name: strings.ToLower(d.Name), URL: d.URL, SHA256: d.SHA256, Into: "extras/" + d.Name}
		if d.Tag != "" {
			e.URL += " at " + d.Tag
		}
		if d.Arg != "" {
			e.Arg = fmt.Sprintf(d.Arg, "$FL_SOURCE/"+e.Into)
		}
		s.extra(e)
	}
}

// extra adds an additional archive, only once.
func (s *Source) extra(e ExtraOf) {
	if recipe.CheckName(e.Name) != nil || !fs.ValidPath(e.Into) {
		return
	}
	for _, other := range s.Extras {
		if other.Name == e.Name {
			return
		}
	}
	s.Extras = append(s.Extras, e)
}

// wrapKey matches a line of a wrap file (Meson's reference manual, Wrap dependency system).
var wrapKey = pattern.New(`(?m)^[ \t]*(directory|source_url|source_hash|patch_url|patch_hash)[ \t]*=[ \t]*(\S+)`)

// wraps adds the subprojects of Meson that the archive lacks, from their wrap files.
func (t *tree) wraps(s *Source) {
	files, _ := fs.Glob(t.files, "subprojects/*.wrap")
	for _, file := range files {
		says := map[string]string{}
		for _, m := range wrapKey.FindAllStringSubmatch(t.text(file), -1) {
			says[m[1]] = m[2]
		}
		name := strings.ToLower(strings.TrimSuffix(path.Base(file), ".wrap"))
		into := path.Join("subprojects", says["directory"])
		if says["directory"] == "" || says["source_url"] == "" || t.hasDir(into) {
			continue
		}
		s.extra(ExtraOf{Name: name, URL: says["source_url"], SHA256: says["source_hash"], Into: into})
		if says["patch_url"] != "" {
			s.extra(ExtraOf{Name: name + "-build", URL: says["patch_url"], SHA256: says["patch_hash"], Into: into})
		}
	}
}
