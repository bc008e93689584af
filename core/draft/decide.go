package draft

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

// Evidence is what a draft decides by: what recipes and trees offer, what the operating system
// has, and what its packages would have.
type Evidence struct {
	Known  *Known
	Here   map[host.Question]host.Answer
	Owners map[host.Question][]string // packages that have it, installed or not
	Listed bool                       // the operating system's packages with all their files are known
	Family string
}

// Decided is what a draft says about options and their needs.
type Decided struct {
	Choices []Choice
	Needs   []Wants
	Itself  []string // look-ups by the build itself that nothing turns off
	Perhaps []string // apparent needs of the source that nothing has
}

// NoRecipe names what is taken from the operating system, or turned off, because no recipe has
// it; names with the same stem only once.
func (d Decided) NoRecipe() (names []string) {
	for _, w := range d.Needs {
		kind, name := w.Question.Kind, w.Question.Name
		if w.Recipe != "" || slices.Contains([]host.Kind{host.Program, host.Perl, host.Python}, kind) ||
			slices.ContainsFunc(names, func(other string) bool { return buildfile.Stem(other) == buildfile.Stem(name) }) {
			continue
		}
		names = append(names, name)
	}
	return names
}

// A Choice is an option of the draft.
type Choice struct {
	buildfile.Switch
	Set    string // its default: on, off, auto, or one of the values
	Remark string
}

// Wants is a need of the draft, on a recipe or on the operating system.
type Wants struct {
	Recipe  string
	Sure    bool // the recipe is known to have it; otherwise its name speaks for it
	Role    recipe.Role
	Version string
	Options string // how it must have been built, as a recipe says it

	Question host.Question // without a recipe
	Packages []string

	When   []string // options, with any of which it is needed; none: always
	Reason string
}

// Questions are the questions to the operating system about everything that the source looks
// for.
func (s *Source) Questions() []host.Question {
	var all []host.Question
	for _, l := range s.Lookups {
		all = append(all, questions(l)...)
	}
	return all
}

// questions are those for one look-up, the best first. There are none for CMake packages, except
// for the contents of such a package.
func questions(l buildfile.Lookup) []host.Question {
	var all []host.Question
	for _, name := range l.Names {
		if l.Kind != "package" {
			all = append(all, host.Question{Kind: host.Kind(l.Kind), Name: name})
			continue
		}
		low := strings.ToLower(name)
		bare := strings.TrimPrefix(low, "lib")
		for _, q := range []host.Question{{Kind: host.Module, Name: low}, {Kind: host.Module, Name: "lib" + bare},
			{Kind: host.Module, Name: bare}, {Kind: host.Header, Name: low + ".h"}, {Kind: host.Header, Name: bare + ".h"},
			{Kind: host.Library, Name: bare}} {
			if !slices.Contains(all, q) {
				all = append(all, q)
			}
		}
	}
	return all
}

