package build

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fernladder/core/inspect"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// journal is the record of a build in its work directory. It belongs to one build id, so what it
// was made from cannot have changed. No build can write it.
type journal struct {
	Build   store.Ref                 `json:"build"`
	Done    []string                  `json:"done"`    // stages, in order
	Running string                    `json:"running"` // the running stage; its output may be half-written
	Boot    string                    `json:"boot"`    // the start of the machine since which it is under way
	Newest  time.Time                 `json:"newest"`
	Sources []store.Source            `json:"sources"` // as they came
	Seconds map[string]float64        `json:"seconds"`
	CPU     map[string]float64        `json:"cpu_seconds"`
	Inputs  map[string]string         `json:"inputs"` // of the stages that are done
	Pure    bool                      `json:"pure"`   // the source is as it was unpacked and patched
	Options map[string]string         `json:"options"`
	Recipe  string                    `json:"recipe_sha256"`     // the digest of its file
	Remarks []inspect.Remark          `json:"remarks,omitempty"` // about the placed files
	Early   map[string]inspect.Remark `json:"early,omitempty"`   // on stages before that, by their names
	Used    *Used                     `json:"used,omitempty"`    // of the operating system
	User    sandbox.User              `json:"user,omitzero"`     // the owner of the box
	Given   []store.Owned             `json:"given,omitempty"`   // to others, by the installer
	// What the source reported to be configured with and without.
	Features []store.Feature `json:"features,omitempty"`
	Cached   store.Cached    `json:"compile_cache,omitzero"`
	Whole    bool            `json:"whole,omitempty"`    // it failed while it skipped what is not placed
	NotBare  string          `json:"not_bare,omitempty"` // why the build has seen all of the operating system
	Runs     []string        `json:"runs"`               // the isolation of each run that something is left of

	// Of the source as unpacked and patched, if building leaves it unchanged.
	SourceStamp string    `json:"source_stamp,omitempty"`
	Stamp       string    `json:"stamp,omitempty"` // of the last run's leftovers, if it ended in order
	Stamped     time.Time `json:"stamped,omitzero"`
	Edited      bool      `json:"edited,omitempty"` // it was changed by hand since, and is to be built so
}

// journalFile is the journal's name in a work directory.
const journalFile = "journal.json"

// invalidateInterrupted invalidates stages whose results may be incomplete. A run that ended in
// an orderly way leaves only half-applied patches. A run that was killed may leave truncated
// object files, which make does not notice. ninja does: it logs what is finished and makes the
// rest again; unless the machine stopped, because the log may have reached the disk and the file
// may not. Tries change nothing. inSource says that the build works in the source, patched that
// there are patches, logged that only ninja compiles; boot identifies this start of the machine.
func (j *journal) invalidateInterrupted(inSource, patched, logged bool, boot string) {
	halfPatched := patched && !j.done(StagePatch)
	switch {
	case (j.Running == "" || j.Running == StageTry) && !halfPatched:
	case j.Running == StageCompile && logged && boot != "" && j.Boot == boot && !halfPatched:
	case inSource, j.Running == StageUnpack, halfPatched:
		j.forget(StageUnpack)
	default: // everything since configure is in a directory that configure empties
		j.forget(StageConfigure)
	}
	j.Running = ""
}

// invalidateChanged invalidates all stages from the first whose inputs have changed.
func (j *journal) invalidateChanged(inputs func(stage string) string) {
	for _, stage := range j.Done {
		if stage != StageTry && j.Inputs[stage] != inputs(stage) {
			j.forget(stage)
			return
		}
	}
}

// done reports whether a stage is finished.
func (j *journal) done(stage string) bool { return slices.Contains(j.Done, stage) }

// complete records that a stage is finished, from which inputs, and its cost.
func (j *journal) complete(stage, inputs string, took, cpu time.Duration) {
	if !j.done(stage) {
		j.Done = append(j.Done, stage)
	}
	j.Inputs[stage] = inputs
	j.spend(stage, took, cpu)
}

// spend records the cost of a stage, even of a failed one: the next run continues from there,
// and both count.
func (j *journal) spend(stage string, took, cpu time.Duration) {
	j.Seconds[stage] += took.Seconds()
	j.CPU[stage] += cpu.Seconds()
}

// forget invalidates a stage and all later ones.
func (j *journal) forget(stage string) {
	from := slices.Index(allStages, stage)
	if stage == StageUnpack {
		j.Edited, j.SourceStamp = false, ""
	}
	for _, later := range allStages[from:] {
		delete(j.Seconds, later)
		delete(j.CPU, later)
		delete(j.Early, later)
	}
	j.Done = slices.DeleteFunc(j.Done, func(done string) bool { return slices.Index(allStages, done) >= from })
}

// note keeps a remark, and reports whether there was room: receipts have to stay readable
// whatever a build places.
func (j *journal) note(r inspect.Remark) bool {
	const most, longest = 200, 4 << 10
	switch {
	case len(j.Remarks) > most:
		return false
	case len(j.Remarks) == most:
		r = inspect.Remark{Grade: inspect.Warned,
			Text: fmt.Sprintf("there are more than %d remarks; the rest are dropped", most)}
	case len(r.Text) > longest:
		r.Text = strings.ToValidUTF8(r.Text[:longest], "") + "…"
	}
	j.Remarks = append(j.Remarks, r)
	return true
}

// earlier are the runs before the current one.
func (j *journal) earlier() []string { return j.Runs[:max(0, len(j.Runs)-1)] }

// begin initialises what a new journal lacks.
func (j *journal) begin() {
	for _, m := range []*map[string]float64{&j.Seconds, &j.CPU} {
		if *m == nil {
			*m = map[string]float64{}
		}
	}
	if j.Inputs == nil {
		j.Inputs = map[string]string{}
	}
}
