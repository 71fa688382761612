package part

import (
	"math"

	"andamio/internal/core/usage"
)

// LoadBar draws how full something is: used, paused, held, this plan, free; w cells wide. What is more than there is ends in coral.
func LoadBar(c *Canvas, x, y, w int, l usage.Load) {
	cells := func(amount float64) int {
		if l.Total <= 0 {
			return 0
		}
		return int(math.Round(float64(w) * amount / l.Total))
	}
	c.Across(x, y, w, In(Dim), c.Look.Glyphs.Forecast)
	sum, at := 0.0, 0
	for _, part := range []struct {
		amount float64
		ink    Ink
		thin   bool // it is seen, however little it is
	}{{l.Used, Steel, false}, {l.Paused, Violet, true}, {l.Held, Teal, true}, {l.Plan, Sky, true}} {
		sum += part.amount
		to := min(cells(sum), w)
		if part.thin && part.amount > 0 && to == at && at < w {
			to++
		}
		if sum > l.Total+1e-6 && part.amount > 0 && part.ink != Steel {
			part.ink = Coral
		}
		c.Across(x+at, y, to-at, In(part.ink), c.Look.Glyphs.Bar)
		at = max(at, to)
	}
}

// Bar draws an amount as a part of the most there is, w cells wide at most.
func Bar(c *Canvas, x, y, w int, amount, most float64, ink Ink) {
	if most > 0 {
		c.Across(x, y, max(int(math.Round(float64(w)*amount/most)), 1), In(ink), c.Look.Glyphs.Bar)
	}
}
