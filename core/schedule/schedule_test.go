package schedule

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Random graphs: nothing runs before its needs, no more run at once than there are slots, and a
// failure stops exactly its dependents.
func TestRunKeepsOrderAndSlots(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "tasks")
		slots := NewSlots(rapid.IntRange(1, 3).Draw(t, "slots"))
		var lock sync.Mutex
		done, running := map[int]bool{}, 0
		tasks := make([]Task, n)
		doomed := make([]bool, n)
		fails := make([]bool, n)
		for i := range tasks {
			fails[i] = rapid.IntRange(0, 5).Draw(t, "fails") == 0
			for j := range i {
				if rapid.IntRange(0, 2).Draw(t, "needs") == 0 {
					tasks[i].Needs = append(tasks[i].Needs, j)
					doomed[i] = doomed[i] || fails[j] || doomed[j]
				}
			}
			tasks[i].Slot = rapid.Bool().Draw(t, "slot")
			tasks[i].Run = func(context.Context) error {
				lock.Lock()
				defer lock.Unlock()
				for _, need := range tasks[i].Needs {
					assert.True(t, done[need])
				}
				if tasks[i].Slot {
					running++
					assert.LessOrEqual(t, running, slots.Number())
					lock.Unlock()
					time.Sleep(100 * time.Microsecond)
					lock.Lock()
					running--
				}
				done[i] = true
				if fails[i] {
					return errors.New("fails")
				}
				return nil
			}
		}
		for i, r := range Run(context.Background(), slots, tasks) {
			want := Succeeded
			switch {
			case doomed[i]:
				want = Skipped
				assert.True(t, fails[r.Because] && r.Because < i)
			case fails[i]:
				want = Failed
			}
			assert.Equal(t, want, r.Outcome)
		}
		assert.Equal(t, slots.Number(), slots.Lease(100), "every slot is given back")
	})
}

func TestLongestPathGoesFirst(t *testing.T) {
	slots := NewSlots(1)
	var order []string
	task := func(name string, length int, needs ...int) Task {
		return Task{Name: name, Length: time.Duration(length) * time.Minute, Needs: needs, Slot: true,
			Run: func(context.Context) error { order = append(order, name); return nil }}
	}
	Run(context.Background(), slots, []Task{task("short", 1), task("base", 2), task("long", 4), task("top", 5, 1),
		task("unknown", 0)})
	assert.Equal(t, []string{"base", "top", "long", "unknown", "short"}, order)
}

func TestRunEndsWithItsContext(t *testing.T) {
	slots := NewSlots(1)
	ctx, cancel := context.WithCancel(context.Background())
	tasks := []Task{
		{Slot: true, Length: time.Hour, Run: func(ctx context.Context) error { cancel(); <-ctx.Done(); return ctx.Err() }},
		{Slot: true, Length: 1, Run: func(context.Context) error { return nil }},
		{Slot: true, Length: 1, Needs: []int{1}, Run: func(context.Context) error { return nil }},
	}
	results := Run(ctx, slots, tasks)
	assert.Equal(t, []Outcome{Failed, NotRun, NotRun},
		[]Outcome{results[0].Outcome, results[1].Outcome, results[2].Outcome})
}

// Real makes share the slots: two of them, each with many jobs, never run more jobs at once than
// there are slots.
func TestMakeTakesSlotsFromThePool(t *testing.T) {
	const number = 3
	slots := NewSlots(number)
	dir := t.TempDir()
	text := "all:"
	for i := range 8 {
		text += fmt.Sprintf(" j%d", i)
	}
	// Each job writes how many others are running, which is the number of files there.
	text += "\nj%:\n\ttouch at-$$$$; ls | grep -c ^at- >>counts; sleep 0.05; rm at-$$$$\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "Makefile"), []byte(text), 0o644))
	var wait sync.WaitGroup
	for range 2 {
		require.NoError(t, slots.Acquire(context.Background()))
		wait.Go(func() {
			defer slots.Release()
			line, err := slots.Line(context.Background(), "")
			assert.NoError(t, err)
			defer line.Close()
			c := exec.Command("make", "-s")
			c.Dir, c.ExtraFiles = dir, line.Inherited()
			c.Env = append(os.Environ(), "MAKEFLAGS="+line.MakeFlags())
			out, err := c.CombinedOutput()
			assert.NoError(t, err, string(out))
			assert.Empty(t, string(out), "make has nothing to complain of")
		})
	}
	wait.Wait()
	data, err := os.ReadFile(filepath.Join(dir, "counts"))
	require.NoError(t, err)
	counts := strings.Fields(string(data))
	assert.Len(t, counts, 16)
	assert.LessOrEqual(t, slices.Max(counts), fmt.Sprint(number))
	assert.Greater(t, slices.Max(counts), "1", "they do run side by side")
	assert.Equal(t, number, slots.Lease(100), "and give everything back")
}

