package promise_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/promise"
)

func TestWhatGuardsNothingIsRefused(t *testing.T) {
	for _, c := range []struct{ rule, at, lasts, notice, says string }{
		{"", "", "", "", "guards nothing"},
		{"FREQ=DAILY", "06:00", "", "24h", "for: "},
		{"FREQ=DAILY", "06:00", "0s", "24h", "both or neither"},
		{"", "06:00", "3h", "", "both or neither"},
		{"FREQ=DAILY", "six", "3h", "", `"six" is no time of day`},
		{"FREQ=NOW", "06:00", "3h", "", "FREQ"},
		{"FREQ=DAILY", "06:00", "24h", "", "begin anew before they end"},
		{"", "", "", "soon", "notice: "},
		{"", "", "", "91d", "at most 90d before"},
	} {
		_, err := promise.Guarding(noon, c.rule, c.at, c.lasts, c.notice, "Europe/Madrid")
		assert.ErrorContains(t, err, c.says, "%+v", c)
	}
	_, err := promise.Guarding(noon, "FREQ=DAILY;COUNT=1", "06:00", "40h", "", "UTC")
	assert.NoError(t, err, "they do not begin anew")
	_, err = promise.Guarding(noon, "FREQ=DAILY", "06:00", "23h59m", "90d", "UTC")
	assert.NoError(t, err)
	assert.ErrorContains(t, (&promise.Promise{Kind: promise.Guarded, Guarded: &promise.GuardedTerms{Notice: -1}}).Check(noon), "less than nothing")
}

// TestGuardedHours says what goes on at moments around them, the night on which clocks go forward among them.
func TestGuardedHours(t *testing.T) {
	g, err := promise.Guarding(noon, "FREQ=DAILY", "06:00", "16h", "", "Europe/Madrid")
	require.NoError(t, err)
	for _, c := range []struct{ at, until string }{
		{"2026-03-27T12:00:00Z", "2026-03-27T21:00:00Z"},
		{"2026-03-27T20:59:59Z", "2026-03-27T21:00:00Z"},
		{"2026-03-27T21:00:00Z", ""},
		{"2026-03-28T04:59:59Z", ""},
		{"2026-03-28T05:00:00Z", "2026-03-28T21:00:00Z"},
		{"2026-03-29T04:00:00Z", "2026-03-29T20:00:00Z"}, // summer time
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		require.NoError(t, err)
		until, err := g.Until(at)
		require.NoError(t, err)
		got := ""
		if !until.IsZero() {
			got = until.UTC().Format(time.RFC3339)
		}
		assert.Equal(t, c.until, got, c.at)
	}
	night, err := promise.Guarding(noon, "FREQ=DAILY", "22:00", "20h", "", "UTC")
	require.NoError(t, err)
	until, err := night.Until(noon)
	require.NoError(t, err)
	assert.Equal(t, noon.Add(6*time.Hour), until.UTC(), "those of last night go on when they are promised")
	p := promise.Promise{Kind: promise.Guarded, Guarded: g}
	assert.Equal(t, "guarded every day 06:00 for 16h", p.Words())
	assert.Equal(t, "Europe/Madrid", p.Zone())
	assert.Empty(t, p.Dues(noon), "nothing is due for it before something is said")
	assert.NoError(t, p.Check(noon))
	g.Notice = day
	assert.Equal(t, "guarded every day 06:00 for 16h, else 1d after it was said", p.Words())
	g.When, g.For = promise.When{}, 0
	assert.Equal(t, "service is taken away by itself only 1d after that was said", p.Words())
}

// TestWhatIsSaidMayBeDoneForADay announces at any moment: it may not be done sooner than the notice says, nor within guarded hours; then for a day; and it is due.
func TestWhatIsSaidMayBeDoneForADay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		minutes := func(name string, least, most int) time.Duration {
			return time.Duration(rapid.IntRange(least, most).Draw(t, name)) * time.Minute
		}
		now := noon.Add(minutes("moment", 0, 14*24*60))
		g, err := promise.Guarding(noon, "FREQ=DAILY", "06:00", minutes("for", 1, 23*60).String(), minutes("notice", 1, 3*24*60).String(), "Europe/Madrid")
		require.NoError(t, err)
		require.False(t, g.Said(now))
		require.NoError(t, g.Announce(now))
		require.False(t, g.Announced.Before(now.Add(g.Notice)))
		until, err := g.Until(g.Announced)
		require.NoError(t, err)
		require.Zero(t, until, "that is within guarded hours")
		for _, c := range []struct {
			at  time.Time
			may bool
		}{{g.Announced.Add(-1), false}, {g.Announced, true}, {g.Announced.Add(promise.AnnouncedFor - 1), true}, {g.Announced.Add(promise.AnnouncedFor), false}} {
			require.Equal(t, c.may, g.Said(c.at))
		}
		p := promise.Promise{Deployment: 7, Kind: promise.Guarded, By: ana, Guarded: g}
		dues := p.Dues(now)
		require.Len(t, dues, 1)
		require.Equal(t, g.Announced, dues[0].Start)
		require.Contains(t, promise.DueKindsOf(promise.Guarded), dues[0].Kind)
	})
}
