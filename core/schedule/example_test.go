package schedule_test

import (
	"context"
	"fmt"
	"time"

	"fernladder/core/schedule"
)

func ExampleRun() {
	say := func(what string) func(context.Context) error {
		return func(context.Context) error { fmt.Println(what); return nil }
	}
	tasks := []schedule.Task{
		{Name: "dewcalc", Slot: true, Length: time.Second, Run: say("dewcalc")},
		{Name: "mistplan", Slot: true, Length: time.Second, Needs: []int{0}, Run: say("mistplan")},
	}
	takes, _ := schedule.Forecast(tasks, 4)
	fmt.Println(takes)
	results := schedule.Run(context.Background(), schedule.NewSlots(4), tasks)
	fmt.Println(results[1].Outcome == schedule.Succeeded)
	// Output:
	// 2s
	// dewcalc
	// mistplan
	// true
}
