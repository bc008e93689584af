package reclaim

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestFits(t *testing.T) {
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	w := What{Older: time.Hour, Larger: 10}
	assert.True(t, w.fits(now, now.Add(-time.Hour), 10), "as old and as large")
	assert.False(t, w.fits(now, now.Add(-time.Hour), 9))
	assert.False(t, w.fits(now, now.Add(-time.Hour+1), 10))
	assert.True(t, What{}.fits(now, now, 0))
}
