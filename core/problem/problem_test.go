package problem

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

type counted struct{ error }

func (counted) ProblemKind() Kind { return Build }
func (c counted) Unwrap() error   { return c.error }

// The kind is that of the outermost error that has one; an interruption takes precedence.
func TestKindOf(t *testing.T) {
	fetch := New(Fetch, "fern", "fern cannot be fetched")
	for _, c := range []struct {
		err  error
		want Kind
	}{
		{nil, ""},
		{errors.New("anything"), Other},
		{fetch, Fetch},
		{fmt.Errorf("moss: %w", fetch), Fetch},
		{counted{fetch}, Build},
		{errors.Join(errors.New("first"), fetch), Fetch},
		{context.Canceled, Interrupted},
		{counted{context.Canceled}, Interrupted},
	} {
		assert.Equal(t, c.want, KindOf(c.err), "%v", c.err)
	}
}

// Codes and remedies are found through wrapping; the empty code matches nothing.
func TestCodesAndRemedies(t *testing.T) {
	const shut Code = "shut"
	err := fmt.Errorf("the garden: %w", New(Root, "gate", "the gate is shut").Coded(shut).Remedy(InstallPackage, "key").
		Remedy(CleanBuilds))
	assert.ErrorIs(t, err, shut)
	assert.NotErrorIs(t, err, Verdict)
	assert.NotErrorIs(t, New(Root, "", "no code"), Code(""))
	assert.Equal(t, []Remedy{{InstallPackage, []string{"key"}}, {Action: CleanBuilds}}, Remedies(err))
	assert.Equal(t, "gate", Of(err).Subject)
	assert.Nil(t, Of(errors.New("plain")))
}