// Decide compares the source's switches and look-ups with the shelves. Each feature is on or off
// because a person or a recipe decided so:
//
//   - a required feature takes what it needs from a recipe, or else from the operating system;
//   - one that is used if found is on if recipes have what it needs, and off otherwise;
//   - tests, documentation, examples, benchmarks, static libraries, bindings for other
//     languages and features for the source's own developers are off;
//   - without a switch, the declared needs decide, because a build sees nothing else.
func (s *Source) Decide(e Evidence) Decided {
	d := &decision{source: s, e: e, recipes: map[string]string{}}
	for _, l := range s.Lookups { // things with one stem belong to one package
		if name, sure, found := d.provider(l); found && (sure || d.recipes[buildfile.Stem(l.Name())] == "") {
			d.recipes[buildfile.Stem(l.Name())] = name
		}
	}
	switches := tidied(s.Switches)
	lookups := slices.Clone(s.Lookups)
	for i := range lookups {
		l := &lookups[i]
		if l.Value == "" && !slices.ContainsFunc(switches, func(sw buildfile.Switch) bool { return sw.Name == l.Switch }) {
			l.Switch = ""
		}
		if l.Switch == "" && !l.Required {
			if sw, is := d.ownSwitch(*l, switches); is {
				switches = append(switches, sw)
				l.Switch = sw.Name
			}
		}
	}
	slices.SortStableFunc(switches, func(a, b buildfile.Switch) int { return strings.Compare(a.Name, b.Name) })
	switches = slices.CompactFunc(switches, func(a, b buildfile.Switch) bool { return a.Name == b.Name })
	for _, sw := range switches {
		var its []buildfile.Lookup
		for _, l := range lookups {
			if l.Switch == sw.Name {
				its = append(its, l)
			}
		}
		d.choose(sw, its)
	}
	for _, l := range lookups {
		switch {
		case l.Switch != "":
		case l.Required, l.Ran && d.e.Here[questions(l)[0]].There: // written lines are likely to matter
			l.Required = true
			d.want(l, "")
		default:
			d.Itself = append(d.Itself, l.Kind+" "+strings.Join(l.Names, ", or "))
		}
	}
	d.Choices = slices.DeleteFunc(d.Choices, func(c Choice) bool { // what is needed in any case is no choice
		return len(c.On) == 0 && len(c.Off) == 0 && c.Values == nil &&
			!slices.ContainsFunc(d.Needs, func(w Wants) bool { return slices.Contains(w.When, c.Name) })
	})
	slices.Sort(d.Perhaps)
	d.Perhaps = slices.Compact(d.Perhaps)
	slices.Sort(d.Itself)
	d.Itself = slices.Compact(d.Itself)
	return d.Decided
}

// tidied are switches that leave a choice, whose values recipes can express. Others are left to the source.
func tidied(switches []buildfile.Switch) []buildfile.Switch {
	var all []buildfile.Switch
	for _, sw := range switches {
		if sw.Values == nil && len(sw.Off) == 0 && (len(sw.On) == 0 || sw.Default == buildfile.On) {
			continue // it cannot be changed
		}
		if sw.Values != nil {
			sw.Order = slices.DeleteFunc(slices.Clone(sw.Order), func(v string) bool {
				return recipe.CheckWord(v) != nil || v == unset
			})
			slices.Sort(sw.Order)
			if sw.Order = slices.Compact(sw.Order); len(sw.Order) == 0 {
				continue
			}
			if !slices.Contains(sw.Order, sw.Value) {
				sw.Value = ""
			}
			if len(sw.Order) == 1 && sw.Value != "" {
				continue // there is nothing to choose
			}
		}
		if recipe.CheckOptionName(sw.Name) == nil {
			all = append(all, sw)
		}
	}
	return all
}

// unset is the value of an option that leaves it to the source.
const unset = "unset"

type decision struct {
	Decided
	source  *Source
	e       Evidence
	recipes map[string]string // stem to the recipe that has it
}

// provider is the recipe that has what a look-up is for.
func (d *decision) provider(l buildfile.Lookup) (name string, sure, found bool) {
	for _, wanted := range l.Names {
		if n, s, is := d.e.Known.Find(l.Kind, wanted); is && n != d.source.Name.Value && (!found || s && !sure) {
			name, sure, found = n, s, true
		}
	}
	if !found && l.Kind != "program" {
		for _, wanted := range l.Names {
			if n := d.recipes[buildfile.Stem(wanted)]; n != "" {
				return n, false, true
			}
		}
	}
	return name, sure, found
}

// meant reports whether a look-up for a header is one for a recipe's package, which has a header of that
// name: the name has a directory or is the package's, or the source looks for more of the package.
// Others have headers like alloc.h, too.
func (d *decision) meant(header buildfile.Lookup, recipe string) bool {
	return slices.ContainsFunc(header.Names, func(name string) bool {
		return strings.Contains(name, "/") || buildfile.Stem(strings.TrimSuffix(name, ".h")) == buildfile.Stem(recipe)
	}) || slices.ContainsFunc(d.source.Lookups, func(l buildfile.Lookup) bool {
		other, _, found := d.provider(l)
		return l.Kind != "header" && found && other == recipe
	})
}

