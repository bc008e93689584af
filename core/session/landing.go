package session

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/clean"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/settings"
	"fernladder/core/store"
)

// A RemoveRequest names packages to take off the landing.
type RemoveRequest struct {
	Names    []string
	Trees    bool // delete their trees, too
	Archives bool // delete their archives, too; needs Trees

	// Confirm is asked before earlier landings are deleted because they use the trees; nil:
	// they are deleted.
	Confirm func(landings []int) bool
}

// RemoveReport is what was removed.
type RemoveReport struct {
	Landing   landing.State  `json:"landing"`
	Changed   bool           `json:"changed"`
	Deleted   []store.Ref    `json:"deleted"`
	Forgotten []int          `json:"forgotten_landings"`
	Stayed    []clean.Stayed `json:"stayed"`

	Removed      clean.Removed `json:"-"`
	Archives     clean.Deleted `json:"-"`
	ArchiveBytes int64         `json:"-"` // of archives that were deleted
}

// Remove takes packages off the landing, with what only they needed to run.
func (s *Session) Remove(ctx context.Context, r RemoveRequest) (*RemoveReport, error) {
	report := &RemoveReport{}
	if r.Archives && !r.Trees {
		return report, problem.New(problem.Usage, "", "archives are deleted with their trees").Remedy(problem.DeleteTrees).
			Remedy(problem.CleanArchives, r.Names...)
	}
	if r.Trees && r.Confirm != nil {
		gone, err := clean.Landings(s.Machine, r.Names)
		if err != nil {
			return report, err
		}
		if len(gone) > 0 && !r.Confirm(gone) {
			return report, problem.New(problem.Usage, "", "nothing was removed")
		}
	}
	var stored clean.Candidates
	var err error
	if r.Archives { // while the receipts say which they are
		if stored, err = clean.ArchivesOf(s.Machine, r.Names); err != nil {
			return report, err
		}
	}
	report.Removed, err = clean.Remove(ctx, s.Machine, r.Names, r.Trees)
	if err == nil && len(stored.Archives) > 0 {
		report.Archives, err = clean.Delete(ctx, s.Machine, stored)
		report.ArchiveBytes = stored.ArchiveBytes()
	}
	x := report.Removed
	report.Landing, report.Changed = x.After, x.Before.Number != x.After.Number
	report.Deleted, report.Forgotten, report.Stayed = listed(x.Deleted.Trees), listed(x.Landings), listed(x.Stayed)
	return report, err
}

// change prepares the root, changes the landing and reports that.
func (s *Session) change(do func() (install.Landed, error)) (*LandingReport, error) {
	if err := s.Store.Prepare(); err != nil {
		return nil, err
	}
	l, err := do()
	if err != nil {
		return nil, err
	}
	r := landed(l)
	return &r, nil
}

// Undo goes back to the landing that was in use before.
func (s *Session) Undo(ctx context.Context) (*LandingReport, error) {
	return s.change(func() (install.Landed, error) { return install.GoBack(ctx, s.Machine) })
}

// Use brings back a state of the landing by its number; 0 is the empty one.
func (s *Session) Use(ctx context.Context, number int) (*LandingReport, error) {
	return s.change(func() (install.Landed, error) { return install.GoTo(ctx, s.Machine, number) })
}

// Front gives a build the plain names of its package on the landing.
func (s *Session) Front(ctx context.Context, text string) (*LandingReport, error) {
	return s.change(func() (install.Landed, error) {
		name, err := landing.ParseName(text)
		if err != nil {
			return install.Landed{}, err
		}
		all, err := name.All(s.Store)
		if err != nil {
			return install.Landed{}, err
		}
		all = slices.DeleteFunc(all, func(r *store.Receipt) bool { return r.Prefix != "" })
		switch {
		case len(all) == 0:
			return install.Landed{}, problem.New(problem.Usage, text,
				"%s was built for a prefix, and cannot be on the landing", text)
		case len(all) > 1 && (name.String() == name.Name || name.ID != ""):
			var texts []string
			for _, r := range all {
				texts = append(texts, r.Version+" ("+landing.NameOf(r.Ref)+")")
			}
			return install.Landed{}, problem.New(problem.Usage, text, "%s could be %s; say which", text,
				strings.Join(texts, " or "))
		}
		return install.Front(ctx, s.Machine, all[0].Ref)
	})
}

