package build

import (
	"strconv"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/store"
	"fernladder/core/traces"
)

// turnsOff matches arguments that turn something off: --disable-x, --without-x, -Dx=OFF.
var turnsOff = pattern.New(`^(?:--(?:disable|without)-([\w.+-]+)|(?:--(?:enable|with)-` +
	`|-D)?([\w.+-]+)(?::\w+)?=(?i:off|no|false|disabled|0))$`)

// leftAside are the names of what the job's arguments and options turn off.
func leftAside(job *Job) []string {
	var names []string
	for _, o := range job.Recipe.Options {
		if job.Package.Options[o.Name] == "off" {
			names = append(names, o.Name)
		}
	}
	for _, arg := range arguments(job) {
		if m := turnsOff.FindStringSubmatch(arg); m != nil {
			names = append(names, m[1]+m[2])
		}
	}
	return names
}

// features are what the source reports to be configured with and without.
func features(job *Job, log string) []store.Feature {
	all := traces.Features(log, leftAside(job), ownMark)
	for i := range all {
		f := &all[i]
		f.Name, f.Says, f.Lacks = printable(f.Name), printable(f.Says), printable(f.Lacks)
	}
	return all
}

// missedNames names features that are off without a stated reason.
func missedNames(all []store.Feature) (names []string) {
	for _, f := range store.Missed(all) {
		names = append(names, f.Name)
	}
	return names
}

// withoutText describes such features in one line.
func withoutText(all []store.Feature) string {
	var texts []string
	for _, f := range store.Missed(all) {
		texts = append(texts, strings.TrimSpace(traces.FeatureText(f)))
	}
	if len(texts) == 0 {
		return ""
	}
	return "without " + inOneLine(texts)
}

// inOneLine joins a list into one line, and cuts off a long one.
func inOneLine(names []string) string {
	const enough = 8
	if len(names) <= enough {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:enough], ", ") + ", and " + strconv.Itoa(len(names)-enough) + " more"
}
