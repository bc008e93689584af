package session

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"runtime/debug"
	"slices"
	"syscall"
	"time"

	"fernladder/core/advisory"
	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/landing"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// An AdvisoriesRequest says which builds are looked up in the databases of the settings. The
// zero value: all that are installed or locked.
type AdvisoriesRequest struct {
	Names    []string
	Shelves  bool   // releases on the shelves that are not built, too
	Lock     string // only what this lock file has; "": the usual one is included
	Severity string // the least that counts; "": that of the settings
	Since    string // only what was published or changed since a day; "last": what was not reported by that yet
	Older    bool   // accept a database that is older than before
}

// AdvisoriesReport is what is published about builds.
type AdvisoriesReport struct {
	Databases  []advisory.Contents `json:"databases"`
	Builds     int                 `json:"builds"`     // that were looked up
	Unknown    []string            `json:"unknown"`    // packages of which no name elsewhere is known
	Holes      []Hole              `json:"holes"`      // the worst first
	Answered   []Answer            `json:"answered"`   // holes that are mended here or do not concern a build
	Unreadable []string            `json:"unreadable"` // advisories that may concern a build
	Unfetched  map[string]string   `json:"unfetched"`  // databases whose copy here was used, and why
	Affected   []store.Ref         `json:"affected"`   // builds with holes that are in use or locked

	all    []*store.Receipt
	inUse  map[store.Ref]bool
	beside map[store.Ref]store.Ref // what only a build beside another uses, to that build
}

// A Hole is a published hole and the builds that have it.
type Hole struct {
	ID        string          `json:"id"`
	Aliases   []string        `json:"aliases,omitempty"`
	Summary   string          `json:"summary,omitempty"`
	Severity  advisory.Score  `json:"severity"`
	Published string          `json:"published,omitempty"`
	Modified  string          `json:"modified,omitempty"`
	Links     []string        `json:"links,omitempty"`
	Databases []string        `json:"databases"`
	Builds    []AffectedBuild `json:"builds"`
}

// An AffectedBuild is a build with a hole, and the smallest step that ends it.
type AffectedBuild struct {
	store.Ref
	Part string `json:"part,omitempty"` // of its source, that has the hole
	// On the landing: asked, needed or beside; used by what is there; kept, locked or shelf.
	Where   string      `json:"where"`
	Doubt   string      `json:"doubt,omitempty"`
	Against []string    `json:"against,omitempty"` // entries that say otherwise
	Fixed   []string    `json:"fixed,omitempty"`   // versions without the hole, as the entries say
	Again   []store.Ref `json:"again,omitempty"`   // builds in use that need it, and have to be built again
	Copied  []store.Ref `json:"copied,omitempty"`  // those of them that contain a copy of its library
	Step    Step        `json:"step"`
}

// An Answer is a hole that a patch ends, or that does not concern a build.
type Answer struct {
	ID      string    `json:"id"`
	Build   store.Ref `json:"build"`
	Status  string    `json:"status"`  // fixed or not_affected, as in OpenVEX
	Because string    `json:"because"` // the patch, or the reason
}

// InUse reports whether it is in use, or is to be built.
func (b AffectedBuild) InUse() bool { return b.Where != whereKept && b.Where != whereShelf }

const (
	whereUsed   = "used"
	whereKept   = "kept"
	whereLocked = "locked"
	whereShelf  = "shelf"
)

