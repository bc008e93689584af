package subprocess

// This file writes commands as shells read them (POSIX, Shell Command Language, 2.2).

import (
	"strings"

	"fernladder/core/pattern"
)

// Quoted is a word as it means itself to a shell.
func Quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

// CommandLine is a shell command in which each word stands for itself.
func CommandLine(argv []string) string {
	words := make([]string, len(argv))
	for i, word := range argv {
		words[i] = Quoted(word)
	}
	return strings.Join(words, " ")
}

// Typed is a command as a person would type it into a shell.
func Typed(argv []string) string {
	words := make([]string, len(argv))
	for i, arg := range argv {
		words[i] = arg
		if !plainWord.MatchString(arg) {
			words[i] = Quoted(strings.TrimRight(arg, "\n"))
		}
	}
	return strings.Join(words, " ")
}

// plainWord is what means the same to a shell without quotes.
var plainWord = pattern.New(`^[\w@%+=:,./-]+$`)