func TestAcquireWaitsAndGivesUp(t *testing.T) {
	slots := NewSlots(1)
	require.NoError(t, slots.Acquire(context.Background()))
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, slots.Acquire(ctx), context.DeadlineExceeded)
	assert.Zero(t, slots.Lease(1))
	time.AfterFunc(10*time.Millisecond, slots.Release)
	assert.NoError(t, slots.Acquire(context.Background()))
}

// Forecasts respect the bounds: no less than the longest path and all work shared evenly, and
// exactly that in simple cases.
func TestForecast(t *testing.T) {
	second := func(n float64) time.Duration { return time.Duration(n * float64(time.Second)) }
	for _, c := range []struct {
		name  string
		slots int
		tasks []Task
		takes float64
	}{
		{"nothing", 2, nil, 0},
		{"one after another", 2, []Task{{Length: second(3), Slot: true}, {Length: second(4), Slot: true, Needs: []int{0}}},
			7},
		{"side by side", 2, []Task{{Length: second(3), Slot: true}, {Length: second(4), Slot: true}}, 4},
		{"more than slots", 1, []Task{{Length: second(3), Slot: true}, {Length: second(4), Slot: true}}, 7},
		{"two that could each use both", 2,
			[]Task{{Length: second(3), Width: 2, Slot: true}, {Length: second(3), Width: 2, Slot: true}}, 6},
		{"a narrow one leaves the rest to a wide one", 4,
			[]Task{{Length: second(6), Width: 1, Slot: true}, {Length: second(4), Width: 3, Slot: true}}, 6},
		{"fetches take no time", 2, []Task{{Length: second(9)}, {Length: second(4), Slot: true, Needs: []int{0}}}, 4},
		{"the long way goes first", 1, []Task{{Length: second(1), Slot: true}, {Length: second(1), Slot: true},
			{Length: second(5), Slot: true, Needs: []int{1}}}, 7},
	} {
		takes, _ := Forecast(c.tasks, c.slots)
		assert.InDelta(t, c.takes, takes.Seconds(), 0.001, c.name)
	}
	rapid.Check(t, func(t *rapid.T) {
		slots := rapid.IntRange(1, 8).Draw(t, "slots")
		tasks := make([]Task, rapid.IntRange(1, 10).Draw(t, "tasks"))
		longest := make([]time.Duration, len(tasks))
		var path, work time.Duration
		for i := range tasks {
			tasks[i] = Task{Length: second(rapid.Float64Range(0.1, 9).Draw(t, "length")), Width: rapid.Float64Range(1, 4).
				Draw(t, "width"), Slot: true}
			for j := range i {
				if rapid.IntRange(0, 3).Draw(t, "needs") == 0 {
					tasks[i].Needs = append(tasks[i].Needs, j)
					longest[i] = max(longest[i], longest[j])
				}
			}
			longest[i] += tasks[i].Length
			path = max(path, longest[i])
			work += second(tasks[i].Length.Seconds() * tasks[i].Width)
		}
		takes, busy := Forecast(tasks, slots)
		assert.InDelta(t, work.Seconds(), busy.Seconds(), 0.001)
		assert.GreaterOrEqual(t, ForecastUnknown(tasks, slots).Seconds(), path.Seconds()-0.001)
		assert.GreaterOrEqual(t, takes.Seconds(), max(path.Seconds(), work.Seconds()/float64(slots))-0.001)
		assert.LessOrEqual(t, takes.Seconds(), work.Seconds()+path.Seconds())
	})
}

// Slots that a killed build has not returned are free when its line is closed; and a build does
// not keep slots that another waits for.
func TestSlotsComeBack(t *testing.T) {
	for _, name := range []string{"", "pipe"} {
		path := name
		if name != "" {
			path = filepath.Join(t.TempDir(), name)
		}
		slots := NewSlots(4)
		line, err := slots.Line(context.Background(), path)
		require.NoError(t, err)
		c := exec.Command("sh", "-c", "head -c 3 <&3 >/dev/null; kill -9 $$")
		if c.ExtraFiles = line.Inherited(); name != "" {
			c = exec.Command("sh", "-c", "head -c 3 '"+path+"' >/dev/null; kill -9 $$")
		}
		assert.Error(t, c.Run())
		assert.Zero(t, slots.Lease(4), "they are taken or on offer")
		other, err := slots.Line(context.Background(), "")
		require.NoError(t, err)
		assert.Eventually(t, func() bool {
			return other.offered() == 1
		}, time.Second, time.Millisecond, "the one that is on offer and not wanted")
		require.NoError(t, line.Close())
		assert.Eventually(t, func() bool {
			return other.offered() == 1 && slots.Lease(4) == 3
		}, time.Second, time.Millisecond)
		require.NoError(t, other.Close())
		assert.Equal(t, 1, slots.Lease(4))
		assert.Equal(t, map[bool]string{true: " -j4 --jobserver-auth=3,4", false: " -j4 --jobserver-auth=fifo:" +
			path}[name == ""], line.MakeFlags())
	}
}

