package resolve

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/host"
	"fernladder/core/version"
)

// A garden is a small random shelf that can be tried exhaustively. Its packages are p0, p1, …;
// their releases 1, 2, …; each has one option, x, which is off by default, except for one
// release, and which the first releases may lack.
type garden struct {
	packages []plot
	asked    []int
}

type plot struct {
	releases int
	preview  bool // the last of them is a preview
	kept     int  // a release, or 0
	host     int  // the version of the operating system's own copy, or 0
	since    int  // the first release that has the option
	onIn     int  // the release in which it is on by default, or 0
	needs    []root
}

// root is a need: of one of the targets, in a range.
type root struct {
	targets  []int
	operator string
	bound    int
	tool     bool
	when     string // "", "x", or a comparison with version
	demand   string // "", "on" or "off"
}

func drawGarden(t *rapid.T) garden {
	// Draw labels cost more than drawing, so they are short.
	n := rapid.IntRange(2, 4).Draw(t, "n")
	circles := rapid.IntRange(0, 3).Draw(t, "c") == 0
	if circles {
		n = min(n, 3)
	}
	g := garden{asked: []int{0}}
	if rapid.IntRange(0, 3).Draw(t, "a") == 0 {
		g.asked = append(g.asked, 1)
	}
	for i := range n {
		p := plot{releases: rapid.IntRange(1, 3).Draw(t, "r")}
		if rapid.IntRange(0, 3).Draw(t, "k") == 0 {
			p.kept = rapid.IntRange(1, p.releases).Draw(t, "kept")
		}
		p.preview = rapid.IntRange(0, 2).Draw(t, "p") == 0
		if rapid.IntRange(0, 2).Draw(t, "h") == 0 {
			p.host = rapid.IntRange(1, 3).Draw(t, "host")
		}
		if rapid.IntRange(0, 4).Draw(t, "s") == 0 {
			p.since, p.onIn = rapid.IntRange(1, 2).Draw(t, "since"), rapid.IntRange(0, p.releases).Draw(t, "on")
			if p.onIn < p.since {
				p.onIn = 0
			}
		}
		for range rapid.IntRange(0, 2).Draw(t, "m") {
			var targets []int
			for j := range n {
				if j > i || circles && j != i {
					targets = append(targets, j)
				}
			}
			if len(targets) == 0 {
				continue
			}
			targets = rapid.Permutation(targets).Draw(t, "t")
			targets = targets[:min(len(targets), 1+rapid.IntRange(0, 3).Draw(t, "e")/3)]
			p.needs = append(p.needs, root{
				targets:  targets,
				operator: rapid.SampledFrom([]string{">=", ">=", "<=", "==", "!="}).Draw(t, "o"), bound: rapid.IntRange(1, 3).
						Draw(t, "b"),
				tool:   rapid.IntRange(0, 2).Draw(t, "tool") == 0,
				when:   rapid.SampledFrom([]string{"", "", "x", "version >= 2", "version == 1"}).Draw(t, "w"),
				demand: rapid.SampledFrom([]string{"", "", "", "on", "off"}).Draw(t, "d"),
			})
		}
		g.packages = append(g.packages, p)
	}
	return g
}

// ways is the number of combinations to try.
func (g garden) ways() int {
	n := 1
	for _, p := range g.packages {
		n *= 2*p.releases + 1 + min(p.host, 1)
		for _, need := range p.needs {
			n *= len(need.targets) * map[bool]int{true: 2, false: 1}[need.tool]
		}
	}
	return n
}

// shelf is the garden in the form that write reads.
func (g garden) shelf() string {
	text := ""
	for i, p := range g.packages {
		text += fmt.Sprintf("p%d", i)
		for v := range p.releases {
			text += fmt.Sprintf(" %d", v+1)
		}
		if p.preview {
			text += "!"
		}
		text += "\n option x"
		if p.since > 1 || p.onIn > 0 {
			text += fmt.Sprintf(" since %d on %d", max(1, p.since), p.onIn)
		}
		text += "\n"
		if p.host != 0 {
			text += " host\n"
		}
		for _, n := range p.needs {
			names := make([]string, len(n.targets))
			for k, target := range n.targets {
				names[k] = fmt.Sprintf("p%d", target)
			}
			text += fmt.Sprintf(" %s %s %s %d", map[bool]string{true: "tool", false: "needs"}[n.tool], strings.Join(names, "|"),
				n.operator, n.bound)
			if n.when != "" {
				text += " when " + n.when
			}
			if n.demand != "" {
				text += fmt.Sprintf(" with x=%t", n.demand == "on")
			}
			text += "\n"
		}
	}
	return text
}

