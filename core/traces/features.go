package traces

// This file reads what a source reports while it is configured: which features are on and off,
// and what it looked for and did not find. It reads the output of configure scripts, CMake and
// Meson in common forms; what a source does not print is unknown.

import (
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/pattern"
	"fernladder/core/store"
)

// FeatureText is the name of a feature, with what the source did not find if that has another
// name.
func FeatureText(f store.Feature) string {
	if f.On || f.Lacks == "" || buildfile.Stem(f.Lacks) == buildfile.Stem(f.Name) {
		return f.Name
	}
	return f.Name + " (" + f.Lacks + " not found)"
}

// Without names what a source said that it was configured without or, if it said nothing, what was
// left out although no argument asked for that.
func Without(r *store.Receipt) (names []string) {
	if len(r.Features) == 0 {
		return r.Without
	}
	for _, f := range store.Missed(r.Features) {
		names = append(names, FeatureText(f))
	}
	return names
}

const (
	yes = `yes|on|enabled|true|found|ok`
	no  = `no|off|disabled|false|not found|none|not available|missing`
)

// A line of the summary that many print at their end: NAME: no, or NAME ..... no.
var (
	summed = pattern.New(`^[ \t|*#-]*([A-Za-z][\w +/.()-]{1,40}?)[ \t.]*[:=][ \t]*(?i:(` + yes + `)|` + no +
		`)((?:[ \t]*[(,:].*)?|[ \t]+[\d.]+)$`)
	summedDots = pattern.New(`^[ \t|*#-]*([A-Za-z][\w +/()-]{1,40}?)[ \t]*\.{3,}[: \t]*(?i:(` + yes + `)|` + no +
		`)((?:[ \t]*[(,].*)?)$`)
	summedWide = pattern.New(`^[ \t]*([A-Za-z][\w +/()-]{1,40}?)[ \t]{3,}(?i:(yes)|no)()$`)
	ordinary   = pattern.New(`(?i)^(?:cross[ -]?compil|static|shared|debug|test|doc|man|example|bench|fuzz|coverage` +
		`|werror|warning|sanitiz|valgrind|profil|maintainer|verbose|developer|host cpu|build type|silent` +
		`|dependency tracking|install|pic|rpath|whether )`)
	lookups = pattern.New(`^(?i:checking |run-time dependency|build-time dependency|dependency |library |program ` +
		`|has header|header |compiler for |fetching |configuring |found )`)
	byArguments = pattern.New(`--(?:enable|with)-([\w.+-]+)`)
	notFound    = pattern.New(`(?i)\(?(?:([\w.+-]+) (?:is )?(?:not found|missing|not available|not installed)` +
		`|(?:missing|needs|requires|no) ([\w.+-]+))\)?`)
)

// Headings of lists that CMake prints (FeatureSummary).
var summaryList = pattern.New(`^-- The following (?:\w+ )?(?:features|packages) have (not been found|been found` +
	`|been enabled|been disabled):`)

// Headings of lists of what was said to Meson and CMake, which they print again.
var told = pattern.New(`^[ \t]*User defined options$`)

// Features reads the output of a configure step. off are names of what its arguments turn off.
// own begins lines that are not the source's.
func Features(log string, off []string, own string) []store.Feature {
	r := &reading{off: off, own: own, absent: map[string]string{}}
	lines := strings.Split(strings.TrimRight(log, "\n"), "\n")
	for i, line := range lines {
		const longest = 1000 // no summary has a longer one
		lines[i] = strings.TrimRight(line[:min(len(line), longest)], " \r\t")
	}
	for _, line := range lines {
		r.looked(line)
	}
	r.summary(lines)
	r.lists(lines)
	if !slices.ContainsFunc(r.all, func(f store.Feature) bool { return !f.On }) {
		// A source without a summary only reports its look-ups.
		for _, l := range r.lookups {
			r.add(store.Feature{Name: l.name, On: l.found, Says: l.version})
		}
	}
	for i := range r.all {
		r.explain(&r.all[i])
	}
	return r.all
}

type reading struct {
	off     []string
	own     string
	lookups []lookup
	absent  map[string]string // what was not found, by its stem
	all     []store.Feature
}

// add adds a feature, unless there is one of its name. If a source reports it twice, the later
// report counts.
func (r *reading) add(f store.Feature) {
	f.Name = strings.Trim(f.Name, " .")
	const most = 400
	if f.Name == "" || ordinary.MatchString(f.Name) || buildfile.Ordinary(f.Name) || len(r.all) == most {
		return
	}
	if i := slices.IndexFunc(r.all, func(o store.Feature) bool { return strings.EqualFold(o.Name, f.Name) }); i >= 0 {
		r.all[i].On, r.all[i].Says = f.On, f.Says
		return
	}
	r.all = append(r.all, f)
}

// summary reads the lines at the end that say NAME: yes or no.
func (r *reading) summary(lines []string) {
	const most = 200
	said := false
	for _, line := range lines[max(0, len(lines)-most):] {
		if told.MatchString(line) {
			said = true
		}
		line = strings.TrimPrefix(line, "Message: ")
		if said || lookups.MatchString(line) || r.own != "" && strings.HasPrefix(line, r.own) {
			continue
		}
		for _, p := range []*pattern.Pattern{summed, summedDots, summedWide} {
			if m := p.FindStringSubmatch(line); m != nil {
				r.add(store.Feature{Name: m[1], On: m[2] != "", Says: strings.Trim(m[3], " \t(),:")})
				break
			}
		}
	}
}

// lists reads those that CMake prints.
func (r *reading) lists(lines []string) {
	inside, on := false, false
	for _, line := range lines {
		item, is := strings.CutPrefix(line, " * ")
		switch {
		case is && inside:
			name, says, _ := strings.Cut(item, ", ")
			name, version, _ := strings.Cut(name, " (")
			r.add(store.Feature{Name: name, On: on, Says: strings.Trim(strings.TrimSuffix(version, ")")+" "+says, " ")})
		case line == "":
		default:
			m := summaryList.FindStringSubmatch(line)
			inside, on = m != nil, m != nil && (m[1] == "been found" || m[1] == "been enabled")
		}
	}
}

// told reports whether an argument turned something off.
func (r *reading) told(name string) bool {
	stem := buildfile.Stem(strings.ReplaceAll(name, " ", "-"))
	return slices.ContainsFunc(r.off, func(off string) bool { return buildfile.Stem(off) == stem })
}

// explain finds out why a feature is off.
func (r *reading) explain(f *store.Feature) {
	if f.On {
		return
	}
	f.Asked = r.told(f.Name)
	if by := byArguments.FindAllStringSubmatch(f.Says, -1); !f.Asked && len(by) > 0 { // what would turn it on, if stated
		f.Asked = !slices.ContainsFunc(by, func(m []string) bool { return !r.told(m[1]) })
	}
	f.Lacks = r.absent[buildfile.Stem(f.Name)]
	if m := notFound.FindStringSubmatch(f.Says); m != nil {
		f.Lacks, f.Says = m[1]+m[2], ""
	}
}
