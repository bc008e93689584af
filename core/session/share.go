package session

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"fernladder/core/depot"
	"fernladder/core/event"
	"fernladder/core/landing"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/sbom"
	"fernladder/core/signature"
	"fernladder/core/store"
)

// A ShareRequest says which builds are put into depots.
type ShareRequest struct {
	Names  []string
	Wanted bool   // what the settings want, too
	All    bool   // with the tools that they were built with
	Depot  string // its name; "": all that have a key to sign with
}

// ShareReport is what is in depots now.
type ShareReport struct {
	Builds []depot.Shared `json:"builds"`
	Left   []LeftOut      `json:"left_out"`
}

// LeftOut is a build that was not put into a depot.
type LeftOut struct {
	store.Ref
	Depot string `json:"depot"`
	Why   string `json:"why"`
}

// Share puts builds into depots, with everything that they need to run. It returns what is done
// in any case.
func (s *Session) Share(ctx context.Context, r ShareRequest) (*ShareReport, error) {
	report := &ShareReport{Builds: []depot.Shared{}, Left: []LeftOut{}}
	depots, err := s.depots(r.Depot, (*depot.Depot).Writes)
	if err != nil {
		return report, err
	}
	named, err := s.toShare(r)
	if err != nil {
		return report, err
	}
	for _, b := range named {
		if why := depot.Refused(b); why != "" {
			return report, problem.New(problem.Usage, b.Name, "%s %s is not shared: %s", b.Name, b.Version, why)
		}
	}
	builds, err := s.withNeeds(named, r.All)
	if err != nil {
		return report, err
	}
	used, err := s.usedBy(ctx, builds)
	if err != nil {
		return report, err
	}
	_, version, _ := strings.Cut(s.Agent, "/")
	var failed error
	for _, d := range depots { // one that fails does not keep the builds from others
		err := s.putInto(ctx, d, builds, func(b *store.Receipt, by signature.Signer) depot.Share {
			return depot.Share{Store: s.Store, By: by, Program: version, Used: used[b.Ref]}
		}, report)
		failed = errors.Join(failed, err)
	}
	return report, failed
}

// putInto puts builds into one depot: small ones several at once, because most of their time is that of
// requests, and then each large one by itself, because it keeps all processors busy.
func (s *Session) putInto(ctx context.Context, d *depot.Depot, builds []*store.Receipt,
	how func(*store.Receipt, signature.Signer) depot.Share, report *ShareReport) error {
	const small, atOnce = 4 << 20, 8
	by, err := s.signer(d)
	if err != nil {
		return err
	}
	shared := make([]*depot.Shared, len(builds))
	put := func(ctx context.Context, i int) error {
		b := builds[i]
		release, err := s.Store.ShareBuild(ctx, b.Ref)
		if err != nil {
			return err
		}
		defer release()
		done, err := d.Put(ctx, b, how(b, by))
		if err != nil {
			return s.Store.Wrap(err)
		}
		s.Tell(event.Event{Kind: event.Sent, Package: b.Name, Version: b.Version, ID: b.ID, Text: d.Name})
		shared[i] = &done
		return nil
	}
	group, limited := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	var large []int
	for i, b := range builds {
		switch why := s.leaves(d, b); {
		case why != "":
			report.Left = append(report.Left, LeftOut{b.Ref, d.Name, why})
		case b.Size > small:
			large = append(large, i)
		default:
			group.Go(func() error { return put(limited, i) })
		}
	}
	err = group.Wait()
	for _, i := range large {
		if err == nil {
			err = put(ctx, i)
		}
	}
	for _, done := range shared {
		if done != nil {
			report.Builds = append(report.Builds, *done)
		}
	}
	return err
}

// leaves says why a need is not put into a depot; "" if it is.
func (s *Session) leaves(d *depot.Depot, b *store.Receipt) string {
	switch {
	case b.From != nil && (b.From.Depot == d.URL || b.From.Depot == d.Path):
		return "it came from there"
	case b.From != nil:
		return "it came from the depot " + b.From.Depot + "; who built it can share it"
	}
	return depot.Refused(b)
}

// depots are those with a name, or all, that are used in one way.
func (s *Session) depots(name string, used func(*depot.Depot) bool) ([]*depot.Depot, error) {
	all := slices.DeleteFunc(slices.Clone(s.Depots), func(d *depot.Depot) bool {
		return name != "" && d.Name != name || !used(d)
	})
	if len(all) > 0 {
		return all, nil
	}
	var names []string
	for _, d := range s.Depots {
		names = append(names, d.Name)
	}
	switch {
	case name == "":
		return nil, problem.New(problem.Usage, "depot",
			"the settings name no depot to put builds into").Remedy(problem.AddDepot)
	case slices.Contains(names, name):
		return nil, problem.New(problem.Usage, name, "the depot %s has no key to sign with: sign in [[depot]]", name)
	}
	return nil, problem.New(problem.Usage, name, "the settings name no depot %s; they name: %s", name,
		strings.Join(names, ", "))
}

