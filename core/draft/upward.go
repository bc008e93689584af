package draft

import (
	"fmt"
	"slices"

	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
)

// Upward finds what a recipe takes from the operating system although another recipe is known to
// have it, which happens when that one came onto the shelf later. It leaves out what the recipe
// already needs of the other.
func (k *Known) Upward(r *recipe.Recipe) (problems tomlfile.Problems) {
	for _, n := range r.HostNeeds {
		if other := k.instead(r, n); other != "" {
			problems = append(problems, tomlfile.Problem{
				Position: n.Position, Source: "[[host]]",
				Message: fmt.Sprintf("it uses the operating system's %s, and the recipe %s has it", n.Question(), other),
				Advice:  fmt.Sprintf("replace it with [[need]] and recipe = %s", tomlfile.Quote(other)),
			})
		}
	}
	return problems
}

// instead is the recipe that can replace a need on the operating system, or "".
func (k *Known) instead(r *recipe.Recipe, n *recipe.HostNeed) string {
	q := n.Question()
	if q.Kind != host.Module && q.Kind != host.Header && q.Kind != host.Library {
		return ""
	}
	other := k.provides[keyOf(string(q.Kind), q.Name)]
	if other == "" || other == r.Name || !slices.Contains(k.recipes, other) || k.onTop(other, r.Name, nil) {
		return ""
	}
	return other
}

// onTop reports whether a recipe depends on another, which therefore cannot need it.
func (k *Known) onTop(name, below string, seen []string) bool {
	if slices.Contains(seen, name) {
		return false
	}
	return slices.ContainsFunc(k.needs[name], func(need string) bool {
		return need == below || k.onTop(need, below, append(seen, name))
	})
}

// Raise replaces the needs on the operating system that Upward finds by needs on other recipes,
// under the same conditions. Comments and layout stay.
func (k *Known) Raise(r *recipe.Recipe, e *tomlfile.Edit) {
	for i, n := range slices.Backward(r.HostNeeds) {
		other := k.instead(r, n)
		if other == "" {
			continue
		}
		text := ""
		needed := func(need *recipe.Need) bool {
			return slices.Contains(need.Names(), other) && need.When.String() == n.When.String()
		}
		earlier := func(h *recipe.HostNeed) bool { return k.instead(r, h) == other && h.When.String() == n.When.String() }
		if !slices.ContainsFunc(r.Needs, needed) && !slices.ContainsFunc(r.HostNeeds[:i], earlier) {
			text = recipe.NeedEntry{Recipe: other, Role: recipe.Library, When: n.When.String(), Remark: n.Question().
				String()}.Text()
		}
		e.ReplaceInList("host", i, text)
	}
}
