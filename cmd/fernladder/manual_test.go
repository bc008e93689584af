package main_test

import (
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/demo/garden"
	"fernladder/demo/upstream"
)

var rewrite = flag.Bool("rewrite", false, "write into the pages of the manual what its commands print now")

// The pages whose examples are run, each in a garden of its own, from top to bottom.
//
// In a block ```console, lines that begin with "$ " are commands, and what follows is what they
// print. <!-- run: COMMAND --> is run without being shown; <!-- write: FILE --> writes the block
// below it into a file, <!-- show: FILE --> has a file of the repository in the block below it,
// and <!-- env: NAME=VALUE --> sets a variable. "~" is the reader's home.
var runPages = []string{"manual.md", "first-package.md", "from-a-script.md", "troubleshooting.md", "team.md",
	"go.md"}

// What differs from run to run and from machine to machine.
var varies = []*regexp.Regexp{
	regexp.MustCompile(`\b[0-9a-f]{40,64}\b|\b[0-9A-F]{40}\b|\b[0-9a-f]{12}\b|@[0-9a-f]{4,6}\b`),
	regexp.MustCompile(`\b\d{4}-\d\d-\d\d(?:[ T]\d\d:\d\d(?::\d\d)?Z?)?|\b\d{8}-\d{6}\b`),
	regexp.MustCompile(`\b\d+(?:\.\d+)? (?:(?:s|seconds?|min|ms|kB|MB|B|GB|MiB)\b|%)(?: \d+ min)?`),
	regexp.MustCompile(`127\.0\.0\.1:\d+`),
	regexp.MustCompile(`\d+ (?:job )?slots?|\d+ processors?|debian \d+|there +\d\S*|gcc[ \w()~+.-]*\d|\(Debian [^)]*\)`),
	regexp.MustCompile(`/tmp/[\w.-]+`),
	regexp.MustCompile(`cc \(Debian [^)]*\) [\d.]+ [\w-]+`),
	regexp.MustCompile(`× [\d.]+|^Longest: .*|Processors busy: .*|urn:uuid:.*`),
	regexp.MustCompile(`(?:in )?(?:unpack|patch|configure|compile|check|place|try) …|\S+ → .*`),
	regexp.MustCompile(`(?:between stages|only downloads were running) …`),
}

// The summary of a single build, which is printed if that took long.
var slow = regexp.MustCompile(`(?m)^Built [01] packages? in .*\nLongest: .*\n?`)

// Times of progress; such lines can be in another order, too.
var progress = regexp.MustCompile(`^ +[\d.]+s  `)

// comparable is what has to be the same of an output.
func comparable(output string) []string {
	var lines []string
	for line := range strings.Lines(slow.ReplaceAllString(output, "")) {
		line = progress.ReplaceAllString(line, "TIME ")
		for _, v := range varies {
			line = v.ReplaceAllString(line, "…")
		}
		if line = strings.Join(strings.FieldsFunc(line, func(r rune) bool { return r == ' ' || r == '\n' || r == '─' }), " "); line != "" {
			lines = append(lines, line)
		}
	}
	slices.Sort(lines) // builds end in another order
	return lines
}

// The examples of the manual print what the manual says.
func TestManual(t *testing.T) {
	needs(t, "sealed")
	if os.Geteuid() != 0 {
		t.Skip("the pages show what root sees")
	}
	for _, page := range runPages {
		t.Run(page, func(t *testing.T) {
			t.Parallel()
			file := filepath.Join("../../docs", page)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			r := newReader(t)
			now := r.read(string(text))
			if *rewrite {
				require.NoError(t, os.WriteFile(file, []byte(now), 0o644))
			}
		})
	}
}

// A reader follows a page.
type reader struct {
	t       *testing.T
	dir, at string
	url     string
	env     []string
}

