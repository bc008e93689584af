package resolve

import (
	"fmt"
	"strings"
)

// NoLadder is the error for a request that no ladder fits.
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

// A Reason is a conflict in sentences: what cannot be, the sentences that lead
// to it, and ways out. If any sentence of the chain did not hold, the others
// would not contradict each other.
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

// BadSetting is the error for an option that cannot be set as it was asked.
type BadSetting struct {
	Setting Setting
	Reason  string
}

func (e *BadSetting) Error() string {
	if e.Setting.At.Line > 0 {
		return fmt.Sprintf("%s (%s)", e.Reason, e.Setting.At)
	}
	return e.Reason
}
