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
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/cluster"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/sandbox"
	"fernladder/core/session"
	"fernladder/core/subprocess"
	"fernladder/core/tomlfile"
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
	typed              string // the command line, without the program's name
	isolation          string
	output             bool
	nodes              cluster.How // how nodes of a cluster build, where they do
	offline            bool
	json, plain        bool

	session *session.Session // that was opened last, or nil
}

// Main runs the program and returns its exit status.
func Main(args []string, out, errOut io.Writer, getenv func(string) string) int {
	a := &app{out: out, err: errOut, getenv: getenv, now: time.Now, typed: commandLine(args)}
	ends := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // as nohup(1) has it
		ends = append(ends, syscall.SIGHUP)
	}
	ctx, end := context.WithCancelCause(context.Background())
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, ends...)
	go func() { // the first signal ends things in order, the second at once
		end(ended{<-signals})
		signal.Stop(signals)
	}()
	command := a.command()
	if len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd) {
		a.completions(command)
	}
	command.SetArgs(args)
	command.SetOut(out)
	command.SetErr(errOut)
	err := command.ExecuteContext(ctx)
	if a.screen == nil { // the flags could not be read
		a.screen = term.New(out, errOut, a.plain, a.json, getenv)
	}
	defer a.screen.Settle()
	return a.report(err)
}

// ended is the reason for an orderly end: a signal.
type ended struct{ os.Signal }

func (e ended) Error() string { return e.String() + " signal received" }

// The groups of commands, in the order of the work.
const (
	groupWrite  = "write"
	groupBuild  = "build"
	groupLook   = "look"
	groupUse    = "use"
	groupHand   = "hand"
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
		Args: cobra.ArbitraryArgs, // for RunE to reject: cobra's errors have no type
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			text := fmt.Sprintf("there is no command %q", args[0])
			if near := c.SuggestionsFor(args[0]); len(near) > 0 {
				text += fmt.Sprintf("; did you mean %s?", strings.Join(near, " or "))
			}
			return usage("%s\n  See: %s --help", text, c.CommandPath())
		},
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       Version,
		PersistentPreRun: func(*cobra.Command, []string) {
			a.screen = term.New(a.out, a.err, a.plain, a.json, a.getenv)
		},
	}
	root.SuggestionsMinimumDistance = 2
	root.SetVersionTemplate("Fern Ladder {{.Version}}\n")
	flags := root.PersistentFlags()
	flags.StringVar(&a.settingsFile, "settings", "", "read the settings only from `FILE` (or set FERNLADDER_SETTINGS)")
	flags.StringVar(&a.root, "root", "", "use the root `DIR` instead of that of the settings (or set FERNLADDER_ROOT)")
	flags.BoolVar(&a.offline, "offline", false, "do not use the network; report what is missing instead")
	flags.BoolVar(&a.json, "json", false, "print results as JSON, and progress as lines of JSON")
	flags.BoolVar(&a.plain, "plain", false, "no colour and no redrawn lines, even on a terminal")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%v\n  See: %s --help", err, c.CommandPath())
	})
	root.AddGroup(
		&cobra.Group{ID: groupWrite, Title: "Write recipes:"},
		&cobra.Group{ID: groupBuild, Title: "Build and install:"},
		&cobra.Group{ID: groupUse, Title: "Use what is installed:"},
		&cobra.Group{ID: groupLook, Title: "Look at what is there:"},
		&cobra.Group{ID: groupHand, Title: "Hand on what was built:"},
		&cobra.Group{ID: groupOthers, Title: "Others:"},
	)
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add(groupWrite, a.newCommand(), a.draftCommand(), a.checkCommand(), a.shelvesCommand(), a.newsCommand(),
		a.bumpCommand(), a.offersCommand(), a.tinkerCommand())
	add(groupBuild, a.optionsCommand(), a.hostCommand(), a.planCommand(), a.lockCommand(), a.supplyCommand(),
		a.fetchCommand(), a.buildCommand(), a.installCommand(), a.upgradeCommand(), a.frontCommand(), a.removeCommand(),
		a.landingCommand(), a.followCommand(), a.mendCommand(), a.cleanCommand())
	add(groupUse, a.envCommand(), a.tryCommand())
	add(groupLook, a.listCommand(), a.showCommand(), a.filesCommand(), a.ownerCommand(), a.whyCommand(),
		a.compareCommand(), a.logCommand(), a.explainCommand(), a.historyCommand(), a.advisoriesCommand(), a.reportCommand())
	add(groupHand, a.packCommand(), a.repositoryCommand(), a.shareCommand(), a.sbomCommand())
	add(groupOthers, a.demoCommand())
	root.AddCommand(a.atNodeCommand())
	root.SetHelpCommand(a.helpCommand())
	root.SetHelpCommandGroupID(groupOthers)
	root.SetCompletionCommandGroupID(groupOthers)
	cobra.EnableCommandSorting = false
	help := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		addFacts(c)
		help(c, args)
	})
	return root
}

