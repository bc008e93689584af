package draft

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/recipe"
)

// switches finds the defaults of the source's switches, and the look-ups that they control, from
// what changes when they are turned off. Switches named after a look-up are turned off one by
// one, the others together first.
func (h *hearing) switches(lookups []*buildfile.Lookup) error {
	var named, off, on, aside, valued, static []*buildfile.Switch
	for i := range h.source.Switches {
		sw := &h.source.Switches[i]
		switch {
		case h.outward && theirs.MatchString(sw.Raw):
			sw.Default = buildfile.Off
		case sw.Values != nil:
			valued = append(valued, sw)
		case sw.Purpose == buildfile.Static && sw.Default != buildfile.Off &&
			h.source.Method.Value != string(recipe.Configure): // libtool's is known to work
			static = append(static, sw)
		case len(sw.Off) == 0, sw.Purpose == buildfile.Shared, sw.Purpose == buildfile.Static:
		case slices.ContainsFunc(lookups, func(l *buildfile.Lookup) bool {
			return slices.ContainsFunc(l.Names, func(name string) bool { return buildfile.Stem(name) == buildfile.Stem(sw.Raw) })
		}):
			named = append(named, sw)
		case sw.Purpose != "":
			aside = append(aside, sw)
		case sw.Default == buildfile.Off:
			off = append(off, sw)
		default:
			on = append(on, sw)
		}
	}
	named, err := h.idle(named, lookups)
	if err != nil {
		return err
	}
	var left []*buildfile.Switch
	for _, group := range []struct {
		switches []*buildfile.Switch
		share    int
		says     func(*heardRun) bool // whether one of them is not as it was read; nil: each is turned alone
	}{
		{aside, 2, func(r *heardRun) bool { _, compiled := differ(h.full, r); return compiled }},
		{named, 2, nil},
		{off, 1, func(r *heardRun) bool { changed, _ := differ(h.full, r); return changed }},
		{on, 1, func(r *heardRun) bool { return len(missing(h.full, r)) > 0 }},
	} {
		more, err := h.together(group.switches, lookups, group.share, group.says)
		if err != nil {
			return err
		}
		left = append(left, more...)
	}
	asRead, err := h.asRead(left)
	if err != nil {
		return err
	}
	if !asRead {
		h.source.Remarks = append(h.source.Remarks,
			Finding{"options", fmt.Sprintf("%d of its switches were only read from files", len(left)), "time ran out", Guessed})
	}
	err = each(static, func(sw *buildfile.Switch) (conclude func(), err error) {
		run, err := h.run(slices.Concat(h.args, sw.Off), h.answers)
		return func() {
			if !run.OK {
				sw.Default, sw.Purpose, sw.Off = buildfile.On, "", nil
			}
		}, err
	})
	if err != nil {
		return err
	}
	for _, sw := range valued {
		if err := h.choose(sw); err != nil {
			return err
		}
	}
	return nil
}

// asRead reports whether switches are by default as they were read: whether one run in which each is
// set to that is like the one in which none is.
func (h *hearing) asRead(switches []*buildfile.Switch) (bool, error) {
	if len(switches) == 0 {
		return true, nil
	}
	args := slices.Clone(h.args)
	for _, sw := range switches {
		switch sw.Default {
		case buildfile.On:
			args = append(args, sw.On...)
		case buildfile.Off:
			args = append(args, sw.Off...)
		}
	}
	run, err := h.run(args, h.answers)
	return err == nil && run.OK && len(unlike(h.full, run)) == 0, err
}

// choose sets a switch to each of its values, and adds the look-ups of one value alone.
func (h *hearing) choose(sw *buildfile.Switch) error {
	values := slices.DeleteFunc(slices.Clone(sw.Order), func(v string) bool { return v == sw.Value })
	return each(values[:h.ask(len(values), 2)], func(v string) (conclude func(), err error) {
		run, err := h.run(slices.Concat(h.args, sw.Values[v]), h.answers)
		return func() { h.came(run, sw, v) }, err
	})
}

// came adds inquiries that a run made only because a switch is on, or has some value.
func (h *hearing) came(run *heardRun, sw *buildfile.Switch, v string) {
	came := missing(run, h.full)
	for _, a := range run.Asked {
		if came[a.Key()] && !h.own(a) && a.Kind != "function" && a.Kind != "program" {
			l := asLookup(a)
			l.Switch, l.Value, l.Required = sw.Name, v, !run.OK
			h.more = append(h.more, &l)
		}
	}
}

