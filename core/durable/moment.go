//go:build !torture

package durable

// moment is called just before and after every durable step. It does nothing except in a program
// built to be killed there (moment_torture.go).
func moment() {}

// trace is told about each durable step. It does nothing except in such a program.
func trace(string, ...string) {}

// Moment marks a moment in other packages: between steps each of which can be the last.
func Moment() { moment() }
