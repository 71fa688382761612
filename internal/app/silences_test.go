package app

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestASilentSiteIsTriedEverMoreSeldom lets a site fail and answer again.
func TestASilentSiteIsTriedEverMoreSeldom(t *testing.T) {
	t.Parallel()
	s, now, silent := silences{}, time.Unix(1_700_000_000, 0), errors.New("no answer")
	assert.False(t, s.waits("vega", now))
	for _, want := range []time.Duration{1, 2, 4, 8, 15, 15} {
		s.took("vega", silent, now)
		assert.True(t, s.waits("vega", now.Add(want*time.Minute-1)), "%d", want)
		assert.False(t, s.waits("vega", now.Add(want*time.Minute)), "%d", want)
		assert.False(t, s.waits("presa", now))
		now = now.Add(want * time.Minute)
	}
	s.took("vega", nil, now)
	assert.False(t, s.waits("vega", now))
	s.took("vega", silent, now)
	assert.False(t, s.waits("vega", now.Add(firstSilence)), "it begins anew")
}
