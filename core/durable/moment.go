//go:build !torture

package durable

// moment is called just before and after everything that lasts. It does nothing but
// in a program that was made to be killed there (moment_torture.go).
func moment() {}

// Moment is a moment of others than this package: of steps that can each be the last.
func Moment() { moment() }
