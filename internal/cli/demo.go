package cli

import (
	"bufio"
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
	keep, step := "", false
	c := &cobra.Command{
		Use:   "demo",
		Short: "Show the whole story on made-up packages",
		Long: `Makes the packages of a made-up garden in a temporary folder, serves them on a loopback
port, and runs the commands of a usual day on them: a plan, a mistake that is explained, an
install, an older version and the way back, a second flavour, a published hole, builds for
another machine, a page about it all. It needs a C compiler, make, cmake and git.`,
		Example: `  fernladder demo
  fernladder demo --step            waits for Enter before each command
  fernladder demo --keep garden     leaves the folder to play in`,
		Args: noNames,
		RunE: func(c *cobra.Command, _ []string) error { return a.demo(c.Context(), keep, step) },
	}
	c.Flags().StringVar(&keep, "keep", "", "work in the new folder `DIR`, and keep it")
	c.Flags().BoolVar(&step, "step", false, "wait for Enter before each command; q ends the demonstration")
	return c
}

// scene is a command of the demonstration, with what to know beforehand. The
// command is run by a shell in the garden's folder, between two that are not shown.
type scene struct{ remark, command, before, after string }

var story = []scene{
	{remark: "A shelf with six recipes. Are they right?",
		command: "fernladder check"},
	{remark: "What does it take to have glasshouse?",
		command: "fernladder plan glasshouse"},
	{remark: "What can be chosen about mistplan, and what does it add?",
		command: "fernladder options mistplan"},
	{remark: "Without plots, mistplan needs less.",
		command: "fernladder plan glasshouse -o mistplan.plots=off"},
	{remark: "Does this machine have what the builds need of it?",
		command: "fernladder host glasshouse"},
	{remark: "Something goes wrong first: in this recipe, the line is missing that says what frondplot needs. Why does " +
		"it fail?",
		command: "fernladder build frondplot || true",
		before:  `cp recipes/frondplot/recipe.toml whole.toml; sed -i '/^\[\[need\]\]/,/^$/d' recipes/frondplot/recipe.toml`,
		after:   "mv whole.toml recipes/frondplot/recipe.toml"},
	{remark: "With the line in its place, one command for all of it. The first mirror of mistplan serves a tampered " +
		"archive.",
		command: "fernladder install glasshouse"},
	{remark: "What is there now?",
		command: "fernladder list"},
	{remark: "Does it work?",
		command: "fernladder try glasshouse"},
	{remark: "The landing goes on the PATH, and the programs are there.",
		command: `eval "$(fernladder env)"; mistplan --stage seedling | tail -n 3; glasshouse day book`},
	{remark: "An older mistplan, with a patch and without plots; glasshouse is to run with that one.",
		command: "fernladder install glasshouse mistplan:1.9.4 -o plots=off"},
	{remark: "How did that one come to be?",
		command: "fernladder show mistplan"},
	{remark: "And back. The landing remembers its states; nothing has to be built for it.",
		command: "fernladder landing undo"},
	{remark: "Both at once: the older one beside, under a name of its own.",
		command: `fernladder install mistplan:1.9.4 -o plots=off --beside && ` +
			`eval "$(fernladder env)" && mistplan1.9 --version && fernladder landing`},
	{remark: "Whose is it, why is it there, and what is different about it?",
		command: "fernladder owner mistplan1.9 && fernladder why dewcalc && fernladder compare mistplan:1.9.4 " +
			"mistplan:2.1.0"},
	{remark: "A hole was published in a library. Which builds have it, and what ends it?",
		command: "fernladder advisories || true"},
	{remark: "The newer release, then: into the recipe, and wherever it is used.",
		command: "fernladder news && fernladder bump dewcalc && fernladder upgrade dewcalc"},
	{remark: "And now? The old mistplan goes, too.",
		command: "fernladder advisories || fernladder remove mistplan:1.9.4"},
	{remark: "What is in it, for whoever asks? A bill of materials.",
		command: "fernladder sbom glasshouse --format cyclonedx | head -n 24"},
	{remark: "An installed library is changed by hand. mend notices, and builds it again in place.",
		command: "for file in root/trees/loamdb/*/lib/libloamdb.so; do echo rust >>$file; done; fernladder mend; " +
			"fernladder mend " +
			"--rebuild"},
	{remark: "Another machine should not have to build it: onto a stick, signed.",
		command: "fernladder share glasshouse"},
	{remark: "That machine has the same recipes and an empty root. It trusts the key, and builds nothing.",
		command: "mv root builder; fernladder plan glasshouse && fernladder install glasshouse; rm -r root; mv builder root"},
	{remark: "For those who would rather look: the ladder as a picture, and a page about all of it.",
		command: "fernladder plan glasshouse --draw ladder.svg && fernladder history --draw run.svg && fernladder report " +
			"--to page"},
	{remark: "Everything off the landing again.",
		command: "fernladder remove glasshouse mistplan"},
}

// told is the outcome of a scene, in JSON.
type told struct {
	Command string `json:"command"`
	Stdout  string `json:"stdout"`
	Stderr  string `json:"stderr"`
	Status  int    `json:"status"`
}

func (a *app) demo(ctx context.Context, keep string, step bool) error {
	if step && a.screen.JSON {
		return usage("--step and --json cannot be combined")
	}
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
	keys := bufio.NewReader(os.Stdin)
	for i, s := range story {
		if step && !a.asked(keys, i, s) {
			break
		}
		result, err := a.play(ctx, i, s, dir, env)
		if err != nil {
			return err
		}
		all = append(all, result)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(all)
	}
	a.screen.Print("\nThree things to try:")
	things := [][2]string{{"fernladder demo --keep garden", "the same in a folder that stays, to play in"},
		{"fernladder new work", "a folder for recipes of yours; then: fernladder draft URL"},
		{"fernladder help words", "what the words mean"}}
	if keep != "" {
		a.screen.Print("(The garden is in %s. Its upstream site is closed; the archives are in upstream.)", dir)
		things[0] = [2]string{"cd " + keep + " && fernladder install glasshouse", "the garden, to play in"}
		things[1] = [2]string{"xdg-open " + filepath.Join(keep, "page/index.html"), "the page about it"}
	}
	for _, t := range things {
		a.screen.Print("  %-46s %s", t[0], a.screen.Faint(t[1]))
	}
	return nil
}

// asked shows what comes next, and waits for Enter. It reports whether to go on.
func (a *app) asked(keys *bufio.Reader, i int, s scene) bool {
	fmt.Fprintf(a.err, "\n[%d of %d] %s\n  %s\nEnter runs it, q ends: ", i+1, len(story), s.remark, s.command)
	line, err := keys.ReadString('\n')
	if err != nil {
		fmt.Fprintln(a.err)
	}
	return err == nil && !strings.HasPrefix(strings.TrimSpace(line), "q")
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
	unseen := func(line string) error {
		if line == "" {
			return nil
		}
		run := exec.CommandContext(ctx, "sh", "-c", line)
		run.Dir, run.Env = dir, env
		return run.Run()
	}
	if err := unseen(s.before); err != nil {
		return result, err
	}
	defer unseen(s.after) // the next scene shows what it could not do
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