// Advisories looks builds up in the databases of advisories. Its error has the kind Affected if
// any has a hole that counts.
func (s *Session) Advisories(ctx context.Context, r AdvisoriesRequest) (*AdvisoriesReport, error) {
	if len(s.Settings.Advisories) == 0 {
		return nil, problem.New(problem.Usage, "advisories", "the settings name no database of advisories").
			Remedy(problem.AddAdvisories, s.Settings.File)
	}
	since, err := sinceDay(r.Since)
	if err != nil {
		return nil, err
	}
	if r.Severity != "" && !slices.Contains(advisory.Levels, advisory.Level(r.Severity)) {
		return nil, problem.New(problem.Usage, "severity", "severity %s: it can be low, medium, high or critical", r.Severity)
	}
	k := s.keeper()
	defer k.Close()
	err = s.Store.Prepare()
	switch {
	case err == nil:
	case r.Since != sinceLast && (errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS)):
		k.ReadOnly = true // a user who may only look
	default:
		return nil, err
	}
	report := &AdvisoriesReport{Unfetched: map[string]string{}}
	failed, err := s.renewAdvisories(ctx, k, report, r.Older)
	if err != nil {
		return report, err
	}
	holders, err := s.holders(report, r)
	if err != nil {
		return report, err
	}
	found, err := s.lookUp(ctx, k, report, holders)
	if err != nil {
		return report, err
	}
	told := map[string]bool{}
	if r.Since == sinceLast {
		unlock, err := filelock.Exclusive(ctx, s.toldFile()+".lock", k.Waiting)
		if err != nil {
			return report, err
		}
		defer unlock()
		if told, err = s.toldHoles(); err != nil {
			return report, err
		}
	}
	stepper := s.stepper(ctx)
	for _, h := range found {
		if !s.counts(h, cmp.Or(r.Severity, s.Settings.Policy.Severity)) ||
			!since.IsZero() && !after(since, h.Published, h.Modified) {
			continue
		}
		hole := s.hole(report, h, holders, func(x *holder) bool { return told[toldKey(h.ID, x)] })
		for i, x := range hole.holders {
			hole.Builds[i].Step.Kind = StepNone
			if !hole.Builds[i].InUse() {
				continue
			}
			if beside, is := report.beside[x.Ref]; is {
				hole.Builds[i].Step = Step{Kind: StepRemove, Build: beside,
					Remedy: []problem.Remedy{problem.Do(problem.RemovePackage, landing.NameOf(beside))}}
			} else if hole.Builds[i].Step, err = stepper.step(h, x); err != nil {
				return report, err
			}
			told[toldKey(h.ID, x)] = true
		}
		if len(hole.Builds) > 0 {
			report.Holes = append(report.Holes, hole.Hole)
		}
	}
	if err := s.standOn(report); err != nil {
		return report, err
	}
	report.listAffected()
	if r.Since == sinceLast {
		if err := s.keepTold(told); err != nil {
			return report, err
		}
	}
	if n := len(report.Affected); n > 0 || len(report.Unreadable) > 0 {
		return report, problem.New(problem.Affected, "", "%d builds have published holes", n).Coded(problem.Verdict)
	}
	return report, failed
}

func (r *AdvisoriesReport) listAffected() {
	r.Affected = []store.Ref{}
	for _, h := range r.Holes {
		for _, b := range h.Builds {
			if b.InUse() && !slices.Contains(r.Affected, b.Ref) {
				r.Affected = append(r.Affected, b.Ref)
			}
		}
	}
}

const sinceLast = "last"

func sinceDay(text string) (time.Time, error) {
	if text == "" || text == sinceLast {
		return time.Time{}, nil
	}
	day, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return day, problem.New(problem.Usage, "since", "since %s: write a day, as 2026-11-30, or last", text)
	}
	return day, nil
}

// after reports whether any of some times is not before a day; so is a text that is not a time.
func after(day time.Time, texts ...string) bool {
	return slices.ContainsFunc(texts, func(text string) bool {
		at, err := time.Parse(time.RFC3339, text)
		return err != nil && text != "" || !at.Before(day)
	})
}

func (s *Session) counts(h *advisory.Hole, least string) bool {
	return h.Severity.Level.Rank() >= advisory.Level(least).Rank()
}

func (s *Session) advisoriesDir() string { return filepath.Join(s.Store.Root, "advisories") }

func (s *Session) keeper() *advisory.Keeper {
	return &advisory.Keeper{Dir: s.advisoriesDir(), Archives: s.Archives, Waiting: func() {
		s.Tell(event.Event{Kind: event.Waiting, Text: "another fernladder that reads advisories"})
	}}
}

// renewAdvisories fetches what is newer. If a site fails, the copy that is here counts, and the
// report says so; failed is the last such error.
func (s *Session) renewAdvisories(ctx context.Context, k *advisory.Keeper, report *AdvisoriesReport,
	older bool) (failed, err error) {
	for _, d := range s.Settings.Advisories {
		if k.ReadOnly || s.Offline && d.URL != "" {
			continue
		}
		_, err := k.Renew(ctx, d, older)
		source, here := k.Source(d)
		switch {
		case err == nil:
		case ctx.Err() != nil || here != nil || d.URL == "":
			return nil, s.Stored(err)
		default:
			report.Unfetched[source.Name], failed = err.Error(), err
		}
	}
	return failed, nil
}

