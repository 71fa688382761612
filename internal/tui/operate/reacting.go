package operate

import (
	"cmp"

	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reactions"
	"andamio/internal/tui/part"
)

// reactingTo are the reactions to a deployment.
func (v *View) reactingTo(d *deployments.Deployment) []*reactions.Status {
	var out []*reactions.Status
	for i := range v.reacting {
		if v.reacting[i].Deployment == d.ID {
			out = append(out, &v.reacting[i])
		}
	}
	return out
}

// stands is how a reaction stands to its deployment, in a few words.
func stands(s *reactions.Status) (run.Status, string) {
	word := "does"
	if s.Mode == react.Propose {
		word = "proposes"
	}
	switch {
	case !s.State.Called.IsZero():
		return run.Failed, "calls a person"
	case s.State.Says != "":
		return run.UnderWay, word
	}
	return run.Standing, word
}

// mostWhy is over how many lines it is said why a reaction does something, or does not yet.
const mostWhy = 4

// drawReacting shows what is done by itself about how the deployment is, and why, or what holds it.
func (v *View) drawReacting(c *part.Canvas, r part.Rect, d *deployments.Deployment) int {
	all := v.reactingTo(d)
	if len(all) == 0 {
		return r.Y
	}
	y := r.Y
	c.Text(r.X, y, part.In(part.Steel).Strong(), "done by itself")
	for _, s := range all {
		y++
		status, word := stands(s)
		at := c.Text(r.X, y, part.In(part.InkOf(status)), c.Look.Mark(status))
		c.Cut(at+1, y, r.W-part.Width(word)-4, part.In(part.Text), s.Reaction)
		c.Right(r.X+r.W, y, part.In(part.InkOf(status)), word)
		why := cmp.Or(s.State.CalledFor, s.State.Says)
		if why == "" {
			continue
		}
		rows := part.Wrap(why, r.W-2)
		if len(rows) > mostWhy {
			rows[mostWhy-1] += " " + rows[mostWhy] // which is cut, and seen to be
		}
		for _, row := range rows[:min(len(rows), mostWhy)] {
			y++
			c.Cut(r.X+2, y, r.W-2, part.In(part.Dim), row)
		}
	}
	return y + 2
}
