package sites

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/measure"
	"andamio/internal/service/watch"
)

// TestEachSiteSaysHowItAnswers holds that a site's strip has the last hour of its answers, and says where it is silent.
func TestEachSiteSaysHowItAnswers(t *testing.T) {
	v := shown(t)
	line := func(name string, values ...float64) watch.Line {
		l := watch.Line{Name: name}
		for i, x := range values {
			p := measure.Point{At: now.Add(time.Duration(i-len(values)) * 5 * time.Minute), Min: x, Mean: x, Max: x, N: 1}
			if x < 0 {
				p.N = 0
			}
			l.Points = append(l.Points, p)
			l.Now, l.At = x, p.At
		}
		return l
	}
	of := func(site string, lines ...watch.Line) watch.Overview {
		return watch.Overview{Thing: measure.Thing{Kind: measure.OfSite, Name: site, Site: site}, Lines: lines}
	}
	v.Update(answering{[]watch.Overview{of("vega", line(measure.SiteAnswers, -1, 1, 1, 1), line(measure.SiteTime, -1, 0.004, 0.008, 0.004)), of("presa", line(measure.SiteAnswers, 1, 1, 0)),
		of("tramonta"), {Thing: measure.Thing{Kind: measure.OfInstance, Name: "alisio-norte"}}}})
	text := drawn(v, 160, 43)
	assert.Regexp(t, `vega +private +■ has room +▄█▄ 4.0 ms`, text)
	assert.Regexp(t, `presa +edge .* silent`, text)
	assert.NotRegexp(t, `tramonta +public .*(silent|ms)`, text)

	whole := watch.Overview{Thing: measure.Thing{Kind: measure.OfWhole, Site: "presa", Name: "all at presa"}, Lines: []watch.Line{line(measure.WholeCores, 1, 2, 3), line(measure.WholeSent, 0, 0, 2048)}}
	whole.Lines[0].Limit = 4
	v.Update(answering{[]watch.Overview{of("presa", line(measure.SiteAnswers, 1, 1, 1), line(measure.SiteTime, 0.004, 0.004, 0.008)), whole}})
	text = drawn(v, 160, 47)
	assert.Regexp(t, `what its machines use +the last hour`, text)
	assert.Regexp(t, `cores in use +3 of 4 \(75 %\) +sent +2 KiB/s +its own time to answer +8.0 ms`, text)
	assert.Regexp(t, `▂▄▆ `, text)
	assert.NotContains(t, drawn(v, 160, 30), "what its machines use", "where there is no room it is left out")
}
