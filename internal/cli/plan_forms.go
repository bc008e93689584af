package cli

import (
	"fmt"
	"strings"

	"fernladder/core/plan"
	"fernladder/core/resolve"
)

// showTree shows what stands on what, from what is asked for down. What a
// package stands on is shown once.
func (a *app) showTree(l *plan.Plan) {
	shown := map[*resolve.Package]bool{}
	var show func(p *resolve.Package, depth int, role string)
	show = func(p *resolve.Package, depth int, role string) {
		line := strings.Repeat("  ", depth) + a.screen.Strong(p.Name()) + " " + p.Release.Version.String()
		if changed := p.Changed(); len(changed) > 0 {
			line += " " + strings.Join(changed, " ")
		}
		if role != "" {
			line += a.screen.Faint(" " + role)
		}
		if shown[p] && len(p.Needs)+len(p.ByHost) > 0 {
			a.screen.Print("%s", line+a.screen.Faint(", as above"))
			return
		}
		shown[p] = true
		a.screen.Print("%s", line)
		for _, link := range p.Needs {
			show(link.Package, depth+1, string(link.Role))
		}
		for _, h := range p.ByHost {
			a.screen.Print("%s", strings.Repeat("  ", depth+1)+h.String()+a.screen.Faint(" "+string(h.Need.Role)+
				", of the operating system"))
		}
	}
	for _, p := range l.Packages {
		if p.Asked {
			show(p, 0, "")
		}
	}
}

// showDot prints the ladder in the DOT language, lowest rung at the bottom.
func (a *app) showDot(l *plan.Plan) {
	a.screen.Print("digraph ladder {\n  rankdir = BT;\n  node [shape = box, fontname = \"sans-serif\"];")
	for _, j := range l.Jobs {
		style := ""
		if !l.Needed[j] {
			style = ", style = filled"
		}
		a.screen.Print("  %q [label = %q%s];", j.ID, j.Name+"\n"+j.Version, style)
	}
	styles := map[string]string{"tool": "dashed", "library": "solid", "runtime": "dotted"}
	for _, j := range l.Jobs {
		for i, need := range j.Needs {
			a.screen.Print("  %q -> %q [style = %s];", need.ID, j.ID, styles[string(j.Package.Needs[i].Role)])
		}
	}
	a.screen.Print("}")
}

// showWhy tells who demands a package, and by which way what was asked for
// leads to it.
func (a *app) showWhy(l *plan.Plan, name string) error {
	found := false
	var shown []map[string]any
	for _, p := range l.Packages {
		if p.Name() != name {
			continue
		}
		found = true
		var demands []string
		for _, d := range p.Why {
			demands = append(demands, d.String())
		}
		path := l.WayTo(p)
		shown = append(shown, map[string]any{"name": name, "version": p.Release.Version.String(), "demands": demands,
			"way": path})
		if a.screen.JSON {
			continue
		}
		title := a.screen.Strong(name) + " " + p.Release.Version.String()
		if changed := p.Changed(); len(changed) > 0 {
			title += " with " + strings.Join(changed, " ")
		}
		a.screen.Print("%s, because", title)
		for _, d := range demands {
			a.screen.Print("    %s", d)
		}
		if len(path) > 2 {
			a.screen.Print("  %s", strings.Join(path, " needs "))
		}
		if p.Kept {
			a.screen.Print("  It stays in the locked or installed version.")
		} else if newest := newestOf(p); newest != "" {
			a.screen.Print("  %s is newer, but does not fit.", newest)
		}
	}
	if !found {
		return usage("%s is not on this ladder", name)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(shown)
	}
	return nil
}

// newestOf is the newest stable release of a package, if it is another than the
// one on the ladder.
func newestOf(p *resolve.Package) string {
	newest := plan.Newest(p)
	if newest == p.Release {
		return ""
	}
	return fmt.Sprintf("%s %s", p.Name(), newest.Version)
}
