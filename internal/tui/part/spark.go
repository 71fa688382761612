package part

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// eighths are blocks of growing height.
var eighths = []rune(" ▁▂▃▄▅▆▇█")

// Spark draws amounts as bars side by side, from the bottom of h rows up.
func Spark(c *Canvas, x, y, h0, h int, amounts []float64, ink Ink) {
	most := slices.Max(amounts)
	if most <= 0 {
		most = 1
	}
	for i, a := range amounts {
		filled := int(math.Round(a / most * float64(h*8)))
		if a > 0 && filled == 0 {
			filled = 1
		}
		for row := range h {
			part := min(max(filled-(h-1-row)*8, 0), 8)
			r := eighths[part]
			if c.Look.ascii && part > 0 {
				r = '#'
			}
			if i < h0 && r != ' ' {
				c.Rune(x+i, y+row, In(ink), r)
			}
		}
	}
}

// Line draws an amount as a thin line, w cells for the most there is.
func Line(c *Canvas, x, y, w int, amount, most float64, ink Ink) {
	if most > 0 && w > 0 {
		c.Text(x, y, In(ink), strings.Repeat(string(c.Look.Glyphs.Rule), max(int(math.Round(float64(w)*amount/most)), 1)))
	}
}

// Span is a time in its largest unit.
func Span(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	case d >= 2*time.Minute:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d s", int(d.Seconds()))
}
