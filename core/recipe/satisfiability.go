package recipe

import (
	"slices"

	"fernladder/core/version"
)

// mostCases is the number of combinations of facts that are tried to judge a condition.
// Hand-written conditions have a few dozen.
const mostCases = 20_000

// satisfiability reports whether a condition can hold and whether it can fail, over all releases
// of the recipe, all values of its options, and all machines. If there are too many cases, it
// reports both.
func (r *Recipe) satisfiability(c Condition) (holds, fails bool) {
	if c.root == nil {
		return true, false
	}
	cases := []Facts{{Options: map[string]string{}}}
	multiply := func(n int, set func(f *Facts, i int)) {
		var more []Facts
		for _, f := range cases {
			for i := range n {
				next := f
				next.Options = make(map[string]string, len(f.Options)+1)
				for name, value := range f.Options {
					next.Options[name] = value
				}
				set(&next, i)
				more = append(more, next)
			}
		}
		cases = more
	}
	names := mentioned(c.root, nil)
	for name, values := range names {
		if len(cases) > mostCases {
			return true, true
		}
		switch name {
		case "version":
			versions := r.versions()
			multiply(len(versions), func(f *Facts, i int) { f.Version = versions[i] })
		case "arch":
			multiply(len(values)+1, func(f *Facts, i int) { f.Machine.Arch = append(values, "")[i] })
		case "host":
			multiply(len(values)+1, func(f *Facts, i int) { f.Machine.Family = append(values, "")[i] })
		default:
			choices := r.Option(name).Choices()
			if r.Option(name).Takes != "" { // the values that it is compared with, and another
				choices = append(slices.Clone(values), "?")
			}
			multiply(len(choices), func(f *Facts, i int) { f.Options[name] = choices[i] })
		}
	}
	for _, f := range cases {
		if c.Holds(f) {
			holds = true
		} else {
			fails = true
		}
	}
	return holds, fails
}

// versions are those that the recipe can build. A tip can have any version, so with one there is
// also a version above all others.
func (r *Recipe) versions() []version.Version {
	var all []version.Version
	for _, x := range r.Releases {
		if !x.Version.IsZero() {
			all = append(all, x.Version)
		}
	}
	if r.Tip() != nil {
		highest, _ := version.Parse("999999999")
		all = append(all, highest)
	}
	return all
}

// mentioned adds what a condition asks about to names, with the values that it compares.
func mentioned(e expression, names map[string][]string) map[string][]string {
	if names == nil {
		names = map[string][]string{}
	}
	switch e := e.(type) {
	case both:
		mentioned(e.a, names)
		mentioned(e.b, names)
	case oneOf:
		mentioned(e.a, names)
		mentioned(e.b, names)
	case negation:
		mentioned(e.a, names)
	case comparison:
		if !slices.Contains(names[e.name], e.value) {
			names[e.name] = append(names[e.name], e.value)
		}
	}
	return names
}
