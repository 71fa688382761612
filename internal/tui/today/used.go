package today

import (
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/tui/part"
)

// usedOver is over what time it is shown what deployments use, usedCells in how many cells.
const (
	usedOver  = time.Hour
	usedCells = 20
)

// usedHead is what stands above it.
const usedHead = "cores in use in the last hour"

// used draws what a deployment uses of the cores that it has, from x on.
func (d *page) used(deployment int64, x int) {
	o, known := d.v.wholes[deployment]
	if !known || x+usedCells+6 > d.r.X+d.r.W {
		return
	}
	l := o.Line(measure.WholeCores)
	if l == nil {
		return
	}
	points := measure.Squeeze(l.Points, usedCells)
	part.Measured(d.c, x, d.y, usedCells, l.Name, points, l.Limit)
	if l.Limit > 0 {
		share := measure.Measure{Unit: measure.Share}
		d.c.Text(x+usedCells+1, d.y, part.In(part.Dim), alarm.Figure(&share, l.Now/l.Limit, 0))
	}
}
