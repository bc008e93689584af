package mend

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fernladder/core/host"
	"fernladder/core/inspect"
)

// system answers questions about the operating system, and caches the answers: many programs
// need the same libraries.
type system struct {
	loader   host.Loader
	programs host.Programs

	lock     sync.Mutex
	at       map[string]string   // libraries, by name
	provides map[string][]string // versions of symbols, by path
	named    map[string]bool     // programs
}

func newSystem(programs host.Programs) *system {
	return &system{loader: host.SystemLibraries(), programs: programs, at: map[string]string{},
		provides: map[string][]string{}, named: map[string]bool{}}
}

// library is the path at which the loader finds a library, or "".
func (s *system) library(name string) string {
	s.lock.Lock()
	defer s.lock.Unlock()
	if at, known := s.at[name]; known {
		return at
	}
	s.at[name] = s.loader.Find(name)
	return s.at[name]
}

// similar names another release of a library that the loader finds, for a message.
func (s *system) similar(name string) string {
	stem, _, found := strings.Cut(name, ".so")
	if !found {
		return ""
	}
	var others []string
	for _, dir := range s.loader {
		files, _ := filepath.Glob(filepath.Join(dir, stem+".so.*"))
		for _, file := range files {
			if base := filepath.Base(file); strings.Count(base, ".") <= strings.Count(name, ".") &&
				!slices.Contains(others, base) {
				others = append(others, base)
			}
		}
	}
	if len(others) == 0 {
		return ""
	}
	return "; it has " + strings.Join(others, ", ")
}

// lacks are the symbol versions that a library does not have. A library that cannot be read, or
// without versions, lacks none.
func (s *system) lacks(file string, versions []string) (missing []string) {
	if len(versions) == 0 {
		return nil
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	has, known := s.provides[file]
	if !known {
		if f, err := os.Open(file); err == nil {
			has = inspect.Provides(f)
			f.Close()
		}
		s.provides[file] = has
	}
	if len(has) == 0 {
		return nil
	}
	for _, v := range versions {
		if !slices.Contains(has, v) {
			missing = append(missing, v)
		}
	}
	return missing
}

// has reports whether a program exists: at a path, or by its name.
func (s *system) has(name string) bool {
	if filepath.IsAbs(name) {
		_, err := os.Stat(name)
		return err == nil
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	is, known := s.named[name]
	if !known {
		is = s.programs.Find(name) != ""
		s.named[name] = is
	}
	return is
}

// instead names another release of an interpreter that exists, for a message.
func (s *system) instead(name string) string {
	stem := strings.TrimRight(filepath.Base(name), "0123456789.")
	var others []string
	for _, dir := range s.programs.Path {
		files, _ := filepath.Glob(filepath.Join(dir, stem+"[0-9]*"))
		for _, file := range files {
			base := filepath.Base(file)
			if strings.Trim(strings.TrimPrefix(base, stem), "0123456789.") == "" && !slices.Contains(others, base) {
				others = append(others, base)
			}
		}
	}
	if stem == "" || len(others) == 0 {
		return ""
	}
	slices.Sort(others)
	return "; it has " + strings.Join(others, ", ")
}
