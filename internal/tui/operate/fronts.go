package operate

import (
	"fmt"

	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/tui/part"
)

// drawFronts shows the names in front of the deployment, and how many of those that serve there are up.
func (v *View) drawFronts(c *part.Canvas, r part.Rect, d *deployments.Deployment) int {
	y, some := r.Y, false
	if !v.past.IsZero() { // who was told of is known of now alone
		return y
	}
	for _, f := range v.fronts {
		ours, up, of := false, 0, len(f.Members)
		for i := range f.Members {
			ours = ours || f.Members[i].Deployment == d.ID
			if f.Members[i].Up {
				up++
			}
		}
		if !ours {
			continue
		}
		if !some {
			some = true
			c.Text(r.X, y, part.In(part.Steel).Strong(), "in front")
		}
		y++
		status := run.Standing
		switch {
		case up == 0:
			status = run.Failed
		case up < of:
			status = run.Held
		}
		word := fmt.Sprintf("%d of %d up", up, of)
		at := c.Text(r.X, y, part.In(part.InkOf(status)), c.Look.Mark(status))
		c.Cut(at+1, y, r.W-part.Width(word)-4, part.In(part.Text), f.Name)
		c.Right(r.X+r.W, y, part.In(part.InkOf(status)), word)
	}
	if some {
		y += 2
	}
	return y
}