// imagined is a release that does not exist; above host is the operating system's own copy, in
// the remaining version.
const (
	imagined = 9
	hostCopy = 20
)

// state is the part of a ladder about one package.
type state struct {
	release int    // 0: it is not there
	x       string // "on" or "off"
	by      []link // of each need
}

// link is how a need is met; the zero link is a need that does not count.
type link struct {
	target int
	how    string // "shared", "alone" or ""
}

// trial is one way to request ladders of a garden; says decides which sentences, by their keys,
// count.
type trial struct {
	garden
	asked map[int]root // with what is demanded of each; of a person that is nothing
	says  func(key string) bool
	apart map[string]bool // the tools that can be had
}

func (n root) fits(v int) bool {
	if v > hostCopy {
		if n.demand != "" { // how it was built is unknown
			return false
		}
		v -= hostCopy
	}
	switch n.operator {
	case ">=":
		return v >= n.bound
	case "<=":
		return v <= n.bound || v == imagined
	case "==":
		return v == n.bound || v == imagined
	case "!=":
		return v != n.bound
	}
	return true
}

func (t trial) counts(i int, n root, s state) bool {
	if s.release > hostCopy || s.release == 0 {
		return false
	}
	holds := func(v int) bool {
		return n.when == "" || n.when == "x" && t.packages[i].has(v) || n.when == "version >= 2" && v >= 2 ||
			n.when == "version == 1" && v == 1
	}
	if s.release != imagined {
		return holds(s.release) && (n.when != "x" || s.x == "on")
	}
	// What counts for every existing release counts for that one, too.
	return !slices.ContainsFunc(t.versions(i), func(v int) bool {
		return v < hostCopy && (!holds(v) || n.when == "x" && (t.open(i) || t.packages[i].usual(v) == "off"))
	})
}

// has reports whether a release has the option.
func (p plot) has(v int) bool { return v >= p.since || v == imagined }

// usual is the option's default in a release.
func (p plot) usual(v int) string {
	return map[bool]string{true: "on", false: "off"}[v == p.onIn && v != 0]
}

// exactly reports whether a need accepts only one version.
func (n root) exactly(v int) bool { return n.operator == "==" && n.bound == v }

// reach is everything that could be on a ladder of the request.
func (t trial) reach() map[int]bool {
	seen := map[int]bool{}
	var visit func(i int)
	visit = func(i int) {
		if seen[i] {
			return
		}
		seen[i] = true
		for _, n := range t.packages[i].needs {
			for _, target := range n.targets {
				visit(target)
			}
		}
	}
	for i := range t.asked {
		visit(i)
	}
	return seen
}

// able reports whether a release can be chosen at all: a preview only if a person could request
// exactly it, or if it is kept.
func (t trial) able(i, v int) bool {
	p := t.packages[i]
	if !p.preview || v != p.releases || p.kept == v || t.asked[i].exactly(v) {
		return true
	}
	for k := range t.reach() {
		for _, n := range t.packages[k].needs {
			if slices.Contains(n.targets, i) && n.exactly(v) {
				return true
			}
		}
	}
	return false
}

// defaults are the option's defaults in the releases that can be chosen.
func (t trial) defaults(i int) []string {
	var all []string
	for _, v := range t.versions(i) {
		if p := t.packages[i]; v < hostCopy && p.has(v) && !slices.Contains(all, p.usual(v)) {
			all = append(all, p.usual(v))
		}
	}
	if len(all) == 0 {
		return []string{"off"}
	}
	return all
}

// open reports whether a package's option can have more than one value. Otherwise it has its
// default in all ladders, without a sentence for that.
func (t trial) open(i int) bool {
	values := t.defaults(i)
	add := func(value string) {
		if value != "" && !slices.Contains(values, value) {
			values = append(values, value)
		}
	}
	add(t.asked[i].demand)
	for k := range t.reach() {
		for _, n := range t.packages[k].needs {
			if slices.Contains(n.targets, i) {
				add(n.demand)
			}
		}
	}
	return len(values) > 1
}

// meets reports whether a package satisfies a need.
func (p plot) meets(n root, s state) bool {
	return s.release != 0 && n.fits(s.release) && (n.demand == "" || p.has(s.release) && n.demand == s.x)
}

