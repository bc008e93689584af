package plan

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/settings"
	"fernladder/core/store"
	"fernladder/core/version"
)

// facts are everything that a plan is made from.
type facts struct {
	Ask       Ask
	AllWanted bool            // it is about everything that is wanted on this machine
	Request   resolve.Request // the request, and what should stay
	Shelves   *recipe.Shelves // the recipes that can be reached are read
	Target    build.Target
	Lock      *lock.File
	Landing   landing.State
	Receipts  map[store.Ref]*store.Receipt // the builds on the landing, and their needs
	Installed map[store.Ref]bool
	Exactly   map[string]store.Ref // builds that are named by their ids, by package
	Orphans   []landing.Member     // asked for once, and no shelf has a recipe for them any more

	presets presets
	stands  []*store.Receipt // of the landing, its needs after it
}

// Gather reads and asks for everything that a plan is made from. It writes and fetches nothing.
func Gather(ctx context.Context, m *machine.Machine, ask Ask) (facts, error) {
	f := facts{Ask: ask, Shelves: m.Shelves, Target: build.NewTarget(m),
		presets: presets{m.Shelves, m.Settings.Presets}}
	var err error
	if f.Target.Prefix = ask.Prefix; ask.Prefix != "" {
		if err := build.CheckPrefix(ask.Prefix, m.Store.Root, ask.System); err != nil {
			return f, err
		}
	}
	if f.Lock, err = ReadLock(m); err != nil {
		return f, err
	}
	if err := acceptedShelves(m, f.Lock); err != nil {
		return f, err
	}
	if f.Landing, err = landing.Current(m.Store); err != nil {
		return f, err
	}
	if f.Installed, err = m.Store.Trees(); err != nil {
		return f, err
	}
	if err := f.readReceipts(m.Store); err != nil {
		return f, err
	}
	if err := f.readAsk(m); err != nil {
		return f, err
	}
	f.Request.Machine = m.System
	reached := resolve.Reach(m.Shelves, f.Request.Wanted)
	if err := f.addSettings(m.Settings, reached); err != nil {
		return f, err
	}
	f.Request.Prefer, f.Request.Usual = ask.Prefer, m.Settings.Prefer
	f.Target.Prefer = slices.Concat(ask.Prefer, m.Settings.Prefer)
	for _, name := range ask.Prefer {
		if !slices.ContainsFunc(reached, func(r *recipe.Recipe) bool {
			return slices.ContainsFunc(r.Needs, func(n *recipe.Need) bool { return slices.Contains(n.Either, name) }) ||
				slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool {
					return slices.ContainsFunc(n.Either, func(one *recipe.HostNeed) bool { return one.Question().Name == name })
				})
		}) {
			return f, badAsk("no package of this ladder has %s as an alternative; only needs with either have alternatives",
				name)
		}
	}
	if f.Request.Pins, err = f.pins(); err != nil {
		return f, err
	}
	f.Request.Kept = f.kept()
	f.Request.HostCopies = hostCopies(ctx, m, reached)
	err = f.Target.Ask(ctx, m.Seen(), reached)
	if m.Settings.OnlyDepots { // the machine that builds has locked its compilers
		f.Target.Adopt(f.Lock.Compilers)
	}
	return f, err
}

// acceptedShelves is the error for a shelf with keys whose commit is not the one that was last
// accepted: it could be an older one.
func acceptedShelves(m *machine.Machine, f *lock.File) error {
	for _, s := range m.Settings.Shelves {
		if len(s.Keys) > 0 && f.Accepted(s.Git, s.Inside) != s.Commit {
			return problem.New(problem.Recipe, s.Git,
				"the shelf %s at %s has not been accepted yet: %s does not have this commit", s.Git, s.Commit[:12], f.Shown).
				Remedy(problem.BringShelf)
		}
	}
	return nil
}

// readReceipts reads the receipts of the landing and all its needs.
func (f *facts) readReceipts(s *store.Store) (err error) {
	f.stands, err = receiptsOf(s, f.Landing)
	f.Receipts = map[store.Ref]*store.Receipt{}
	for _, r := range f.stands {
		f.Receipts[r.Ref] = r
	}
	return err
}

