// Package cli has the commands, one file each: flags in, core called, result
// shown. What is decided is decided in core, how it looks in term.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/draft"
	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/seal"
	"fernladder/core/settings"
	"fernladder/core/source"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// Version is the version of the program.
const Version = "0.1.0"

// app is what the commands share. It is filled in when the flags are read.
type app struct {
	out, err io.Writer
	getenv   func(string) string
	now      func() time.Time
	screen   *term.Screen

	settingsFile, root string
	jobs               int
	isolation          string
	output             bool
	offline            bool
	json, plain        bool
}

// Main runs the program and returns its exit status.
func Main(args []string, out, errOut io.Writer, getenv func(string) string) int {
	a := &app{out: out, err: errOut, getenv: getenv, now: time.Now}
	syscall.Umask(0o022) // trees are for everyone to read, whoever builds them
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	// The first signal ends things in order, the second at once.
	context.AfterFunc(ctx, stop)
	command := a.command()
	command.SetArgs(args)
	command.SetOut(out)
	command.SetErr(errOut)
	err := command.ExecuteContext(ctx)
	if a.screen == nil { // the flags could not be read
		a.screen = term.New(out, errOut, a.plain, a.json, getenv)
	}
	return a.report(err)
}

// The groups of commands, in the order of the work.
const (
	groupWrite  = "write"
	groupBuild  = "build"
	groupLook   = "look"
	groupUse    = "use"
	groupOthers = "others"
)

func (a *app) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "fernladder COMMAND",
		Short: "Build third-party packages from source, with everything they need",
		Long: `Fern Ladder builds and installs third-party packages from source. You write a
recipe for each package, or have one; Fern Ladder works out what else it needs,
fetches and verifies the sources, and builds everything in order, each package
into a tree of its own. What is in use is linked into one directory, the landing.`,
		Example: `  fernladder demo                        see all of it on made-up packages
  fernladder new garden && cd garden     make a folder to work in
  fernladder plan glasshouse             what would be built, and why
  fernladder install glasshouse          build it with all its needs, and use it
  eval "$(fernladder env)"               put what is installed on your PATH`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       Version,
		PersistentPreRun: func(*cobra.Command, []string) {
			a.screen = term.New(a.out, a.err, a.plain, a.json, a.getenv)
		},
	}
	root.SetVersionTemplate("Fern Ladder {{.Version}}\n")
	flags := root.PersistentFlags()
	flags.StringVar(&a.settingsFile, "settings", "", "read the settings from `FILE` and nowhere else")
	flags.StringVar(&a.root, "root", "", "keep everything in `DIR`, whatever the settings say")
	flags.BoolVar(&a.offline, "offline", false, "do not use the network; say what is missing instead")
	flags.BoolVar(&a.json, "json", false, "print results as JSON, and progress as lines of JSON")
	flags.BoolVar(&a.plain, "plain", false, "no colour and no redrawn lines, even on a terminal")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%v\n  See: fernladder %s --help", err, c.Name())
	})
	root.AddGroup(
		&cobra.Group{ID: groupWrite, Title: "Write recipes:"},
		&cobra.Group{ID: groupBuild, Title: "Build and install:"},
		&cobra.Group{ID: groupUse, Title: "Use what is installed:"},
		&cobra.Group{ID: groupLook, Title: "Look at what is there:"},
		&cobra.Group{ID: groupOthers, Title: "Others:"},
	)
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add(groupWrite, a.newCommand(), a.draftCommand(), a.checkCommand(), a.shelvesCommand(), a.newsCommand(), a.bumpCommand(), a.offersCommand())
	add(groupBuild, a.hostCommand(), a.planCommand(), a.lockCommand(), a.supplyCommand(), a.fetchCommand(), a.buildCommand(), a.installCommand(), a.upgradeCommand(), a.removeCommand(), a.cleanCommand())
	add(groupUse, a.envCommand(), a.tryCommand())
	add(groupLook, a.listCommand(), a.showCommand(), a.filesCommand(), a.logCommand(), a.explainCommand(), a.historyCommand())
	add(groupOthers, a.demoCommand())
	root.SetHelpCommandGroupID(groupOthers)
	root.SetCompletionCommandGroupID(groupOthers)
	cobra.EnableCommandSorting = false
	return root
}

// session is what most commands work with: the settings and what they name.
type session struct {
	settings settings.Settings
	place    settings.Place
	store    *store.Store
	shelves  *recipe.Shelves
	workshop *build.Workshop

	hosts *source.Hosts
	known *draft.Known // what packages offer, once a failure has asked
}

