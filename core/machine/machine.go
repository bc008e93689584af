// Package machine holds what all work is done with: the root and its contents, the shelves, the
// operating system, the network, the isolation of builds, the job slots, the clock, and the
// receiver of events.
//
// A machine is opened once, from settings, and does not change. Facts that are found later, such
// as the available isolation, are found once. It does not decide what is built.
package machine

import (
	"errors"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"fernladder/core/depot"
	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/sandbox"
	"fernladder/core/schedule"
	"fernladder/core/settings"
	"fernladder/core/source"
	"fernladder/core/store"
)

// Config is the configuration of a machine.
type Config struct {
	Settings settings.Settings
	Place    settings.Place // where the program was started, and as whom

	Jobs    int           // job slots; 0: those of the settings, or as many as there are processors
	Level   sandbox.Level // builds are kept apart exactly this far; "": the strongest that there is
	Command string        // as typed, for the record of changes
	Offline bool          // missing files are not fetched
	Agent   string        // how the program names itself to servers

	Events event.Sink       // nil: they are dropped
	Now    func() time.Time // nil: the clock
}

// A Machine is opened by Open. Its fields do not change afterwards.
type Machine struct {
	Config

	Store        *store.Store
	Shelves      *recipe.Shelves
	System       host.Machine
	Programs     host.Programs
	Packages     *host.Packages  // that the operating system has installed; nil where its package manager is not known
	HostFiles    host.Files      // the index of the files of all that it could install
	Bare         *sandbox.System // the part that builds see; nil like Packages
	Archives     *source.Archives
	Repositories *source.Repositories
	Supplies     source.Supplies // that were brought to the root
	Unpacking    source.Limits
	Slots        *schedule.Slots
	Depots       []*depot.Depot // with builds of others, or for them

	isolation isolation
	causes    causes
	fan       *event.Fan
}

// BadRoot is the problem of a root whose path compilers and shells cannot handle as part of a
// tree's path: it would end a flag, or a word of a list.
const BadRoot problem.Code = "bad_root"

