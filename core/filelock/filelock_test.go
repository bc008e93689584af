package filelock

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLocks(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lock")
	waited := 0
	waiting := func() { waited++ }
	one, err := Shared(context.Background(), file, waiting)
	require.NoError(t, err)
	two, err := Shared(context.Background(), file, waiting)
	require.NoError(t, err)
	assert.Zero(t, waited, "those who share do not wait for each other")

	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Millisecond)
	defer cancel()
	_, err = Exclusive(ctx, file, waiting)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	one()
	time.AfterFunc(20*time.Millisecond, two)
	alone, err := Exclusive(context.Background(), file, waiting)
	require.NoError(t, err)
	assert.Equal(t, 2, waited)
	alone()
	assert.FileExists(t, file)
	_, err = Exclusive(context.Background(), filepath.Join(file, "below"), waiting)
	assert.Error(t, err)
}
