package machine

import (
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"fernladder/core/ground"
	"fernladder/core/host"
	"fernladder/core/landing"
)

// Update is a change of the landing by what the settings say of it, for the caller to
// say which.
func (m *Machine) Update() landing.Update {
	return landing.Update{Rules: m.Rules(), Command: m.Command, Now: m.Now(), Waiting: m.TellLandingHeld}
}

// Rules are what the settings say about the landing.
func (m *Machine) Rules() landing.Rules {
	s := m.Settings.Landing
	const day = 24 * time.Hour
	rules := landing.Rules{Before: s.BeforeSystem, System: landing.System{Program: systemPrograms(), File: systemFiles}, Acting: m.Settings.TrustedOwners, Shared: s.Shared, Number: s.Keep, Age: time.Duration(s.Days) * day}
	if s.Shared != "" {
		rules.System.Library = SystemLibraries()
	}
	for _, l := range s.Links {
		rules.Names = append(rules.Names, landing.Name{Package: l.Package, File: l.File, Off: l.Off, As: l.As, First: l.First})
	}
	return rules
}

// systemFiles finds files of the operating system itself, by their paths below /usr.
func systemFiles(name string) string {
	for _, top := range []string{"/usr", "/"} { // systems have had /lib beside /usr/lib
		if at := filepath.Join(top, name); ground.Exists(at) {
			return at
		}
	}
	return ""
}

// SystemLibraries finds shared libraries of the operating system itself.
func SystemLibraries() func(name string) string {
	loader := sync.OnceValue(func() host.Loader {
		return slices.DeleteFunc(slices.Clone(host.SystemLibraries()), func(dir string) bool { return strings.HasPrefix(dir, "/usr/local/") })
	})
	return func(name string) string { return loader().Find(name) }
}

// Used is the directory by which people use what is on the landing: the one that
// others use too, where there is one.
func (m *Machine) Used() string {
	if m.Settings.Landing.Shared != "" {
		return m.Settings.Landing.Shared
	}
	return landing.Directory(m.Store)
}

// systemPrograms finds programs of the operating system itself, not what somebody has
// put into /usr/local.
func systemPrograms() func(name string) string {
	system := host.Programs{Path: []string{"/usr/bin", "/bin", "/usr/sbin", "/sbin", "/usr/games"}}
	var lock sync.Mutex
	known := map[string]string{}
	return func(name string) string {
		lock.Lock()
		defer lock.Unlock()
		if path, is := known[name]; is {
			return path
		}
		known[name] = system.Find(name)
		return known[name]
	}
}
