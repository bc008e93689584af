package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/named"
	"fernladder/core/recipe"
	"fernladder/core/settings"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) landingCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "landing",
		Short: "List the states of the landing, and bring one back",
		Long: `Lists the states that the landing was in, each with when it was made, by which
command, and what came (+), went (-) and changed (~) against the one before. Any of
them can be brought back whole, in one step, as long as it is kept: keep_landings and
keep_landings_days in the settings say how long, and what they use is not cleaned.`,
		Example: `  fernladder landing                          all states
  fernladder landing undo                     the one that this one was made from
  fernladder landing use 12                   any other
  fernladder landing compare 9 12             what is different`,
		Args: noNames,
		RunE: func(*cobra.Command, []string) error { return a.landings() },
	}
	undo := &cobra.Command{
		Use:     "undo",
		Short:   "Go back to the state that this one was made from",
		Long:    "Brings back the state that the one in use was made from. Twice goes two back. Nothing\nis built or deleted; fernladder landing use goes forward again.",
		Example: "  fernladder landing undo",
		Args:    noNames,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.changeLanding(func(m *machine.Machine) (install.Landed, error) { return install.GoBack(c.Context(), m) })
		},
	}
	use := &cobra.Command{
		Use:     "use N",
		Short:   "Bring a state back, by its number",
		Long:    "Brings the state with a number back. 0 is the empty landing before the first.",
		Example: "  fernladder landing use 12",
		Args:    exactly(1, "the number of a state"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := stateNumber(args[0])
			if err != nil {
				return err
			}
			return a.changeLanding(func(m *machine.Machine) (install.Landed, error) { return install.GoTo(c.Context(), m, n) })
		},
	}
	compare := &cobra.Command{
		Use:     "compare N [M]",
		Short:   "Show what is different between two states",
		Long:    "Shows what is on the state M, or on the one in use, that is not on N, and the other\nway round.",
		Example: "  fernladder landing compare 9 12\n  fernladder landing compare 9",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage("landing compare takes the numbers of one or two states")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.compareLandings(args) },
	}
	c.AddCommand(undo, use, compare, a.settleCommand())
	return c
}

// exactly wants so many arguments.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return usage("%s takes %s", c.CommandPath(), what)
		}
		return nil
	}
}

func stateNumber(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, usage("%q is no number of a landing; fernladder landing lists them", text)
	}
	return n, nil
}

// stateJSON is a state of the landing in JSON.
type stateJSON struct {
	landing.State
	InUse   bool               `json:"in_use"`
	Changes landing.Difference `json:"changes"`
	Missing []store.Ref        `json:"missing"`
	Damaged string             `json:"damaged,omitempty"`
}

func (a *app) landings() error {
	m, err := a.open()
	if err != nil {
		return err
	}
	all, err := landing.History(m.Store)
	if err != nil {
		return err
	}
	shared, err := landing.ReadShared(m.Store)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		states := []stateJSON{}
		for _, x := range all {
			j := stateJSON{State: x.State, InUse: x.InUse, Changes: x.Changes, Missing: append([]store.Ref{}, x.Missing...)}
			if x.Damaged != nil {
				j.Damaged = x.Damaged.Error()
			}
			states = append(states, j)
		}
		return a.screen.PrintJSON(map[string]any{"directory": landing.Directory(m.Store), "states": states, "shared": append([]landing.Shared{}, shared...)})
	}
	if len(all) == 0 {
		a.screen.Print("Nothing was ever on the landing %s.", landing.Directory(m.Store))
		return nil
	}
	var rows [][]string
	var used *landing.Remembered
	for i, x := range all {
		if x.Damaged != nil {
			rows = append(rows, []string{"", strconv.Itoa(x.Number), "", "", a.screen.Bad("damaged: its list cannot be read")})
			continue
		}
		mark := ""
		if x.InUse {
			mark = a.screen.Good("in use")
			used = &all[i]
		}
		rows = append(rows, []string{mark, strconv.Itoa(x.Number), x.Made.Local().Format("2006-01-02 15:04"), short(term.OneLine(x.Command)), a.changed(x, i == 0)})
	}
	a.screen.Table([]string{"", "landing", "made", "by", "changes"}, rows)
	if used == nil {
		a.screen.Print("\nNone is in use: the landing is empty. To bring one back: fernladder landing use N")
	} else {
		a.screen.Print("\n%s on it, %s: %s", term.Count(len(used.Members), "build"), term.Count(used.Links, "link"), landing.Directory(m.Store))
		a.showNamed(used.Named)
	}
	for _, x := range shared {
		a.screen.Print("Linked besides in %s: %s.", x.Directory, term.Count(len(x.Links), "name"))
		a.showBlocked(&x)
	}
	return nil
}