// ownSwitch makes a switch for a look-up without one if a decision is possible: a recipe has it,
// so it can be present or absent, or an argument turns it off.
func (d *decision) ownSwitch(l buildfile.Lookup, switches []buildfile.Switch) (buildfile.Switch, bool) {
	name, sure, found := d.provider(l)
	if l.Kind == "program" || l.Kind == "header" && (!sure || !d.source.heard || !d.meant(l, name)) ||
		!found && l.Off == nil {
		return buildfile.Switch{}, false
	}
	option := strings.ToLower(l.Name())
	if found {
		option = name
	}
	if recipe.CheckOptionName(option) != nil ||
		slices.ContainsFunc(switches, func(s buildfile.Switch) bool { return s.Name == option && s.On != nil }) {
		return buildfile.Switch{}, false
	}
	return buildfile.Switch{Name: option, Raw: option, About: fmt.Sprintf("Use %s, which the build takes if it is there",
		l.Name()), Default: buildfile.Auto, Off: l.Off}, true
}

// choose decides about a switch with look-ups.
func (d *decision) choose(sw buildfile.Switch, lookups []buildfile.Lookup) {
	c := Choice{Switch: sw, Set: string(sw.Default)}
	if sw.Values != nil {
		d.value(c, lookups)
		return
	}
	var have, lack []string
	required := false
	for _, l := range lookups {
		required = required || l.Required && l.Kind != "program"
		if l.Kind == "program" {
			continue
		}
		name, _, found := d.provider(l)
		_, old := d.ofPackage(l, name)
		if found && old == "" {
			have = append(have, name)
		} else {
			lack = append(lack, strings.TrimSpace(l.Kind+" "+l.Name()+" "+l.Version))
		}
	}
	byName := ""
	if len(lookups) == 0 { // the name of a switch can name its need, but a run with it on would have shown that
		name, sure, found := d.e.Known.Find("module", sw.Raw)
		if found && (sure || !d.source.heard || sw.Default == buildfile.Off) && name != d.source.Name.Value {
			byName = name
			have = append(have, name)
		}
	}
	theirs, set := d.instead(sw)
	switch {
	case theirs != "" && len(lack) == 0: // the shelf's, not the copy in the source
		if c.Set = set; set == "on" && len(have) == 0 {
			byName, have = theirs, []string{theirs}
		}
	case sw.Purpose == buildfile.Shared:
		c.Set = "on"
	case sw.Purpose != "":
		if sw.Default != buildfile.Off {
			c.Remark = fmt.Sprintf("%s in the source; %s", sw.Default, sw.Purpose)
		}
		c.Set = "off"
	case sw.Default == buildfile.Off:
	case len(have) == 0 && strings.HasSuffix(sw.Raw, "-prefix"): // it names a place
	case len(have) > 0 && (len(lack) == 0 || !required):
		c.Set = "on"
	case sw.Default == buildfile.On && (required && !d.source.heard || len(lookups) == 0 || len(lack) == 0):
		c.Set = "on"
	case len(lack) > 0:
		c.Set = "off"
		c.Remark = fmt.Sprintf("%s in the source; no recipe has %s",
			map[buildfile.State]string{buildfile.On: "on", buildfile.Auto: "by what is there"}[sw.Default],
			strings.Join(lack[:min(3, len(lack))], ", "))
	}
	if sw.Place { // the tree of the need, else the system's copy
		c.On = nil
		if len(have) > 0 {
			c.On = []string{sw.On[0] + "$FL_TREE_" + recipe.VariableName(have[0])}
		}
	}
	d.Choices = append(d.Choices, c)
	if byName != "" {
		d.add(Wants{Recipe: byName, Role: recipe.Library, Reason: "by the name of the option"}, sw.Name)
	}
	for _, l := range lookups {
		if _, _, found := d.provider(l); l.Required || found || len(have) == 0 && !required {
			d.want(l, sw.Name)
		}
	}
}

