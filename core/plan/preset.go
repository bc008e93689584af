package plan

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/settings"
	"fernladder/core/tomlfile"
)

// presets are the named sets of options that a package can be built with: those of the settings,
// which have precedence, and those of its recipe.
type presets struct {
	shelves  *recipe.Shelves
	settings []*settings.Preset
}

// find returns the options that a preset sets for a package. If one of the settings names no
// package, those are the options that the package has.
func (p presets) find(name, preset string) ([]tomlfile.Pair, bool) {
	r, err := p.shelves.Find(name)
	if err != nil {
		return nil, false // reported by the resolver
	}
	for _, s := range p.settings {
		if s.Name != preset || s.Package != "" && s.Package != name {
			continue
		}
		if s.Package != "" {
			return s.Options, true
		}
		its := slices.DeleteFunc(slices.Clone(s.Options), func(o tomlfile.Pair) bool { return r.Option(o.Name) == nil })
		return its, len(its) > 0
	}
	if s := r.Preset(preset); s != nil {
		return s.Options, true
	}
	return nil, false
}

// split splits NAME-PRESET, unless a package has that name.
func (p presets) split(text string) (name, preset string, is bool) {
	if _, err := p.shelves.Find(text); err == nil {
		return "", "", false
	}
	for i := strings.LastIndexByte(text, '-'); i > 0; i = strings.LastIndexByte(text[:i], '-') {
		if _, has := p.find(text[:i], text[i+1:]); has {
			return text[:i], text[i+1:], true
		}
	}
	return "", "", false
}

// names are the presets that a package has, each once.
func (p presets) names(r *recipe.Recipe) []string {
	var all []string
	add := func(name string) {
		if _, has := p.find(r.Name, name); has && !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	for _, s := range p.settings {
		add(s.Name)
	}
	for _, s := range r.Presets {
		add(s.Name)
	}
	return all
}

// set are the options that presets set; later ones have precedence. Each preset has to be one of
// at least one package.
func (p presets) set(wanted []resolve.Wanted, asked []string) ([]resolve.Setting, error) {
	var all []resolve.Setting
	for _, preset := range asked {
		known := false
		for _, w := range wanted {
			options, has := p.find(w.Name, preset)
			known = known || has
			for _, o := range options {
				all = override(all, []resolve.Setting{{Package: w.Name, Option: o.Name, Value: o.Values[0]}})
			}
		}
		if !known {
			return nil, p.unknown(wanted, preset)
		}
	}
	return all, nil
}

func (p presets) unknown(wanted []resolve.Wanted, preset string) error {
	var have []string
	for _, w := range wanted {
		r, err := p.shelves.Find(w.Name)
		if err != nil {
			return err
		}
		for _, name := range p.names(r) {
			if !slices.Contains(have, name) {
				have = append(have, name)
			}
		}
	}
	if len(have) == 0 {
		return badAsk("%s has no presets; [preset.%s] in a recipe or in %s makes one", wanted[0].Name, preset,
			settings.FileName)
	}
	near := ""
	if name, found := tomlfile.Nearest(preset, have); found {
		near = fmt.Sprintf("; did you mean %s?", name)
	}
	if len(wanted) == 1 {
		return badAsk("%s has no preset %q; it has: %s%s", wanted[0].Name, preset, strings.Join(have, ", "), near)
	}
	return badAsk("there is no preset %q; there are: %s%s", preset, strings.Join(have, ", "), near)
}

// of is the preset that matches a package's options, whoever has set them: all its options have
// these values, and at least one differs from its default. Of several, it is the one that sets
// most.
func (p presets) of(pkg *resolve.Package) string {
	best, most := "", 0
	for _, name := range p.names(pkg.Recipe) {
		options, _ := p.find(pkg.Name(), name)
		n, differs := 0, false
		for _, set := range options {
			o := pkg.Recipe.Option(set.Name)
			if o == nil || pkg.Options[o.Name] != o.Value(set.Values[0]) {
				n = -1
				break
			}
			n++
			differs = differs || pkg.Options[o.Name] != o.DefaultOf(pkg.Release)
		}
		if n > most && differs {
			best, most = name, n
		}
	}
	return best
}
