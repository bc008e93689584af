package mend

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"fernladder/core/filelock"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/machine"
)

// Fixed is the outcome of fixing a finding.
type Fixed struct {
	Finding
	Done string `json:"done"`          // the repair, or ""
	Err  error  `json:"-"`             // why it was not
	Why  string `json:"why,omitempty"` // the same, in words
}

// Fix repairs what can be repaired without losing anything: permissions, unfinished work, links,
// the database, unreadable states of the landing, and missing configuration files. It checks
// each again first, under the lock it needs. It leaves everything else.
func Fix(ctx context.Context, m *machine.Machine, r *Report) ([]Fixed, error) {
	if err := m.Store.Prepare(); err != nil { // which finishes much unfinished work
		return nil, err
	}
	all := []Fixed{}
	links := ""
	for _, f := range r.Findings {
		if ctx.Err() != nil {
			return all, ctx.Err()
		}
		if !f.Fixable {
			continue
		}
		done, err := f.fix(ctx, m, &links)
		fixed := Fixed{Finding: f, Done: done, Err: err}
		if err != nil {
			fixed.Why = err.Error()
		}
		all = append(all, fixed)
	}
	return all, nil
}

// fix repairs one finding. Links are all made again at once: links has the outcome.
func (f Finding) fix(ctx context.Context, m *machine.Machine, links *string) (string, error) {
	s := m.Store
	switch f.Kind {
	case Mode:
		unlock, err := s.LockBuildNow(f.Build)
		if errors.Is(err, filelock.ErrHeld) {
			return "", errors.New("it is being built, or built with")
		}
		if err != nil {
			return "", err
		}
		defer unlock()
		if err := s.ChmodListed(f.Build, f.Path); err != nil {
			return "", err
		}
		return "its permissions were restored", nil
	case Permissions:
		if err := os.Chmod(f.Path, f.mode); err != nil {
			return "", s.Wrap(err)
		}
		return "now only its owner and group can write to it", nil
	case Half:
		if f.Build.Name == "" { // of a directory that is linked to the landing
			return relink(ctx, m, links)
		}
		if s.Installed(f.Build) {
			return "it is complete now", nil
		}
		if _, err := os.Lstat(f.Path); errors.Is(err, fs.ErrNotExist) {
			return "it was deleted", nil
		}
		return "", errors.New("another process works on it")
	case Database:
		aside, err := s.MoveAside(f.Path, filepath.Base(f.Path))
		if err != nil {
			return "", err
		}
		return "it was moved to " + aside + ", and rebuilt from the receipts", s.History().Complete(ctx)
	case Link:
		return relink(ctx, m, links)
	case State:
		unlock, err := s.LockLanding(ctx, m.TellLandingHeld)
		if err != nil {
			return "", err
		}
		defer unlock()
		aside, err := landing.SetAside(s, f.Path)
		if err != nil {
			return "", err
		}
		return "it was moved to " + aside, nil
	case Receipt:
		aside, err := s.SetAside(ctx, f.Build)
		if err != nil || aside == "" {
			return "its receipt can be read now", err
		}
		return "the tree was moved to " + aside + "; install the package again", nil
	case Config:
		receipt, err := s.Receipt(f.Build)
		if err != nil {
			return "", s.Gone(f.Build, err)
		}
		if err := s.BeginConfigs(receipt); err != nil {
			return "", err
		}
		return "it is restored from its sample", nil
	}
	return "", nil
}

// relink makes the links of the landing again, including those in a shared directory.
func relink(ctx context.Context, m *machine.Machine, links *string) (string, error) {
	if *links != "" {
		return *links, nil
	}
	l, err := install.Relink(ctx, m)
	if err != nil {
		return "", err
	}
	*links = "the links were made again"
	if l.Changed() {
		*links += ", as another state of the landing"
	}
	return *links, nil
}
