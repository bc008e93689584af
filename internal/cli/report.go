package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/cluster"
	"fernladder/core/diagnose"
	"fernladder/core/host"
	"fernladder/core/problem"
	"fernladder/core/resolve"
	"fernladder/core/session"
	"fernladder/core/source"
	"fernladder/core/tomlfile"
)

// statuses are the exit statuses, by the kind of what went wrong.
var statuses = map[problem.Kind]int{
	"": 0, problem.Build: 1, problem.Other: 1, problem.Usage: 2, problem.Recipe: 3, problem.NoLadder: 4,
	problem.Fetch: 5, problem.Host: 6, problem.Root: 7, problem.Affected: 8, problem.Interrupted: 130,
}

// status returns the exit status for an error, and its kind.
func status(err error) (int, problem.Kind) {
	var demo *demoError
	if errors.As(err, &demo) {
		return demo.status, "demo"
	}
	kind := problem.KindOf(err)
	return statuses[kind], kind
}

// report shows an error and returns the exit status.
func (a *app) report(err error) int {
	code, kind := status(err)
	if left := new(cluster.Left); errors.As(err, &left) {
		a.showLeft(left)
		return code
	}
	if a.session != nil && !is[*alreadyShown](err) {
		err = newHelper(a.session.Machine).with(err)
	}
	switch {
	case err == nil || is[*alreadyShown](err):
	case a.screen.JSON:
		a.reportJSON(err, kind)
	case code == statuses[problem.Interrupted]:
		a.screen.Fail("interrupted\n  All started processes have ended. The same command continues from here.")
	case is[tomlfile.Problems](err):
		var problems tomlfile.Problems
		errors.As(err, &problems)
		fmt.Fprintf(a.screen.Err, "%v\n\n", problems)
		if help := new(helped); errors.As(err, &help) {
			fmt.Fprintf(a.screen.Err, "%s\n\n", strings.Join(help.lines, "\n"))
		}
		a.screen.Fail(mistakes(len(problems)))
	default:
		a.screen.Fail(err.Error())
	}
	return code
}

func (a *app) reportJSON(err error, kind problem.Kind) {
	out := struct {
		Error    problem.Kind          `json:"error"`
		Problem  *problem.Problem      `json:"problem,omitempty"`
		Remedies []problem.Remedy      `json:"remedies,omitempty"`
		Message  string                `json:"message"`
		Problems tomlfile.Problems     `json:"problems,omitempty"`
		Reasons  []resolve.Reason      `json:"reasons,omitempty"`
		Attempts map[string]string     `json:"attempts,omitempty"` // URL to its error
		Log      string                `json:"log,omitempty"`
		Cause    *diagnose.Cause       `json:"cause,omitempty"`
		Advice   []string              `json:"advice,omitempty"`
		Host     []session.HostFinding `json:"host,omitempty"` // what the operating system lacks
	}{Error: kind, Problem: problem.Of(err), Remedies: problem.Remedies(err), Message: err.Error()}
	errors.As(err, &out.Problems)
	var none *resolve.NoLadder
	if errors.As(err, &none) {
		out.Reasons = none.Reasons
	}
	var fetch *source.FetchError
	if errors.As(err, &fetch) {
		out.Attempts = map[string]string{}
		for _, t := range fetch.Attempts {
			out.Attempts[t.URL] = t.Err.Error()
		}
	}
	var lacks *host.Missing
	if errors.As(err, &lacks) {
		var offers map[host.Question]string
		if a.session != nil {
			offers = advice.Offer(lacks, advice.Look(a.session.Machine))
		}
		out.Host = session.FindingsWith(lacks.Needs, offers)
	}
	var failure *build.Failure
	if errors.As(err, &failure) {
		out.Log, out.Cause = failure.Log, failure.Cause
	}
	var help *helped
	if errors.As(err, &help) {
		out.Advice = help.lines
	}
	data, _ := json.Marshal(out) // there is nothing in it that has no JSON form
	fmt.Fprintf(a.screen.Err, "%s\n", data)
}

// alreadyShown is an error whose details the command has shown; it only
// decides the exit status.
type alreadyShown struct{ error }

func (e *alreadyShown) Unwrap() error { return e.error }

func mistakes(n int) string {
	if n == 1 {
		return "1 mistake; nothing was done"
	}
	return fmt.Sprintf("%d mistakes; nothing was done", n)
}
