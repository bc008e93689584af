package mend

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"fernladder/core/filelock"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// root checks the files of the root itself.
func (r *Report) root(ctx context.Context, m *machine.Machine) {
	s := m.Store
	found, err := filepath.Glob(filepath.Join(s.TreesDir(), "*", "*"))
	if err == nil {
		for _, dir := range found {
			if ref, ok := s.RefOf(dir); ok && !s.Installed(ref) && !safefs.Exists(s.Work(ref)) && !worked(s, ref) {
				r.add(Finding{Kind: Half, Build: ref, Path: dir, What: "a tree without a receipt",
					Follows: "It is not a build; a program was killed while making or removing it.", Fixable: true})
			}
		}
	}
	if _, err := s.History().Latest("", 1); err != nil {
		r.add(Finding{Kind: Database, Path: s.History().File(), What: cause(err),
			Follows: "Times of earlier builds are not known.", Fixable: true})
	}
	if entries, err := os.ReadDir(filepath.Join(s.Root, "locks")); err == nil {
		for _, e := range entries {
			if !e.Type().IsRegular() {
				r.add(Finding{Kind: Permissions, Path: filepath.Join(s.Root, "locks", e.Name()),
					What:    "it should be an empty file, which programs lock",
					Follows: "What it protects can be neither built nor changed.",
					Advice:  "Move it aside, while no other process uses the root."})
			}
		}
	}
	for _, dir := range []string{"", "archives", "trees", "landings", "logs", "locks", "work"} {
		path := filepath.Join(s.Root, dir)
		info, err := os.Lstat(path)
		switch {
		case err != nil:
		case !info.IsDir() && dir != "":
			r.add(Finding{Kind: Permissions, Path: path, What: "it should be a directory", Advice: "Move it aside."})
		case info.IsDir() && info.Mode().Perm()&0o002 != 0 && info.Mode()&fs.ModeSticky == 0:
			r.add(Finding{Kind: Permissions, Path: path, What: "everyone can write to it",
				Follows: "Any user who can log in can make others run anything.", Fixable: true, mode: info.Mode().Perm() &^ 0o002})
		}
	}
}

// worked reports whether another process makes or removes a tree, or has done so by now.
func worked(s *store.Store, ref store.Ref) bool {
	unlock, err := s.LockBuildNow(ref)
	if err != nil {
		return errors.Is(err, filelock.ErrHeld)
	}
	defer unlock()
	return s.Installed(ref) || !safefs.Exists(s.Tree(ref))
}

// settled returns the current landing, and checks it if asked to. Other processes may change it
// meanwhile: then it is checked again.
func (r *Report) settled(m *machine.Machine, look bool) landing.State {
	const tries = 8
	for try := 1; ; try++ {
		before := len(r.Findings)
		current, err := landing.Current(m.Store)
		if look {
			r.landing(m, current, err)
		}
		again, errAgain := landing.Current(m.Store)
		if try == tries || (err == nil) == (errAgain == nil) && current.Number == again.Number {
			return current
		}
		r.Findings = r.Findings[:before]
	}
}

// landing checks the landing and its states.
func (r *Report) landing(m *machine.Machine, current landing.State, broken error) {
	s := m.Store
	if broken != nil {
		follows := "Installed programs are not found, and nothing can be installed or removed."
		if _, err := os.Stat(landing.Directory(s) + "/"); err == nil {
			follows = "Its links work, but nothing can be installed or removed."
		}
		r.add(Finding{Kind: State, Path: landing.Directory(s), What: cause(broken), Follows: follows,
			Remedies: []problem.Remedy{problem.Do(problem.UseLanding)}})
		return
	}
	history, err := landing.History(s)
	if err != nil {
		return
	}
	r.states(m, history)
	wrong, err := landing.Check(s, current, m.Rules())
	if err != nil {
		r.add(Finding{Kind: Link, Path: landing.Directory(s), What: err.Error()})
		return
	}
	for _, w := range wrong {
		r.add(Finding{Kind: Link, Path: filepath.Join(landing.Directory(s), w.Path), What: w.Is,
			Follows: "The landing differs from its record.", Fixable: true})
	}
	r.shared(m)
	for _, member := range current.Members {
		if receipt, err := s.Receipt(member.Ref); err == nil {
			r.configs(m, receipt)
		}
	}
}