// open reads the settings.
func (a *app) open() (*session, error) {
	working, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	s := &session{place: settings.Place{Working: working, Getenv: a.getenv, Super: os.Geteuid() == 0}}
	file := a.settingsFile
	if file == "" {
		file = settings.Find(s.place)
	}
	if s.settings, err = settings.Read(file, s.place); err != nil {
		return nil, err
	}
	if a.root != "" {
		s.settings.Root = a.root
	}
	if s.settings.Root, err = filepath.Abs(s.settings.Root); err != nil {
		return nil, err
	}
	// Compilers get paths as parts of flags and lists, where these end them.
	if i := strings.IndexAny(s.settings.Root, " \t\n:;,'\"$\\"); i >= 0 {
		return nil, usage("the root %q contains %q, which compilers and shells cannot have in the path of a tree; name another", s.settings.Root, s.settings.Root[i])
	}
	if a.jobs < 0 {
		return nil, usage("-j %d: at least one job has to run", a.jobs)
	}
	if a.isolation != "" && !slices.Contains(seal.Levels, seal.Level(a.isolation)) {
		return nil, usage("--isolation %s: it can be open, fenced or sealed", a.isolation)
	}
	jobs := s.settings.Jobs
	if a.jobs > 0 {
		jobs = a.jobs
	}
	if jobs == 0 {
		jobs = runtime.NumCPU()
	}
	s.hosts = source.NewHosts(s.settings.DownloadsPerHost)
	s.store = &store.Store{Root: s.settings.Root}
	s.shelves = recipe.NewShelves(s.settings.Shelves)
	s.workshop = &build.Workshop{Store: s.store, Machine: host.ThisMachine(), Programs: host.Programs{Path: s.settings.Path, Asked: &host.Answers{}}, Jobs: jobs, Events: event.Nowhere, Offline: a.offline, Limits: source.UpTo(s.settings.LargestSource), LargestLog: int64(s.settings.LargestLog) << 20,
		LargestTree: int64(s.settings.LargestTree) << 20, TrustedEnv: s.settings.TrustedEnv, Users: s.settings.Users, Most: s.settings.Most}
	return s, nil
}

// archives is the store of archives, which tells sink what it does. Credentials
// are read here, so that mistakes in them only matter to commands that fetch.
func (a *app) archives(s *session, sink event.Sink) (*source.Archives, error) {
	credentials, err := s.readCredentials()
	if err != nil {
		return nil, err
	}
	s.workshop.Credentials = credentials
	return &source.Archives{
		Dir: s.store.Archives(), Agent: "fernladder/" + Version, Events: sink, Offline: a.offline,
		Hosts: s.hosts, Credentials: credentials, Largest: int64(s.settings.LargestDownload) << 20,
		Longest: time.Duration(s.settings.LongestDownload) * time.Minute,
	}, nil
}

// repositories are the copies of repositories, to fetch to.
func (s *session) repositories() (*source.Repositories, error) {
	var err error
	if s.workshop.Credentials, err = s.readCredentials(); err != nil {
		return nil, err
	}
	return s.workshop.Repositories(), nil
}

// readCredentials reads the file that the settings name, and ~/.netrc.
func (s *session) readCredentials() (*source.Credentials, error) {
	c := &source.Credentials{}
	if s.settings.Credentials != "" {
		var err error
		if c, err = source.ReadCredentials(s.settings.Credentials, s.place.Shown(s.settings.Credentials)); err != nil {
			return nil, err
		}
	}
	netrc := s.place.Getenv("NETRC")
	if netrc == "" {
		netrc = filepath.Join(s.place.Getenv("HOME"), ".netrc")
	}
	c.AddNetrc(netrc)
	return c, nil
}

// stored gives an error of the file system in the store of archives the advice
// that is given for the root.
func (s *session) stored(err error) error {
	var local *source.StoreError
	if errors.As(err, &local) {
		return s.store.Wrap(local.Err)
	}
	return err
}

// usageError is a command line that makes no sense.
type usageError struct{ message string }

func (e *usageError) Error() string { return e.message }

func usage(format string, args ...any) error { return &usageError{fmt.Sprintf(format, args...)} }

// atLeastOne wants the names of packages.
func atLeastOne(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return usage("%s needs the name of a package, for example: %s mistplan", c.CommandPath(), c.CommandPath())
	}
	return nil
}

// onlyOne refuses flags that contradict each other.
func onlyOne(c *cobra.Command, names ...string) error {
	var given []string
	for _, name := range names {
		if c.Flags().Changed(name) {
			given = append(given, "--"+name)
		}
	}
	if len(given) > 1 {
		return usage("%s do not go together; give one of them", strings.Join(given, " and "))
	}
	return nil
}

func exactlyOne(c *cobra.Command, args []string) error {
	if len(args) > 1 {
		return usage("%s takes one name, not %d", c.CommandPath(), len(args))
	}
	return atLeastOne(c, args)
}

func noNames(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no names; %q is one too many", c.CommandPath(), args[0])
	}
	return nil
}

// is tells whether err is or wraps an error of type T.
func is[T error](err error) bool { return errors.As(err, new(T)) }
