package part

import (
	"math"

	"andamio/internal/core/usage"
)

// LoadBar draws how full something is: used, this plan, free; w cells wide. What is more than there is ends in coral.
func LoadBar(c *Canvas, x, y, w int, l usage.Load) {
	cells := func(amount float64) int {
		if l.Total <= 0 {
			return 0
		}
		return int(math.Round(float64(w) * amount / l.Total))
	}
	used, both := min(cells(l.Used), w), min(cells(l.Used+l.Plan), w)
	if l.Plan > 0 && both == used && used < w { // what is planned is seen, however little
		both++
	}
	c.Across(x, y, w, In(Dim), c.Look.Glyphs.Forecast)
	c.Across(x, y, used, In(Steel), c.Look.Glyphs.Bar)
	ink := Sky
	if l.Used+l.Plan > l.Total+1e-6 {
		ink = Coral
	}
	c.Across(x+used, y, both-used, In(ink), c.Look.Glyphs.Bar)
}

// Bar draws an amount as a part of the most there is, w cells wide at most.
func Bar(c *Canvas, x, y, w int, amount, most float64, ink Ink) {
	if most > 0 {
		c.Across(x, y, max(int(math.Round(float64(w)*amount/most)), 1), In(ink), c.Look.Glyphs.Bar)
	}
}