// receiptsOf reads the receipts of a landing, then those of its needs, and so on.
func receiptsOf(s *store.Store, on landing.State) ([]*store.Receipt, error) {
	var queue []store.Ref
	for _, m := range on.Members {
		queue = append(queue, m.Ref)
	}
	var all []*store.Receipt
	seen := map[store.Ref]bool{}
	for ; len(queue) > 0; queue = queue[1:] {
		if seen[queue[0]] {
			continue
		}
		seen[queue[0]] = true
		receipt, err := s.Receipt(queue[0])
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was removed; then it does not stay
		}
		if err != nil {
			return nil, err
		}
		all = append(all, receipt)
		for _, need := range receipt.Needs {
			queue = append(queue, need.Ref)
		}
	}
	return all, nil
}

// readAsk works out what is wanted: the named packages, those in the settings, those locked as
// requested, or those that an upgrade without names covers.
func (f *facts) readAsk(m *machine.Machine) (err error) {
	s, names := m.Settings, f.Ask.Names
	switch {
	case len(names) > 0:
		if f.Ask.Upgrade {
			names = f.stillTips(m.Store, f.requesters(names))
		}
		f.Request.Wanted, err = f.parseAsked(m.Store, names)
	case len(s.Wanted) > 0:
		f.AllWanted = true
		f.Request.Wanted, f.Request.Options, err = wantedBySettings(s, f.presets)
	case f.Ask.Locked && len(f.Lock.Asked()) > 0:
		f.Request.Wanted, err = parseNames(f.Lock.Asked())
	case f.Ask.Upgrade:
		f.Request.Wanted, err = f.onLanding(m.Store)
	default:
		return problem.New(problem.Usage, "",
			"name a package, for example mistplan, or list what is wanted in %s: [wanted.mistplan]", settings.FileName)
	}
	if err != nil {
		return err
	}
	for i, w := range f.Request.Wanted {
		if name, preset, is := f.presets.split(w.Name); is {
			f.Request.Wanted[i].Name = name
			set, err := f.presets.set(f.Request.Wanted[i:i+1], []string{preset})
			if err != nil {
				return err
			}
			f.Request.Options = override(f.Request.Options, set)
		}
	}
	set, err := f.presets.set(f.Request.Wanted, f.Ask.Presets)
	if err != nil {
		return err
	}
	f.Request.Options = override(f.Request.Options, set)
	set, err = parseOptions(f.Ask.Options, f.Request.Wanted, f.Shelves)
	f.Request.Options = valued(override(f.Request.Options, set), f.Shelves)
	return err
}

// parseAsked reads names. A name with an id means the release and the options of an existing
// build.
func (f *facts) parseAsked(s *store.Store, names []string) ([]resolve.Wanted, error) {
	f.Exactly = map[string]store.Ref{}
	var wanted []resolve.Wanted
	for _, name := range names {
		if !strings.Contains(name, "@") {
			more, err := parseNames([]string{name})
			if err != nil {
				return nil, err
			}
			wanted = append(wanted, more...)
			continue
		}
		receipt, err := landing.FindBuild(s, name)
		if err != nil {
			return nil, err
		}
		if other := receipt.Prefix; other != f.Ask.Prefix && other != "" {
			return nil, badAsk("%s was built for %s, and is only used for that prefix: --prefix %s", name, other, other)
		}
		w := resolve.Wanted{Name: receipt.Name}
		exactly := receipt.Version
		if receipt.Track == recipe.Tip {
			exactly = string(recipe.Tip)
		}
		if err := w.Narrow(exactly); err != nil {
			return nil, badAsk("%v", err)
		}
		for _, option := range slices.Sorted(maps.Keys(receipt.Options)) {
			f.Request.Options = append(f.Request.Options,
				resolve.Setting{Package: w.Name, Option: option, Value: receipt.Options[option]})
		}
		if receipt.Prefix == f.Ask.Prefix { // else only its release and its options are meant
			f.Exactly[w.Name] = receipt.Ref
		}
		wanted = append(wanted, w)
	}
	return wanted, nil
}

// requesters adds to names the requested packages that need them: an upgrade moves a package
// wherever it is used. A package that is only in use because others need it does not become a
// requested one.
func (f *facts) requesters(names []string) (all []string) {
	for _, name := range names {
		var users []string
		for _, m := range f.Landing.Members {
			if m.Asked && !m.Beside && m.Name != name && f.uses(m.Ref, name, map[store.Ref]bool{}) {
				users = append(users, m.Name)
			}
		}
		if own := f.Landing.Find(name); own != nil && own.Asked || len(users) == 0 {
			users = append(users, name)
		}
		for _, user := range users {
			if !slices.Contains(all, user) {
				all = append(all, user)
			}
		}
	}
	return all
}

