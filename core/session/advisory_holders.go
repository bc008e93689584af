package session

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"

	"fernladder/core/advisory"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/version"
)

// A holder is what is looked up: a build or a release, or a part of its source.
type holder struct {
	store.Ref
	part    string
	where   string
	receipt *store.Receipt // nil: it is not built
	recipe  *recipe.Recipe // nil: no shelf has it
	facts   recipe.Facts
	subject *advisory.Subject
}

// holders are what a request looks up.
func (s *Session) holders(report *AdvisoriesReport, r AdvisoriesRequest) ([]*holder, error) {
	all, err := s.Store.Receipts()
	if err != nil {
		return nil, err
	}
	current, err := landing.Current(s.Store)
	if err != nil {
		return nil, err
	}
	file, err := s.locked(r.Lock)
	if err != nil {
		return nil, err
	}
	report.all = all
	report.inUse, report.beside = inUse(all, current)
	var holders []*holder
	built := map[string]bool{}
	for _, x := range all {
		built[x.ID] = true
		built[x.Name+" "+x.Version] = true
		isLocked := slices.ContainsFunc(file.Builds, func(b *lock.Build) bool { return b.ID == x.ID })
		if r.Lock != "" && !isLocked {
			continue
		}
		where := current.How(x.Ref)
		switch {
		case where != "no":
		case report.inUse[x.Ref]:
			where = whereUsed
		case isLocked:
			where = whereLocked
		default:
			where = whereKept
		}
		holders = append(holders, s.holding(x, where)...)
	}
	for _, b := range file.Builds {
		if !built[b.ID] {
			holders = append(holders, s.released(b, whereLocked)...)
		}
	}
	if r.Shelves {
		names, err := s.Shelves.Names()
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			found, err := s.Shelves.Find(name)
			if err != nil {
				return nil, err
			}
			for _, x := range found.Releases {
				if x.Track != recipe.Tip && !built[name+" "+x.Version.String()] {
					holders = append(holders, s.released(&lock.Build{Name: name, Version: x.Version}, whereShelf)...)
				}
			}
		}
	}
	if len(r.Names) == 0 {
		return holders, nil
	}
	return chosen(holders, r.Names)
}

// inUse are the builds on the landing, and what they need to run or were linked with; and those
// of them that only a build beside another uses, with that build.
func inUse(all []*store.Receipt, current landing.State) (used map[store.Ref]bool, beside map[store.Ref]store.Ref) {
	receipts := map[store.Ref]*store.Receipt{}
	for _, r := range all {
		receipts[r.Ref] = r
	}
	used, beside = map[store.Ref]bool{}, map[store.Ref]store.Ref{}
	var use func(r store.Ref, found func(store.Ref))
	use = func(r store.Ref, found func(store.Ref)) {
		if used[r] || receipts[r] == nil {
			return
		}
		used[r] = true
		found(r)
		for _, need := range receipts[r].Needs {
			if need.Role != recipe.Tool {
				use(need.Ref, found)
			}
		}
	}
	for _, m := range current.Members {
		if !m.Beside {
			use(m.Ref, func(store.Ref) {})
		}
	}
	for _, m := range current.Members {
		use(m.Ref, func(r store.Ref) { beside[r] = m.Ref })
	}
	return used, beside
}

// chosen are the holders that names name.
func chosen(holders []*holder, texts []string) (some []*holder, err error) {
	for _, text := range texts {
		name, err := landing.ParseName(text)
		if err != nil {
			return nil, err
		}
		found := slices.DeleteFunc(slices.Clone(holders), func(x *holder) bool {
			return !name.Fits(x.Ref, x.receipt != nil && x.receipt.Track == recipe.Tip)
		})
		if len(found) == 0 {
			return nil, problem.New(problem.Usage, text, "no build or locked release is %s", text)
		}
		for _, x := range found {
			if !slices.Contains(some, x) {
				some = append(some, x)
			}
		}
	}
	return some, nil
}

// locked is a lock file, or the usual one.
func (s *Session) locked(file string) (*lock.File, error) {
	if file == "" {
		return plan.ReadLock(s.Machine)
	}
	f, err := lock.Read(file, file)
	if err == nil && !f.There {
		err = problem.New(problem.Usage, file, "there is no lock file %s", file)
	}
	return f, err
}

