package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each entry of the table does what its example says.
func TestTable(t *testing.T) {
	table := Own()
	for i := range table.rules {
		r := &table.rules[i]
		got, by := table.diagnose(cleaned(r.Example))
		assert.Equal(t, r.Means, described(got), r.Example)
		assert.Same(t, r, by, "%s: %s", r.Match, r.Example)
		assert.NotEmpty(t, needs(r.Match), r.Match)
	}
	for i := range table.marks {
		m := &table.marks[i]
		assert.NotEmpty(t, needs(m.Match), m.Match)
		assert.True(t, m.pattern.MatchString(m.Example), m.Example)
		want := went
		if m.Failed {
			want = failed
		}
		assert.Equal(t, want, table.ending(strings.Split(m.Example, "\n")).how, m.Example)
	}
}

// described is all that a cause says, in one line.
func described(c Cause) string {
	text := string(c.Kind) + ": " + c.String()
	if c.Place != "" {
		text += " (" + c.Place + ")"
	}
	if c.Without != "" {
		text += "; or " + c.Without
	}
	return text
}
