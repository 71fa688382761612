package clock_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/clock"
)

var noon = time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)

func daily() clock.Due {
	return clock.Due{Kind: "survey", Subject: "vega", Rule: "FREQ=DAILY", Zone: "UTC", Start: noon, Seen: noon}
}

func TestWhatWasDueWhileNobodyLookedIsCaughtUpOrMissed(t *testing.T) {
	day := 24 * time.Hour
	for name, c := range map[string]struct {
		late   clock.Late
		now    time.Time
		do     time.Time
		missed int
	}{
		"nothing is due yet":     {clock.CatchUp, noon.Add(day - 1), time.Time{}, 0},
		"on time":                {clock.Miss, noon.Add(day + clock.Grace), noon.Add(day), 0},
		"caught up with":         {clock.CatchUp, noon.Add(day + time.Hour), noon.Add(day), 0},
		"missed":                 {clock.Miss, noon.Add(day + time.Hour), time.Time{}, 1},
		"once for several":       {clock.CatchUp, noon.Add(5*day + time.Hour), noon.Add(5 * day), 4},
		"on time after several":  {clock.Miss, noon.Add(5*day + time.Second), noon.Add(5 * day), 4},
		"several missed":         {clock.Miss, noon.Add(5*day + time.Hour), time.Time{}, 5},
		"the clock was set back": {clock.CatchUp, noon.Add(-day), time.Time{}, 0},
	} {
		d := daily()
		v, err := clock.Judge(&d, c.late, c.now)
		require.NoError(t, err, name)
		assert.True(t, c.do.Equal(v.Do), "%s: %s", name, v.Do)
		assert.Equal(t, c.missed, v.Missed, name)
	}
}

func TestADeadlineIsMetOnce(t *testing.T) {
	d := clock.Due{Kind: "lapse", Start: noon}
	next, err := d.Next(noon.Add(-time.Hour))
	require.NoError(t, err)
	assert.Equal(t, noon, next)
	v, err := clock.Judge(&d, clock.CatchUp, noon.Add(100*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, noon, v.Do, "however late")
	d.Seen = v.Seen
	v, err = clock.Judge(&d, clock.CatchUp, noon.Add(200*time.Hour))
	require.NoError(t, err)
	assert.True(t, v.Do.IsZero())
	next, err = d.Next(noon)
	require.NoError(t, err)
	assert.True(t, next.IsZero())
}

func TestADueThatCannotBeReadSaysSo(t *testing.T) {
	for _, d := range []clock.Due{{Rule: "FREQ=NEVER"}, {Rule: "FREQ=DAILY", Zone: "Ribera/Alta"}} {
		_, err := clock.Judge(&d, clock.CatchUp, noon)
		assert.Error(t, err)
		_, err = d.Next(noon)
		assert.Error(t, err)
	}
}

// TestEveryOccurrenceIsDoneOrMissedOnce asks at times as they come, with pauses of all lengths.
func TestEveryOccurrenceIsDoneOrMissedOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		hours := rapid.IntRange(1, 30).Draw(t, "hours")
		d := clock.Due{Rule: fmt.Sprintf("FREQ=HOURLY;INTERVAL=%d", hours), Start: noon, Seen: noon}
		late := rapid.SampledFrom([]clock.Late{clock.CatchUp, clock.Miss}).Draw(t, "late")
		now, done, missed := noon, map[time.Time]bool{}, 0
		for range rapid.IntRange(1, 8).Draw(t, "looks") {
			now = now.Add(time.Duration(rapid.OneOf(rapid.IntRange(0, 3600), rapid.IntRange(0, 200_000)).Draw(t, "pause")) * time.Second)
			v, err := clock.Judge(&d, late, now)
			require.NoError(t, err)
			if !v.Do.IsZero() {
				assert.False(t, done[v.Do], "%s is done twice", v.Do)
				assert.False(t, v.Do.After(now), "nothing is done early")
				done[v.Do] = true
			}
			missed += v.Missed
			assert.False(t, v.Seen.Before(d.Seen))
			d.Seen = v.Seen
		}
		assert.Equal(t, int(now.Sub(noon)/(time.Duration(hours)*time.Hour)), len(done)+missed)
	})
}