// Open opens a machine. It reads the credentials and examines the machine, and writes nothing.
// It fails with the code BadRoot if the path of the root cannot be part of a tree's path.
func Open(c Config) (*Machine, error) {
	var err error
	if c.Settings.Root, err = filepath.Abs(c.Settings.Root); err != nil {
		return nil, err
	}
	if i := strings.IndexAny(c.Settings.Root, " \t\n:;,'\"$\\"); i >= 0 {
		return nil, problem.New(problem.Usage, "root",
			"the root %q contains %q, which compilers and shells cannot handle in the path of a tree; choose another",
			c.Settings.Root, c.Settings.Root[i]).
			Coded(BadRoot)
	}
	if c.Jobs == 0 {
		c.Jobs = c.Settings.Jobs
	}
	if c.Jobs == 0 {
		c.Jobs = runtime.NumCPU()
	}
	fan, is := c.Events.(*event.Fan) // of a machine that is opened again
	if !is {
		fan = &event.Fan{}
		if c.Events != nil {
			fan.Add(c.Events)
		}
		c.Events = fan
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	s := c.Settings
	access, err := accessOf(s)
	if err != nil {
		return nil, err
	}
	m := &Machine{
		Config: c, Store: &store.Store{Root: s.Root, Access: access}, Shelves: recipe.NewShelves(s.Shelves),
		System: host.ThisMachine(), Programs: host.Programs{Path: s.Path, Asked: &host.Answers{}},
		HostFiles: host.Files{Dir: filepath.Join(s.Root, "host-files")},
		Supplies:  source.Supplies{Dir: filepath.Join(s.Root, "supplies")},
		Unpacking: source.UpTo(s.LargestSource), Slots: schedule.NewSlots(c.Jobs), fan: fan,
	}
	m.Shelves.Defaults = s.Defaults
	m.Settings.Users.Common = m.Store.Locks()
	if m.Packages = m.Programs.Packages(m.System.Family); m.Packages != nil {
		m.Bare = &sandbox.System{Programs: m.Programs, Packages: m.Packages, Dir: filepath.Join(s.Root, "bare")}
	}
	const mebi = 1 << 20
	network := m.network()
	m.Archives = &source.Archives{Dir: m.Store.Archives(), Network: network,
		Largest: int64(s.LargestDownload) * mebi, Longest: time.Duration(s.LongestDownload) * time.Minute}
	m.Repositories = &source.Repositories{Dir: m.Store.Archives(), Programs: m.Programs, Network: network,
		Largest: m.Archives.Largest, Longest: m.Archives.Longest}
	m.Depots = depot.Open(s.Depots, m.Archives)
	return m, nil
}

// accessOf are the access rights in the root, from the settings.
func accessOf(s settings.Settings) (*store.Access, error) {
	a := &store.Access{Private: s.Access == "private", Group: -1}
	if s.Access == "" {
		return nil, nil
	}
	if s.Group != "" {
		number, err := store.NumberOf(s.Group, store.GroupNumber)
		if err != nil {
			return nil, problem.New(problem.Host, s.Group,
				"the settings let the group %s install, but this machine has no such group", s.Group)
		}
		a.Group = number
	}
	return a, nil
}

// OwnPath are the directories of programs that the settings name; the operating system's own are
// not among them.
func (m *Machine) OwnPath() []string {
	return slices.DeleteFunc(slices.Clone(m.Programs.Path), func(dir string) bool {
		return slices.Contains(settings.SystemPath, dir)
	})
}

// Seen are the programs of the operating system as builds find them: in bare rooms, programs of
// packages before others.
func (m *Machine) Seen() host.Programs {
	p := m.Programs
	if m.Bare == nil || m.Settings.NotBare != "" {
		return p
	}
	local := func(dir string) bool {
		return strings.HasPrefix(dir, "/usr/local/") && slices.Contains(settings.SystemPath, dir)
	}
	var last []string
	p.Path = slices.DeleteFunc(slices.Clone(p.Path), func(dir string) bool {
		if local(dir) {
			last = append(last, dir)
		}
		return local(dir)
	})
	p.Path = append(p.Path, last...)
	return p
}

// network is the configuration of downloads.
func (m *Machine) network() *source.Network {
	s, place := m.Settings, m.Place
	n := source.NewNetwork(place.Getenv)
	n.Agent, n.Events, n.Now, n.Offline = m.Agent, m.Events, m.Now, m.Offline
	n.Hosts = source.NewHosts(s.Downloads, s.DownloadsPerHost)
	netrc := place.Getenv("NETRC")
	if netrc == "" {
		netrc = filepath.Join(place.Getenv("HOME"), ".netrc")
	}
	n.Credentials = source.FindCredentials(s.Credentials, place.Shown(s.Credentials), netrc)
	return n
}

// With opens the same machine with a changed configuration. Facts are found again.
func (m *Machine) With(change func(*Config)) (*Machine, error) {
	c := m.Config
	change(&c)
	return Open(c)
}

// Stored adds the advice for the root to a file system error in the store of archives.
func (m *Machine) Stored(err error) error {
	var local *source.StoreError
	if errors.As(err, &local) {
		return m.Store.Wrap(local.Err)
	}
	return err
}

// Tell reports an event.
func (m *Machine) Tell(e event.Event) { m.Events.Event(e) }

// Watch passes events on to another sink as well, until it is stopped.
func (m *Machine) Watch(s event.Sink) (stop func()) { return m.fan.Add(s) }

// TellLandingHeld reports that another process is changing the landing, and that we wait for it.
func (m *Machine) TellLandingHeld() {
	m.Tell(event.Event{Kind: event.Waiting, Text: "another fernladder that changes the landing"})
}

// isolation is the isolation of builds, found on first use.
type isolation struct {
	lock  sync.Mutex
	level sandbox.Level
}
