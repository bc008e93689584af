package draft

import (
	"slices"

	"fernladder/core/buildfile"
	"fernladder/core/recipe"
)

// Changes are the options and look-ups of the source that a recipe for an earlier release lacks,
// and those of the recipe that the source no longer has.
func (s *Source) Changes(r *recipe.Recipe) (came, went []string) {
	for _, sw := range s.Switches {
		if r.Option(sw.Name) == nil {
			came = append(came, "option "+sw.Name+" ("+plainText(sw.About)+")")
		}
	}
	for _, o := range r.Options {
		args := append(slices.Clone(o.On), o.Off...)
		if !o.Implied && len(args) > 0 &&
			!slices.ContainsFunc(s.Switches, func(sw buildfile.Switch) bool { return sw.Name == o.Name }) {
			went = append(went, "option "+o.Name)
		}
	}
	asked := func(l buildfile.Lookup) bool {
		return slices.ContainsFunc(l.Names, func(name string) bool {
			stem := buildfile.Stem(name)
			return slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool {
				return buildfile.Stem(n.Question().Name) == stem
			}) ||
				slices.ContainsFunc(r.Needs, func(n *recipe.Need) bool {
					return slices.ContainsFunc(n.Names(), func(name string) bool { return buildfile.Stem(name) == stem })
				}) || r.Option(stem) != nil
		})
	}
	for _, l := range s.Lookups {
		if l.Required && !asked(l) && l.Switch == "" {
			came = append(came, "it looks for the "+l.Kind+" "+l.Name())
		}
	}
	return slices.Compact(came), went
}
