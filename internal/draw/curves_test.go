package draw

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// TestCurvesAreDrawn holds that each curve says of what it is, its figure, and what happened; what is not known leaves a gap.
func TestCurvesAreDrawn(t *testing.T) {
	from := time.Date(2027, 3, 2, 12, 0, 0, 0, time.UTC)
	var points []measure.Point
	usual := make([]*alarm.Usual, 60)
	for i := range 60 {
		p := measure.Point{At: from.Add(time.Duration(i) * time.Minute), Min: 0.5, Mean: 1 + float64(i%5)/10, Max: 1.9, N: 4}
		if i > 20 && i < 30 {
			p = measure.Point{At: p.At}
		}
		points, usual[i] = append(points, p), &alarm.Usual{Middle: 1.1, Spread: 0.3}
	}
	thing := &measure.Thing{Name: "map-host 1", Site: "vega", Host: "b-1"}
	pic := Curves("flood-watch: what is measured", "2 Mar to 3 Mar", []Curve{Described(thing, measure.CoresUsed, points, 2, usual), Described(&measure.Thing{Name: "river-map", Site: "vega"}, measure.AnswerTime, points[:1], 0, nil), {Title: "nothing"}},
		[]Happened{{At: from.Add(10 * time.Minute), What: "run 4"}, {At: from.Add(40 * time.Minute), What: "alert 2", Bad: true}, {At: from.Add(-time.Hour), What: "long before"}})
	text := wellFormed(t, write(t, pic, "svg"))
	for _, want := range []string{"flood-watch: what is measured", "map-host 1", "cores in use · vega, host b-1", "river-map", "run 4", "alert 2", "usual at that hour", "nothing"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "long before")
	assert.Regexp(t, `\(70 %\)`, text)
	assert.Contains(t, write(t, pic, "pdf"), "%PDF-")
}
