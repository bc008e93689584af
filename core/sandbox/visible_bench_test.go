package sandbox_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"fernladder/core/host"
	"fernladder/core/sandbox"
	"fernladder/core/settings"
)

func thisSystem(t testing.TB, dir string) *sandbox.System {
	programs := host.Programs{Path: settings.SystemPath}
	packages := programs.Packages(host.ThisMachine().Family)
	if packages == nil {
		t.Skip("the package manager of this machine is unknown")
	}
	return &sandbox.System{Programs: programs, Packages: packages, Dir: dir}
}

func declared(questions ...host.Question) sandbox.Declared {
	for _, name := range []string{"sh", "cc", "make"} {
		questions = append(questions, host.Question{Kind: host.Program, Name: name})
	}
	return sandbox.Declared{Questions: questions}
}

func BenchmarkLook(b *testing.B) {
	for b.Loop() {
		_, err := thisSystem(b, "").Sight(b.Context(), declared())
		require.NoError(b, err)
	}
}

func BenchmarkKept(b *testing.B) {
	dir := b.TempDir()
	for b.Loop() {
		_, err := thisSystem(b, dir).Sight(b.Context(), declared())
		require.NoError(b, err)
	}
}