// uses reports whether a build on the landing needs a package, directly or not.
func (f *facts) uses(r store.Ref, name string, seen map[store.Ref]bool) bool {
	receipt := f.Receipts[r]
	if receipt == nil || seen[r] {
		return false
	}
	seen[r] = true
	return slices.ContainsFunc(receipt.Needs, func(l store.Link) bool {
		return l.Name == name || f.uses(l.Ref, name, seen)
	})
}

func parseNames(names []string) ([]resolve.Wanted, error) {
	var wanted []resolve.Wanted
	for _, name := range names {
		w, err := resolve.ParseWanted(name)
		if err != nil {
			return nil, badAsk("%v", err)
		}
		wanted = append(wanted, w)
	}
	return wanted, nil
}

// onLanding are the requested packages on the landing that have recipes.
func (f *facts) onLanding(s *store.Store) ([]resolve.Wanted, error) {
	var names []string
	for _, m := range f.Landing.Members {
		if !m.Asked || m.Beside { // other packages stay at their release
			continue
		}
		if _, err := f.Shelves.Find(m.Name); errors.As(err, new(*recipe.NotFound)) {
			f.Orphans = append(f.Orphans, m)
			continue
		}
		names = append(names, m.Name)
	}
	if len(names) == 0 {
		return nil, badAsk("nothing is installed")
	}
	return parseNames(f.stillTips(s, names))
}

// stillTips keeps builds from the head of a branch as they are, according to their receipts: the
// lock file may have another commit by now.
func (f *facts) stillTips(s *store.Store, names []string) []string {
	names = slices.Clone(names)
	for i, name := range names {
		m := f.Landing.Find(name)
		if m == nil {
			continue
		}
		receipt, err := s.Receipt(m.Ref)
		if r, found := f.Shelves.Find(name); err == nil && found == nil && receipt.Track == recipe.Tip && r.Tip() != nil {
			names[i] = name + ":" + string(recipe.Tip)
		}
	}
	return names
}

// addSettings adds what the settings want of packages that can be reached, including the version
// if no version is requested.
func (f *facts) addSettings(s settings.Settings, reached []*recipe.Recipe) error {
	if f.AllWanted {
		return nil
	}
	for i, w := range f.Request.Wanted {
		for _, entry := range s.Wanted {
			if entry.Name == w.Name && w.String() == w.Name {
				wanted, err := wantedOf(entry)
				if err != nil {
					return err
				}
				f.Request.Wanted[i] = wanted
			}
		}
	}
	held, options, err := heldBySettings(s, reached, f.presets)
	if err != nil {
		return err
	}
	f.Request.Options = override(valued(options, f.Shelves), f.Request.Options)
	f.Request.Held = slices.DeleteFunc(held, func(h resolve.Held) bool {
		return slices.ContainsFunc(f.Request.Wanted, func(w resolve.Wanted) bool { return w.Name == h.Name })
	})
	return nil
}

// tips are the wanted heads of branches.
func (f *facts) tips() []resolve.Wanted {
	all := slices.Clone(f.Request.Wanted)
	for _, h := range f.Request.Held {
		all = append(all, h.Wanted)
	}
	return slices.DeleteFunc(all, func(w resolve.Wanted) bool { return !w.Tip })
}

// pins are those of all tips that are locked.
func (f *facts) pins() (map[string]recipe.Pin, error) {
	pins := map[string]recipe.Pin{}
	for _, t := range f.Lock.Tips {
		r, err := f.Shelves.Find(t.Name)
		if err != nil {
			continue // reported by the resolver, if it is needed
		}
		if pin, known := f.Lock.Pin(r); known {
			pins[t.Name] = pin
		}
	}
	var missing []string
	for _, w := range f.tips() {
		if _, pinned := pins[w.Name]; pinned {
			continue
		}
		if r, err := f.Shelves.Find(w.Name); err == nil && r.Tip() != nil { // the resolver explains missing ones
			missing = append(missing, w.Name)
		}
	}
	if len(missing) > 0 {
		return nil, problem.New(problem.Usage, missing[0], "the commit at the tip of %s is not pinned in %s yet",
			strings.Join(missing, " and "), f.Lock.Shown).
			Remedy(problem.PinTips, missing...)
	}
	return pins, nil
}

