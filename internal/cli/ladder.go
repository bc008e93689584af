package cli

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/lock"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/schedule"
	"fernladder/core/settings"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// ladderFlags are those of the commands that work out a ladder.
type ladderFlags struct {
	options []string
	locked  bool
	moves   func(name string) bool // packages that do not stay as they are; nil: none
}

func (a *app) addLadderFlags(c *cobra.Command, f *ladderFlags, builds bool) {
	c.Flags().StringArrayVarP(&f.options, "option", "o", nil, "set an option of what is named, `NAME=VALUE`, or of any package on the ladder, PACKAGE.NAME=VALUE")
	if builds {
		c.Flags().BoolVar(&f.locked, "locked", false, "build exactly what ladder.lock says, or nothing")
		c.Flags().StringVar(&a.isolation, "isolation", "", "build at this `LEVEL` of isolation: open, fenced or sealed")
		c.Flags().BoolVar(&a.output, "output", false, "on a terminal, show the last line that each build has printed, too")
		c.Flags().IntVarP(&a.jobs, "jobs", "j", 0, "run at most `N` jobs at once, over all packages")
	}
}

// ladder is a planned ladder.
type ladder struct {
	*session
	*resolve.Ladder
	lock      *lock.File
	whole     bool // it is that of everything that is wanted on this machine
	jobs      []*build.Job
	needed    map[*build.Job]bool
	estimates map[string]store.Estimate
}

// plan works out the ladder for what is named on the command line, or without
// names for what is wanted in the settings.
func (a *app) plan(ctx context.Context, names []string, f *ladderFlags) (*ladder, error) {
	s, err := a.open()
	if err != nil {
		return nil, err
	}
	l := &ladder{session: s, whole: len(names) == 0}
	request := resolve.Request{Machine: s.workshop.Machine}
	for _, name := range names {
		w, err := resolve.ParseWanted(name)
		if err != nil {
			return nil, usage("%v", err)
		}
		request.Wanted = append(request.Wanted, w)
	}
	if l.whole {
		if request.Wanted, request.Options, err = s.wanted(); err != nil {
			return nil, err
		}
	}
	for _, text := range f.options {
		set, err := parseSetting(text, request.Wanted, s.shelves)
		if err != nil {
			return nil, err
		}
		request.Options = slices.DeleteFunc(request.Options, func(old resolve.Setting) bool {
			return slices.ContainsFunc(set, func(s resolve.Setting) bool { return s.Package == old.Package && s.Option == old.Option })
		})
		request.Options = append(request.Options, set...)
	}
	moves := f.moves
	if moves == nil {
		moves = func(string) bool { return false }
	}
	if l.lock, err = s.lockFile(); err != nil {
		return nil, err
	}
	if request.Pins, err = a.pins(ctx, s, l.lock, request.Wanted, moves); err != nil {
		return nil, err
	}
	if request.Kept, err = s.keep(l.lock, moves); err != nil {
		return nil, err
	}
	if len(s.settings.HostCopies) > 0 {
		request.HostCopies = s.hostCopies
	}
	if l.Ladder, err = resolve.Solve(ctx, s.shelves, request); err != nil {
		return nil, err
	}
	if l.jobs, err = s.workshop.Plan(ctx, l.Ladder); err != nil {
		return nil, err
	}
	if f.locked {
		if err := l.holdTo(l.lock); err != nil {
			return nil, err
		}
	}
	l.needed = build.Needed(s.store, l.jobs)
	return l, nil
}

// wanted is what the settings say should be on the landing.
func (s *session) wanted() (wanted []resolve.Wanted, options []resolve.Setting, err error) {
	for _, entry := range s.settings.Wanted {
		w := resolve.Wanted{Name: entry.Name}
		if entry.Version != "" {
			if err := w.Narrow(entry.Version); err != nil {
				return nil, nil, err
			}
		}
		wanted = append(wanted, w)
		for _, o := range entry.Options {
			options = append(options, resolve.Setting{Package: entry.Name, Option: o.Name, Value: o.Values[0]})
		}
	}
	if len(wanted) == 0 {
		return nil, nil, usage("name a package, for example mistplan, or list what is wanted in %s: [wanted.mistplan]", settings.FileName)
	}
	return wanted, options, nil
}

