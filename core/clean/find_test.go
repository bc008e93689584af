package clean

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/store"
)

func TestFits(t *testing.T) {
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	w := What{Older: time.Hour, Larger: 10}
	assert.True(t, w.fits(now, now.Add(-time.Hour), 10), "as old and as large")
	assert.False(t, w.fits(now, now.Add(-time.Hour), 9))
	assert.False(t, w.fits(now, now.Add(-time.Hour+1), 10))
	assert.True(t, What{}.fits(now, now, 0))
}

// Earlier states of the landing keep their builds and needs; a named build that others need
// stays.
func TestUnused(t *testing.T) {
	ref := func(name string) store.Ref { return store.Ref{Name: name, Version: "1.0", ID: "0123456789ab"} }
	fern, reed := &store.Receipt{Ref: ref("fern")}, &store.Receipt{Ref: ref("reed")}
	moss := &store.Receipt{Ref: ref("moss"), Needs: []store.Link{{Ref: fern.Ref}}}
	all := []*store.Receipt{fern, moss, reed}
	name := func(text string) What {
		n, err := landing.ParseName(text)
		require.NoError(t, err)
		return What{Names: []landing.Named{n}}
	}
	on := []landing.Remembered{{State: landing.State{Members: []landing.Member{{Ref: moss.Ref}}}}}
	assert.Equal(t, all, unused(all, nil, What{}))
	assert.Equal(t, []*store.Receipt{reed}, unused(all, on, What{}))
	assert.Equal(t, []*store.Receipt{moss}, unused(all, nil, name("moss")))
	assert.Empty(t, unused(all, nil, name("fern")), "moss stands on it")
	assert.Empty(t, unused(all, on, name("moss")))
	locked := What{Locks: []*lock.File{{Builds: []*lock.Build{{Name: "moss", ID: "0123456789ab"},
		{Name: "reed", ID: "another"}}}}}
	assert.Equal(t, []*store.Receipt{reed}, unused(all, nil, locked))
}
