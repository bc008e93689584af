package store

import (
	"fmt"
	"maps"
	"slices"
)

// Made is what a build was made of, as far as people distinguish builds of one release by it.
type Made struct {
	Options  map[string]string
	Needs    []Link
	Sources  []string // digests or commits
	Patches  []string // digests
	Compiler string
}

// Made is what the build was made of.
func (r *Receipt) Made() Made {
	m := Made{Options: r.Options, Needs: r.Needs, Compiler: r.Compiler}
	for _, s := range r.Sources {
		if s.Commit != "" {
			m.Sources = append(m.Sources, s.Commit)
		} else {
			m.Sources = append(m.Sources, s.Digest.Hex)
		}
	}
	for _, p := range r.Patches {
		m.Patches = append(m.Patches, p.Digest.Hex)
	}
	return m
}

// Against says in words how it differs from another. It is never empty: if nothing else differs,
// the instructions do.
func (m Made) Against(before Made) []string {
	var all []string
	names := slices.Sorted(maps.Keys(m.Options))
	for _, name := range names {
		switch old, had := before.Options[name]; {
		case !had:
			all = append(all, "option "+name+" is new")
		case old != m.Options[name]:
			all = append(all, fmt.Sprintf("%s=%s, not %s", name, m.Options[name], old))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(before.Options)) {
		if _, has := m.Options[name]; !has {
			all = append(all, "option "+name+" is gone")
		}
	}
	find := func(links []Link, name string) *Link {
		if i := slices.IndexFunc(links, func(l Link) bool { return l.Name == name }); i >= 0 {
			return &links[i]
		}
		return nil
	}
	for _, need := range m.Needs {
		switch old := find(before.Needs, need.Name); {
		case old == nil:
			all = append(all, "with "+need.Name)
		case old.Version != need.Version:
			all = append(all, fmt.Sprintf("%s %s, not %s", need.Name, need.Version, old.Version))
		case old.ID != need.ID:
			all = append(all, "another build of "+need.Name)
		}
	}
	for _, old := range before.Needs {
		if find(m.Needs, old.Name) == nil {
			all = append(all, "without "+old.Name)
		}
	}
	if !slices.Equal(m.Sources, before.Sources) {
		all = append(all, "another source")
	}
	if !slices.Equal(m.Patches, before.Patches) {
		all = append(all, "other patches")
	}
	if m.Compiler != before.Compiler {
		all = append(all, "another compiler")
	}
	if len(all) == 0 {
		all = append(all, "other instructions")
	}
	return all
}
