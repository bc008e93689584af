package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/settings"
	"fernladder/demo/garden"
	"fernladder/demo/upstream"
)

func (a *app) demoCommand() *cobra.Command {
	keep := ""
	c := &cobra.Command{
		Use:   "demo",
		Short: "Show the whole story on made-up packages",
		Long: `Makes the packages of a made-up garden in a temporary folder, serves them on a loopback
port, and runs the commands of a usual day on them: plan, install, use, an older version
and back, remove. It needs a C compiler, make, cmake and git.`,
		Example: `  fernladder demo
  fernladder demo --keep garden     leaves the folder to play in`,
		Args: noNames,
		RunE: func(c *cobra.Command, _ []string) error { return a.demo(c.Context(), keep) },
	}
	c.Flags().StringVar(&keep, "keep", "", "work in the new folder `DIR`, and keep it")
	return c
}

// scene is a command of the demonstration, with what to know beforehand. The
// command is run by a shell in the garden's folder.
type scene struct{ remark, command string }

var story = []scene{
	{"A shelf with six recipes. Are they right?", "fernladder check"},
	{"What does it take to have glasshouse?", "fernladder plan glasshouse"},
	{"What can be chosen about mistplan, and what does it add?", "fernladder options mistplan"},
	{"Without plots, mistplan needs less.", "fernladder plan glasshouse -o mistplan.plots=off"},
	{"Does this machine have what the builds need of it?", "fernladder host glasshouse"},
	{"One command for all of it. The first mirror of mistplan serves a tampered archive.",
		"fernladder install glasshouse"},
	{"What is there now?", "fernladder list"},
	{"Does it work?", "fernladder try glasshouse"},
	{"The landing goes on the PATH, and the programs are there.",
		`eval "$(fernladder env)"; mistplan --stage seedling | tail -n 3; glasshouse day book`},
	{"An older mistplan, with a patch and without plots; glasshouse is to run with that one.",
		"fernladder install glasshouse mistplan:1.9.4 -o plots=off"},
	{"How did that one come to be?", "fernladder show mistplan"},
	{"And back. The landing remembers its states; nothing has to be built for it.", "fernladder landing undo"},
	{"Both at once: the older one beside, under a name of its own.",
		`fernladder install mistplan:1.9.4 -o plots=off --beside && ` +
			`eval "$(fernladder env)" && mistplan1.9 --version && fernladder landing`},
	{"Whose is it, why is it there, and what is different about it?",
		"fernladder owner mistplan1.9 && fernladder why dewcalc && fernladder compare mistplan:1.9.4 mistplan:2.1.0"},
	{"A hole was published in a library. Which builds have it, and what ends it?", "fernladder advisories || true"},
	{"The newer release, then: into the recipe, and wherever it is used.",
		"fernladder news && fernladder bump dewcalc && fernladder upgrade dewcalc"},
	{"And now? The old mistplan goes, too.", "fernladder advisories || fernladder remove mistplan:1.9.4"},
	{"What is in it, for whoever asks? A bill of materials.",
		"fernladder sbom glasshouse --format cyclonedx | head -n 24"},
	{"An installed library is changed by hand. mend notices, and builds it again in place.",
		"for file in root/trees/loamdb/*/lib/libloamdb.so; do echo rust >>$file; done; fernladder mend; fernladder mend " +
			"--rebuild"},
	{"Another machine should not have to build it: onto a stick, signed.", "fernladder share glasshouse"},
	{"That machine has the same recipes and an empty root. It trusts the key, and builds nothing.",
		"mv root builder; fernladder plan glasshouse && fernladder install glasshouse; rm -r root; mv builder root"},
	{"Everything off the landing again.", "fernladder remove glasshouse mistplan"},
}

// told is the outcome of a scene, in JSON.
type told struct {
	Command string `json:"command"`
	Stdout  string `json:"stdout"`
	Stderr  string `json:"stderr"`
	Status  int    `json:"status"`
}

func (a *app) demo(ctx context.Context, keep string) error {
	dir, done, err := demoFolder(keep)
	if err != nil {
		return err
	}
	defer done()
	archives, err := garden.Archives()
	if err != nil {
		return err
	}
	site, err := upstream.Start(archives)
	if err != nil {
		return fmt.Errorf("the demonstration needs a loopback port: %w", err)
	}
	defer site.Close()
	if err := errors.Join(garden.Write(dir, site.URL, archives), garden.WriteDepot(dir)); err != nil {
		return err
	}
	bin, err := os.MkdirTemp("", "fernladder-bin-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(bin)
	env, err := a.demoEnvironment(dir, bin)
	if err != nil {
		return err
	}
	var all []told
	for i, s := range story {
		result, err := a.play(ctx, i, s, dir, env)
		if err != nil {
			return err
		}
		all = append(all, result)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(all)
	}
	if keep != "" {
		a.screen.Print("\nThe garden is in %s. Its upstream site is closed; the archives are in upstream.\nNext: cd %s && "+
			"fernladder install glasshouse", dir, keep)
	}
	return nil
}

// demoFolder makes the folder of the demonstration. done deletes a temporary one.
func demoFolder(keep string) (dir string, done func(), err error) {
	if keep == "" {
		dir, err = os.MkdirTemp("", "fernladder-demo-")
		return dir, func() { os.RemoveAll(dir) }, err
	}
	if dir, err = filepath.Abs(keep); err == nil {
		err = os.Mkdir(dir, 0o755)
	}
	if errors.Is(err, os.ErrExist) {
		err = usage("%s already exists; name a new folder", keep)
	}
	return dir, func() {}, err
}

// demoEnvironment lets shells find this program under its own name, in bin.
func (a *app) demoEnvironment(dir, bin string) ([]string, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if err := os.Symlink(self, filepath.Join(bin, "fernladder")); err != nil {
		return nil, err
	}
	return append(os.Environ(), "PATH="+bin+":"+a.getenv("PATH"), "PWD="+dir, "FERNLADDER_ROOT=", "FERNLADDER_SETTINGS="+
		filepath.Join(dir, settings.FileName)), nil
}

// play runs a scene and shows the command and what it prints.
func (a *app) play(ctx context.Context, i int, s scene, dir string, env []string) (told, error) {
	result := told{Command: s.command}
	command := exec.CommandContext(ctx, "sh", "-c", s.command)
	command.Dir, command.Env = dir, env
	// An interrupt from the keyboard reaches the command itself; it must have time to end what it
	// has started.
	command.Cancel = func() error { return command.Process.Signal(os.Interrupt) }
	var out, errOut bytes.Buffer
	if a.screen.JSON {
		command.Stdout, command.Stderr = &out, &errOut
	} else {
		if i > 0 {
			a.screen.Print("")
		}
		a.screen.Print("%s\n%s", a.screen.Faint("# "+s.remark), a.screen.Strong("$ "+s.command))
		command.Stdout, command.Stderr = a.out, a.err
	}
	err := command.Run()
	result.Stdout, result.Stderr = out.String(), errOut.String()
	if ctx.Err() != nil {
		return result, ctx.Err()
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return result, &demoError{s.command, exit.ExitCode(), strings.TrimSpace(result.Stderr)}
	}
	return result, err
}

// demoError ends the demonstration with the status of the command that failed.
type demoError struct {
	command string
	status  int
	output  string
}

func (e *demoError) Error() string {
	text := fmt.Sprintf("the demonstration ends here: %s failed with status %d", e.command, e.status)
	if e.output != "" {
		text += "\n" + e.output
	}
	return text
}
