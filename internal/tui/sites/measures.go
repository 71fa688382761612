package sites

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/service/watch"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// How often it is read how sites answer, over what time, in how many points, and how long that may take.
const (
	answerEvery  = 15 * time.Second
	answerOver   = time.Hour
	answerCells  = 12
	answerPoints = 60
	answerWithin = 10 * time.Second
)

// answering is how sites answered over the last while.
type answering struct{ of []watch.Overview }

// readAnswers reads how sites answer, if that was long ago.
func (v *View) readAnswers() tea.Cmd {
	if time.Since(v.answersRead) < answerEvery {
		return nil
	}
	v.answersRead = time.Now()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, answerWithin)
		defer cancel()
		all, err := v.app.Overview(ctx, 0, "", answerOver, answerPoints, time.Now())
		if err != nil {
			return view.Failed(err)
		}
		return answering{all}
	}
}

// measured is what was measured of a site, or of all machines there; nil where nothing was.
func (v *View) measured(kind measure.Kind, site string) *watch.Overview {
	for i := range v.answers {
		if o := &v.answers[i]; o.Kind == kind && o.Site == site {
			return o
		}
	}
	return nil
}

// drawAnswers draws at the end of a row how fast a site answered in the last hour, and where it did not, with what it takes now, and returns where that begins.
func (v *View) drawAnswers(c *part.Canvas, end, y int, site string) int {
	o := v.measured(measure.OfSite, site)
	if o == nil {
		return end
	}
	took, answered := o.Line(measure.SiteTime), o.Line(measure.SiteAnswers)
	if answered == nil {
		return end
	}
	word, ink := "silent", part.Coral
	if answered.Now >= 1 && took != nil {
		m := measure.Of(measure.SiteTime)
		word, ink = alarm.Figure(&m, took.Now, 0), part.Dim
	}
	from := end - part.Width(word)
	c.Text(from, y, part.In(ink), word)
	points, times := measure.Squeeze(answered.Points, answerCells), []measure.Point(nil)
	if took != nil {
		times = measure.Squeeze(took.Points, answerCells)
	}
	values, most := make([]part.Known, len(points)), 0.0
	for i := range points {
		values[i] = part.Known{Value: 0, Is: points[i].N > 0}
		if i < len(times) && times[i].N > 0 {
			values[i].Value = times[i].Mean
			most = max(most, times[i].Mean)
		}
	}
	part.Bars(c, from-1-len(values), y, values, most, func(i int) part.Ink {
		if points[i].Min < 1 {
			return part.Coral
		}
		return part.Teal
	})
	return from - 1 - len(values)
}

// siteMeasures are those of all machines of a site that are shown of the selected one, and of how the site itself answers.
var siteMeasures = []string{measure.WholeCores, measure.WholeMemory, measure.WholeDisk, measure.WholeReceived, measure.WholeSent, measure.SiteTime}

// inRow is how many of them stand in a row.
const inRow = 3

// overview is what was measured at the selected site in the last hour, in the rows that are left from y on.
func (p *page) overview(site string, y int) {
	lines := p.v.siteLines(site)
	bottom := p.r.Y + p.r.H
	if len(lines) == 0 || y+3 > bottom {
		return
	}
	x := p.c.Text(p.r.X+2, y, part.In(part.Steel).Strong(), "what its machines use")
	p.c.Text(x+2, y, part.In(part.Dim), "the last hour")
	w, high := (p.r.W-4)/inRow, 2
	if rows := (len(lines) + inRow - 1) / inRow; y+1+rows*(high+1) <= bottom { // with room between them
		high++
	}
	for i, l := range lines {
		at, row := p.r.X+2+i%inRow*w, y+1+i/inRow*high
		if row+2 > bottom {
			return
		}
		m := measure.Of(l.Name)
		words := m.Words
		if m.Of == measure.OfSite {
			words = "its own " + words
		}
		p.c.Cut(at, row, w-2, part.In(part.Dim), words)
		p.c.Right(at+w-4, row, part.In(part.Text), alarm.Figure(&m, l.Now, l.Limit))
		part.Measured(p.c, at, row+1, w-4, l.Name, l.Points, l.Limit)
	}
}

// siteLines are the curves of a site, those that were measured.
func (v *View) siteLines(site string) (out []*watch.Line) {
	for _, name := range siteMeasures {
		if o := v.measured(measure.Of(name).Of, site); o != nil && o.Line(name) != nil {
			out = append(out, o.Line(name))
		}
	}
	return out
}
