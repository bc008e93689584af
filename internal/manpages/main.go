// Manpages writes the manual pages of the program, one for each command, and the completions of
// shells into the directories in which they are installed, below a prefix.
//
//	go run ./internal/manpages DIR
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"fernladder/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: manpages DIR")
		os.Exit(2)
	}
	if err := write(cli.Command(), os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// The facts of a command are lines of a table in its help, and paragraphs in its manual page.
var (
	indent = regexp.MustCompile(`\n {13}`)
	facts  = regexp.MustCompile(`\n(Reads|Changes|Exit status|See also): +`)
)

func write(root *cobra.Command, prefix string) error {
	root.InitDefaultCompletionCmd()
	root.DisableAutoGenTag = true
	for _, c := range root.Commands() {
		c.Long = facts.ReplaceAllString(indent.ReplaceAllString(c.Long, " "), "\n\n**$1**: ")
	}
	man := filepath.Join(prefix, "share/man/man1")
	if err := os.MkdirAll(man, 0o755); err != nil {
		return err
	}
	seconds, _ := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64) // 0, where it is not set
	date := time.Unix(seconds, 0).UTC()
	header := &doc.GenManHeader{Section: "1", Source: "Fern Ladder " + cli.Version, Manual: "Fern Ladder", Date: &date}
	if err := doc.GenManTree(root, header, man); err != nil {
		return err
	}
	for _, shell := range []struct {
		file string
		make func(file string) error
	}{
		{"share/bash-completion/completions/fernladder",
			func(f string) error { return root.GenBashCompletionFileV2(f, true) }},
		{"share/zsh/site-functions/_fernladder", root.GenZshCompletionFile},
		{"share/fish/vendor_completions.d/fernladder.fish",
			func(f string) error { return root.GenFishCompletionFile(f, true) }},
		{"share/powershell/fernladder.ps1", root.GenPowerShellCompletionFileWithDesc},
	} {
		file := filepath.Join(prefix, shell.file)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := shell.make(file); err != nil {
			return err
		}
	}
	return nil
}
