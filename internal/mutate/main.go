// Command mutate tests the tests: it makes one small change at a time in the functions that keep
// a promise, and runs the tests of their package and the scripts that cover them. It prints each
// change that no test notices.
//
//	go run ./internal/mutate [-only TEXT] [-most N] [LIST]
//
// LIST has a line for each promise: FILE FUNCTION[,FUNCTION…] [SCRIPT…], and the promise after a
// #. The files of the repository do not change: the compiler gets the changed file instead (go
// help build, -overlay).
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// A promise is kept by some functions of a file.
type promise struct {
	file      string
	functions []string
	scripts   []string // of cmd/fernladder/testdata, and tests beside them
	text      string
}

// A mutation replaces some bytes of a file.
type mutation struct {
	promise
	line     int
	from, to int
	with     string
	was      string
}

func main() {
	only, most := flag.String("only", "", "only promises whose line has this `TEXT`"),
		flag.Int("most", 0, "at most so many changes, spread over the list; 0: all")
	flag.Parse()
	list := "internal/mutate/promises.txt"
	if flag.NArg() > 0 {
		list = flag.Arg(0)
	}
	promises, err := read(list, *only)
	check(err)
	var all []mutation
	for _, p := range promises {
		found, err := mutations(p)
		check(err)
		all = append(all, found...)
	}
	fmt.Fprintf(os.Stderr, "%d changes of %d promises\n", len(all), len(promises))
	if *most > 0 && len(all) > *most {
		spread := make([]mutation, 0, *most)
		for i := range *most {
			spread = append(spread, all[i*len(all)/(*most)])
		}
		all = spread
	}
	alive := try(all)
	fmt.Printf("%d changes, %d live (%d %%)\n", len(all), alive, 100*alive/max(1, len(all)))
	if 10*alive >= len(all) {
		os.Exit(1)
	}
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(2)
	}
}

func shown(text string) string {
	if text == "" {
		return "nothing"
	}
	return strings.Join(strings.Fields(text), " ")
}

func read(list, only string) (promises []promise, err error) {
	f, err := os.Open(list)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		what, text, _ := strings.Cut(lines.Text(), "#")
		words := strings.Fields(what)
		if len(words) < 2 || !strings.Contains(lines.Text(), only) {
			continue
		}
		promises = append(promises, promise{words[0], strings.Split(words[1], ","), words[2:], strings.TrimSpace(text)})
	}
	return promises, nil
}

// mutations are the changes of the functions of a promise. A missing function is an error: the
// list must follow the code.
func mutations(p promise) (all []mutation, err error) {
	text, err := os.ReadFile(p.file)
	if err != nil {
		return nil, err
	}
	set := token.NewFileSet()
	parsed, err := parser.ParseFile(set, p.file, text, 0)
	if err != nil {
		return nil, err
	}
	left := slices.Clone(p.functions)
	for _, d := range parsed.Decls {
		f, is := d.(*ast.FuncDecl)
		if !is || !slices.Contains(p.functions, f.Name.Name) {
			continue
		}
		left = slices.DeleteFunc(left, func(name string) bool { return name == f.Name.Name })
		at := func(n token.Pos) int { return set.Position(n).Offset }
		add := func(n ast.Node, with string) {
			from, to := at(n.Pos()), at(n.End())
			all = append(all, mutation{p, set.Position(n.Pos()).Line, from, to, with, string(text[from:to])})
		}
		ast.Inspect(f.Body, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.IfStmt:
				add(n.Cond, "!("+string(text[at(n.Cond.Pos()):at(n.Cond.End())])+")")
			case *ast.BinaryExpr:
				if other := opposite[n.Op]; other != "" {
					from := at(n.OpPos)
					all = append(all, mutation{p, set.Position(n.OpPos).Line, from, from + len(n.Op.String()), other, n.Op.String()})
				}
			case *ast.ReturnStmt:
				if len(n.Results) == 0 {
					break
				}
				switch last := n.Results[len(n.Results)-1].(type) {
				case *ast.Ident:
					if other := map[string]string{"err": "nil", "true": "false", "false": "true"}[last.Name]; other != "" {
						add(last, other)
					}
				case *ast.UnaryExpr:
					if last.Op == token.AND { // the address of an error
						add(last, "nil")
					}
				}
			case *ast.ExprStmt:
				if call, is := n.X.(*ast.CallExpr); is && !idle[called(call)] {
					add(n, "")
				}
			}
			return true
		})
	}
	if len(left) > 0 {
		return nil, fmt.Errorf("%s has no function %s", p.file, strings.Join(left, ", "))
	}
	return all, nil
}

// idle are calls that no promise is about: the release of handles, which the end of the program
// releases anyway, and moments, which only do something in a tortured program.
var idle = map[string]bool{"Close": true, "moment": true, "Moment": true, "trace": true}

// called is the last part of a called function's name.
func called(c *ast.CallExpr) string {
	switch f := c.Fun.(type) {
	case *ast.Ident:
		return f.Name
	case *ast.SelectorExpr:
		return f.Sel.Name
	}
	return ""
}

var opposite = map[token.Token]string{token.EQL: "!=", token.NEQ: "==", token.LSS: "<=", token.LEQ: "<",
	token.GTR: ">=", token.GEQ: ">", token.LAND: "||", token.LOR: "&&"}

// try makes the changes, several at a time, prints those that no test notices, and returns their
// number.
func try(all []mutation) (alive int) {
	var lock sync.Mutex
	var workers sync.WaitGroup
	next := make(chan mutation)
	for range runtime.NumCPU() + 1 { // tests wait, too
		workers.Go(func() {
			for m := range next {
				if lives(m) {
					lock.Lock()
					fmt.Printf("%s:%d: %s, in the place of %s, is noticed by no test (%s)\n", m.file, m.line, shown(m.with),
						shown(m.was), m.text)
					alive++
					lock.Unlock()
				}
			}
		})
	}
	for i, m := range all {
		if i%20 == 0 {
			fmt.Fprintf(os.Stderr, "%d of %d\n", i, len(all))
		}
		next <- m
	}
	close(next)
	workers.Wait()
	return alive
}

// lives reports whether all tests pass with a change. A change that does not compile counts as
// noticed.
func lives(m mutation) bool {
	dir, err := os.MkdirTemp("", "mutate-")
	check(err)
	defer os.RemoveAll(dir)
	text, err := os.ReadFile(m.file)
	check(err)
	changed := slices.Concat(text[:m.from], []byte(m.with), text[m.to:])
	if bytes.Equal(changed, text) {
		return false
	}
	file := filepath.Join(dir, filepath.Base(m.file))
	check(os.WriteFile(file, changed, 0o644))
	here, err := filepath.Abs(m.file)
	check(err)
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {here: file}})
	check(err)
	config := filepath.Join(dir, "overlay.json")
	check(os.WriteFile(config, overlay, 0o644))
	run := func(args ...string) bool {
		const longest = 3 * time.Minute
		ctx, cancel := context.WithTimeout(context.Background(), longest)
		defer cancel()
		c := exec.CommandContext(ctx, "go", append([]string{"test", "-vet=off", "-failfast", "-timeout=100s"}, args...)...)
		c.Env = append(os.Environ(), "GOFLAGS=-overlay="+config, "TMPDIR="+dir)
		return c.Run() == nil
	}
	if !run("./" + filepath.Dir(m.file)) {
		return false
	}
	for _, script := range m.scripts {
		test := "TestScripts/^" + script + "$"
		if strings.HasPrefix(script, "Test") {
			test = "^" + script + "$"
		}
		if !run("./cmd/fernladder", "-run", test) {
			return false
		}
	}
	return true
}
