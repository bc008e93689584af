//go:build !torture

package durable

// moment is called just before and after everything that lasts. It does nothing but
// in a program that was made to be killed there (moment_torture.go).
func moment() {}

// trace is told what has lasted. It does nothing but in such a program.
func trace(string, ...string) {}

// Moment is a moment of others than this package: of steps that can each be the last.
func Moment() { moment() }
