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
		all, err := v.app.Overview(ctx, 0, "", answerOver, answerCells, time.Now())
		if err != nil {
			return view.Failed(err)
		}
		return answering{all}
	}
}

// answersOf is how a site answered; nil where that was not measured.
func (v *View) answersOf(site string) *watch.Overview {
	for i := range v.answers {
		if o := &v.answers[i]; o.Kind == measure.OfSite && o.Name == site {
			return o
		}
	}
	return nil
}

// drawAnswers draws at the end of a row how fast a site answered in the last hour, and where it did not, with what it takes now, and returns where that begins.
func (v *View) drawAnswers(c *part.Canvas, end, y int, site string) int {
	o := v.answersOf(site)
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
	values, most := make([]part.Known, len(answered.Points)), 0.0
	for i := range answered.Points {
		values[i] = part.Known{Value: 0, Is: answered.Points[i].N > 0}
		if took != nil && i < len(took.Points) && took.Points[i].N > 0 {
			values[i].Value = took.Points[i].Mean
			most = max(most, took.Points[i].Mean)
		}
	}
	part.Bars(c, from-1-len(values), y, values, most, func(i int) part.Ink {
		if answered.Points[i].Min < 1 {
			return part.Coral
		}
		return part.Teal
	})
	return from - 1 - len(values)
}
