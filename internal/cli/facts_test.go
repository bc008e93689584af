package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Every command says what it reads and changes, and is related to commands that exist; no word is
// defined twice.
func TestEveryCommandHasItsFacts(t *testing.T) {
	root := Command()
	names := map[string]bool{"help": true, "completion": true}
	for _, c := range root.Commands() {
		names[c.Name()] = true
	}
	all := commandFacts()
	for _, c := range root.Commands() {
		if c.Hidden || c.Name() == "help" || c.Name() == "completion" {
			continue
		}
		assert.Contains(t, all, c.Name())
		assert.Contains(t, c.Long, "See also:", c.Name())
		assert.NotEmpty(t, c.Example, c.Name())
		for _, related := range all[c.Name()].related {
			assert.True(t, names[related], "%s is related to %s", c.Name(), related)
		}
		for _, s := range all[c.Name()].statuses {
			assert.Contains(t, statusWords, s, c.Name())
		}
	}
	for name := range all {
		assert.True(t, names[name], "%s is not a command", name)
	}
	seen := map[string]bool{}
	for _, w := range glossary() {
		for _, name := range w.names {
			assert.False(t, seen[name], name)
			seen[name] = true
		}
	}
}
