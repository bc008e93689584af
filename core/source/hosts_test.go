package source

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// However many downloads wait for a slow host, those of other hosts proceed.
func TestOneSlowHostTakesNoTurnsFromOthers(t *testing.T) {
	h := NewHosts(3, 2)
	ctx, cancel := context.WithCancel(context.Background())
	var ended []func()
	for range 2 {
		end, err := h.enter(ctx, "https://slow.example/a")
		require.NoError(t, err)
		ended = append(ended, end)
	}
	gaveUp := make(chan error)
	for range 5 {
		go func() {
			_, err := h.enter(ctx, "https://slow.example/a")
			gaveUp <- err
		}()
	}
	time.Sleep(20 * time.Millisecond) // they wait by now
	soon, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	for i := range 4 {
		end, err := h.enter(soon, fmt.Sprintf("https://quick%d.example/a", i))
		require.NoError(t, err)
		end()
	}
	cancel()
	for range 5 {
		assert.ErrorIs(t, <-gaveUp, context.Canceled)
	}
	for _, end := range ended {
		end()
	}
	assert.Empty(t, h.all)
}