// openAdvisories opens the databases as they are here.
func (s *Session) openAdvisories(ctx context.Context, k *advisory.Keeper) (*advisory.Databases, error) {
	// The index of a large database takes more than most operations, once.
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(112 << 20))
	var sources []advisory.Source
	for _, d := range s.Settings.Advisories {
		source, err := k.Use(ctx, d)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, problem.New(problem.Fetch, source.Name, "%s was never fetched", source.Name)
		}
		if err != nil {
			return nil, err
		}
		sources = append(sources, source)
	}
	return advisory.Open(ctx, sources)
}

// lookUp finds the holes that name the packages of holders.
func (s *Session) lookUp(ctx context.Context, k *advisory.Keeper, report *AdvisoriesReport,
	holders []*holder) ([]*advisory.Hole, error) {
	databases, err := s.openAdvisories(ctx, k)
	if err != nil {
		return nil, err
	}
	defer databases.Close()
	var subjects []*advisory.Subject
	builds, unknown := map[store.Ref]bool{}, map[string]bool{}
	for _, x := range holders {
		if x.subject.Known.IsZero() {
			unknown[x.Name] = true
		} else {
			builds[x.Ref] = true
			subjects = append(subjects, x.subject)
		}
	}
	report.Databases, report.Builds, report.Unknown = databases.Contents(), len(builds), sortedNames(unknown)
	report.Holes, report.Answered = []Hole{}, []Answer{}
	found, err := databases.Find(subjects, s.ancestry(ctx))
	report.Unreadable = listed(databases.Unreadable)
	return found, err
}

func sortedNames(names map[string]bool) []string {
	all := []string{}
	for name := range names {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

func (s *Session) ancestry(ctx context.Context) advisory.Ancestry {
	return func(x *advisory.Subject, before string) (bool, error) {
		return s.Repositories.Precedes(ctx, x.Repository, before, x.Commit)
	}
}

// heldHole is a hole, and the holders of its builds.
type heldHole struct {
	Hole
	holders []*holder
}

// hole reports a hole. What is answered goes to the report.
func (s *Session) hole(report *AdvisoriesReport, h *advisory.Hole, holders []*holder,
	skip func(*holder) bool) heldHole {
	hole := heldHole{Hole: Hole{ID: h.ID, Aliases: h.Aliases, Summary: h.Summary, Severity: h.Severity,
		Published: h.Published, Modified: h.Modified, Links: h.Links, Databases: h.Databases}}
	for _, c := range h.Concerns {
		if c.Verdict != advisory.Vulnerable {
			continue
		}
		x := holders[slices.IndexFunc(holders, func(x *holder) bool { return x.subject == c.Subject })]
		if status, because := s.answer(x, append([]string{h.ID}, h.Aliases...)); status != "" {
			report.Answered = append(report.Answered, Answer{h.ID, x.Ref, status, because})
			continue
		}
		if skip(x) {
			continue
		}
		hole.holders = append(hole.holders, x)
		hole.Builds = append(hole.Builds, AffectedBuild{Ref: x.Ref, Part: x.part, Where: x.where, Doubt: c.Doubt,
			Against: c.Against, Fixed: c.Fixed})
	}
	return hole
}

func toldKey(id string, x *holder) string { return id + " " + x.Ref.String() + " " + x.part }

func (s *Session) toldFile() string { return filepath.Join(s.advisoriesDir(), "reported.json") }

// toldHoles are holes of builds that --since last has reported.
func (s *Session) toldHoles() (map[string]bool, error) {
	told := map[string]bool{}
	data, err := safefs.ReadFile(s.toldFile(), 1<<28)
	if errors.Is(err, fs.ErrNotExist) {
		return told, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &told)
	}
	return told, s.Store.Wrap(err)
}

func (s *Session) keepTold(told map[string]bool) error {
	data, err := json.Marshal(told)
	if err == nil {
		err = durable.WriteFile(s.toldFile(), append(data, '\n'), 0o644)
	}
	return s.Store.Wrap(err)
}