func newReader(t *testing.T) *reader {
	dir, err := os.MkdirTemp("", "vale-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	archives, err := garden.Archives()
	require.NoError(t, err)
	site, err := upstream.Start(archives)
	require.NoError(t, err)
	t.Cleanup(func() { site.Close() })
	work := filepath.Join(dir, "garden")
	require.NoError(t, os.Mkdir(work, 0o755))
	require.NoError(t, garden.Write(work, site.URL, archives))
	require.NoError(t, garden.WriteDepot(work))
	(&world{t: t, dir: work}).signingKey("vale.key", 0)
	return &reader{t: t, dir: dir, at: work, url: site.URL, env: append(os.Environ(), "PATH="+filepath.Dir(program)+":"+
		os.Getenv("PATH"), "HOME="+dir, "XDG_DATA_HOME="+filepath.Join(dir, ".local/share"), "COLUMNS=110", "NO_COLOR=1",
		"SITE="+site.URL)}
}

// shell runs a command line, and returns what it prints with names in the place of its own
// directory and address.
func (r *reader) shell(line string) string {
	if dir, is := strings.CutPrefix(line, "cd "); is {
		r.at = filepath.Join(r.at, dir)
		return ""
	}
	line = strings.ReplaceAll(line, "https://vale-glasshouse.example", r.url)
	command := exec.Command("sh", "-c", line)
	command.Dir, command.Env = r.at, append(r.env, "PWD="+r.at)
	out, err := command.CombinedOutput()
	if command.ProcessState == nil {
		require.NoError(r.t, err)
	}
	text := strings.ReplaceAll(string(out), r.url, "https://vale-glasshouse.example")
	text = strings.ReplaceAll(text, strings.TrimPrefix(r.url, "http://"), "vale-glasshouse.example")
	text = strings.ReplaceAll(text, r.dir, "~")
	var lines []string
	for l := range strings.Lines(text) {
		lines = append(lines, strings.TrimRight(l, " \n"))
	}
	return strings.Trim(strings.Join(lines, "\n"), "\n")
}

// read follows a page, and returns it with what commands have printed.
func (r *reader) read(page string) string {
	var out []string
	lines := strings.Split(page, "\n")
	write, show := "", ""
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		out = append(out, line)
		if hidden, is := strings.CutPrefix(line, "<!-- run: "); is {
			r.shell(strings.TrimSuffix(hidden, " -->"))
		}
		if set, is := strings.CutPrefix(line, "<!-- env: "); is {
			r.env = append(r.env, strings.ReplaceAll(strings.TrimSuffix(set, " -->"), "~", r.dir))
		}
		if file, is := strings.CutPrefix(line, "<!-- show: "); is {
			show = strings.TrimSuffix(file, " -->")
		}
		if file, is := strings.CutPrefix(line, "<!-- write: "); is {
			write = strings.TrimSuffix(file, " -->")
		}
		if !strings.HasPrefix(line, "```") {
			continue
		}
		end := i + 1
		for lines[end] != "```" {
			end++
		}
		block := lines[i+1 : end]
		if write != "" {
			text := strings.ReplaceAll(strings.Join(block, "\n")+"\n", "https://vale-glasshouse.example", r.url)
			require.NoError(r.t, os.WriteFile(filepath.Join(r.at, write), []byte(text), 0o644))
			write = ""
		}
		if show != "" {
			text, err := os.ReadFile(filepath.Join("../../docs", show))
			require.NoError(r.t, err)
			now := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
			if !*rewrite {
				assert.Equal(r.t, now, block, show)
			}
			block, show = now, ""
		}
		if line == "```console" {
			block = r.block(block)
		}
		out = append(append(out, block...), "```")
		i = end
	}
	return strings.Join(out, "\n")
}

// block runs the commands of a block.
func (r *reader) block(block []string) (now []string) {
	for len(block) > 0 {
		n := 1
		for n < len(block) && !strings.HasPrefix(block[n], "$ ") {
			n++
		}
		typed, said := block[0], block[1:n]
		for len(said) > 0 && strings.HasPrefix(said[0], "> ") {
			typed, said = typed+"\n"+said[0], said[1:]
		}
		printed := r.shell(strings.ReplaceAll(strings.TrimPrefix(typed, "$ "), "\n> ", "\n"))
		if !*rewrite {
			assert.Equal(r.t, comparable(strings.Join(said, "\n")), comparable(printed), typed)
		}
		if strings.Join(comparable(strings.Join(said, "\n")), "\n") != strings.Join(comparable(printed), "\n") {
			said = strings.Split(printed, "\n")
		}
		if now = append(now, strings.Split(typed, "\n")...); len(said) > 0 && !(len(said) == 1 && said[0] == "") {
			now = append(now, said...)
		}
		block = block[n:]
	}
	return now
}
