package event_test

import (
	"fmt"

	"fernladder/core/event"
)

func ExampleFunc() {
	var sink event.Sink = event.Func(func(e event.Event) { fmt.Println(e.Kind, e.Package, e.Version) })
	sink.Event(event.Event{Kind: event.PackageDone, Package: "fern", Version: "1.0"})
	// Output: package_done fern 1.0
}