// parseSetting reads OPTION=VALUE, for all the named packages that have the
// option, or PACKAGE.OPTION=VALUE.
func parseSetting(text string, wanted []resolve.Wanted, shelves *recipe.Shelves) ([]resolve.Setting, error) {
	key, value, given := strings.Cut(text, "=")
	if !given || key == "" || value == "" {
		return nil, usage("-o %s: write -o OPTION=VALUE or -o PACKAGE.OPTION=VALUE", text)
	}
	switch value {
	case "true":
		value = "on"
	case "false":
		value = "off"
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
		return all[:1], nil // which the resolver refuses with what there is
	}
	return having, nil
}

// todo are the jobs that have to be built, in the order of the ladder.
func (l *ladder) todo() []*build.Job {
	return slices.DeleteFunc(slices.Clone(l.jobs), func(j *build.Job) bool { return !l.needed[j] })
}

// estimate asks the history how long the packages to be built will take.
func (l *ladder) estimate(ctx context.Context, h *store.History) error {
	var names []string
	for _, j := range l.todo() {
		names = append(names, j.Name)
	}
	var err error
	l.estimates, err = h.Estimates(ctx, names)
	return err
}

// builder makes what runs the ladder. Its close function ends what it has
// started.
func (a *app) builder(l *ladder, packages int) (*build.Builder, func(), error) {
	archives, err := a.archives(l.session, event.Nowhere)
	if err != nil {
		return nil, nil, err
	}
	progress := a.screen.Progress(packages, a.now)
	progress.Output, progress.Expected, progress.Left = a.output, map[string]time.Duration{}, l.left
	for name, e := range l.estimates {
		progress.Expected[name] = e.Time
	}
	archives.Events = progress
	l.workshop.Events = progress
	b := build.NewBuilder(l.workshop, schedule.NewSlots(l.workshop.Jobs))
	b.Downloads, b.Events, b.Now, b.Archives = l.settings.Downloads, progress, a.now, archives
	return b, progress.Close, nil
}

// construct fetches and builds what is not there yet. It returns the first
// error in the order of the ladder, after showing all.
func (a *app) construct(ctx context.Context, l *ladder) error {
	todo := l.todo()
	if len(todo) == 0 {
		return nil
	}
	if err := l.workshop.CheckSupplies(todo); err != nil {
		return err
	}
	if err := l.workshop.CheckOffline(ctx, todo); err != nil {
		return err
	}
	if err := l.workshop.CheckHost(ctx, todo); err != nil {
		if missing := new(host.Missing); errors.As(err, &missing) {
			l.offer(missing)
		}
		return err
	}
	if err := l.store.Prepare(); err != nil {
		return err
	}
	if err := a.isolate(ctx, l.session); err != nil {
		return err
	}
	history, err := l.store.History(ctx)
	if err != nil {
		return err
	}
	defer history.Close()
	if err := l.estimate(ctx, history); err != nil {
		return l.store.Wrap(err)
	}
	b, end, err := a.builder(l, len(todo))
	if err != nil {
		return err
	}
	// A build that is done is done, whether or not it can be written down;
	// the receipt has it all.
	var unrecorded error
	var lock sync.Mutex
	var records []store.Record
	expected, began := l.left(nil, nil), a.now()
	results := b.Run(ctx, todo, l.estimates, func(r store.Record) {
		lock.Lock()
		defer lock.Unlock()
		records = append(records, r)
		if err := history.Add(context.WithoutCancel(ctx), r); err != nil {
			unrecorded = err
		}
	})
	end()
	if ctx.Err() == nil {
		a.summary(records, expected, a.now().Sub(began), l.workshop.Jobs)
	}
	if unrecorded != nil {
		a.screen.Note("The history could not be written: %v", unrecorded)
	}
	for _, r := range results {
		var failure *build.Failure
		if errors.As(r.Err, &failure) {
			a.advise(l.session, failure)
		}
	}
	return a.failed(ctx, results)
}

