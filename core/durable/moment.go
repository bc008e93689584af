//go:build !torture

package durable

// moment is called just before and after everything that lasts. It does nothing but
// in a program that was made to be killed there (moment_torture.go).
func moment() {}