// changed says in a few words what a state changed.
func (a *app) changed(x landing.Remembered, first bool) string {
	if len(x.Missing) > 0 {
		return a.screen.Bad("cannot be used: " + term.Count(len(x.Missing), "tree") + " gone")
	}
	if first && x.From != 0 {
		return term.Count(len(x.Members), "build")
	}
	lines := differences(x.Changes)
	const few = 4
	if len(lines) > few {
		lines = append(lines[:few-1:few-1], fmt.Sprintf("and %d more", len(lines)-few+1))
	}
	if len(lines) == 0 {
		return "names or links only"
	}
	return strings.Join(lines, ", ")
}

// differences are what came, went and changed, each in a word or two.
func differences(d landing.Difference) (lines []string) {
	for _, m := range d.Came {
		lines = append(lines, "+ "+m.Name+" "+m.Version+beside(m))
	}
	for _, v := range d.Moved {
		lines = append(lines, "~ "+moved(v))
	}
	for _, m := range d.Went {
		lines = append(lines, "- "+m.Name+" "+m.Version)
	}
	return lines
}

func beside(m landing.Member) string { return map[bool]string{true: " (beside)"}[m.Beside] }

// moved says how a package has changed.
func moved(v landing.Move) string {
	switch {
	case v.From.Ref == v.To.Ref && v.To.Beside:
		return v.To.Name + " " + v.To.Version + " is beside now"
	case v.From.Ref == v.To.Ref:
		return v.To.Name + " " + v.To.Version + " has the plain names now"
	case v.From.Version == v.To.Version:
		return fmt.Sprintf("%s %s, built differently (%s → %s)", v.To.Name, v.To.Version, v.From.ID, v.To.ID)
	}
	return v.To.Name + " " + v.From.Version + " → " + v.To.Version
}

func (a *app) compareLandings(args []string) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	var states []landing.State
	for _, text := range args {
		n, err := stateNumber(text)
		if err != nil {
			return err
		}
		state, err := existing(m, n)
		if err != nil {
			return err
		}
		states = append(states, state)
	}
	if len(states) == 1 {
		current, err := landing.Current(m.Store)
		if err != nil {
			return err
		}
		states = append(states, current)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"from": states[0].Number, "to": states[1].Number, "changes": landing.Compare(states[0].Members, states[1].Members)})
	}
	lines := changes(m, nil, states[0].Members, states[1].Members)
	if len(lines) == 0 {
		a.screen.Print("Landing %d and %d have the same builds.", states[0].Number, states[1].Number)
	}
	for _, line := range lines {
		a.screen.Print("%s", line)
	}
	return nil
}

// existing reads a state that is there; 0 is the empty one.
func existing(m *machine.Machine, n int) (landing.State, error) {
	if n == 0 {
		return landing.State{}, nil
	}
	have, err := landing.States(m.Store)
	if err != nil {
		return landing.State{}, err
	}
	if !slices.Contains(have, n) {
		return landing.State{}, &landing.Gone{Number: n, Have: have}
	}
	return landing.Read(m.Store, n)
}

// changeLanding changes the landing without building anything, and shows what that
// did.
func (a *app) changeLanding(change func(*machine.Machine) (install.Landed, error)) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	l, err := change(m)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(landedJSON(l))
	}
	if !l.Changed() && l.Linked {
		a.showShared(l.Shared)
		return nil
	}
	if !l.Changed() {
		a.screen.Print("Nothing to do: landing %d is in use.", l.After.Number)
		return nil
	}
	for _, line := range changes(m, nil, l.Before.Members, l.After.Members) {
		a.screen.Print("%s", line)
	}
	a.showLanded(m, l)
	if l.Before.Number > 0 {
		a.screen.Note("To go back: fernladder landing use %d", l.Before.Number)
	}
	return a.aheadOfLock(m, l)
}

