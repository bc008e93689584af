package timeline

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/event"
)

// clock is one that a test moves.
type clock struct{ time.Time }

func (c *clock) now() time.Time { return c.Time }
func (c *clock) at(seconds float64) {
	c.Time = start.Add(time.Duration(seconds * float64(time.Second)))
}
func stage(name string) (s event.Event) { return event.Event{Package: name, Version: "1", ID: name} }

var start = time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)

// What a run is recorded as: downloads, stages with their processor time, how each build ended,
// and what an interrupted run leaves.
func TestRecord(t *testing.T) {
	c := &clock{start}
	used := 0
	r := Record(Run{Slots: 2, Expected: 9, Builds: []Build{{Name: "moss", Version: "1", ID: "moss"},
		{Name: "fern", Version: "1", ID: "fern", Needs: []int{0}}, {Name: "leaf", Version: "1", ID: "leaf", Needs: []int{1}}}},
		c.now, func() int { return used })
	tell := func(at float64, e event.Event, kind event.Kind, change ...func(*event.Event)) {
		c.at(at)
		e.Kind = kind
		for _, f := range change {
			f(&e)
		}
		r.Event(e)
	}
	on := func(s string) func(*event.Event) { return func(e *event.Event) { e.Stage = s } }
	tell(0, event.Event{Package: "moss", Version: "1"}, event.FetchBegan)
	tell(1, event.Event{Package: "moss", Version: "1"}, event.FetchEnded)
	used = 2
	tell(1, stage("moss"), event.StageBegan, on("compile"))
	tell(5, stage("moss"), event.StageEnded, on("compile"), func(e *event.Event) {
		e.Elapsed, e.CPU, e.Node = 4*time.Second, 6*time.Second, "node7"
	})
	tell(5, stage("moss"), event.PackageDone)
	tell(6, stage("fern"), event.StageBegan, on("configure"))
	tell(8, stage("fern"), event.PackageFailed)
	tell(8, stage("leaf"), event.PackageSkipped, func(e *event.Event) { e.Text = "fern" })
	tell(8, stage("other"), event.StageBegan, on("compile"))
	c.at(9)
	run := r.Ended(false)
	assert.Equal(t, &Run{Began: start, Seconds: 9, Slots: 2, Expected: 9, Builds: []Build{
		{Name: "moss", Version: "1", ID: "moss", Node: "node7", Outcome: Built,
			Spans: []Span{{Fetch, 0, 1, 0}, {"compile", 1, 5, 6}}},
		{Name: "fern", Version: "1", ID: "fern", Needs: []int{0}, Outcome: Failed, Spans: []Span{{"configure", 6, 8, 0}}},
		{Name: "leaf", Version: "1", ID: "leaf", Needs: []int{1}, Outcome: Skipped, Because: "fern"},
	}, InUse: []Level{{0, 0}, {5, 2}}}, run)
	text, err := json.Marshal(run)
	require.NoError(t, err)
	var again Run
	require.NoError(t, json.Unmarshal(text, &again))
	assert.Equal(t, *run, again)
	assert.NotContains(t, string(text), `"id"`, "a line of the history with it would be a build")

	assert.Equal(t, []Step{{Build: 0, Waited: 1}, {Build: 1, Waited: 1}}, run.Path())
	assert.Equal(t, []Cause{{IdleBetween, 4}, {"configure", 4}, {"compile", 2}, {IdleFetching, 2}}, run.Idle())
	total := 0.0
	for _, cause := range run.Idle() {
		total += cause.Seconds
	}
	assert.InDelta(t, 9*2-6, total, 0.01, "idle and busy time are all there is")
}

// A build that needs nothing of the one before it waited for its slot.
func TestPathThroughASlot(t *testing.T) {
	at := func(from, to float64) []Span { return []Span{{"compile", from, to, to - from}} }
	r := &Run{Slots: 1, Seconds: 9, Builds: []Build{{Name: "a", Spans: at(0, 4)}, {Name: "b", Spans: at(4, 6)},
		{Name: "c", Needs: []int{0}, Spans: at(6, 9)}}}
	assert.Equal(t, []Step{{Build: 0}, {Build: 1, Slot: true}, {Build: 2, Slot: true}}, r.Path())
}

// Of very many builds, the longest are kept, with their needs, and the slots are read seldom.
func TestLongRuns(t *testing.T) {
	var run Run
	for i := range 5000 {
		b := Build{Name: "x", Spans: []Span{{"compile", 0, float64(i % 2500), 0}}}
		if i > 0 {
			b.Needs = []int{i - 1}
		}
		run.Builds = append(run.Builds, b)
	}
	run.keepLongest(2000)
	assert.Len(t, run.Builds, 2000)
	assert.Equal(t, 3000, run.Unlisted)
	for i, b := range run.Builds {
		for _, n := range b.Needs {
			assert.Less(t, n, i)
		}
	}
	c := &clock{start}
	n := 0
	r := Record(Run{Slots: 4}, c.now, func() int { n++; return n % 3 })
	for i := range 100_000 {
		c.at(float64(i))
		r.Read()
	}
	assert.LessOrEqual(t, len(r.Ended(false).InUse), most)
}

// Whatever times say, also with a clock that jumps, the path ends and no time is negative.
func TestAnyTimes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := &Run{Slots: rapid.IntRange(0, 8).Draw(t, "slots"), Seconds: rapid.Float64Range(0, 100).Draw(t, "seconds")}
		for i := range rapid.IntRange(0, 12).Draw(t, "builds") {
			b := Build{Name: "x"}
			for range rapid.IntRange(0, 3).Draw(t, "spans") {
				b.Spans = append(b.Spans, Span{"compile", rapid.Float64Range(-10, 100).Draw(t, "from"),
					rapid.Float64Range(-10, 100).Draw(t, "to"), rapid.Float64Range(0, 50).Draw(t, "cpu")})
			}
			if i > 0 {
				b.Needs = []int{rapid.IntRange(0, i-1).Draw(t, "need")}
			}
			r.Builds = append(r.Builds, b)
		}
		assert.LessOrEqual(t, len(r.Path()), len(r.Builds)+1)
		for _, c := range r.Idle() {
			assert.GreaterOrEqual(t, c.Seconds, 0.0)
		}
		for _, l := range r.Load() {
			assert.GreaterOrEqual(t, l.Processors, 0.0)
		}
	})
}

// A run that was read is not believed blindly.
func TestValid(t *testing.T) {
	for name, r := range map[string]Run{
		"needs itself":    {Builds: []Build{{Needs: []int{0}}}},
		"needs no build":  {Builds: []Build{{}, {Needs: []int{7}}}},
		"ends before":     {Builds: []Build{{Spans: []Span{{"compile", 2, 1, 0}}}}},
		"negative":        {Seconds: -1},
		"longer than all": {Seconds: 1e300},
	} {
		assert.False(t, r.Valid(), name)
	}
	assert.True(t, (&Run{Seconds: 9, Builds: []Build{{Spans: []Span{{"compile", 0, 1, 2}}}, {Needs: []int{0}}}}).Valid())
}
