package session

import (
	"context"

	"fernladder/core/build"
	"fernladder/core/problem"
	"fernladder/core/tinker"
)

// A TinkerRequest names the package whose source is to be changed.
type TinkerRequest struct {
	LadderRequest
	Folder string // new folder for the source; "": called like the package
}

// Tinker puts the unpacked and patched source of a package into a folder, under git.
func (s *Session) Tinker(ctx context.Context, r TinkerRequest) (*tinker.Bench, error) {
	r.NoDepots = true // its source is what is wanted
	l, err := s.pinned(ctx, r.LadderRequest)
	if err != nil {
		return nil, err
	}
	if r.Folder == "" {
		r.Folder = l.Asked()[0].Name
	}
	return tinker.Open(ctx, s.Machine, l.Plan, r.Folder)
}

// Tinkered lists the packages that are being tinkered with.
func (s *Session) Tinkered() ([]*tinker.Bench, error) {
	all, err := tinker.All(s.Store)
	return listed(all), err
}

// TinkerTry is what came of trying a changed source.
type TinkerTry struct {
	Bench   *tinker.Bench
	Changed int // files that were brought into the build
	Tries   []build.TryResult
	Failed  int
}

// TryTinkered builds what changed in the folder and runs a command with the result; nil: the
// tries of the recipe. Built is called in between; nil: it is not.
func (s *Session) TryTinkered(ctx context.Context, name string, argv []string,
	built func(*TinkerTry)) (*TinkerTry, error) {
	b, err := tinker.Read(s.Store, name)
	if err != nil {
		return nil, err
	}
	t, changed, err := b.Build(ctx, s.Machine)
	if err != nil {
		return nil, err
	}
	r := &TinkerTry{Bench: b, Changed: changed}
	if built != nil {
		built(r)
	}
	if r.Tries, err = tinker.Try(ctx, s.Machine, t, argv); err != nil {
		return r, err
	}
	for _, x := range r.Tries {
		if x.Problem != "" || len(argv) > 0 && x.Status != 0 {
			r.Failed++
		}
	}
	if r.Failed > 0 {
		return r, triesFailed(r.Failed, len(r.Tries)).Coded(problem.Verdict)
	}
	return r, nil
}

func triesFailed(failed, all int) *problem.Problem {
	return problem.New(problem.Build, "", "%d of %d tries failed", failed, all)
}

// KeepTinkered makes a patch of the change, adds it to the recipe, and builds by that. Its
// error of the kind problem.Other says that the build differs from what was tinkered.
func (s *Session) KeepTinkered(ctx context.Context, name, patch string) (*tinker.Kept, error) {
	b, err := tinker.Read(s.Store, name)
	if err != nil {
		return nil, err
	}
	k, err := b.Keep(ctx, s.Machine, patch)
	if err == nil && len(k.Differences) > 0 {
		err = problem.New(problem.Other, name, "%d files of the build by the recipe differ from your edited build",
			len(k.Differences)).Coded(problem.Verdict)
	}
	return k, err
}

// TinkerDrop is what became of the folder.
type TinkerDrop struct {
	Folder string `json:"folder"`
	Stays  bool   `json:"folder_stays"` // it has changes that were not kept
}

// DropTinkered ends tinkering with a package. The folder goes unless it has changes that were
// not kept; with all, it goes in any case.
func (s *Session) DropTinkered(ctx context.Context, name string, all bool) (*TinkerDrop, error) {
	folder, stays, err := tinker.Drop(ctx, s.Machine, name, all)
	return &TinkerDrop{folder, stays}, err
}
