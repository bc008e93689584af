// Package plan turns a request and the state of the machine into a ladder, the jobs to build,
// and the next landing. It also says what a choice of options would mean.
//
// Gather does all the reading and returns facts; Make is a function of those alone. Nothing is
// fetched, built or written: if that is required first, as for the head of a branch that is not
// pinned, the error says so.
package plan

import (
	"slices"
	"strings"
	"sync"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/settings"
	"fernladder/core/tomlfile"
)

// Ask is what a person requests.
type Ask struct {
	Names   []string // NAME, NAME:RANGE or NAME:tip; none: the wanted packages
	Options []string // OPTION=VALUE of the named packages, or PACKAGE.OPTION=VALUE
	Presets []string // by which options of the named packages are set, before Options
	Prefer  []string // of packages of which a need takes one
	Upgrade bool     // the named packages, or all of them, move to their newest release
	Beside  bool     // the named builds leave other builds of their packages on the landing, and the plain names to them
	Locked  bool     // exactly the ladder of the lock file, or none
	// The directory that named packages, and all their needs except tools, are built for; "" for
	// trees of their own.
	Prefix  string
	System  bool // that may be /usr
	Cluster bool // builds run on the nodes of a cluster
	// Nothing is taken from depots.
	NoDepots bool

	Until string // the last stage of the named packages; "": all stages

	Edited build.EditedPolicy // the handling of kept sources that were changed by hand
}

func badAsk(format string, args ...any) error { return problem.New(problem.Usage, "", format, args...) }

// wantedBySettings is what the settings say should be on the landing.
func wantedBySettings(s settings.Settings, p presets) (wanted []resolve.Wanted, options []resolve.Setting, err error) {
	for _, entry := range s.Wanted {
		w, err := wantedOf(entry)
		if err != nil {
			return nil, nil, err
		}
		wanted = append(wanted, w)
		set, err := setBySettings(entry, p, tomlfile.Position{})
		if err != nil {
			return nil, nil, err
		}
		options = append(options, set...)
	}
	return wanted, options, nil
}

// setBySettings are the options that a wanted package sets in the settings, with their place.
func setBySettings(entry *settings.Wanted, p presets, at tomlfile.Position) (options []resolve.Setting, err error) {
	if entry.Preset != "" {
		if options, err = p.set([]resolve.Wanted{{Name: entry.Name}}, []string{entry.Preset}); err != nil {
			return nil, err
		}
	}
	for _, o := range entry.Options {
		options = override(options, []resolve.Setting{{Package: entry.Name, Option: o.Name, Value: o.Values[0]}})
	}
	for i := range options {
		options[i].At = at
	}
	return options, nil
}

func wantedOf(entry *settings.Wanted) (resolve.Wanted, error) {
	w := resolve.Wanted{Name: entry.Name}
	if entry.Version == "" {
		return w, nil
	}
	return w, w.Narrow(entry.Version)
}

// heldBySettings is what the settings want of packages that are not requested themselves; it
// counts if they are on the ladder.
func heldBySettings(s settings.Settings, reached []*recipe.Recipe, p presets) (held []resolve.Held,
	options []resolve.Setting, err error) {
	for _, entry := range s.Wanted {
		if !slices.ContainsFunc(reached, func(r *recipe.Recipe) bool { return r.Name == entry.Name }) {
			continue
		}
		w, err := wantedOf(entry)
		if err != nil {
			return nil, nil, err
		}
		held = append(held, resolve.Held{Wanted: w, At: entry.Position})
		set, err := setBySettings(entry, p, entry.Position)
		if err != nil {
			return nil, nil, err
		}
		options = append(options, set...)
	}
	return held, options, nil
}

// parseOptions reads settings of options; later ones have precedence.
func parseOptions(texts []string, wanted []resolve.Wanted, shelves *recipe.Shelves) ([]resolve.Setting, error) {
	var options []resolve.Setting
	for _, text := range texts {
		set, err := parseOption(text, wanted, shelves)
		if err != nil {
			return nil, err
		}
		options = override(options, set)
	}
	return options, nil
}

// override replaces earlier settings of the same options.
func override(options, by []resolve.Setting) []resolve.Setting {
	same := func(a, b resolve.Setting) bool { return a.Package == b.Package && a.Option == b.Option }
	kept := slices.DeleteFunc(slices.Clone(options), func(old resolve.Setting) bool {
		return slices.ContainsFunc(by, func(s resolve.Setting) bool { return same(s, old) })
	})
	return append(kept, by...)
}

// parseOption reads OPTION=VALUE, for all the named packages that have the option, or
// PACKAGE.OPTION=VALUE.
func parseOption(text string, wanted []resolve.Wanted, shelves *recipe.Shelves) ([]resolve.Setting, error) {
	key, value, given := strings.Cut(text, "=")
	if !given || key == "" {
		return nil, badAsk("%s sets no option; write OPTION=VALUE or PACKAGE.OPTION=VALUE", text)
	}
	if i := strings.LastIndex(key, "."); i >= 0 {
		return []resolve.Setting{{Package: key[:i], Option: key[i+1:], Value: value}}, nil
	}
	var all, having []resolve.Setting
	for _, w := range wanted {
		set := resolve.Setting{Package: w.Name, Option: key, Value: value}
		all = append(all, set)
		if r, err := shelves.Find(w.Name); err == nil && r.Option(key) != nil {
			having = append(having, set)
		}
	}
	if len(having) == 0 {
		return all[:1], nil // which the resolver rejects with its own explanation
	}
	return having, nil
}

// valued are settings with values in the form of recipes: on for true and yes.
func valued(options []resolve.Setting, shelves *recipe.Shelves) []resolve.Setting {
	options = slices.Clone(options)
	for i, set := range options {
		if r, err := shelves.Find(set.Package); err == nil {
			if o := r.Option(set.Option); o != nil {
				options[i].Value = o.Value(set.Value)
			}
		}
	}
	return options
}

// Tips are the requested heads of branches, pinned or not, and the lock file, which has their
// pins.
func Tips(m *machine.Machine, ask Ask) ([]resolve.Wanted, *lock.File, error) {
	f := facts{Ask: ask, Shelves: m.Shelves, presets: presets{m.Shelves, m.Settings.Presets}}
	var err error
	if f.Lock, err = ReadLock(m); err != nil {
		return nil, nil, err
	}
	if f.Landing, err = landing.Current(m.Store); err != nil {
		return nil, nil, err
	}
	if ask.Upgrade && len(ask.Names) > 0 { // what is requested depends on receipts
		if err := f.readReceipts(m.Store); err != nil {
			return nil, nil, err
		}
	} else {
		// Receipts are read at the same time as recipes: the plan needs both, and the store
		// remembers them.
		var receipts sync.WaitGroup
		receipts.Go(func() { receiptsOf(m.Store, f.Landing) })
		defer receipts.Wait()
	}
	if err := f.readAsk(m); err != nil {
		return nil, nil, err
	}
	err = f.addSettings(m.Settings, resolve.Reach(m.Shelves, f.Request.Wanted))
	return f.tips(), f.Lock, err
}