// LandingsReport is the states of the landing, the oldest first.
type LandingsReport struct {
	Directory string           `json:"directory"`
	States    []LandingState   `json:"states"`
	Shared    []landing.Shared `json:"shared"`

	History []landing.Remembered `json:"-"`
}

// A LandingState is one state of the landing.
type LandingState struct {
	landing.State
	InUse   bool               `json:"in_use"`
	Changes landing.Difference `json:"changes"` // against the state before
	Missing []store.Ref        `json:"missing"`
	Damaged string             `json:"damaged,omitempty"`
}

// Landings lists the states of the landing.
func (s *Session) Landings() (*LandingsReport, error) {
	all, err := landing.History(s.Store)
	if err != nil {
		return nil, err
	}
	shared, err := landing.ReadShared(s.Store)
	if err != nil {
		return nil, err
	}
	r := &LandingsReport{Directory: landing.Directory(s.Store), States: []LandingState{}, Shared: listed(shared),
		History: all}
	for _, x := range all {
		state := LandingState{State: x.State, InUse: x.InUse, Changes: x.Changes, Missing: listed(x.Missing)}
		if x.Damaged != nil {
			state.Damaged = x.Damaged.Error()
		}
		r.States = append(r.States, state)
	}
	return r, nil
}

// LandingsCompared is what differs between two states.
type LandingsCompared struct {
	From    int                `json:"from"`
	To      int                `json:"to"`
	Changes landing.Difference `json:"changes"`

	Before, After landing.State `json:"-"`
}

// CompareLandings compares two states of the landing; -1 is the one in use.
func (s *Session) CompareLandings(from, to int) (*LandingsCompared, error) {
	before, err := s.state(from)
	if err != nil {
		return nil, err
	}
	after, err := s.state(to)
	if err != nil {
		return nil, err
	}
	return &LandingsCompared{before.Number, after.Number, landing.Compare(before.Members, after.Members), before,
		after}, nil
}

func (s *Session) state(number int) (landing.State, error) {
	switch number {
	case -1:
		return landing.Current(s.Store)
	case 0:
		return landing.State{}, nil
	}
	have, err := landing.States(s.Store)
	if err != nil {
		return landing.State{}, err
	}
	if !slices.Contains(have, number) {
		return landing.State{}, landing.NoState(number, have)
	}
	return landing.Read(s.Store, number)
}

// SettleReport is where the name of a file on the landing was decided.
type SettleReport struct {
	File     string `json:"file"`
	Package  string `json:"package"`
	Settings string `json:"settings"`
}

// Settle writes into the settings which package has a name on the landing.
func (s *Session) Settle(ctx context.Context, l settings.Link) (*SettleReport, error) {
	if err := s.checkLink(l); err != nil {
		return nil, err
	}
	if err := recipe.CheckName(l.Package); err != nil {
		return nil, problem.New(problem.Usage, l.Package, "%v", err)
	}
	if s.Settings.File == "" {
		return nil, problem.New(problem.Usage, "", "there is no %s to write it into; it would be:\n%s", settings.FileName,
			l.Text()).Remedy(problem.MakeFolder)
	}
	if err := s.Store.Prepare(); err != nil {
		return nil, err
	}
	unlock, err := s.Store.LockFile(ctx, s.Settings.File)
	if err != nil {
		return nil, err
	}
	defer unlock()
	return &SettleReport{l.File, l.Package, s.Settings.File}, settings.Decide(s.Settings.File, s.Place, l)
}

// Settled is what the settings decide about a file of the landing.
func (s *Session) Settled(file string) ([]*settings.Link, error) {
	if err := s.checkLink(settings.Link{File: file}); err != nil {
		return nil, err
	}
	found := []*settings.Link{}
	for _, l := range s.Settings.Landing.Links {
		if l.File == file {
			found = append(found, l)
		}
	}
	return found, nil
}

func (s *Session) checkLink(l settings.Link) error {
	if !filepath.IsLocal(l.File) || l.As != "" && !filepath.IsLocal(l.As) {
		return problem.New(problem.Usage, l.File, "name a file of the landing by its path below it, as bin/grow")
	}
	return nil
}