// landedJSON is a change of the landing in JSON.
func landedJSON(l install.Landed) map[string]any {
	return map[string]any{"landing": l.After, "changed": l.Changed(), "configs": append([]store.ConfigChange{}, l.Configs...),
		"shared": l.Shared, "forgotten_landings": append([]int{}, l.Forgotten...), "caches": append([]landing.Cache{}, l.Caches...)}
}

// showLanded tells of a change of the landing all but what is on it.
func (a *app) showLanded(m *machine.Machine, l install.Landed) {
	a.showConfigs(l.Configs)
	if l.After.Number == 0 {
		a.screen.Print("The landing is empty.")
	} else {
		a.screen.Print("Landing %d is in use: %s", l.After.Number, landing.Directory(m.Store))
	}
	var fresh []landing.Naming
	for _, n := range l.After.Named {
		if !slices.ContainsFunc(l.Before.Named, func(o landing.Naming) bool { return sameNaming(o, n) }) {
			fresh = append(fresh, n)
		}
	}
	a.showNamed(fresh)
	a.showWithout(m, l.After)
	a.showShared(l.Shared)
	for _, c := range l.Caches {
		if c.Problem != "" {
			a.screen.Note("The %s cache was not renewed: %s", c.Name, c.Problem)
		} else {
			a.screen.Print("Renewed: %s", c.File)
		}
	}
	if len(l.Forgotten) > 0 {
		a.screen.Note("Too old to be kept, and forgotten: landing %s.", numbers(l.Forgotten))
	}
}

// showWithout tells of builds that run with one that does not have the plain names: what
// they start by those is another.
func (a *app) showWithout(m *machine.Machine, state landing.State) {
	for _, member := range state.Members {
		needs, err := m.Store.Needs(member.Ref)
		if err != nil {
			continue // what is gone is told elsewhere
		}
		for _, need := range needs {
			if with := state.Has(need.Ref); need.Role == recipe.Runtime && with != nil && with.Beside {
				a.screen.Note("%s %s runs with %s %s, which is beside another build: by the plain names it starts that one.", member.Name, member.Version, need.Name, need.Version)
			}
		}
	}
}

func sameNaming(a, b landing.Naming) bool {
	return a.Build == b.Build && a.File == b.File && a.Why == b.Why && slices.Equal(a.As, b.As)
}

func numbers(all []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(all), " ", ", "), "[]")
}

// showNamed tells which files are not on the landing under their own names, and why.
func (a *app) showNamed(all []landing.Naming) {
	type key struct {
		r   store.Ref
		why landing.Why
		by  string
	}
	var order []key
	groups := map[key][]landing.Naming{}
	for _, n := range all {
		k := key{n.Build, n.Why, n.Winner}
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], n)
	}
	for _, k := range order {
		list := groups[k]
		who := k.r.Name + " " + k.r.Version
		switch k.why {
		case landing.BySystem:
			a.screen.Print("%s: %s not linked by that name, for the operating system has %s. To let ours come first: before_system = [%q] in the settings.",
				who, areOrIs(names(list)), systems(list), k.r.Name)
		case landing.OverIt:
			a.screen.Print("%s: %s before the operating system's %s.", who, comes(names(list)), systems(list))
		case landing.ByWinner:
			a.screen.Print("%s: %s not linked by that name: the settings give it to %s.", who, areOrIs(names(list)), k.by)
		case landing.ByRule:
			for _, n := range list {
				if len(n.As) == 0 {
					a.screen.Print("%s: %s is left off, as the settings say.", who, n.File)
				} else {
					a.screen.Print("%s: %s is %s, as the settings say.", who, n.File, strings.Join(n.As, " and "))
				}
			}
		case landing.ByLink:
			a.screen.Print("%s: %s at the top of its tree, and not linked.", who, map[bool]string{true: list[0].File + " is a link", false: isAnd(names(list)) + " are links"}[len(list) == 1])
		case landing.ByFronted:
			a.screen.Print("%s is beside another build: %s.", who, strings.Join(renamed(list), ", "))
		}
	}
}