// together turns switches off together and, if that says something, in halves, down to single
// ones. It returns those that there was no time for.
func (h *hearing) together(switches []*buildfile.Switch, lookups []*buildfile.Lookup, share int,
	says func(*heardRun) bool) (left []*buildfile.Switch, err error) {
	groups := slices.Collect(slices.Chunk(switches, max(1, len(switches))))
	if says == nil {
		groups = slices.Collect(slices.Chunk(switches, 1))
	}
	for len(groups) > 0 {
		asked := h.ask(len(groups), share)
		left = append(left, slices.Concat(groups[asked:]...)...)
		var halves [][]*buildfile.Switch
		err = each(groups[:asked], func(group []*buildfile.Switch) (conclude func(), err error) {
			if len(group) == 1 {
				return h.turn(group[0], lookups)
			}
			args := slices.Clone(h.args)
			for _, sw := range group {
				args = append(args, sw.Off...)
			}
			run, err := h.run(args, h.answers)
			return func() {
				if half := len(group) / 2; !run.OK || says(run) {
					halves = append(halves, group[:half], group[half:])
				}
			}, err
		})
		if err != nil {
			return left, err
		}
		groups = halves
	}
	return left, nil
}

// idle turns off, in one run, the switches named after look-ups that find nothing. Each of them
// controls the look-ups with its name. It returns the switches that have to be turned off alone:
// those that may control more than that, or have another effect on compilation.
func (h *hearing) idle(named []*buildfile.Switch, lookups []*buildfile.Lookup) (alone []*buildfile.Switch, err error) {
	const worth = 3
	args, of := slices.Clone(h.args), map[string]*buildfile.Switch{} // by the stem of its name
	for _, sw := range named {
		stem := buildfile.Stem(sw.Raw)
		chosen := slices.ContainsFunc(sw.On, func(arg string) bool { return slices.Contains(h.args, arg) })
		if of[stem] == nil && !chosen && !slices.ContainsFunc(lookups, func(l *buildfile.Lookup) bool {
			return buildfile.Stem(l.Name()) == stem && h.answered(l)
		}) {
			of[stem], args = sw, append(args, sw.Off...)
		}
	}
	if len(of) < worth || h.ask(1, 2) == 0 {
		return named, nil
	}
	run, err := h.run(args, h.answers)
	if err != nil || !run.OK {
		return named, err
	}
	doubtful, known := h.affected(run, of)
	if !known {
		return named, nil
	}
	its := controls(missing(h.full, run), of, lookups, doubtful)
	for _, sw := range named {
		if its[sw] == nil || doubtful[sw] {
			alone = append(alone, sw)
			continue
		}
		sw.Default = buildfile.Auto
		for _, l := range its[sw] {
			l.Switch = sw.Name
		}
	}
	return alone, nil
}

// affected are the switches whose names are in what a run has made otherwise. It reports whether they
// account for all that has an effect on compilation; short names account for nothing.
func (h *hearing) affected(run *heardRun, of map[string]*buildfile.Switch) (switches map[*buildfile.Switch]bool,
	known bool) {
	switches, known = map[*buildfile.Switch]bool{}, true
	for _, made := range unlike(h.full, run) {
		named := !compiled(made)
		for stem, sw := range of {
			if strings.Contains(buildfile.Stem(made), stem) {
				switches[sw] = true
				named = named || len(stem) > 2
			}
		}
		known = known && named
	}
	return switches, known
}

// controls are the look-ups that are gone, by the switch with their name. Others, between those of
// two switches, may be controlled by either: both are doubtful.
func controls(gone map[string]bool, of map[string]*buildfile.Switch, lookups []*buildfile.Lookup,
	doubtful map[*buildfile.Switch]bool) map[*buildfile.Switch][]*buildfile.Lookup {
	its := map[*buildfile.Switch][]*buildfile.Lookup{}
	var last *buildfile.Switch // nil before the first
	between := false
	for _, l := range lookups {
		switch sw := of[buildfile.Stem(l.Name())]; {
		case !gone[keyOf(l.Kind, l.Name())]:
		case sw == nil:
			doubtful[last], between = true, true
		default:
			its[sw] = append(its[sw], l)
			doubtful[sw] = doubtful[sw] || between
			last, between = sw, false
		}
	}
	return its
}

// turn turns a switch off and, if that shows nothing about look-ups, on.
func (h *hearing) turn(sw *buildfile.Switch, lookups []*buildfile.Lookup) (conclude func(), err error) {
	off, err := h.run(slices.Concat(h.args, sw.Off), h.answers)
	if err != nil {
		return nil, err
	}
	var on *heardRun
	changed, configured := differ(h.full, off)
	says := !changed // whether a run with it on can say more
	if len(missing(h.full, off)) > 0 {
		says = configured || len(h.lost(h.full, off)) > 0
	}
	if len(sw.On) > 0 && says {
		if on, err = h.run(slices.Concat(h.args, sw.On), h.answers); err != nil {
			return nil, err
		}
	}
	return func() { h.turned(sw, lookups, off, on) }, nil
}