// holding are a build and the parts of its source that are known elsewhere.
func (s *Session) holding(r *store.Receipt, where string) []*holder {
	v, _ := version.Parse(r.Version)
	x := &holder{Ref: r.Ref, where: where, receipt: r,
		facts:   recipe.Facts{Version: v, Options: r.Options, Machine: r.Machine},
		subject: &advisory.Subject{Name: r.Name, Version: r.Version, Known: r.KnownAs}}
	if found, err := s.Shelves.Find(r.Name); err == nil {
		x.recipe = found
		if !found.KnownAs.IsZero() {
			x.subject.Known = found.KnownAs
		}
	}
	all := []*holder{x}
	for _, source := range r.Sources {
		if source.Into == "" && source.Commit != "" {
			x.subject.Commit, x.subject.Repository = source.Commit, source.URL
			x.subject.Known.Git = cmp.Or(x.subject.Known.Git, source.URL)
		}
		if source.Purl != "" {
			part := *x
			purl, v := recipe.SplitPurl(source.Purl)
			part.part, part.subject = source.Into, &advisory.Subject{Name: source.Into, Version: v,
				Known: recipe.KnownAs{Purl: purl}}
			all = append(all, &part)
		}
	}
	return all
}

// released is a release that is not built.
func (s *Session) released(b *lock.Build, where string) []*holder {
	x := &holder{Ref: store.Ref{Name: b.Name, Version: b.Version.String(), ID: b.ID}, where: where,
		facts:   recipe.Facts{Version: b.Version, Options: map[string]string{}, Machine: s.System},
		subject: &advisory.Subject{Name: b.Name, Version: b.Version.String()}}
	if found, err := s.Shelves.Find(b.Name); err == nil {
		x.recipe, x.subject.Known = found, found.KnownAs
		for _, o := range found.Options {
			x.facts.Options[o.Name] = o.DefaultOf(found.Release(b.Version))
		}
	}
	for _, text := range b.Options {
		name, value, _ := strings.Cut(text, "=")
		x.facts.Options[name] = value
	}
	return []*holder{x}
}

// answer says whether a patch of a build ends a hole, or a statement says that it does not
// concern the build.
func (s *Session) answer(x *holder, ids []string) (status, because string) {
	if x.receipt != nil {
		for _, p := range x.receipt.Patches {
			if anyOf(p.Fixes, ids) || x.recipe != nil && anyOf(x.recipe.FixesOf(p.File), ids) && samePatch(x.recipe, p) {
				return "fixed", "the patch " + p.File
			}
		}
		for _, n := range x.receipt.NotAffected {
			if slices.Contains(ids, n.ID) {
				return "not_affected", n.Because
			}
		}
	}
	if x.recipe != nil {
		if release := x.recipe.Release(x.facts.Version); x.receipt == nil && release != nil {
			for _, p := range release.Patches {
				if anyOf(x.recipe.FixesOf(p), ids) {
					return "fixed", "the patch " + p
				}
			}
		}
		for _, n := range x.recipe.NotAffected {
			if slices.Contains(ids, n.ID) && n.When.Holds(x.facts) {
				return "not_affected", n.Because
			}
		}
	}
	for _, n := range s.Settings.NotAffected {
		if slices.Contains(ids, n.ID) && (n.Package == "" || n.Package == x.Name) && n.When.Holds(x.facts) {
			return "not_affected", n.Because
		}
	}
	return "", ""
}

// anyOf reports whether one of some ids is among others.
func anyOf(some, ids []string) bool {
	return slices.ContainsFunc(some, func(id string) bool { return slices.Contains(ids, id) })
}

// samePatch reports whether a patch of a recipe is still what a build was made with.
func samePatch(r *recipe.Recipe, p store.Source) bool {
	data, err := r.OnShelf(p.File).ReadFile(recipe.Largest)
	sum := sha256.Sum256(data)
	return err == nil && p.Digest.Algorithm == "sha256" && p.Digest.Hex == hex.EncodeToString(sum[:])
}