func names(list []landing.Naming) (texts []string) {
	for _, n := range list {
		if !strings.HasPrefix(n.File, "share/man/") {
			texts = append(texts, n.File)
		}
	}
	if len(texts) == 0 {
		for _, n := range list {
			texts = append(texts, n.File)
		}
	}
	const few = 5
	if len(texts) > few {
		texts = append(texts[:few:few], fmt.Sprintf("%d more", len(texts)-few))
	}
	return texts
}

func systems(list []landing.Naming) string {
	var texts []string
	for _, n := range list {
		if !slices.Contains(texts, n.System) {
			texts = append(texts, n.System)
		}
	}
	const few = 3
	if len(texts) > few {
		texts = append(texts[:few:few], "others")
	}
	return isAnd(texts)
}

func renamed(list []landing.Naming) (texts []string) {
	for _, n := range list {
		texts = append(texts, n.File+" is "+strings.Join(n.As, " and "))
	}
	return texts
}

func areOrIs(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return isAnd(names) + " are"
}

func comes(names []string) string {
	if len(names) == 1 {
		return names[0] + " comes"
	}
	return isAnd(names) + " come"
}

// showShared tells what is ours in a directory that others use too.
func (a *app) showShared(s *landing.Shared) {
	switch {
	case s == nil:
	case s.Directory == "":
		a.screen.Print("Nothing is linked besides any more.")
	default:
		a.screen.Print("Linked besides in %s: %s.", s.Directory, term.Count(len(s.Links), "name"))
		a.showBlocked(s)
	}
}

// showBlocked tells which names in a shared directory are somebody else's.
func (a *app) showBlocked(s *landing.Shared) {
	const few = 10
	for i, b := range s.Blocked {
		if i == few {
			a.screen.Note("And %d more. All of them: fernladder landing --json", len(s.Blocked)-few)
			break
		}
		a.screen.Note("%s is %s of somebody else, and stays.", filepath.Join(s.Directory, string(b.Path)), b.Is)
	}
	for _, b := range s.Strange {
		a.screen.Note("%s was a link of ours; somebody has put %s there, which stays.", filepath.Join(s.Directory, string(b.Path)), b.Is)
	}
}

// aheadOfLock tells where the lock file has other builds than the landing that was
// brought back, for the next install would move them again.
func (a *app) aheadOfLock(m *machine.Machine, l install.Landed) error {
	other, file, err := install.OtherThanLocked(m, l.After)
	if err != nil || len(other) == 0 {
		return err
	}
	var texts, args []string
	for _, o := range other {
		texts = append(texts, o.Locked.Name+" "+o.Locked.Version.String())
		args = append(args, o.On.Name+":"+o.On.Version)
	}
	a.screen.Note("%s still has %s, which the next install goes to. To lock what is on the landing: fernladder lock %s", file, strings.Join(texts, ", "), strings.Join(args, " "))
	return nil
}

func (a *app) frontCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "front NAME:VERSION",
		Short: "Say which of several builds of a package has the plain names",
		Long: `Gives a build that is there the plain names of its package on the landing. Others of
the package that are on it stay beside, under the names that their recipe has for that
([[beside]]); those that have none leave it.`,
		Example: `  fernladder install glasshouse:1.9 --beside  a second build, beside the first
  fernladder front glasshouse:1.9             now it has the plain names
  fernladder front glasshouse@3f9c`,
		Args:              exactly(1, "the name of one build"),
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.front(c.Context(), args[0]) },
	}
}

func (a *app) front(ctx context.Context, text string) error {
	return a.changeLanding(func(m *machine.Machine) (install.Landed, error) {
		name, err := named.Parse(text)
		if err != nil {
			return install.Landed{}, err
		}
		all, err := name.All(m.Store)
		if err != nil {
			return install.Landed{}, err
		}
		if len(all) > 1 && name.String() == name.Name || name.ID != "" && len(all) > 1 {
			var texts []string
			for _, r := range all {
				texts = append(texts, r.Version+" ("+named.Of(r.Ref)+")")
			}
			return install.Landed{}, usage("%s could be %s; say which", text, strings.Join(texts, " or "))
		}
		return install.Front(ctx, m, all[0].Ref)
	})
}

