package bare_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"fernladder/core/bare"
	"fernladder/core/host"
	"fernladder/core/settings"
)

func thisSystem(t testing.TB, dir string) *bare.System {
	programs := host.Programs{Path: settings.SystemPath}
	packages := programs.Packages(host.ThisMachine().Family)
	if packages == nil {
		t.Skip("the package manager of this machine is not known")
	}
	return &bare.System{Programs: programs, Packages: packages, Dir: dir}
}

func declared(questions ...host.Question) bare.Declared {
	for _, name := range []string{"sh", "cc", "make"} {
		questions = append(questions, host.Question{Kind: host.Program, Name: name})
	}
	return bare.Declared{Questions: questions}
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