// versions are the releases that can be chosen, and the operating system's copy.
func (t trial) versions(i int) []int {
	var all []int
	for v := range t.packages[i].releases {
		if t.able(i, v+1) {
			all = append(all, v+1)
		}
	}
	// Requested packages are built.
	if want, asked := t.asked[i]; t.packages[i].host != 0 && (!asked || want.operator != "") {
		all = append(all, hostCopy+t.packages[i].host)
	}
	return all
}

// possible reports whether there is a ladder.
func (t trial) possible() bool { return len(t.ladders(1)) > 0 }

// ladders returns up to a number of ladders, in no order.
func (t trial) ladders(most int) [][]state {
	var found [][]state
	counted := map[string]bool{}
	says := t.says
	t.says = func(key string) bool { // which is asked often
		if _, known := counted[key]; !known {
			counted[key] = says(key)
		}
		return counted[key]
	}
	states := make([]state, len(t.packages))
	var choose func(i int)
	choose = func(i int) {
		if len(found) == most {
			return
		}
		if i == len(states) {
			t.link(states, 0, 0, func() {
				if len(found) < most && t.sound(states) {
					found = append(found, clone(states))
				}
			})
			return
		}
		releases := append([]int{0}, t.versions(i)...)
		if !t.says(fmt.Sprintf("releases p%d", i)) {
			releases = append(releases, imagined)
		}
		for _, v := range releases {
			for _, x := range []string{"off", "on"} {
				states[i] = state{release: v, x: x, by: make([]link, len(t.packages[i].needs))}
				if v != 0 && v < hostCopy && t.packages[i].has(v) || x == "off" {
					choose(i + 1)
				}
			}
		}
	}
	choose(0)
	return found
}

func clone(states []state) []state {
	all := slices.Clone(states)
	for i := range all {
		all[i].by = slices.Clone(all[i].by)
	}
	return all
}

// link meets the needs of package i from the j-th on in all ways, and then those of the
// following packages.
func (t trial) link(states []state, i, j int, then func()) {
	if i == len(states) {
		then()
		return
	}
	if j == len(t.packages[i].needs) {
		t.link(states, i+1, 0, then)
		return
	}
	n := t.packages[i].needs[j]
	states[i].by[j] = link{}
	counts := t.counts(i, n, states[i])
	if !counts || !t.says(fmt.Sprintf("needs %d %d", i, j)) {
		t.link(states, i, j+1, then)
	}
	if !counts { // one that counts may be met without a sentence that says it has to be
		return
	}
	for _, target := range n.targets {
		if target != i && t.packages[target].meets(n, states[target]) {
			states[i].by[j] = link{target, "shared"}
			t.link(states, i, j+1, then)
		}
		if n.tool && t.apart[n.key(target)] {
			states[i].by[j] = link{target, "alone"}
			t.link(states, i, j+1, then)
		}
	}
	states[i].by[j] = link{}
}

// tools finds the tools that can be built apart: those with a ladder that uses the tools found
// so far, until there are no more.
func (t trial) tools() trial {
	t.apart = map[string]bool{}
	for more := true; more; {
		more = false
		for _, p := range t.packages {
			for _, n := range p.needs {
				for _, target := range n.targets {
					if n.tool && !t.apart[n.key(target)] && t.only(target, n).possible() {
						t.apart[n.key(target)] = true
						more = true
					}
				}
			}
		}
	}
	return t
}

func (n root) key(target int) string {
	return fmt.Sprintf("p%d %s %d %s", target, n.operator, n.bound, n.demand)
}

// only requests only a tool.
func (t trial) only(target int, n root) trial {
	says := t.says
	t.asked = map[int]root{target: n}
	t.says = func(key string) bool { return key == fmt.Sprintf("asked %d", target) || says(key) }
	return t
}

