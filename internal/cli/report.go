package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/clean"
	"fernladder/core/cluster"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/tomlfile"

	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/sandbox"
	"fernladder/core/settings"
	"fernladder/core/source"
	"fernladder/core/store"
	"fernladder/core/tinker"
	"fernladder/core/upstream"
)

// The exit statuses.
const (
	statusDone        = 0
	statusBuild       = 1
	statusUsage       = 2
	statusRecipe      = 3
	statusNoLadder    = 4
	statusFetch       = 5
	statusHost        = 6
	statusRoot        = 7
	statusInterrupted = 130
)

// status returns the exit status for an error, and its name in JSON.
func status(err error) (int, string) {
	var demo *demoError
	var failure *build.Failure
	var left *cluster.Left
	switch {
	case err == nil, errors.As(err, &left) && left.Detached:
		return statusDone, ""
	case left != nil:
		return statusInterrupted, "interrupted"
	case errors.As(err, &demo):
		return demo.status, "demo"
	case errors.Is(err, context.Canceled):
		return statusInterrupted, "interrupted"
	case is[*usageError](err), is[*resolve.BadSetting](err), is[*plan.BadAsk](err), is[*build.BadPrefix](err), is[*build.SystemPrefix](err), is[*cluster.Unset](err), is[*cluster.NoRun](err), is[*plan.NothingAsked](err), is[*plan.NothingLocked](err), is[*plan.NotPinned](err),
		is[*landing.BadName](err), is[*clean.Needed](err), is[*clean.Runs](err), is[*upstream.Unannounced](err), is[*upstream.Known](err), is[*upstream.NoURL](err),
		is[*machine.BadRoot](err), is[*landing.Gone](err), is[*tinker.None](err), is[*tinker.Busy](err), is[*tinker.Occupied](err), is[*tinker.Unchanged](err), is[*tinker.BadPatch](err), errors.Is(err, landing.ErrNothingBefore), is[*draft.BadSource](err), is[*machine.LessThanAccepted](err), is[*build.NoWork](err):
		return statusUsage, "usage"
	case is[tomlfile.Problems](err), is[*settings.Foreign](err), is[*landing.BadShared](err), is[*install.StillOpen](err):
		return statusRecipe, "recipe"
	case is[*resolve.NoLadder](err), is[*recipe.NotFound](err), is[*landing.Conflict](err), is[*landing.Clash](err), is[*landing.Lost](err), is[*lock.Differs](err), is[*cluster.Changed](err):
		return statusNoLadder, "no_ladder"
	case is[*source.FetchError](err), is[*source.UnpackError](err), is[*source.RepositoryError](err), is[source.MissingSupplies](err), is[source.NotHere](err), is[*source.WrongSupply](err):
		return statusFetch, "fetch"
	case is[*host.Missing](err), is[*machine.WeakIsolation](err), is[*cluster.Unlike](err), is[*cluster.Absent](err), is[*cluster.Refused](err), is[*cluster.Silent](err), is[*machine.NoGroup](err), is[*sandbox.UsersError](err), is[*sandbox.Closed](err), errors.Is(err, build.ErrNotSealed), errors.Is(err, build.ErrNotWatched), errors.Is(err, build.ErrPrefixNotSealed):
		return statusHost, "host"
	case is[*Unsound](err):
		var unsound *Unsound
		errors.As(err, &unsound)
		if !unsound.Root {
			return statusHost, "host"
		}
		return statusRoot, "root"
	case is[*store.Error](err), is[*cluster.Late](err), is[*cluster.Followed](err), is[*cluster.OfAnother](err), errors.As(err, &failure) && failure.DiskFull:
		return statusRoot, "root"
	case is[*build.Failure](err), is[*cluster.Ended](err), is[*build.Edited](err), is[*install.Edited](err), is[*tryError](err), is[*landing.NotBuilt](err):
		return statusBuild, "build"
	}
	return statusBuild, "other"
}

// report shows an error and returns the exit status.
func (a *app) report(err error) int {
	code, kind := status(err)
	if left := new(cluster.Left); errors.As(err, &left) {
		a.showLeft(left)
		return code
	}
	if a.machine != nil && !is[*alreadyShown](err) {
		err = newHelper(a.machine).with(err)
	}
	switch {
	case err == nil || is[*alreadyShown](err):
	case a.screen.JSON:
		a.reportJSON(err, kind)
	case code == statusInterrupted:
		a.screen.Fail("interrupted\n  Everything that was started has been ended. The same command goes on from here.")
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

func (a *app) reportJSON(err error, kind string) {
	out := struct {
		Error    string            `json:"error"`
		Message  string            `json:"message"`
		Problems tomlfile.Problems `json:"problems,omitempty"`
		Reasons  []resolve.Reason  `json:"reasons,omitempty"`
		Attempts map[string]string `json:"attempts,omitempty"` // URL to what went wrong
		Log      string            `json:"log,omitempty"`
		Cause    *diagnose.Cause   `json:"cause,omitempty"`
		Advice   []string          `json:"advice,omitempty"`
		Host     []hostFinding     `json:"host,omitempty"` // what the operating system lacks
	}{Error: kind, Message: err.Error()}
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
		if a.machine != nil {
			offers = advice.Offer(lacks, advice.Look(a.machine))
		}
		out.Host = hostFindings(lacks.Needs, offers)
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
