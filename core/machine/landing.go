package machine

import (
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"fernladder/core/host"
	"fernladder/core/landing"
	"fernladder/core/safefs"
)

// Update is a change of the landing by the rules of the settings, which the caller completes.
func (m *Machine) Update() landing.Update {
	return landing.Update{Rules: m.Rules(), Command: m.Command, Now: m.Now(), Waiting: m.TellLandingHeld}
}

// Rules are the settings of the landing.
func (m *Machine) Rules() landing.Rules {
	s := m.Settings.Landing
	const day = 24 * time.Hour
	rules := landing.Rules{Before: s.BeforeSystem, System: landing.System{Program: systemPrograms(), File: systemFiles},
		Trusted: m.Settings.TrustedOwners, Shared: s.Shared, Number: s.Keep, Age: time.Duration(s.Days) * day}
	if s.Shared != "" {
		rules.System.Library = SystemLibraries()
	}
	for _, l := range s.Links {
		rules.Names = append(rules.Names, landing.Name{Package: l.Package, File: l.File, Off: l.Off, As: l.As,
			First: l.First})
	}
	return rules
}

// systemFiles finds files of the operating system itself by their paths below /usr; libraries
// and headers also in the directories for one architecture.
func systemFiles(name string) string {
	top, below, _ := strings.Cut(name, "/")
	places := []string{filepath.Join("/usr", name), filepath.Join("/", name)} // systems have had /lib beside /usr/lib
	if top == "lib" || top == "include" {
		for _, dir := range architectureDirs() {
			places = append(places, filepath.Join("/usr", top, dir, below))
		}
		places = append(places, filepath.Join("/usr/lib64", below))
	}
	for _, at := range places {
		if safefs.Exists(at) {
			return at
		}
	}
	return ""
}

// architectureDirs are the names of directories below /usr/lib for one architecture, such as
// x86_64-linux-gnu.
var architectureDirs = sync.OnceValue(func() (names []string) {
	found, _ := filepath.Glob("/usr/lib/*-linux-*")
	for _, dir := range found {
		names = append(names, filepath.Base(dir))
	}
	return names
})

// SystemLibraries finds shared libraries of the operating system itself.
func SystemLibraries() func(name string) string {
	loader := sync.OnceValue(func() host.Loader {
		return slices.DeleteFunc(slices.Clone(host.SystemLibraries()), func(dir string) bool {
			return strings.HasPrefix(dir, "/usr/local/")
		})
	})
	return func(name string) string { return loader().Find(name) }
}

// Used is the directory through which people use the landing: the shared one, if there is one.
func (m *Machine) Used() string {
	if m.Settings.Landing.Shared != "" {
		return m.Settings.Landing.Shared
	}
	return landing.Directory(m.Store)
}

// systemPrograms finds programs of the operating system itself, without those in /usr/local.
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
