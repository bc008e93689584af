package draft

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

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
	turn := func(sw *buildfile.Switch) error { return h.turn(sw, lookups) }
	var unasked atomic.Int32
	err := each(named, func(sw *buildfile.Switch) error {
		if h.late(2) {
			unasked.Add(1)
			return nil
		}
		return turn(sw)
	})
	if err != nil {
		return err
	}
	err = each(static, func(sw *buildfile.Switch) error {
		run, err := h.run(slices.Concat(h.args, sw.Off), h.answers)
		if err == nil && !run.OK {
			sw.Default, sw.Purpose, sw.Off = buildfile.On, "", nil
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := each(valued, h.choose); err != nil {
		return err
	}
	left := int(unasked.Load())
	for _, group := range []struct {
		switches []*buildfile.Switch
		says     func(*heardRun) bool // whether one of them is not as it was read
	}{
		{aside, func(r *heardRun) bool { _, compiled := differ(h.full, r); return compiled }},
		{off, func(r *heardRun) bool { changed, _ := differ(h.full, r); return changed }},
		{on, func(r *heardRun) bool { return len(missing(h.full, r)) > 0 }},
	} {
		n, err := h.together(group.switches, group.says, turn)
		if err != nil {
			return err
		}
		left += n
	}
	if left > 0 {
		h.source.Remarks = append(h.source.Remarks,
			Finding{"options", fmt.Sprintf("%d of its switches were only read from files", left), "time ran out", Guessed})
	}
	return nil
}

// choose sets a switch to each of its values, and adds the look-ups of one value alone.
func (h *hearing) choose(sw *buildfile.Switch) error {
	for _, v := range sw.Order {
		if h.late(1) || v == sw.Value {
			continue
		}
		run, err := h.run(slices.Concat(h.args, sw.Values[v]), h.answers)
		if err != nil {
			return err
		}
		h.lock.Lock()
		h.came(run, sw, v)
		h.lock.Unlock()
	}
	return nil
}

// came adds inquiries that a run made only because a switch is on, or has some value. The caller
// holds the lock.
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

// together turns switches off together and, if that has an effect, in halves. It returns the
// number of those that there was no time for.
func (h *hearing) together(switches []*buildfile.Switch, says func(*heardRun) bool,
	turn func(*buildfile.Switch) error) (left int, err error) {
	switch {
	case len(switches) == 0:
		return 0, nil
	case h.late(1):
		return len(switches), nil
	case len(switches) == 1:
		return 0, turn(switches[0])
	}
	args := slices.Clone(h.args)
	for _, sw := range switches {
		args = append(args, sw.Off...)
	}
	run, err := h.run(args, h.answers)
	if err != nil || run.OK && !says(run) {
		return 0, err
	}
	half := len(switches) / 2
	var lock sync.Mutex
	err = each([][]*buildfile.Switch{switches[:half], switches[half:]}, func(some []*buildfile.Switch) error {
		n, err := h.together(some, says, turn)
		lock.Lock()
		defer lock.Unlock()
		left += n
		return err
	})
	return left, err
}

// turn turns a switch off and, if that shows nothing about look-ups, on.
func (h *hearing) turn(sw *buildfile.Switch, lookups []*buildfile.Lookup) error {
	off, err := h.run(slices.Concat(h.args, sw.Off), h.answers)
	if err != nil {
		return err
	}
	changed, configured := differ(h.full, off)
	gone := missing(h.full, off)
	var on *heardRun
	if len(sw.On) > 0 && (len(gone) > 0 || !changed) {
		if on, err = h.run(slices.Concat(h.args, sw.On), h.answers); err != nil {
			return err
		}
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	if !off.OK { // it cannot be turned off
		sw.Default, sw.Purpose = buildfile.On, ""
		sw.Off = nil
		return nil
	}
	if configured { // it is about what is built, whatever it is called
		sw.Purpose = ""
	}
	had := slices.ContainsFunc(slices.Collect(maps.Keys(gone)), func(key string) bool {
		_, answered := h.answers[key]
		return answered
	})
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
	if had { // it is found without being told where, or that it has to be
		if sw.Place = false; on == nil || !on.OK || unlike(h.full, on) != nil {
			sw.On = nil
		}
	}
	return nil
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