// sound reports whether everything requested is there, everything that is there or set is
// required, and nothing needs itself.
func (t trial) sound(states []state) bool {
	for i, want := range t.asked {
		if t.says(fmt.Sprintf("asked %d", i)) && !t.packages[i].meets(want, states[i]) {
			return false
		}
	}
	above := map[int][]int{}
	for i, s := range states {
		want, asked := t.asked[i]
		wanted := !t.packages[i].preview || s.release != t.packages[i].releases || t.packages[i].kept == s.release ||
			want.exactly(s.release)
		p := t.packages[i]
		there, set := asked || s.release == 0, s.release == 0 || s.release > hostCopy || !p.has(s.release) ||
			want.demand == s.x
		switch {
		case s.release == imagined:
			set = set || slices.Contains(t.defaults(i), s.x)
		case p.usual(s.release) == s.x:
			set = true
		}
		set = set || t.open(i) && !t.says(fmt.Sprintf("default p%d x", i))
		for k, other := range states {
			for j, l := range other.by {
				if l == (link{i, "shared"}) {
					there = true
					set = set || t.packages[k].needs[j].demand == s.x
					wanted = wanted || t.packages[k].needs[j].exactly(s.release)
					above[i] = append(above[i], k)
				}
			}
		}
		if !there || !set || !wanted {
			return false
		}
	}
	var under func(i, depth int) bool
	under = func(i, depth int) bool {
		return depth > len(states) || slices.ContainsFunc(above[i], func(k int) bool { return under(k, depth+1) })
	}
	for i := range states {
		if under(i, 0) {
			return false
		}
	}
	return true
}

// best returns the ladder preferred by the rules documented at Solve.
func (t trial) best(ladders [][]state) []state {
	order := t.order()
	visited := map[int]bool{}
	prefer := func(answers ...func([]state) bool) int {
		for i, is := range answers {
			if left := slices.DeleteFunc(slices.Clone(ladders), func(s []state) bool { return !is(s) }); len(left) > 0 {
				ladders = left
				return i
			}
		}
		return -1
	}
	for {
		i := slices.IndexFunc(order, func(i int) bool {
			_, asked := t.asked[i]
			for k := range visited {
				asked = asked || slices.ContainsFunc(ladders[0][k].by, func(l link) bool { return l.target == i && l.how != "" })
			}
			return asked && !visited[i]
		})
		if i < 0 {
			return ladders[0]
		}
		i = order[i]
		visited[i] = true
		p := t.packages[i]
		var releases []func([]state) bool
		preferred := []int{hostCopy + p.host, 3, 2, 1, 0}
		if p.kept != 0 {
			preferred = append([]int{p.kept}, preferred...)
		}
		for _, v := range preferred {
			releases = append(releases, func(s []state) bool { return s[i].release == v })
		}
		prefer(releases...)
		shared := func(k, j int) func(s []state) bool {
			return func(s []state) bool { return s[k].by[j] == link{i, "shared"} }
		}
		if ladders[0][i].release == 0 {
			continue
		}
		for _, k := range order {
			for j := range t.packages[k].needs {
				if visited[k] && ladders[0][k].by[j].target == i && ladders[0][k].by[j].how != "" {
					prefer(shared(k, j), func([]state) bool { return true })
				}
			}
		}
		prefer(func(s []state) bool { return s[i].x == p.usual(s[i].release) }, func([]state) bool { return true })
		for j, n := range p.needs {
			targets := slices.Clone(n.targets)
			slices.SortStableFunc(targets, func(a, b int) int {
				kept := func(i int) int { return map[bool]int{true: 0, false: 1}[t.packages[i].kept != 0] }
				return kept(a) - kept(b)
			})
			for _, target := range targets {
				met := func(s []state) bool { return s[i].by[j].target == target && s[i].by[j].how != "" }
				if prefer(met) == 0 {
					if visited[target] {
						prefer(func(s []state) bool { return s[i].by[j].how == "shared" }, func([]state) bool { return true })
					}
					break
				}
			}
		}
	}
}

// order is the order in which packages are considered: those that need others first.
func (t trial) order() []int {
	var order []int
	seen := map[int]bool{}
	var visit func(i int)
	visit = func(i int) {
		if seen[i] {
			return
		}
		seen[i] = true
		for _, n := range t.packages[i].needs {
			targets := slices.Clone(n.targets)
			slices.SortStableFunc(targets, func(a, b int) int {
				kept := func(i int) int { return map[bool]int{true: 0, false: 1}[t.packages[i].kept != 0] }
				return kept(a) - kept(b)
			})
			for _, target := range targets {
				visit(target)
			}
		}
		order = append(order, i)
	}
	for _, i := range t.garden.asked {
		visit(i)
	}
	slices.Reverse(order)
	return order
}

func (g garden) trial(says func(string) bool) trial {
	t := trial{garden: g, asked: map[int]root{}, says: says}
	for _, i := range g.asked {
		t.asked[i] = root{}
	}
	return t.tools()
}

