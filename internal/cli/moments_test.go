package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMomentsAreReadAsTheyAreWritten(t *testing.T) {
	zone := time.FixedZone("there", 3600)
	now := time.Date(2026, 12, 1, 9, 30, 0, 0, zone)
	for text, want := range map[string]time.Time{
		"03:00":                time.Date(2026, 12, 1, 3, 0, 0, 0, zone),
		"23:15":                time.Date(2026, 11, 30, 23, 15, 0, 0, zone),
		"2026-11-30 03:00":     time.Date(2026, 11, 30, 3, 0, 0, 0, zone),
		"2026-11-30 03:00:20":  time.Date(2026, 11, 30, 3, 0, 20, 0, zone),
		"2026-11-30":           time.Date(2026, 11, 30, 0, 0, 0, 0, zone),
		"2026-11-30T03:00:00Z": time.Date(2026, 11, 30, 3, 0, 0, 0, time.UTC),
		"90m":                  now.Add(-90 * time.Minute),
		"2d":                   now.Add(-48 * time.Hour),
	} {
		got, err := momentOf(text, now)
		require.NoError(t, err, text)
		assert.True(t, want.Equal(got), "%s: %s", text, got)
	}
	for _, text := range []string{"", "25:00", "yesterday", "2026-13-01", "-2h"} {
		_, err := momentOf(text, now)
		assert.ErrorContains(t, err, "is no moment", text)
	}
}