// states checks the stored states of the landing.
func (r *Report) states(m *machine.Machine, history []landing.Remembered) {
	s := m.Store
	for _, x := range history {
		switch {
		case x.Damaged != nil:
			r.add(Finding{Kind: State, Path: filepath.Join(s.Root, "landings", fmt.Sprint(x.Number)+".json"),
				What: cause(x.Damaged), Follows: "This state cannot be brought back.", Fixable: !x.InUse})
		case len(x.Missing) > 0 && x.InUse:
			for _, gone := range x.Missing {
				r.add(Finding{Kind: State, Build: gone, Path: s.Tree(gone), What: "it is on the landing, but its tree is gone",
					Follows:  "Its links on the landing lead nowhere.",
					Remedies: []problem.Remedy{problem.Do(problem.InstallPackage, gone.Name)}})
			}
		}
	}
}

// shared checks directories that are also used by others.
func (r *Report) shared(m *machine.Machine) {
	s := m.Store
	shared, err := landing.ReadShared(s)
	if err != nil {
		r.add(Finding{Kind: Link, Path: filepath.Join(s.Root, "landings", "shared.json"), What: cause(err)})
	}
	for _, x := range shared {
		if x.Unfinished {
			r.add(Finding{Kind: Half, Path: x.Directory, What: "a change of the links there was interrupted",
				Follows: "Some names are missing, or should not be there.", Fixable: true})
		}
		for _, w := range landing.CheckShared(s, x, m.Rules()) {
			f := Finding{Kind: Link, Path: filepath.Join(x.Directory, w.Path), What: w.Is,
				Follows: "The landing is not reachable there by this name.", Fixable: w.Gone || w.Acts}
			if w.Acts {
				f.Follows = "It may run, or change the machine, without a request."
			}
			r.add(f)
		}
	}
}

// configs checks the configuration files of a build, and the directories that its programs write
// to.
func (r *Report) configs(m *machine.Machine, receipt *store.Receipt) {
	configs, err := m.Store.Configs(receipt)
	if err != nil {
		r.add(Finding{Kind: Config, Build: receipt.Ref, Path: filepath.Join(m.Store.Root, "config", receipt.Name),
			What: cause(err)})
	}
	for _, c := range configs {
		f := Finding{Kind: Config, Build: receipt.Ref, Path: c.File,
			Follows: receipt.Name + " reads its configuration there."}
		is := "a file"
		if c.Directory {
			is, f.Follows = "a directory", receipt.Name+" writes there."
		}
		switch {
		case c.Strange:
			f.What, f.Advice = "it is no longer "+is, "Move it aside."
			f.Remedies = []problem.Remedy{problem.Do(problem.MendFix)}
			r.add(f)
		case !c.There:
			f.What, f.Fixable = "it is gone", true
			r.add(f)
		}
	}
}

// cause is the text of an error without the path that precedes it anyway.
func cause(err error) string {
	var at *store.Error
	if errors.As(err, &at) {
		return at.Err.Error()
	}
	return err.Error()
}

// shadows reports programs that the operating system has installed since, and that ours hide
// without a decision in the settings.
func (r *Report) shadows(m *machine.Machine, current landing.State) {
	rules := m.Rules()
	known := map[string]bool{}
	for _, n := range current.Named {
		known[n.Build.ID+" "+n.File] = true
	}
	for _, dir := range []string{"bin", "sbin"} {
		entries, err := os.ReadDir(filepath.Join(landing.Directory(m.Store), dir))
		if err != nil {
			continue // there is none
		}
		for _, e := range entries {
			path := rules.System.Program(e.Name())
			if path == "" {
				continue
			}
			o, ours, err := m.Store.OwnerOf(filepath.Join(landing.Directory(m.Store), dir, e.Name()))
			if err != nil || !ours || known[o.Build.ID+" "+o.File] {
				continue
			}
			r.add(Finding{Kind: Shadow, Build: o.Build, Path: dir + "/" + e.Name(), What: "the operating system has " + path +
				" now, and ours takes precedence over it",
				Advice: "To keep it: before_system = [\"" + o.Name +
					"\"] in the settings; otherwise the next change of the landing removes ours."})
		}
	}
}
