package machine

import (
	"errors"
	"io/fs"
	"slices"
	"sync"

	"fernladder/core/diagnose"
	"fernladder/core/tomlfile"
)

// causesFile is the name of a shelf's own table of causes.
const causesFile = "causes.toml"

type causes struct {
	once     sync.Once
	table    *diagnose.Table
	problems tomlfile.Problems
}

// Causes is the table of known messages of tools: the tables of the shelves that have one, and
// the program's own. The problems are mistakes in the tables of shelves; a table with mistakes
// is left out.
func (m *Machine) Causes() (*diagnose.Table, tomlfile.Problems) {
	c := &m.causes
	c.once.Do(func() {
		const largest = 64 << 10
		c.table = diagnose.Own()
		for _, file := range slices.Backward(m.Shelves.Tops(causesFile)) { // those of the first shelf come first
			text, err := file.ReadFile(largest)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			table := c.table
			if err == nil {
				table, err = c.table.With(text)
			}
			if err != nil {
				c.problems = append(c.problems, tomlfile.Problem{Position: tomlfile.Position{File: file.Path()},
					Message: err.Error()})
				continue
			}
			c.table = table
		}
	})
	return c.table, c.problems
}
