// Install plans and installs packages, as a program of its own would that uses the
// core of Fern Ladder: the settings that are in force where it is started say from
// which shelves, and into which root.
//
//	go run ./examples/install dewcalc
package main

import (
	"context"
	"fmt"
	"os"

	"fernladder/core/event"
	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/sandbox"
	"fernladder/core/settings"
)

func main() {
	if status, started := sandbox.Main(os.Args, os.Stderr); started { // a copy of this program, in which a build runs
		os.Exit(status)
	}
	if err := run(context.Background(), os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context, names []string) error {
	working, err := os.Getwd()
	if err != nil {
		return err
	}
	place := settings.Place{Working: working, Getenv: os.Getenv, Super: os.Geteuid() == 0}
	file, err := settings.Find(place)
	if err != nil {
		return err
	}
	s, err := settings.Read(file, place)
	if err != nil {
		return err
	}
	m, err := machine.Open(machine.Config{Settings: s, Place: place, Events: event.Func(show)})
	if err != nil {
		return err
	}
	p, err := plan.For(ctx, m, plan.Ask{Names: names})
	if err != nil {
		return err
	}
	fmt.Println("Packages to build:", len(p.Todo()))
	if _, err := install.Run(ctx, m, p); err != nil {
		return err
	}
	landed, err := install.Land(ctx, m, p)
	fmt.Println("Packages on the landing:", len(landed.After.Members))
	return err
}

// show is called from several goroutines at once; a line is written whole.
func show(e event.Event) {
	if e.Kind == event.PackageDone || e.Kind == event.PackageFailed {
		fmt.Println(e.Package, e.Version, e.Kind)
	}
}