// kept is what should stay as it is: what is locked, then what is on the landing and what that
// was built with. Packages that may be upgraded only keep their options.
func (f *facts) kept() map[string][]resolve.Kept {
	kept := map[string][]resolve.Kept{}
	add := func(name string, k resolve.Kept) {
		if f.mayUpgrade(name) && !f.ahead(name, k.Version) {
			k.Version, k.Needs = version.Version{}, nil
		}
		kept[name] = append(kept[name], k)
	}
	for _, b := range f.Lock.Builds {
		k := resolve.Kept{Version: b.Version, Options: map[string]string{}, Needs: b.Needs}
		for _, set := range b.Options {
			name, value, _ := strings.Cut(set, "=")
			k.Options[name] = value
		}
		k.Changed = k.Options
		add(b.Name, k)
	}
	for _, receipt := range f.stands {
		v, err := version.Parse(receipt.Version)
		if err != nil || f.besides(receipt.Ref) {
			continue
		}
		k := resolve.Kept{Version: v, Options: receipt.Options, Changed: receipt.Chosen}
		for _, need := range receipt.Needs {
			k.Needs = append(k.Needs, need.Name)
		}
		add(receipt.Name, k)
	}
	return kept
}

// besides reports whether a build is beside another one that the request is about.
func (f *facts) besides(r store.Ref) bool {
	m, front := f.Landing.Has(r), f.Landing.Find(r.Name)
	if m == nil || !m.Beside || front == nil || f.Ask.Beside {
		return false
	}
	for _, w := range f.Request.Wanted {
		if w.Name == r.Name && !w.Tip {
			v, err := version.Parse(front.Version)
			return err != nil || w.Range.Contains(v)
		}
	}
	return true
}

// mayUpgrade reports whether a package may be upgraded to a newer release.
func (f *facts) mayUpgrade(name string) bool {
	return f.Ask.Upgrade && (len(f.Ask.Names) == 0 || slices.ContainsFunc(f.Ask.Names, func(text string) bool {
		w, err := resolve.ParseWanted(text)
		if base, _, is := f.presets.split(w.Name); is {
			w.Name = base
		}
		return err == nil && w.Name == name
	}))
}

// ahead reports whether a version is a preview newer than every stable release, so that an
// upgrade would be a downgrade.
func (f *facts) ahead(name string, v version.Version) bool {
	r, err := f.Shelves.Find(name)
	if err != nil {
		return false
	}
	if newest := r.Newest(); newest != nil && newest.Version.Compare(v) > 0 {
		return false
	}
	return slices.ContainsFunc(r.Releases, func(x *recipe.Release) bool {
		return x.Track == recipe.Preview && x.Version.Compare(v) == 0
	})
}

// hostCopies asks the operating system for its own copies of packages, if the settings allow
// them to replace builds.
func hostCopies(ctx context.Context, m *machine.Machine, reached []*recipe.Recipe) map[string]resolve.HostCopy {
	var questions []host.Question
	var asked []*recipe.Recipe
	for _, r := range reached {
		if r.HostCopy != nil &&
			(slices.Contains(m.Settings.HostCopies, "*") || slices.Contains(m.Settings.HostCopies, r.Name)) {
			questions = append(questions, r.HostCopy.Question())
			asked = append(asked, r)
		}
	}
	if len(asked) == 0 {
		return nil
	}
	answers := m.Programs.Ask(ctx, "cc", questions, func(host.Question) bool { return true })
	copies := map[string]resolve.HostCopy{}
	for i, r := range asked {
		answer := answers[questions[i]]
		v, err := version.Parse(answer.Version)
		if !answer.There || r.HostCopy.Range.String() != "any" && (err != nil || !r.HostCopy.Range.Contains(v)) {
			continue
		}
		copies[r.Name] = resolve.HostCopy{Name: r.Name, Version: v}
	}
	return copies
}

// ReadLock reads ladder.lock, which is beside the settings, or in the root if there are none.
func ReadLock(m *machine.Machine) (*lock.File, error) {
	path := LockPath(m)
	return lock.Read(path, m.Place.Shown(path))
}

// LockPath is the path of a machine's lock file, which need not exist.
func LockPath(m *machine.Machine) string {
	dir := m.Store.Root
	if m.Settings.File != "" {
		dir = filepath.Dir(m.Settings.File)
	}
	return filepath.Join(dir, lock.FileName)
}