func (a *app) settleCommand() *cobra.Command {
	var first, off, as string
	c := &cobra.Command{
		Use:   "settle FILE",
		Short: "Decide who has a name on the landing that two packages want",
		Long: `Writes into the settings whose a file of the landing is ([[link]]). It counts for every
change of the landing from then on; the command that ended with the conflict can be
given again. Without a flag, shows what is decided.`,
		Example: `  fernladder landing settle bin/grow --first moss     moss's counts, others' are left off
  fernladder landing settle bin/grow --off moss       moss's is left off
  fernladder landing settle bin/grow --as moss=bin/grow-moss`,
		Args: exactly(1, "one file, below the landing"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "first", "off", "as"); err != nil {
				return err
			}
			l := settings.Link{File: filepath.Clean(args[0]), Package: first + off, First: first != "", Off: off != ""}
			if as != "" {
				l.Package, l.As, _ = strings.Cut(as, "=")
				if l.As == "" {
					return usage("--as takes PACKAGE=NAME, for example moss=bin/grow-moss")
				}
			}
			return a.settle(c.Context(), l)
		},
	}
	c.Flags().StringVar(&first, "first", "", "the file of `PACKAGE` is linked, the same file of others is not")
	c.Flags().StringVar(&off, "off", "", "the file of `PACKAGE` is not linked")
	c.Flags().StringVar(&as, "as", "", "the file of a package has another name: `PACKAGE=NAME`")
	return c
}

func (a *app) settle(ctx context.Context, l settings.Link) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if !filepath.IsLocal(l.File) || l.As != "" && !filepath.IsLocal(l.As) {
		return usage("a file of the landing is named by its path below it, as bin/grow")
	}
	if l.Package == "" {
		return a.settled(m, l.File)
	}
	if err := recipe.CheckName(l.Package); err != nil {
		return usage("%v", err)
	}
	if m.Settings.File == "" {
		return usage("there is no %s to write it into; make one with fernladder new, or add to yours:\n%s", settings.FileName, l.Text())
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	unlock, err := m.Store.LockFile(ctx, m.Settings.File)
	if err != nil {
		return err
	}
	defer unlock()
	if err := settings.Decide(m.Settings.File, m.Place, l); err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"file": l.File, "package": l.Package, "settings": m.Settings.File})
	}
	a.screen.Print("Written to %s:\n%s", m.Place.Shown(m.Settings.File), indent(strings.TrimSpace(l.Text())))
	a.screen.Note("It counts from the next change of the landing on: give the command again that could not be done, or: fernladder install %s", l.Package)
	return nil
}

// settled shows what is decided about a file.
func (a *app) settled(m *machine.Machine, file string) error {
	var found []*settings.Link
	for _, l := range m.Settings.Landing.Links {
		if l.File == file {
			found = append(found, l)
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(append([]*settings.Link{}, found...))
	}
	if len(found) == 0 {
		a.screen.Print("Nothing is decided about %s.", file)
	}
	for _, l := range found {
		a.screen.Print("%s", strings.TrimSpace(l.Text()))
	}
	return nil
}

// waysOut are the commands that settle a conflict, each of which works.
func waysOut(c *landing.Conflict) []string {
	first, second := c.First.Name, c.Second.Name
	if first == second {
		return nil
	}
	file := c.Paths[0]
	lines := []string{"To decide which of them has it, where " + settings.FileName + " keeps it:"}
	settle := func(format string, args ...any) {
		lines = append(lines, "    fernladder landing settle "+file+" "+fmt.Sprintf(format, args...))
	}
	if c.First.Path == c.Second.Path {
		settle("--first %s", first)
		settle("--first %s", second)
	} else {
		settle("--off %s", first)
	}
	settle("--as %s=%s-%s", second, file, second)
	lines = append(lines, "Or take one of them off: fernladder remove "+first)
	for _, only := range c.Only {
		lines = append(lines, fmt.Sprintf("%s has nothing else; without it, it need not be on the landing.", only))
	}
	return lines
}
