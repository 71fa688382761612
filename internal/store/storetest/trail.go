package storetest

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/trail"
)

func anEntry(on string) trail.Entry {
	return trail.Entry{At: time.Now(), Actor: guard.Actor{Name: "ana", Way: guard.Screen}, Act: guard.BeginRun, On: on, Plan: "abc", Run: 7, Note: "more", Failed: "why"}
}

// theTrailIsWrittenByManyAtOnce has several that opened the store note at once: what comes of it is one whole trail.
func theTrailIsWrittenByManyAtOnce(t *testing.T, open Opener) {
	file := fresh(t)
	var group sync.WaitGroup
	for range 4 {
		s := open(t, file)
		group.Go(func() {
			for range 20 {
				_, err := s.Note(t.Context(), anEntry("run 7"))
				assert.NoError(t, err)
			}
		})
	}
	group.Wait()
	s := open(t, file)
	var v trail.Verifier
	for after := int64(0); ; {
		page, err := s.Trail(t.Context(), after, 7)
		require.NoError(t, err)
		if len(page) == 0 {
			break
		}
		for _, e := range page {
			v.Next(e)
			after = e.Seq
		}
	}
	ever, err := s.TrailEver(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 80, ever)
	v.End(ever)
	assert.Empty(t, v.Wrong)
	assert.EqualValues(t, 80, v.Last().Seq)
}

func theTrailIsReadBackAsItWasWritten(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	ever, err := s.TrailEver(t.Context())
	require.NoError(t, err)
	assert.Zero(t, ever)
	var all []trail.Entry
	for _, on := range []string{"run 7", "run 8", "vega"} {
		e := anEntry(on)
		if on == "vega" {
			e.Run = 0
		}
		e, err := s.Note(t.Context(), e)
		require.NoError(t, err)
		all = append(all, e)
	}
	got, err := s.Trail(t.Context(), 1, 10)
	require.NoError(t, err)
	assert.Equal(t, all[1:], got)
	got, err = s.LastOfTrail(t.Context(), 2)
	require.NoError(t, err)
	assert.Equal(t, []trail.Entry{all[2], all[1]}, got)
	got, err = s.TrailOfRun(t.Context(), 7)
	require.NoError(t, err)
	assert.Equal(t, all[:2], got)
}
