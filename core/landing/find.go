package landing

// This file finds the builds that a person names: NAME, NAME:RANGE, NAME:tip, or
// NAME@ID with the beginning of a build id.

import (
	"errors"
	"io/fs"
	"slices"
	"strings"

	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/store"
	"fernladder/core/version"
)

// Named names one build or several of a package.
type Named struct {
	resolve.Wanted
	ID string // the beginning of a build id, or ""
}

// shortest is the required length of an id: a shorter one easily fits another build.
const shortest = 4

// ParseName reads a name. Its errors have the code BadName.
func ParseName(text string) (Named, error) {
	name, id, byID := strings.Cut(text, "@")
	if !byID {
		w, err := resolve.ParseWanted(text)
		if err != nil {
			return Named{}, problem.New(problem.Usage, text, "%v", err).Coded(BadName)
		}
		return Named{Wanted: w}, nil
	}
	if err := recipe.CheckName(name); err != nil {
		return Named{}, problem.New(problem.Usage, text, "%v", err).Coded(BadName)
	}
	if len(id) < shortest || strings.Trim(id, "0123456789abcdef") != "" {
		return Named{}, problem.New(problem.Usage, text,
			"%q is not a build id, which has at least %d digits and letters from a to f", id, shortest).Coded(BadName)
	}
	return Named{Wanted: resolve.Wanted{Name: name}, ID: id}, nil
}

// ParseNames reads several names.
func ParseNames(texts []string) ([]Named, error) {
	var names []Named
	for _, text := range texts {
		name, err := ParseName(text)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, nil
}

// String returns what ParseName reads.
func (n Named) String() string {
	if n.ID != "" {
		return n.Name + "@" + n.ID
	}
	return n.Wanted.String()
}

// NameOf is a name that fits exactly one build.
func NameOf(r store.Ref) string { return r.Name + "@" + r.ID }

// Fits reports whether the name fits a build; tip says that it was built from the head of a
// branch.
func (n Named) Fits(r store.Ref, tip bool) bool {
	if r.Name != n.Name || !strings.HasPrefix(r.ID, n.ID) {
		return false
	}
	if n.Tip {
		return tip
	}
	v, err := version.Parse(r.Version)
	return err == nil && n.Range.Contains(v) || err != nil && n.ID != ""
}

// FitsReceipt reports whether the name fits an installed build.
func (n Named) FitsReceipt(r *store.Receipt) bool { return n.Fits(r.Ref, r.Track == recipe.Tip) }

// FindBuild finds the installed build that a person means: of those that the name fits, the one
// on the landing, otherwise the newest version, and of that the latest build. A build for
// another directory than its tree is chosen only if there is no other. Errors have the code
// BadName or NoBuild, or are the store's.
func FindBuild(s *store.Store, text string) (*store.Receipt, error) {
	name, err := ParseName(text)
	if err != nil {
		return nil, err
	}
	all, err := name.All(s)
	if err != nil {
		return nil, err
	}
	current, err := Current(s)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if m := current.Find(r.Name); m != nil && m.Ref == r.Ref && name.ID == "" {
			return r, nil
		}
	}
	for _, r := range all {
		if current.Has(r.Ref) != nil && name.ID == "" {
			return r, nil
		}
	}
	if name.ID != "" && len(all) > 1 {
		return nil, problem.New(problem.Usage, text, "%s could be %s or %s; give more of the id", name, NameOf(all[0].Ref),
			NameOf(all[1].Ref)).Coded(BadName)
	}
	if i := slices.IndexFunc(all, func(r *store.Receipt) bool { return r.Prefix == "" }); i >= 0 {
		return all[i], nil
	}
	return all[0], nil
}

// All finds the installed builds that the name fits, the newest version and the latest
// built first. There is at least one, or the error has the code NoBuild.
func (n Named) All(s *store.Store) ([]*store.Receipt, error) {
	trees, err := s.ReceiptsOf(n.Name)
	if err != nil {
		return nil, err
	}
	var all []*store.Receipt
	for _, r := range trees {
		if n.FitsReceipt(r) {
			all = append(all, r)
		}
	}
	if len(all) > 0 {
		return all, nil
	}
	// NAME-PRESET means the build of NAME by that preset, unless a package has that name.
	for i := strings.LastIndexByte(n.Name, '-'); i > 0 && len(trees) == 0; i = strings.LastIndexByte(n.Name[:i], '-') {
		builds, err := s.ReceiptsOf(n.Name[:i])
		if err != nil {
			return nil, err
		}
		of := n
		of.Name = n.Name[:i]
		for _, r := range builds {
			if r.Preset == n.Name[i+1:] && of.FitsReceipt(r) {
				all = append(all, r)
			}
		}
		if len(all) > 0 {
			return all, nil
		}
	}
	return nil, NotBuilt(n.String(), s.Root)
}

// LastLogged is the build that wrote a log last, whether it succeeded, failed or was
// interrupted, of those that the name fits and that count.
func LastLogged(s *store.Store, text string, counts func(store.Ref) bool) (last store.Ref, found bool, err error) {
	name, err := ParseName(text)
	if err != nil {
		return last, false, err
	}
	builds, err := s.Logged(name.Name)
	if err != nil {
		return last, false, err
	}
	if len(builds) == 0 { // it may be NAME-PRESET
		if all, err := name.All(s); err == nil {
			return all[0].Ref, counts(all[0].Ref), nil
		}
	}
	var newest store.Logged
	for _, b := range builds {
		if !name.Fits(b.Ref, name.Tip && tip(s, b.Ref)) || b.Wrote.Before(newest.Wrote) || !counts(b.Ref) {
			continue
		}
		newest, found = b, true
	}
	return newest.Ref, found, nil
}

// tip reports whether a build was made from the head of a branch, according to its receipt or,
// without one, to its version, which counts commits.
func tip(s *store.Store, r store.Ref) bool {
	receipt, err := s.Receipt(r)
	if errors.Is(err, fs.ErrNotExist) {
		return strings.Contains(r.Version, "+")
	}
	return err == nil && receipt.Track == recipe.Tip
}

// The problems of names.
const (
	NoBuild problem.Code = "not_built" // there is no tree by that name
	BadName problem.Code = "bad_name"  // not a name, or the name of several builds where one is wanted
)

// NotBuilt is the problem of a name without a tree.
func NotBuilt(name, root string) error {
	plain, _, _ := strings.Cut(name, "@")
	return problem.New(problem.Build, name, "%s is not built in %s", name, root).Coded(NoBuild).
		Remedy(problem.InstallPackage, plain)
}