// instead finds the recipe that replaces a library's copy in the source, if a switch chooses
// between the two. set is the state of the switch that uses the recipe's.
func (d *decision) instead(sw buildfile.Switch) (name, set string) {
	set, m := "on", theirs.FindStringSubmatch(sw.Raw)
	if m == nil {
		set, m = "off", copies.FindStringSubmatch(sw.Raw)
	}
	if m == nil {
		return "", ""
	}
	for _, kind := range []string{"module", "library"} {
		if name, _, found := d.e.Known.Find(kind, strings.ToLower(m[1])); found && name != d.source.Name.Value {
			return name, set
		}
	}
	return "", ""
}

// theirs matches switches that use a library from outside the source, copies those that use the
// copy inside.
var (
	theirs = pattern.New(`(?i)(?:^|[-_])(?:system|external)[-_](?:lib(?:rary)?[-_])?(\w[\w.+-]*)$`)
	copies = pattern.New(`(?i)(?:^|[-_])(?:bundled|included|internal|builtin)[-_](\w[\w.+-]*)$`)
)

// value decides about a switch with values, some of which have the name of what they need: the
// first that a recipe has, or else, if the build requires one, the first.
func (d *decision) value(c Choice, lookups []buildfile.Lookup) {
	c.Set = c.Value
	chosen, required := "", false
	of := map[string][]buildfile.Lookup{}
	for _, l := range lookups {
		for _, v := range c.Order {
			if l.Value != v && (l.Value != "" || buildfile.Stem(v) != buildfile.Stem(l.Name())) {
				continue
			}
			of[v] = append(of[v], l)
			required = required || l.Required && l.Value == ""
			if _, _, found := d.provider(l); found && (chosen == "" || c.Value == v) {
				chosen = v
			}
		}
	}
	for _, v := range c.Order {
		if chosen == "" && c.Value == "" && required && of[v] != nil {
			chosen = v
		}
	}
	if chosen != "" && c.Value != "" && c.Value != chosen {
		if _, needs := of[c.Value]; !needs { // built-in parts need nothing
			chosen = ""
		}
	}
	if chosen != "" {
		c.Set = chosen
	}
	d.Choices = append(d.Choices, c)
	for _, v := range c.Order {
		for _, l := range of[v] {
			if l.Required || !d.covered(l, of[v]) {
				d.want(l, c.Name+" == "+v)
			}
		}
	}
}

// covered reports whether no recipe has what a look-up is for, and one has what another of its kind is
// for: the source takes any of several.
func (d *decision) covered(l buildfile.Lookup, all []buildfile.Lookup) bool {
	if _, _, found := d.provider(l); found {
		return false
	}
	return slices.ContainsFunc(all, func(other buildfile.Lookup) bool {
		_, _, found := d.provider(other)
		return found && other.Kind == l.Kind
	})
}

