// Words prints all texts of the program in one list, to be read in a row, or checks them.
//
//	go run ./internal/words              messages, with their places
//	go run ./internal/words -comments    comments
//	go run ./internal/words -check       unwanted words in messages, comments and documents
package main

import (
	"bufio"
	_ "embed"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// unused has a line for each unwanted pattern: the pattern, a tab, and what to write instead.
//
//go:embed unused.txt
var unused string

// A text is a message, a comment or a line of a document.
type text struct {
	place   string
	what    string
	comment bool
}

func main() {
	comments := flag.Bool("comments", false, "print comments instead of messages")
	check := flag.Bool("check", false, "print places with words that we do not use, and fail if there are any")
	flag.Parse()
	texts, err := read(".")
	if err == nil && *check {
		err = checkAll(texts)
	} else if err == nil {
		for _, t := range texts {
			if t.comment == *comments && !strings.HasSuffix(t.place, ".md") {
				fmt.Printf("%s\t%s\n", t.place, t.what)
			}
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// read finds the texts of all Go files and documents below a directory, except for test data.
func read(dir string) (texts []text, err error) {
	err = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && (e.Name() == "testdata" || strings.HasPrefix(e.Name(), ".") && path != dir ||
			e.Name() == "sources"):
			return filepath.SkipDir
		case strings.HasSuffix(path, ".md") && e.Name() != "CHANGELOG.md":
			found, err := document(path)
			texts = append(texts, found...)
			return err
		case strings.HasSuffix(path, ".go"):
			found, err := source(path)
			texts = append(texts, found...)
			return err
		}
		return nil
	})
	return texts, err
}

func document(path string) (texts []text, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		texts = append(texts, text{fmt.Sprintf("%s:%d", path, n), lines.Text(), true})
	}
	return texts, lines.Err()
}

// source finds the comments of a Go file, and its strings of two words or more.
func source(path string) (texts []text, err error) {
	files := token.NewFileSet()
	f, err := parser.ParseFile(files, path, nil, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	place := func(p token.Pos) string {
		at := files.Position(p)
		return fmt.Sprintf("%s:%d", path, at.Line)
	}
	for _, group := range f.Comments {
		for _, c := range group.List {
			texts = append(texts, text{place(c.Pos()), strings.TrimPrefix(c.Text, "// "), true})
		}
	}
	if strings.HasSuffix(path, "_test.go") {
		return texts, nil
	}
	ast.Inspect(f, func(n ast.Node) bool {
		if s, is := n.(*ast.BasicLit); is && s.Kind == token.STRING {
			value, _ := strconv.Unquote(s.Value)
			if words.MatchString(value) {
				texts = append(texts, text{place(s.Pos()), strings.ReplaceAll(value, "\n", "↵"), false})
			}
		}
		return true
	})
	return texts, nil
}

var words = regexp.MustCompile(`[a-z]{2,} [a-z]{2,}`)

func checkAll(texts []text) error {
	found := 0
	for line := range strings.Lines(unused) {
		pattern, instead, _ := strings.Cut(strings.TrimRight(line, "\n"), "\t")
		if pattern == "" {
			continue
		}
		bad, err := regexp.Compile(`(?i)\b(?:` + pattern + `)\b`)
		if err != nil {
			return err
		}
		for _, t := range texts {
			at := bad.FindStringIndex(t.what)
			if at == nil || strings.HasSuffix(t.what[:at[0]], "there ") { // "there is none" is fine
				continue
			}
			found++
			fmt.Printf("%s: %q; write: %s\n", t.place, t.what[at[0]:at[1]], instead)
		}
	}
	if found > 0 {
		return fmt.Errorf("%d places have words that we do not use", found)
	}
	return nil
}
