package resolve

import (
	"slices"
	"strings"

	"fernladder/core/problem"
)

// NoLadder is the error for a request that has no ladder.
type NoLadder struct {
	Reasons []Reason
}

func (e *NoLadder) Error() string {
	texts := make([]string, len(e.Reasons))
	for i, r := range e.Reasons {
		texts[i] = r.String()
	}
	return strings.Join(texts, "\n")
}

// A Reason is a conflict in sentences: what is impossible, the sentences that lead to it, and
// ways out. Without any one sentence of the chain, the others would not contradict each other.
type Reason struct {
	Claim   string   `json:"claim"`
	Chain   []string `json:"chain"`
	WaysOut []string `json:"ways_out,omitempty"`
}

// String shows the claim with a line for each sentence below it.
func (r Reason) String() string {
	text := r.Claim
	for _, sentence := range r.Chain {
		text += "\n    " + sentence
	}
	for _, way := range r.WaysOut {
		text += "\n  " + way
	}
	return text
}

// ProblemKind is the kind of the error.
func (e *NoLadder) ProblemKind() problem.Kind { return problem.NoLadder }

// ProblemRemedies are to make a shelf, if there is none.
func (e *NoLadder) ProblemRemedies() []problem.Remedy {
	for _, r := range e.Reasons {
		if slices.Contains(r.WaysOut, noShelf) {
			return []problem.Remedy{problem.Do(problem.MakeFolder)}
		}
	}
	return nil
}

// noShelf is the way out if no shelf is set.
const noShelf = "Name a shelf in the settings, or make a folder to work in."
