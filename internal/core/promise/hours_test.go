package promise_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/promise"
)

// around are sites around the world, of which one says no zone that is known here: it is of the owner's.
var around = map[string]string{"levante": "Asia/Tokyo", "vega": "Europe/Madrid", "ocaso": "America/Santiago", "cerca": "Europe/Madrid"}

func sunny(t *testing.T) promise.Promise {
	t.Helper()
	h := promise.HoursTerms{Local: true, Zones: around, Lead: 10 * time.Minute}
	var err error
	h.Off, err = promise.Daily(noon, "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "19:00", "Europe/Madrid")
	require.NoError(t, err)
	h.On, err = promise.Daily(noon, "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "07:00", "Europe/Madrid")
	require.NoError(t, err)
	p := promise.Promise{Deployment: 3, Kind: promise.Hours, By: ana, Hours: &h}
	require.NoError(t, p.Check(noon))
	return p
}

// TestHoursFollowTheSun walks over two years, by steps that meet every hour of the day and all changes of clocks, and holds what is off at each site against the
// clock on its wall.
func TestHoursFollowTheSun(t *testing.T) {
	p := sunny(t)
	for at := noon.Add(4 * day); at.Before(noon.AddDate(2, 0, 0)); at = at.Add(13*time.Hour + 7*time.Minute) {
		for site, zone := range map[string]string{"levante": "Asia/Tokyo", "vega": "Europe/Madrid", "ocaso": "America/Santiago", "elsewhere": "Europe/Madrid"} {
			place, err := time.LoadLocation(zone)
			require.NoError(t, err)
			wall := at.In(place)
			minute := wall.Hour()*60 + wall.Minute()
			weekday := wall.Weekday() != time.Saturday && wall.Weekday() != time.Sunday
			off, err := p.Hours.IsOffAt(site, at)
			require.NoError(t, err)
			require.Equal(t, !weekday || minute < 7*60-10 || minute >= 19*60, off, "%s: %s", site, wall)
		}
	}
}

// TestWhatFollowsTheSunIsDueByEachClock has going off and coming back be due once for each zone, and days be excepted by the dates there.
func TestWhatFollowsTheSunIsDueByEachClock(t *testing.T) {
	p := sunny(t)
	assert.Equal(t, "off weekdays 19:00 to 07:00 by the clock of each site: America/Santiago, Asia/Tokyo, Europe/Madrid", p.Words())
	require.NoError(t, p.Hours.On.But([]time.Time{time.Date(2026, 3, 31, 0, 0, 0, 0, time.UTC)}))
	next := map[string]string{}
	for _, d := range p.Dues(noon) {
		assert.Equal(t, "3 "+d.Zone, d.Subject, "each has a subject of its own")
		id, err := promise.DeploymentOf(d.Subject)
		require.NoError(t, err)
		assert.Equal(t, int64(3), id)
		at, err := d.Next(time.Date(2026, 3, 30, 21, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		place, err := time.LoadLocation(d.Zone)
		require.NoError(t, err)
		next[d.Kind+" "+d.Zone] = at.In(place).Format("2 15:04")
	}
	assert.Equal(t, map[string]string{
		"switch off America/Santiago": "30 19:00", "switch off Asia/Tokyo": "31 19:00", "switch off Europe/Madrid": "31 19:00",
		"switch on America/Santiago": "1 06:50", "switch on Asia/Tokyo": "1 06:50", "switch on Europe/Madrid": "1 06:50"}, next, "on the 31st nobody comes back")

	p.Hours.Zones = nil
	assert.Equal(t, "off weekdays 19:00 to 07:00, and all of 1 day by the clock of each site", p.Words())
	assert.Len(t, p.Dues(noon), 2)
	p.Hours.Local, p.Hours.Zones = false, around
	assert.ErrorContains(t, p.Check(noon), "only where hours are by their clocks")
	p.Hours.Local, p.Hours.Zones = true, map[string]string{"olympus": "Mars/Base"}
	assert.ErrorContains(t, p.Check(noon), "is no time zone")
	off, err := p.Hours.IsOffAt("olympus", noon)
	assert.ErrorContains(t, err, "is no time zone")
	assert.False(t, off)
	p.Hours.Zones, p.Hours.Lead = around, 70*time.Hour
	assert.ErrorContains(t, p.Check(noon), "takes 70h0m0s to start")
}
