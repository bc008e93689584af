// Package session is the door to the core. A Session is opened from a configuration and has
// one method for each operation.
//
// A request is a plain struct whose zero value is the default. A report is a plain struct
// and also what --json prints; fields that JSON leaves out carry the values it was made from,
// for interfaces that show more. An operation that fails returns a report of what it did
// until then, and an error whose kind problem.KindOf tells.
package session

import (
	"cmp"
	"errors"
	"os"
	"slices"
	"syscall"

	"fernladder/core/event"
	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/sandbox"
	"fernladder/core/settings"
	"fernladder/core/store"
)

// Config is what a session is opened with. The zero value is a session for the settings that
// are found from the working directory.
type Config struct {
	SettingsFile string              // "": FERNLADDER_SETTINGS, or the file that is found
	Root         string              // directory; "": FERNLADDER_ROOT, or the setting
	Getenv       func(string) string // nil: os.Getenv

	// The rest is as in machine.Config.
	machine.Config
}

// A Session holds what operations work with. It is not changed by them.
type Session struct {
	*machine.Machine
}

// Open reads the settings and opens a session. It writes nothing.
//
// It sets the umask of the process to 022, or to 002 where the settings give a group access,
// so that trees are readable for all users whoever builds them.
func Open(c Config) (*Session, error) {
	if c.Jobs < 0 {
		return nil, problem.New(problem.Usage, "jobs", "jobs %d: at least one job has to run", c.Jobs)
	}
	if c.Level != "" && !slices.Contains(sandbox.Levels, c.Level) {
		return nil, problem.New(problem.Usage, "isolation", "isolation %s: it can be open, fenced or sealed", c.Level)
	}
	working, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	if c.Getenv == nil {
		c.Getenv = os.Getenv
	}
	c.Place = settings.Place{Working: working, Getenv: c.Getenv, Super: os.Geteuid() == 0}
	file := cmp.Or(c.SettingsFile, c.Getenv("FERNLADDER_SETTINGS"))
	if file == "" {
		if file, err = settings.Find(c.Place); err != nil {
			return nil, err
		}
	}
	if c.Settings, err = settings.Read(file, c.Place); err != nil {
		return nil, err
	}
	c.Settings.Root = cmp.Or(c.Root, c.Getenv("FERNLADDER_ROOT"), c.Settings.Root)
	umask := 0o022
	if c.Settings.Access == "group" {
		umask = store.CommonUmask
	}
	syscall.Umask(umask)
	m, err := machine.Open(c.Config)
	if err != nil {
		return nil, err
	}
	return &Session{m}, nil
}

// renewed is the same session with nothing remembered of the operating system, for after its
// package manager has changed it.
func (s *Session) renewed() (*Session, error) {
	m, err := s.With(func(*machine.Config) {})
	return &Session{m}, err
}

// errOnce asks for another attempt: the plan is to be made again.
var errOnce = errors.New("the plan is to be made again")

// repeat does something again when another program removed what it had built or found built, or
// when no depot had intact what was to be taken from one: except holds those builds then.
func (s *Session) repeat(do func(except map[store.Ref]bool) error) error {
	const tries, most = 8, 64
	except := map[store.Ref]bool{}
	for try, all := 1, 1; ; all++ {
		err := do(except)
		var failed *install.Failures
		missing := false
		if errors.As(err, &failed) && !s.Settings.OnlyDepots {
			for _, r := range failed.NotBrought() {
				missing = missing || !except[r]
				except[r] = true
			}
		}
		switch {
		case missing:
			s.Tell(event.Event{Kind: event.Repeated, Text: "what no depot has intact is built here"})
		case errors.Is(err, errOnce) && all < most:
		case errors.Is(err, store.ErrGone) && try < tries:
			try++
			s.Tell(event.Event{Kind: event.Repeated, Text: "another fernladder has removed what this needs; it is built again"})
		default:
			return err
		}
	}
}
