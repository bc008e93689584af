// Package problem describes what went wrong as data: a kind that callers decide on, the
// subject, the place, what was expected and found, and the remedies.
//
// A program that uses the core asks KindOf for the kind of any error. Errors that carry
// data of their own have the method ProblemKind; all others are a *Problem.
package problem

import (
	"context"
	"errors"
	"fmt"
)

// A Kind is what a caller decides on; exit statuses follow from it.
type Kind string

// The kinds.
const (
	Usage       Kind = "usage"     // the request makes no sense
	Recipe      Kind = "recipe"    // a recipe or settings file is wrong
	NoLadder    Kind = "no_ladder" // no ladder or landing fits the request
	Fetch       Kind = "fetch"     // fetching or verifying failed
	Host        Kind = "host"      // the machine lacks something
	Root        Kind = "root"      // the root is damaged or in use
	Build       Kind = "build"     // a build, check or try failed
	Affected    Kind = "affected"  // builds have published holes
	Interrupted Kind = "interrupted"
	Other       Kind = "other"
)

// A Code identifies one problem among others of its kind, for callers that treat it in a
// special way. It is an error, so that errors.Is(err, code) finds a Problem with it.
type Code string

func (c Code) Error() string { return string(c) }

// Verdict is the code of a problem that the report of the operation fully shows, such as
// findings of a check.
const Verdict Code = "verdict"

// A Place is where a problem is. Any part can be missing.
type Place struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`   // from 1
	Column int    `json:"column,omitempty"` // in bytes, from 1
	URL    string `json:"url,omitempty"`
	Log    string `json:"log,omitempty"`
}

// An Action is an operation that would help. How a person starts it is up to the interface.
type Action string

// A Remedy is what would help: an operation and what it is given.
type Remedy struct {
	Action Action   `json:"action"`
	Args   []string `json:"args,omitempty"`
}

// Do returns a remedy.
func Do(a Action, args ...string) Remedy { return Remedy{a, args} }

// A Problem is an error as data.
type Problem struct {
	Kind     Kind     `json:"kind"`
	Code     Code     `json:"code,omitempty"`
	Subject  string   `json:"subject,omitempty"` // the package, build, file or setting that it is about
	Place    Place    `json:"place,omitzero"`
	Message  string   `json:"message"`
	Expected string   `json:"expected,omitempty"`
	Found    string   `json:"found,omitempty"`
	Remedies []Remedy `json:"remedies,omitempty"`
}

// New returns a problem with a message.
func New(k Kind, subject, format string, args ...any) *Problem {
	return &Problem{Kind: k, Subject: subject, Message: fmt.Sprintf(format, args...)}
}

// Coded sets the code.
func (p *Problem) Coded(c Code) *Problem { p.Code = c; return p }

// At sets the place.
func (p *Problem) At(place Place) *Problem { p.Place = place; return p }

// Instead sets what was expected and found.
func (p *Problem) Instead(expected, found string) *Problem {
	p.Expected, p.Found = expected, found
	return p
}

// Remedy adds a remedy.
func (p *Problem) Remedy(a Action, args ...string) *Problem {
	p.Remedies = append(p.Remedies, Do(a, args...))
	return p
}

// Error is the message.
func (p *Problem) Error() string { return p.Message }

// Is reports whether the target is the problem's code.
func (p *Problem) Is(target error) bool {
	code, is := target.(Code)
	return is && code != "" && code == p.Code
}

// ProblemKind is the kind.
func (p *Problem) ProblemKind() Kind { return p.Kind }

// KindOf is the kind of the outermost error in the chain that has one; Other without one,
// and "" for nil.
func KindOf(err error) Kind {
	var kinded interface{ ProblemKind() Kind }
	switch {
	case err == nil:
		return ""
	case errors.As(err, &kinded) && (kinded.ProblemKind() == "" || !errors.Is(err, context.Canceled)):
		return kinded.ProblemKind()
	case errors.Is(err, context.Canceled):
		return Interrupted
	}
	return Other
}

// Of is the problem in the chain, or nil.
func Of(err error) *Problem {
	var p *Problem
	errors.As(err, &p)
	return p
}

// Remedies are those of the first error in the chain that has any.
func Remedies(err error) []Remedy {
	var remedied interface{ ProblemRemedies() []Remedy }
	if errors.As(err, &remedied) {
		return remedied.ProblemRemedies()
	}
	return nil
}

// ProblemRemedies are the remedies.
func (p *Problem) ProblemRemedies() []Remedy { return p.Remedies }
