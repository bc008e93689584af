package build

import (
	"context"
	"sync"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/sandbox"
	"fernladder/core/traces"
	"fernladder/core/version"
)

// A Builder runs jobs on a machine.
type Builder struct {
	m      *machine.Machine
	level  sandbox.Level // how far builds are kept apart
	target Target

	takesSlots func(ctx context.Context, program string) bool // whether a ninja takes job slots
	loader     func() host.Loader                             // of the operating system
	system     func() *traces.System                          // the same
	modulePath func() []string                                // where pkg-config looks for the operating system's modules
}

// NewBuilder returns a builder. It tests which levels of isolation the machine supports, if that
// is not known yet; the root has to be prepared.
func NewBuilder(ctx context.Context, m *machine.Machine) (*Builder, error) {
	level, err := m.Isolation(ctx)
	if err != nil {
		return nil, err
	}
	b := &Builder{m: m, level: level, target: NewTarget(m), loader: sync.OnceValue(host.SystemLibraries),
		system: sync.OnceValue(func() *traces.System {
			return &traces.System{Programs: m.Programs, Packages: m.Packages}
		}),
		modulePath: sync.OnceValue(func() []string { return m.Programs.ModulePath(context.Background()) }),
	}
	var asked sync.Once
	shares := false
	b.takesSlots = func(ctx context.Context, program string) bool {
		asked.Do(func() { shares = takesSlots(ctx, m.Programs, program) })
		return shares
	}
	return b, nil
}

// takesSlots reports whether ninja takes job slots from a named pipe, as it does since 1.13.
// Older ones lease theirs.
func takesSlots(ctx context.Context, programs host.Programs, program string) bool {
	q := host.Question{Kind: host.Program, Name: program}
	answer := programs.Ask(ctx, "", []host.Question{q}, func(host.Question) bool { return true })[q]
	v, err := version.Parse(answer.Version)
	return err == nil && v.Compare(version.MustParse("1.13")) >= 0
}