// signer opens the key that a depot's builds are signed with.
func (s *Session) signer(d *depot.Depot) (signature.Signer, error) {
	return signature.Signing{Namespace: depot.Namespace, Agent: s.Place.Getenv("SSH_AUTH_SOCK"),
		GPG: s.Programs.Find("gpg"), Now: s.Now}.Open(d.Sign)
}

// toShare are the requested builds.
func (s *Session) toShare(r ShareRequest) (named []*store.Receipt, err error) {
	if len(r.Names) == 0 && !r.Wanted {
		return nil, problem.New(problem.Usage, "", "name the builds to share").Remedy(problem.ShareWanted)
	}
	for _, name := range r.Names {
		b, err := s.Find(name)
		if err != nil {
			return nil, err
		}
		named = append(named, b)
	}
	if !r.Wanted {
		return named, nil
	}
	on, err := landing.Current(s.Store)
	if err != nil {
		return nil, err
	}
	var missing []string
	for _, w := range s.Settings.Wanted {
		m := on.Find(w.Name)
		if m == nil {
			missing = append(missing, w.Name)
			continue
		}
		b, err := s.Store.Receipt(m.Ref)
		if err != nil {
			return nil, s.Store.Gone(m.Ref, err)
		}
		named = append(named, b)
	}
	if len(missing) > 0 {
		return nil, problem.New(problem.Usage, missing[0], "the settings want %s, which is not installed",
			strings.Join(missing, ", ")).Remedy(problem.InstallPackage, missing...)
	}
	return named, nil
}

// withNeeds adds what builds need to run, or, with tools, to be built. Needs come first.
func (s *Session) withNeeds(named []*store.Receipt, tools bool) (all []*store.Receipt, err error) {
	seen := map[store.Ref]bool{}
	var visit func(b *store.Receipt) error
	visit = func(b *store.Receipt) error {
		if seen[b.Ref] {
			return nil
		}
		seen[b.Ref] = true
		for _, n := range b.Needs {
			if n.Role == recipe.Tool && !tools {
				continue
			}
			need, err := s.Store.Receipt(n.Ref)
			if err != nil {
				return s.Store.Gone(n.Ref, err)
			}
			if err := visit(need); err != nil {
				return err
			}
		}
		all = append(all, b)
		return nil
	}
	for _, b := range named {
		if err := visit(b); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// usedBy are the packages of the operating system that builds use, as far as it is known.
func (s *Session) usedBy(ctx context.Context, builds []*store.Receipt) (map[store.Ref][]depot.HostPackage, error) {
	parts, err := sbom.Gather(s.Store, builds)
	if err == nil {
		err = s.addHosts(ctx, parts)
	}
	used := map[store.Ref][]depot.HostPackage{}
	for _, p := range parts {
		for _, h := range p.Hosts {
			used[p.Ref] = append(used[p.Ref], depot.HostPackage{Purl: h.Purl(), Name: h.Name, Version: h.Version})
		}
	}
	return used, err
}

// A DepotCleanRequest says what is deleted from a depot.
type DepotCleanRequest struct {
	Depot string
	Keep  []string // lock files; what they lock stays
	Older time.Duration

	// Confirm is asked before anything is deleted; nil: nothing is deleted.
	Confirm func(*DepotCleanReport) bool
}

// DepotCleanReport is what can be deleted from a depot, or was.
type DepotCleanReport struct {
	Depot   string       `json:"depot"`
	Builds  []depot.Held `json:"builds"`
	Kept    int          `json:"kept"`
	Deleted bool         `json:"deleted"`
}

// CleanDepot finds the builds in a depot that no lock file names, and deletes them when Confirm
// agrees.
func (s *Session) CleanDepot(ctx context.Context, r DepotCleanRequest) (*DepotCleanReport, error) {
	if len(r.Keep) == 0 && r.Older == 0 {
		return nil, problem.New(problem.Usage, r.Depot,
			"this would delete all builds in the depot").Remedy(problem.KeepLocked)
	}
	depots, err := s.depots(r.Depot, func(*depot.Depot) bool { return true })
	if err != nil {
		return nil, err
	}
	locked := map[string]bool{}
	for _, file := range r.Keep {
		path, err := filepath.Abs(file)
		if err != nil {
			return nil, err
		}
		f, err := s.locked(path)
		if err != nil {
			return nil, err
		}
		for _, b := range f.Builds {
			locked[b.ID] = true
		}
	}
	d := depots[0]
	all, err := d.List(ctx)
	if err != nil {
		return nil, err
	}
	report := &DepotCleanReport{Depot: d.Name}
	report.Builds = slices.DeleteFunc(slices.Clone(listed(all)), func(h depot.Held) bool {
		return locked[h.ID] || s.Since(h.Created) < r.Older
	})
	report.Kept = len(all) - len(report.Builds)
	if len(report.Builds) == 0 || r.Confirm == nil || !r.Confirm(report) {
		return report, nil
	}
	err = d.Remove(ctx, report.Builds)
	report.Deleted = err == nil
	return report, err
}
