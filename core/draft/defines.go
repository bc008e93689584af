package draft

import (
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/safefs"
)

const largestHeader = 4 << 20 // bytes that are read

// Defines is the header, as programs include it, with which the tree of one of some packages
// defines a macro or a type; "" if none or several do. Sources often lack an #include that an
// older release of another library has made for them.
func (k *Known) Defines(packages []string, name string) (header string) {
	const most = 2000 // headers
	defines := regexp.MustCompile(`(?m)^\s*#\s*define\s+` + regexp.QuoteMeta(name) + `\b|^\s*(?:typedef\b.*|\}\s*)\b` +
		regexp.QuoteMeta(name) + `\s*;`)
	several, read := false, 0
	for _, pkg := range packages {
		tree := k.trees[pkg]
		if tree == "" {
			continue
		}
		include := filepath.Join(tree, "include")
		filepath.WalkDir(include, func(path string, e fs.DirEntry, err error) error {
			if read++; err != nil || read > most || !e.Type().IsRegular() || !strings.HasSuffix(path, ".h") {
				return nil
			}
			text, err := safefs.ReadFile(path, largestHeader)
			if err != nil || !defines.Match(text) {
				return nil
			}
			below, err := filepath.Rel(include, path)
			several = several || header != "" && header != below
			header = below
			return err
		})
	}
	if several {
		return ""
	}
	return header
}

// Implements is the library of one of some packages that has another one's header, and its name with
// something before it: libnmoss implements moss. It is "" for none. Both names are harmless in shell text.
func (k *Known) Implements(packages []string, library string) string {
	if of := k.provides["header "+library+".h"]; slices.Contains(packages, of) {
		for _, key := range slices.Sorted(maps.Keys(k.provides)) {
			name, is := strings.CutPrefix(key, "library ")
			if is && k.provides[key] == of && name != library && strings.HasSuffix(name, library) &&
				plainPath.MatchString(name) {
				return name
			}
		}
	}
	return ""
}

// Relink is shell text that has makefiles link one library instead of another.
func Relink(library, with string) string {
	return fmt.Sprintf("find . -name '*[Mm]akefile*' -type f -exec sed -i 's/-l%s\\>/-l%s/g' {} +", library, with)
}
