package cluster

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func piece(length time.Duration, needs ...int) Piece {
	return Piece{Needs: needs, Length: length, Width: 1, Size: Size{Processors: 2, Memory: 100, Minutes: 10}}
}

// For any ladder: every piece is in one group, groups never wait for each other, unmeasured
// pieces are alone, and grouping is never slower than not grouping.
func TestGroups(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var pieces []Piece
		for i := range rapid.IntRange(1, 40).Draw(t, "pieces") {
			p := piece(time.Duration(rapid.SampledFrom([]int{0, 10, 300, 1000, 4000, 60000}).Draw(t, "ms")) * time.Millisecond)
			for n := range i {
				if rapid.IntRange(0, 5).Draw(t, "need") == 0 {
					p.Needs = append(p.Needs, n)
				}
			}
			pieces = append(pieces, p)
		}
		latency, room := 2*time.Second, rapid.IntRange(0, 8).Draw(t, "room")
		groups := Groups(pieces, latency, room)
		of := map[int]int{}
		lanes := map[int]bool{}
		for g, group := range groups {
			lanes[group.Lane] = true
			for _, p := range group.Pieces {
				_, twice := of[p]
				assert.False(t, twice)
				of[p] = g
				assert.True(t, pieces[p].Length > 0 || len(group.Pieces) == 1)
			}
		}
		assert.Len(t, of, len(pieces))
		assert.True(t, room == 0 || len(lanes) <= room)
		for i, p := range pieces {
			for _, n := range p.Needs {
				assert.LessOrEqual(t, of[n], of[i], "the order is one in which they can be submitted")
				assert.True(t, of[n] == of[i] || slices.Contains(groups[of[i]].After, of[n]))
			}
		}
		alone, takes := arranged(cut(pieces, along(pieces), 0), latency, room)
		assert.Len(t, alone, len(pieces))
		assert.LessOrEqual(t, Makespan(groups, latency, room), takes)
	})
}

// A chain of small packages becomes one job; a wide and long ladder does not.
func TestWhatIsPutTogether(t *testing.T) {
	var chain, wide []Piece
	for i := range 10 {
		chain = append(chain, piece(100*time.Millisecond, slices.Repeat([]int{i - 1}, min(i, 1))...))
		wide = append(wide, piece(time.Hour))
	}
	assert.Len(t, Groups(chain, time.Second, 0), 1)
	assert.Len(t, Groups(wide, time.Second, 0), 10)
	assert.Len(t, Groups(append(wide, piece(100*time.Millisecond, 9)), time.Second, 0), 10,
		"what is small goes along with what it alone stands on")
	for i := range 3 {
		wide[i] = piece(100 * time.Millisecond)
	}
	groups := Groups(wide, time.Second, 2)
	assert.LessOrEqual(t, len(groups), 8)
	assert.Equal(t, Size{Processors: 2, Memory: 100, Minutes: 10}, groups[len(groups)-1].Size)
}

// The cost of a job counts from when it could have begun, and not while all nodes are busy.
func TestLatency(t *testing.T) {
	at := func(seconds float64) time.Time {
		return time.Unix(1000, 0).Add(time.Duration(seconds * float64(time.Second)))
	}
	none := time.Time{}
	assert.Zero(t, latency([]span{{none, at(0), at(5), time.Second}}), "nothing has waited")
	assert.Equal(t, 2*time.Second,
		latency([]span{{none, at(0), at(5), 0}, {at(5), at(7), at(9), 0}, {at(9), at(11), at(12), 0}}), "a chain")
	assert.Equal(t, time.Second,
		latency([]span{{none, at(0), at(5), 0}, {none, at(0), at(5), 0}, {none, at(6), at(8), 0}, {none, at(6), at(9), 0},
			{at(5), at(9), at(11), 0}}),
		"two at once, and one that was ready long before there was room")
	assert.Equal(t, 3*time.Second, latency([]span{{none, at(0), at(5), time.Hour}, {at(5), at(7), at(9), time.Second}}))
}