// told names a sentence of the resolver in a trial's terms.
func (g garden) told(s *sentence) string {
	switch s.kind {
	case youAsked:
		return fmt.Sprintf("asked %d", g.asked[s.set])
	case needs:
		i := slices.IndexFunc(s.about.needs, func(n *needing) bool { return n == s.needing })
		for j, n := range s.about.recipe.Needs {
			if n == s.needing.need {
				i = j
			}
		}
		return "needs " + strings.TrimPrefix(s.about.name, "p") + " " + fmt.Sprint(i)
	}
	return strings.TrimSpace(fmt.Sprintf("%s %s %s", s.kind, s.about.name, s.key().option))
}

// Random small shelves have the ladder that an exhaustive search finds and prefers. If there is
// none, the sentences of the explanation contradict each other, and leaving out any of them ends
// that.
func TestAgainstTryingEverything(t *testing.T) {
	dir := t.TempDir()
	runs, refuted := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		g := drawGarden(t)
		if g.ways() > 50_000 {
			return
		}
		runs++
		shelves := write(t, filepath.Join(dir, fmt.Sprint(runs)), g.shelf())
		request := Request{Machine: host.Machine{Arch: "x86_64", Family: "debian"}, Kept: map[string][]Kept{}}
		for _, i := range g.asked {
			request.Wanted = append(request.Wanted, Wanted{Name: fmt.Sprintf("p%d", i)})
		}
		request.HostCopies = map[string]HostCopy{}
		for i, p := range g.packages {
			if p.host != 0 {
				request.HostCopies[fmt.Sprintf("p%d", i)] = HostCopy{Name: fmt.Sprintf("p%d", i),
					Version: version.MustParse(fmt.Sprint(p.host))}
			}
			if p.kept != 0 {
				request.Kept[fmt.Sprintf("p%d", i)] = []Kept{{Version: version.MustParse(fmt.Sprint(p.kept))}}
			}
		}
		all := g.trial(func(string) bool { return true })
		ladders := all.ladders(1 << 30)
		p := pose(context.Background(), newScopes(shelves), request)
		core, found, err := p.solve(p.sentences)
		require.NoError(t, err)
		require.Equal(t, len(ladders) > 0, found, "%s", g.shelf())
		if found {
			best := all.best(ladders)
			for i, want := range best {
				c := p.byName[fmt.Sprintf("p%d", i)]
				if want.release == 0 {
					assert.True(t, c == nil || p.chosen(c) == nil, "p%d should not be there\n%s", i, g.shelf())
					continue
				}
				require.NotNil(t, p.chosen(c), "p%d should be there\n%s", i, g.shelf())
				require.Equal(t, want.release > hostCopy, p.chosen(c).release == nil, "whether p%d is the host's\n%s", i, g.shelf())
				if want.release > hostCopy {
					assert.Equal(t, fmt.Sprint(want.release-hostCopy), p.chosen(c).version.String())
					continue
				}
				assert.Equal(t, fmt.Sprint(want.release), p.chosen(c).version.String(), "p%d\n%s", i, g.shelf())
				x, has := p.settings(c)["x"]
				require.Equal(t, g.packages[i].has(want.release), has, "whether p%d has x\n%s", i, g.shelf())
				assert.True(t, !has || x == want.x, "x of p%d\n%s", i, g.shelf())
			}
			_, err := Solve(context.Background(), shelves, request)
			require.NoError(t, err)
			return
		}
		refuted++
		core, err = p.shortest(core)
		require.NoError(t, err)
		said := map[string]bool{}
		for _, s := range core {
			said[g.told(s)] = true
		}
		contradict := func(said map[string]bool) bool {
			return !g.trial(func(key string) bool { return said[key] }).possible()
		}
		require.True(t, contradict(said), "these do not contradict each other: %v\n%s", said, g.shelf())
		for key := range said {
			others := maps.Clone(said)
			delete(others, key)
			assert.False(t, contradict(others), "%q can be left out of %v\n%s", key, said, g.shelf())
		}
		reason, err := p.explain(core)
		require.NoError(t, err)
		assert.Len(t, reason.Chain, len(core))
		assert.NotEmpty(t, reason.WaysOut)
	})
	assert.NotZero(t, refuted)
	assert.Less(t, refuted, runs)
}