// turned draws conclusions from the runs with a switch off and on.
func (h *hearing) turned(sw *buildfile.Switch, lookups []*buildfile.Lookup, off, on *heardRun) {
	if !off.OK { // it cannot be turned off
		sw.Default, sw.Purpose = buildfile.On, ""
		sw.Off = nil
		return
	}
	changed, configured := differ(h.full, off)
	gone := missing(h.full, off)
	if configured { // it affects what is built, whatever its name
		sw.Purpose = ""
	}
	had := len(h.lost(h.full, off)) > 0
	if configured && !had {
		clear(gone) // it is on, without them
	}
	required := false
	for _, l := range lookups {
		if gone[keyOf(l.Kind, l.Name())] {
			required = required || l.Required
			if l.Switch == "" || buildfile.Stem(l.Name()) == buildfile.Stem(sw.Raw) {
				l.Switch = sw.Name
			}
		}
	}
	if on != nil && len(gone) == 0 {
		h.came(on, sw, "")
	}
	switch {
	case len(gone) > 0 && !required:
		sw.Default = buildfile.Auto
	case len(gone) > 0 || changed:
		sw.Default = buildfile.On
	case sw.Default == buildfile.Auto:
		sw.Default = buildfile.Off
	}
	if had { // it is found without being told where, or that it is required
		if sw.Place = false; on == nil || !on.OK || unlike(h.full, on) != nil {
			sw.On = nil
		}
	}
}

// agree runs the step with the arguments that will be decided. To turn off what no recipe has can
// keep a source from looking for what the shelf has, under another switch. Then it is not turned
// off: a build does not see what it does not declare.
func (h *hearing) agree() error {
	all, rest := slices.Clone(h.args), slices.Clone(h.args)
	var lacking []string
	for _, c := range h.source.Decide(Evidence{Known: h.known}).Choices {
		said := c.Off
		if c.Set == "on" {
			said = c.On
		}
		if c.Values != nil || c.Set == string(c.Default) || slices.ContainsFunc(said, namesTree) {
			continue
		}
		all = append(all, said...)
		if c.Set == "off" && c.Purpose == "" && len(said) > 0 {
			lacking = append(lacking, c.Name)
		} else {
			rest = append(rest, said...)
		}
	}
	if len(lacking) == 0 {
		return nil
	}
	decided, err := h.run(all, h.answers)
	if err != nil || decided.OK && len(h.lost(h.full, decided)) == 0 {
		return err
	}
	without, err := h.run(rest, h.answers)
	if err != nil || !without.OK || decided.OK && len(h.lost(without, decided)) == 0 {
		return err
	}
	for i := range h.source.Switches {
		if sw := &h.source.Switches[i]; slices.Contains(lacking, sw.Name) {
			sw.Off = nil
		}
	}
	return nil
}

// namesTree reports whether an argument has the path of a need's tree in it.
func namesTree(arg string) bool { return strings.Contains(arg, "$FL_") }

// lost are inquiries for what the shelf has that one run made and another did not.
func (h *hearing) lost(one, other *heardRun) map[string]bool {
	lost := missing(one, other)
	maps.DeleteFunc(lost, func(key string, _ bool) bool {
		_, given := h.answers[key]
		return !given
	})
	return lost
}

// missing are the keys of inquiries that one run made and another did not.
func missing(one, other *heardRun) map[string]bool {
	keys := map[string]bool{}
	for _, a := range one.Asked {
		keys[a.Key()] = true
	}
	for _, a := range other.Asked {
		delete(keys, a.Key())
	}
	return keys
}

// unlike are results that differ between two runs.
func unlike(one, other *heardRun) (names []string) {
	for name, digest := range one.Made {
		if other.Made[name] != digest {
			names = append(names, name)
		}
	}
	for name := range other.Made {
		if _, there := one.Made[name]; !there {
			names = append(names, name)
		}
	}
	return names
}

// differ reports whether two runs have different results, and whether one of them has an effect
// on compilation.
func differ(one, other *heardRun) (changed, configured bool) {
	names := unlike(one, other)
	return len(names) > 0, slices.ContainsFunc(names, func(name string) bool {
		// A target that only one run has is no effect on compilation.
		return compiled(name) && (!strings.HasSuffix(name, "flags.make") || one.Made[name] != "" && other.Made[name] != "")
	})
}