// left is how long the rest of the ladder should take, or 0 where that is not
// known of everything.
func (l *ladder) left(done map[string]bool, running map[string]time.Duration) time.Duration {
	known := true
	takes, _ := l.forecast(func(j *build.Job) (time.Duration, bool) {
		e, is := l.estimates[j.Name]
		ended := done[j.Name+" "+j.Version]
		known = known && (is || ended)
		return max(0, e.Time-running[j.Name]), !ended
	})
	if !known {
		return 0
	}
	return takes
}

// forecast says how long what is to be built should take by the schedule, and
// how long processors should be busy; length tells how long a job takes, and
// false for one that does not count.
func (l *ladder) forecast(length func(*build.Job) (time.Duration, bool)) (takes, busy time.Duration) {
	place := map[*build.Job]int{}
	var tasks []schedule.Task
	for _, j := range l.todo() {
		takes, counts := length(j)
		if !counts {
			continue
		}
		task := schedule.Task{Name: j.Name, Length: takes, Width: l.estimates[j.Name].Width, Slot: true}
		for _, need := range j.Needs {
			if i, is := place[need]; is {
				task.Needs = append(task.Needs, i)
			}
		}
		place[j] = len(tasks)
		tasks = append(tasks, task)
	}
	return schedule.Forecast(tasks, l.workshop.Jobs)
}

// summary tells in the end what was built, how long it took against what it
// should have, how busy the processors were, and what took longest.
func (a *app) summary(records []store.Record, expected, took time.Duration, slots int) {
	const short = 5 * time.Second
	if len(records) < 2 && took < short {
		return
	}
	type part struct {
		what string
		took time.Duration
	}
	var parts []part
	failed := 0
	busy := 0.0
	for _, r := range records {
		if r.Failed != "" {
			failed++
		}
		busy += r.CPU()
		for _, s := range r.Stages {
			parts = append(parts, part{r.Name + " " + s.Stage, time.Duration(s.Seconds * float64(time.Second))})
		}
	}
	slices.SortStableFunc(parts, func(a, b part) int { return int(b.took - a.took) })
	line := fmt.Sprintf("Built %s in %s", term.Count(len(records)-failed, "package"), term.Duration(took))
	if failed > 0 {
		line += fmt.Sprintf(", %d failed", failed)
	}
	if expected > 0 {
		line += fmt.Sprintf("; by the last builds it should have been %s", term.Duration(expected))
	}
	processors := min(slots, runtime.NumCPU())
	line += fmt.Sprintf(". Processors busy: %.0f%% of %d.", min(100, 100*busy/max(took.Seconds(), 0.001)/float64(processors)), processors)
	var longest []string
	for _, p := range parts[:min(3, len(parts))] {
		longest = append(longest, p.what+" "+term.Duration(p.took))
	}
	a.screen.Note("%s\nLongest: %s.", line, strings.Join(longest, ", "))
}

// failed shows what failed, and returns the error that decides the exit status.
func (a *app) failed(ctx context.Context, results []build.Result) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var errs []error
	skipped := 0
	for _, r := range results {
		switch r.Outcome {
		case schedule.Failed:
			errs = append(errs, r.Err)
		case schedule.Skipped:
			skipped++
		}
	}
	if len(errs) == 0 {
		return nil
	}
	if a.screen.JSON {
		for _, err := range errs[1:] {
			_, kind := status(err)
			a.reportJSON(err, kind)
		}
		return errs[0]
	}
	for _, err := range errs {
		a.screen.Fail(err.Error())
	}
	if skipped > 0 {
		a.screen.Note("Not built, because they stand on what failed: %s.", strings.Join(skippedNames(results), ", "))
	}
	return &alreadyShown{errs[0]}
}

func skippedNames(results []build.Result) []string {
	var names []string
	for _, r := range results {
		if r.Outcome == schedule.Skipped {
			names = append(names, r.Job.Name)
		}
	}
	return names
}