// Command is the command with all its commands below it, for writing manual pages. It is not run.
func Command() *cobra.Command {
	root := (&app{getenv: os.Getenv, now: time.Now}).command()
	for _, c := range root.Commands() {
		addFacts(c)
	}
	return root
}

// open opens a session.
func (a *app) open() (*session.Session, error) {
	s, err := session.Open(session.Config{SettingsFile: a.settingsFile, Root: a.root, Getenv: a.getenv,
		Config: machine.Config{
			Command: a.typed, Jobs: a.jobs, Level: sandbox.Level(a.isolation), Offline: a.offline,
			Agent:  "fernladder/" + Version,
			Events: a.screen.Progress(a.now), Now: a.now,
		}})
	if err != nil {
		return nil, helpedBy(err)
	}
	a.session = s
	return s, nil
}

// answer shows a report: as JSON, or as show does.
func (a *app) answer(report any, show func()) error {
	if a.screen.JSON {
		return a.screen.PrintJSON(report)
	}
	show()
	return nil
}

// judged is the error of an operation whose report has been shown. A verdict, and mistakes in
// files, are not shown again.
func judged(err error) error {
	if errors.Is(err, problem.Verdict) || is[tomlfile.Problems](err) {
		return &alreadyShown{err}
	}
	return err
}

// commandLine is a command line in the form for typing, without the flags about settings and
// output.
func commandLine(args []string) string {
	var left []string
	for i := 0; i < len(args); i++ {
		switch flag, _, given := strings.Cut(args[i], "="); {
		case flag == "--settings" || flag == "--root":
			if !given {
				i++
			}
		case flag == "--plain" || flag == "--json":
		default:
			left = append(left, args[i])
		}
	}
	return subprocess.Typed(left)
}

// usage is the problem of a command line that makes no sense.
func usage(format string, args ...any) error { return problem.New(problem.Usage, "", format, args...) }

// atLeastOne wants the names of packages.
func (a *app) atLeastOne(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return usage("%s needs the name of a package, for example: %s %s", c.CommandPath(), c.CommandPath(), a.exampleName())
	}
	return nil
}

// exampleName is the name of a package for an example: one that is wanted, or that a shelf has.
func (a *app) exampleName() string {
	s, err := session.Open(session.Config{SettingsFile: a.settingsFile, Root: a.root, Getenv: a.getenv})
	if err == nil && len(s.Settings.Wanted) > 0 {
		return s.Settings.Wanted[0].Name
	}
	if err == nil {
		if names, err := s.Shelves.Names(); err == nil && len(names) > 0 {
			return names[0]
		}
	}
	return "NAME"
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
		return usage("%s cannot be combined; use one of them", strings.Join(given, " and "))
	}
	return nil
}

func (a *app) exactlyOne(c *cobra.Command, args []string) error {
	if err := atMostOne(c, args); err != nil {
		return err
	}
	return a.atLeastOne(c, args)
}

func atMostOne(c *cobra.Command, args []string) error {
	if len(args) > 1 {
		return usage("%s takes one name, not %d", c.CommandPath(), len(args))
	}
	return nil
}

func noNames(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no names; %q is one too many", c.CommandPath(), args[0])
	}
	return nil
}

// is reports whether err is or wraps an error of type T.
func is[T error](err error) bool { return errors.As(err, new(T)) }
