package promise_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/promise"
)

func TestVolumesAreBoundedWhereTheyAreNot(t *testing.T) {
	for says, terms := range map[string]promise.LimitedTerms{"it bounds nothing": {}, "less than nothing": {PerSecond: -1, MiBPerSecond: 2}, "nothing is bounded by less": {MiBPerSecond: -0.1}} {
		p := promise.Promise{Kind: promise.Limited, Limited: &terms}
		assert.ErrorContains(t, p.Check(noon), says)
	}
	terms := promise.LimitedTerms{PerSecond: 500}
	p := promise.Promise{Deployment: 3, Kind: promise.Limited, Limited: &terms}
	require.NoError(t, p.Check(noon))
	assert.Equal(t, "each volume bounded to 500 reads and writes a second", p.Words())
	assert.False(t, terms.Look(0, noon))
	assert.Empty(t, p.Dues(noon))
	assert.True(t, terms.Look(2, noon))
	require.Len(t, p.Dues(noon), 1)
	assert.Equal(t, noon.Add(time.Second), p.Dues(noon)[0].Start)
	assert.False(t, terms.Look(2, noon.Add(30*time.Second)), "it is left to whoever sees to it")
	assert.True(t, terms.Look(1, noon.Add(2*time.Minute)), "which did not help: it is due again")
	assert.Equal(t, noon.Add(2*time.Minute+time.Second), terms.At)
	assert.True(t, terms.Look(0, noon.Add(3*time.Minute)))
	assert.Zero(t, terms.At)
}
