package draw

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/migrate"
	"andamio/internal/core/run"
)

func TestMovesAreDrawn(t *testing.T) {
	curve := migrate.Curve{Now: 3 * time.Second, Whole: 4 * time.Second, Most: 167e6, Stretches: []migrate.Stretch{
		{To: 2 * time.Second, Left: 167e6}, {From: 2 * time.Second, To: 3 * time.Second, Left: 2e6}, {From: 3 * time.Second, To: 4 * time.Second, Left: 1e5, Forecast: true}}}
	book := []migrate.Entry{{Title: "first copy", Status: run.Standing, Took: 2 * time.Second}, {Title: "cut over", Status: run.Held, Waits: true, Note: "when you say"},
		{Title: "switch off", Status: run.Planned, Inner: true, Expected: time.Second}}
	for _, pic := range []*Picture{Rounds("contacts-host-1 & more", curve, 12.5), Rounds("nothing yet", migrate.Curve{}, 12.5), RunBook("contacts-host-1", book), RunBook("empty", nil)} {
		for _, format := range Formats {
			var out bytes.Buffer
			require.NoError(t, pic.Write(&out, format))
			assert.Greater(t, out.Len(), 300)
		}
	}
	var chart bytes.Buffer
	require.NoError(t, Rounds("contacts-host-1", curve, 12.5).Write(&chart, "svg"))
	assert.Contains(t, chart.String(), "does not serve for about 12.5 s")
	assert.Contains(t, chart.String(), "100 kB")
	var svg bytes.Buffer
	require.NoError(t, RunBook("contacts-host-1", book).Write(&svg, "svg"))
	for _, want := range []string{"first copy", "when you say", "switch off"} {
		assert.Contains(t, svg.String(), want)
	}
}
