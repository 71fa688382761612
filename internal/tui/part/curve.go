package part

import (
	"math"
	"strings"
)

// Known is a value, and whether it is known.
type Known struct {
	Value float64
	Is    bool
}

// Bars draws values as bars of one row, each as high as its part of most, in the ink that it has; what is not known is left out.
func Bars(c *Canvas, x, y int, values []Known, most float64, ink func(i int) Ink) {
	if most <= 0 {
		most = 1
	}
	for i, v := range values {
		if !v.Is {
			continue
		}
		part := min(max(int(math.Round(8*v.Value/most)), 1), 8)
		r := eighths[part]
		if c.Look.ascii {
			r = []rune(".:|")[min((part-1)/3, 2)]
		}
		c.Text(x+i, y, In(ink(i)), string(r)) // which keeps what ground there is
	}
}

// Span3 is the least, the mean and the most of a span of time, and whether they are known.
type Span3 struct {
	Low, Mid, High float64
	Is             bool
	// From and To are what is usual then; nothing is known of that where both are 0.
	From, To float64
}

// Curve draws spans as a line of dots through their means, two columns of dots a cell and four rows, with what is usual dimly behind it, or where that is not known the range from the least to the most. Values go from 0 to most.
func Curve(c *Canvas, r Rect, spans []Span3, most float64, ink func(i int) Ink) {
	if r.W <= 0 || r.H <= 0 || most <= 0 {
		return
	}
	rows := r.H * 4
	row := func(v float64) int { // from the top
		return min(max(rows-1-int(math.Round(v/most*float64(rows-1))), 0), rows-1)
	}
	for cell := range r.W {
		var line, band [64]byte // as high as any screen is, for a curve
		known, at := false, 0
		for half := range 2 {
			i := cell*2 + half
			if i >= len(spans) || !spans[i].Is {
				continue
			}
			known, at = true, i
			mid := row(spans[i].Mid)
			line[min(mid/4, 63)] |= dot(half, mid%4)
			from, to := mid, mid
			if i > 0 && spans[i-1].Is { // so that the line is one
				from, to = min(mid, row(spans[i-1].Mid)), max(mid, row(spans[i-1].Mid))
			}
			for k := from; k <= to; k++ {
				line[min(k/4, 63)] |= dot(half, k%4)
			}
			high, low := spans[i].High, spans[i].Low
			if spans[i].To > 0 {
				high, low = spans[i].To, spans[i].From
			}
			for k := row(high); k <= row(low); k++ {
				band[min(k/4, 63)] |= dot(half, k%4)
			}
		}
		if !known {
			continue
		}
		for y := range min(r.H, 64) {
			switch {
			case line[y] != 0:
				c.Rune(r.X+cell, r.Y+y, In(ink(at)), dots(c, line[y]))
			case band[y] != 0:
				c.Rune(r.X+cell, r.Y+y, In(Dim), dots(c, band[y]))
			}
		}
	}
}

// dot is the bit of a dot of a braille cell: column 0 or 1, row 0 to 3 from the top (Unicode, Braille Patterns).
func dot(column, row int) byte {
	return [2][4]byte{{0x01, 0x02, 0x04, 0x40}, {0x08, 0x10, 0x20, 0x80}}[column][row]
}

func dots(c *Canvas, bits byte) rune {
	if c.Look.ascii {
		return '*'
	}
	return rune(0x2800) + rune(bits)
}

// Marks draws marks on a line of w cells: where along it, from 0 to 1, and with what.
func Marks(c *Canvas, x, y, w int, marks []Mark) {
	c.Text(x, y, In(Dim), strings.Repeat(string(c.Look.Glyphs.Thin), max(w, 0)))
	for _, m := range marks {
		if m.At >= 0 && m.At <= 1 && w > 0 {
			c.Text(x+min(int(m.At*float64(w)), w-1), y, In(m.Ink).Strong(), m.Glyph)
		}
	}
}

// Mark is something that happened along a line.
type Mark struct {
	At    float64
	Glyph string
	Ink   Ink
}
