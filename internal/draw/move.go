package draw

import (
	"fmt"
	"math"
	"time"

	"andamio/internal/core/migrate"
	"andamio/internal/core/run"
)

// Rounds paints what was left to copy of a workload over time, on a logarithmic scale, with what is expected in ochre, and
// says for how many seconds it would not serve if it were cut over now; a negative number leaves that out.
func Rounds(title string, c migrate.Curve, down float64) *Picture {
	const w, h, left, top, bottom = 720.0, 360.0, 90.0, 60.0, 40.0
	return &Picture{W: w, H: h, paint: func(p *painter) {
		p.rect(0, 0, w, h, paper)
		p.text(24, 30, w-48, 14, true, ink, title)
		p.text(24, 46, w-48, 9, false, dim, "what is left to copy, on a logarithmic scale; ochre: expected")
		low, high := c.Scale()
		y := func(bytes float64) float64 {
			share := (math.Log10(max(bytes, low)) - math.Log10(low)) / max(math.Log10(high)-math.Log10(low), 1e-9)
			return h - bottom - share*(h-top-bottom)
		}
		x := func(t time.Duration) float64 {
			return left + float64(t)/float64(max(c.Whole, time.Millisecond))*(w-left-24)
		}
		for v := low; v <= high*1.001; v *= 10 {
			p.line(left, y(v), w-24, y(v), 0.4, pale[run.Planned])
			p.textRight(left-8, y(v)+3, left-20, 9, dim, migrate.Bytes(v))
		}
		for _, s := range c.Stretches {
			color := status[run.UnderWay]
			if s.Forecast {
				color = ochre
			}
			p.rect(x(s.From), y(s.Left)-3, max(x(s.To)-x(s.From), 2), 6, color)
		}
		if c.Now > 0 {
			p.line(x(c.Now), top, x(c.Now), h-bottom, 1, ink)
			p.text(min(x(c.Now)+4, w-52), top-6, 48, 9, false, ink, map[bool]string{true: "the end", false: "now"}[c.Now == c.Whole])
		}
		if down >= 0 {
			p.textRight(w-24, 46, 300, 9, ink, fmt.Sprintf("if cut over now, it does not serve for about %.1f s", down))
		}
		for i := range 5 {
			t := c.Whole * time.Duration(i) / 4
			p.text(x(t), h-bottom+16, 80, 9, false, dim, t.Round(100*time.Millisecond).String())
		}
	}}
}

// RunBook paints the run-book of a workload.
func RunBook(title string, book []migrate.Entry) *Picture {
	const w, row, top = 560.0, 20.0, 56.0
	h := top + row*float64(len(book)) + 20
	return &Picture{W: w, H: h, paint: func(p *painter) {
		p.rect(0, 0, w, h, paper)
		p.text(24, 30, w-48, 14, true, ink, title)
		for i, e := range book {
			y := top + row*float64(i)
			x := 24.0
			if e.Inner {
				x += 18
			}
			p.mark(x, y, 9, e.Status)
			p.text(x+18, y+9, w-x-150, 10, e.Waits, ink, e.Title)
			took := e.Took
			text := took.Round(100 * time.Millisecond).String()
			switch {
			case took == 0 && e.Status == run.Standing:
				text = ""
			case took == 0:
				text = "about " + e.Expected.Round(100*time.Millisecond).String()
			}
			if e.Note != "" {
				text = e.Note
			}
			p.textRight(w-24, y+9, 130, 9, dim, text)
		}
	}}
}
