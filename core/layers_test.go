package core_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The core serves any interface: it imports none, prints nothing itself, and no message of its
// problems names a command.
func TestCoreHasNoInterfaceCode(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-json=ImportPath", "./...").Output()
	require.NoError(t, err)
	for decoder := json.NewDecoder(strings.NewReader(string(out))); decoder.More(); {
		var p struct{ ImportPath string }
		require.NoError(t, decoder.Decode(&p))
		for _, banned := range []string{"fernladder/internal", "fernladder/demo", "fernladder/cmd", "github.com/spf13",
			"github.com/jedib0t", "golang.org/x/term", "charm.land"} {
			assert.False(t, strings.HasPrefix(p.ImportPath, banned), "core depends on %s", p.ImportPath)
		}
	}
	err = filepath.WalkDir(".", func(file string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		require.NoError(t, err)
		ast.Inspect(parsed, func(n ast.Node) bool {
			if call, ok := n.(*ast.CallExpr); ok && types.ExprString(call.Fun) == "problem.New" {
				for _, argument := range call.Args {
					assert.NotRegexp(t, `fernladder [a-z]+ |^"(?:[^"]* )?--[a-z]`, strings.ReplaceAll(types.ExprString(argument), "another fernladder is",
						""), "%s: how a remedy is typed is in internal/cli", file)
				}
			}
			if s, ok := n.(*ast.SelectorExpr); ok && file != "sandbox/copy.go" { // of a process that is no interface
				if from, ok := s.X.(*ast.Ident); ok {
					name := from.Name + "." + s.Sel.Name
					for _, banned := range []string{"fmt.Print", "fmt.Println", "fmt.Printf", "os.Stdout", "os.Stderr", "os.Stdin",
						"os.Exit", "os.Args"} {
						assert.NotEqual(t, banned, name, file)
					}
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
}

// docs/inside.md lists all packages, and names no others.
func TestEveryPackageIsDescribed(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{if .GoFiles}}{{.ImportPath}}{{end}}", "fernladder/...").Output()
	require.NoError(t, err)
	packages := strings.Fields(strings.ReplaceAll(string(out), "fernladder/", ""))
	page, err := os.ReadFile("../docs/inside.md")
	require.NoError(t, err)
	_, list, _ := strings.Cut(string(page), "```\n")
	list, _, _ = strings.Cut(list, "```\n")
	var listed []string
	for line := range strings.Lines(list) {
		name := strings.Fields(line)[0]
		switch {
		case name == "core/":
		case strings.HasPrefix(line, " "):
			listed = append(listed, "core/"+name)
		default:
			listed = append(listed, name)
		}
	}
	assert.ElementsMatch(t, packages, listed)
}

// Files, pictures and headings named in the pages exist.
func TestNamedFilesExist(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	file := regexp.MustCompile("`((?:core|internal|demo|examples)/[\\w/]+\\.\\w+)`")
	link := regexp.MustCompile(`\]\(([\w./-]*)(?:#([\w-]+))?\)`)
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range file.FindAllStringSubmatch(string(text), -1) {
			assert.FileExists(t, "../"+m[1], page)
		}
		for _, m := range link.FindAllStringSubmatch(string(text), -1) {
			target := page
			if m[1] != "" {
				target = filepath.Join(filepath.Dir(page), m[1])
			}
			linked, err := os.ReadFile(target)
			assert.NoError(t, err, page)
			assert.Contains(t, anchors(string(linked)), m[2], "%s links to %s", page, m[0])
		}
	}
}

// anchors are the link targets of a page's headings; "" is the page.
func anchors(page string) []string {
	names := []string{""}
	for _, m := range regexp.MustCompile(`(?m)^#+ (.*)$`).FindAllStringSubmatch(page, -1) {
		plain := regexp.MustCompile(`[^\w -]`).ReplaceAllString(strings.ToLower(m[1]), "")
		names = append(names, strings.ReplaceAll(plain, " ", "-"))
	}
	return names
}

// The command layer has a text for each remedy.
func TestEveryRemedyIsTyped(t *testing.T) {
	actions, err := os.ReadFile("problem/action.go")
	require.NoError(t, err)
	typed, err := os.ReadFile("../internal/cli/help.go")
	require.NoError(t, err)
	names := regexp.MustCompile(`(?m)^\t(\w+) +Action = `).FindAllStringSubmatch(string(actions), -1)
	require.NotEmpty(t, names)
	for _, m := range names {
		assert.Regexp(t, `problem\.`+m[1]+`\b`, string(typed))
	}
}