// want makes a need from a look-up, under the option of that name.
func (d *decision) want(l buildfile.Lookup, option string) {
	name, sure, found := d.provider(l)
	sought := l.Name()
	if l.Kind == "header" { // its directory has the name of its library
		sought = strings.TrimSuffix(path.Dir(sought), ".")
	}
	part, behind := d.e.Known.brings(sought, l.Required)
	behind = behind && part.recipe != d.source.Name.Value && (!found || name == part.recipe)
	if behind {
		name, found = part.recipe, true
	}
	if found {
		w := Wants{Recipe: name, Sure: sure, Role: recipe.Library,
			Reason: fmt.Sprintf("%s %s in %s", l.Kind, l.Name(), l.From)}
		versions, why := d.ofPackage(l, name)
		if behind {
			w.Options = part.need().Options
		}
		if w.Version = versions; why != "" {
			w.Reason = fmt.Sprintf("%s %s %s in %s%s", l.Kind, l.Name(), l.Version, l.From, why)
		}
		if l.Kind == "program" && !isConfig(l.Kind, l.Name()) {
			w.Role = recipe.Tool
		}
		d.add(w, option)
		return
	}
	if l.Kind == "program" && !l.Required {
		return
	}
	asked := questions(l)
	best := asked[0]
	for _, q := range slices.Backward(asked) {
		if len(d.e.Owners[q]) > 0 {
			best = q
		}
	}
	for _, q := range slices.Backward(asked) {
		if d.e.Here[q].There {
			best = q
		}
	}
	on := option == "" || slices.ContainsFunc(d.Choices, func(c Choice) bool { return c.Name == option && c.Set == "on" })
	if on && !d.e.Here[best].There && len(d.e.Owners[best]) == 0 &&
		(best.Kind == host.Header || best.Kind == host.Library || best.Kind == host.Module && d.e.Listed) {
		// It would be in the way, and may be meant for another operating system.
		d.Perhaps = append(d.Perhaps, best.String())
		return
	}
	w := Wants{Question: best, Reason: l.From}
	if best.Kind == host.Module || best.Kind == host.Program {
		w.Version = l.Version
	}
	if owners := d.e.Owners[best]; len(owners) > 0 {
		w.Packages = owners[:1]
	} else if p := host.PackageOf(best.Name, d.e.Family); best.Kind == host.Program {
		w.Packages = p
	}
	if d.e.Here[best].There {
		w.Reason += strings.TrimRight("; here: yes "+d.e.Here[best].Version, " ")
	} else {
		w.Reason += "; not here now"
	}
	d.add(w, option)
}

// ofPackage is the range of a look-up in terms of the package's versions. A module has a version
// of its own: if it is known and differs from the package's, it is compared here, and a release
// whose module is too old has to be followed by a newer one.
func (d *decision) ofPackage(l buildfile.Lookup, pkg string) (versions, why string) {
	of, its := d.e.Known.versions[pkg], ""
	for _, name := range l.Names {
		its = cmp.Or(its, d.e.Known.versions[keyOf(l.Kind, name)])
	}
	fits := func(one string) bool {
		v, err := version.Parse(one)
		r, wrong := version.ParseRange(l.Version)
		return err != nil || wrong != nil || r.Contains(v)
	}
	switch {
	case its == of && its != "", its == "" && (l.Kind == "program" || l.Kind == "package" && fits(of)):
		return l.Version, ""
	case its == "" || l.Version == "":
		return "", ""
	}
	if !fits(its) {
		return "> " + of, fmt.Sprintf("; %s %s has %s %s", pkg, of, l.Name(), its)
	}
	return "", ""
}

// add adds a need, or an option to an existing need.
func (d *decision) add(w Wants, option string) {
	stem := buildfile.Stem(w.Question.Name)
	i := slices.IndexFunc(d.Needs, func(o Wants) bool {
		if o.Recipe != "" || w.Recipe != "" {
			return o.Recipe == w.Recipe && o.Role == w.Role
		}
		if o.Question == w.Question {
			return true
		}
		return o.Question.Kind != host.Program && w.Question.Kind != host.Program &&
			(option == "" && len(o.When) == 0 || slices.Contains(o.When, option)) && buildfile.Stem(o.Question.Name) == stem
	})
	if i < 0 {
		if option != "" {
			w.When = []string{option}
		}
		d.Needs = append(d.Needs, w)
		return
	}
	o := &d.Needs[i]
	o.Sure = o.Sure || w.Sure
	if o.Version == "" {
		o.Version = w.Version
	}
	if o.Options == "" {
		o.Options = w.Options
	}
	switch {
	case option == "":
		o.When = nil
	case len(o.When) > 0 && !slices.Contains(o.When, option):
		o.When = append(o.When, option)
	}
}
