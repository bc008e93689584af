package draft

import (
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/pattern"
)

// named matches an argument that a source names when it stops.
var named = pattern.New(`--(?:enable|disable|with|without)-[A-Za-z0-9][\w+-]*`)

// pick gives the step one of the arguments between which it wants a choice, as it says when it
// stops: the first for which the shelf has what it takes, then one that the source's own texts
// configure with, then one that does without. It returns nil if none gets the step further.
func (h *hearing) pick(run *heardRun) (*heardRun, error) {
	at := strings.LastIndex(run.Output, "error:")
	if at < 0 {
		return nil, nil
	}
	var shelf, told, without []string
	all := slices.Compact(slices.Sorted(slices.Values(named.FindAllString(run.Output[at:], -1))))
	if len(all) < 2 { // no choice, but a way to do without
		return nil, nil
	}
	for _, arg := range all {
		how, raw, _ := strings.Cut(strings.TrimPrefix(arg, "--"), "-")
		_, _, found := h.known.Find("package", raw)
		switch {
		case !slices.ContainsFunc(h.source.Switches, func(sw buildfile.Switch) bool { return sw.Raw == raw }):
		case how == "without" || how == "disable":
			without = append(without, arg)
		case found:
			shelf = append(shelf, arg)
		case slices.ContainsFunc(h.source.Hints, func(t Hint) bool { return slices.Contains(t.Flags, arg) }):
			told = append(told, arg)
		}
	}
	for _, arg := range slices.Concat(shelf, told, without) {
		args := append(slices.Clone(h.args), arg)
		other, err := h.run(args, h.answers)
		if err != nil {
			return nil, err
		}
		if other.OK || lastError(other.Output) != lastError(run.Output) {
			h.args, h.source.Args = args, append(h.source.Args, arg)
			h.source.open("args", arg, "the source wants a choice of "+strings.Join(all, ", "))
			return other, nil
		}
	}
	return nil, nil
}