// A held task waits while others run, and never if none does.
func TestHeldBack(t *testing.T) {
	var asked atomic.Int32
	running := make(chan bool)
	hold := func() bool {
		if asked.Add(1) == 2 {
			close(running)
		}
		return true
	}
	results := Run(context.Background(), NewSlots(2), []Task{
		{Slot: true, Length: 2, Hold: hold, Run: func(context.Context) error { <-running; return nil }},
		{Slot: true, Length: 1, Hold: hold, Run: func(context.Context) error { return nil }},
	})
	assert.Equal(t, []Outcome{Succeeded, Succeeded}, []Outcome{results[0].Outcome, results[1].Outcome})
}

// While one task waits for others to end, later tasks go first.
func TestWhoIsHeldBackHoldsNobodyUp(t *testing.T) {
	smallRan := make(chan bool)
	var over atomic.Bool
	results := Run(context.Background(), NewSlots(2), []Task{
		{Slot: true, Length: 3, Run: func(context.Context) error { <-smallRan; over.Store(true); return nil }},
		{Slot: true, Length: 2, Hold: func() bool { return !over.Load() }, Run: func(context.Context) error { return nil }},
		{Slot: true, Length: 1, Run: func(context.Context) error { close(smallRan); return nil }},
	})
	for _, r := range results {
		assert.Equal(t, Succeeded, r.Outcome)
	}
}

// A build that fills its own pipe, or returns slots it never had, delays no other build and
// creates no slots.
func TestALineThatIsAbused(t *testing.T) {
	s := NewSlots(4)
	require.NoError(t, s.Acquire(context.Background()))
	line, err := s.Line(context.Background(), "")
	require.NoError(t, err)
	require.NoError(t, syscall.SetNonblock(int(line.write.Fd()), true))
	for {
		if _, err := syscall.Write(int(line.write.Fd()), make([]byte, 4096)); err != nil {
			break
		}
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 20 {
			other, err := s.Line(context.Background(), "")
			assert.NoError(t, err)
			time.Sleep(5 * time.Millisecond)
			assert.NoError(t, other.Close())
		}
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("the pool stands still")
	}
	require.NoError(t, line.Close())
	s.Release()
	assert.Equal(t, 4, s.Lease(100), "as many as there were")
}

// A build that begins later and that everything waits for gets the slots of one that is less
// urgent, although that one always wants them.
func TestUrgentBuildsGetTheSlots(t *testing.T) {
	slots := NewSlots(8)
	work := func(urgency time.Duration, jobs int) (done func()) {
		dir := t.TempDir()
		text := "all:"
		for i := range jobs {
			text += fmt.Sprintf(" j%d", i)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "Makefile"), []byte(text+"\nj%:\n\t@sleep 0.02\n"), 0o644))
		ctx := withUrgency(context.Background(), decreasing(urgency, 0))
		require.NoError(t, slots.Acquire(ctx))
		line, err := slots.Line(ctx, "")
		require.NoError(t, err)
		c := exec.Command("make", "-s")
		c.Dir, c.ExtraFiles, c.Env = dir, line.Inherited(), append(os.Environ(), "MAKEFLAGS="+line.MakeFlags())
		require.NoError(t, c.Start())
		return func() {
			assert.NoError(t, c.Wait())
			assert.NoError(t, line.Close())
			slots.Release()
		}
	}
	given := func(line int) int {
		slots.lock.Lock()
		defer slots.lock.Unlock()
		return slots.lines[line].given
	}
	first := work(time.Second, 400)
	require.Eventually(t, func() bool { return given(0) == 7 }, 5*time.Second, time.Millisecond)
	done := work(time.Minute, 400)
	assert.Eventually(t, func() bool { return given(1) >= 5 && given(0) <= 1 }, 5*time.Second, time.Millisecond)
	done()
	first()
}
