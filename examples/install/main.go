// Install plans and installs packages, as an example of a program that uses the core of Fern
// Ladder. The settings in force in its working directory name the shelves and the root.
//
//	go run ./examples/install dewcalc
package main

import (
	"context"
	"fmt"
	"os"

	"fernladder/core/event"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/session"
)

func main() {
	if err := run(context.Background(), os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context, names []string) error {
	s, err := session.Open(session.Config{Config: machine.Config{Events: event.Func(show)}})
	if err != nil {
		return err
	}
	request := session.BuildRequest{LadderRequest: session.LadderRequest{Ask: plan.Ask{Names: names},
		Planned: func(l *session.Ladder) error {
			fmt.Println("Packages to build:", len(l.Todo()))
			return nil
		}}}
	report, err := s.Install(ctx, request)
	fmt.Println("Packages on the landing:", len(report.Landing.Members))
	return err
}

// show is called from several goroutines at once, so it writes a whole line at a time.
func show(e event.Event) {
	if e.Kind == event.PackageDone || e.Kind == event.PackageFailed {
		fmt.Println(e.Package, e.Version, e.Kind)
	}
}
