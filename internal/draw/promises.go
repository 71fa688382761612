package draw

import (
	"fmt"
	"image/color"
	"time"

	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
)

// mostPromises is how many promises a report draws; further ones are counted.
const mostPromises = 40

// Promises draws how promises were kept within a period: one in a row, with each time at which something was due where it was.
func Promises(r *promise.Report) *Picture {
	const top, row, left, right, counts = 96.0, 34.0, 24.0, 24.0, 132.0
	lines := r.Lines
	more := max(len(lines)-mostPromises, 0)
	lines = lines[:len(lines)-more]
	h := top + row*float64(max(len(lines), 1)) + 48
	whole := r.To.Sub(r.From).Seconds()
	width := chartW - left - right - counts
	return &Picture{W: chartW, H: h, paint: func(p *painter) {
		p.rect(0, 0, chartW, h, paper)
		p.text(left, 30, chartW-48, 15, true, ink, fmt.Sprintf("promises, %s to %s", r.From.Format("2 January 2006"), r.To.Add(-1).Format("2 January 2006")))
		p.text(left, 50, chartW-48, 10, false, dim, kept(r))
		x := left
		for _, s := range []promise.State{promise.Kept, promise.Late, promise.Broken, promise.Held, promise.Going} {
			p.rect(x, 64, 10, 10, stateFill(s))
			x = p.text(x+14, 73, 100, 9, false, dim, string(s)) + 14
		}
		if len(lines) == 0 {
			p.text(left, top+14, width, 10, false, dim, "nothing is promised")
		}
		for i := range lines {
			l := &lines[i]
			y := top + row*float64(i)
			name := printable.Clean(l.Name) + ": " + printable.Clean(l.Words)
			if l.Level != "" {
				name += " (" + printable.Clean(l.Level) + ")"
			}
			p.text(left, y+11, width, 9, false, ink, name)
			p.line(left, y+22, left+width, y+22, 0.5, free)
			for _, s := range []promise.State{promise.Kept, promise.Going, promise.Held, promise.Late, promise.Broken} { // the worst on top, where they lie close
				for _, m := range l.Marks {
					if m.State == s {
						p.rect(left+width*m.At.Sub(r.From).Seconds()/whole, y+16, 3, 12, stateFill(s))
					}
				}
			}
			p.textRight(chartW-right, y+25, counts-12, 9, dim, counted(l))
		}
		for k := range 5 {
			at := r.From.Add(time.Duration(k) * r.To.Sub(r.From) / 4)
			p.text(min(left+width*float64(k)/4, left+width-40), h-30, 60, 8, false, dim, at.Format("2 Jan 15:04"))
		}
		if more > 0 {
			p.text(left, h-16, width, 9, false, dim, fmt.Sprintf("and %s", printable.Count(more, "more promise")))
		}
	}}
}

// kept says how often of how many times promises were kept.
func kept(r *promise.Report) string {
	due, kept, late, broken := r.Sum()
	if due == 0 {
		return "nothing was due"
	}
	return fmt.Sprintf("due %s: %d kept, %d late, %d broken; %.1f %% on time", printable.Count(due, "time"), kept, late, broken, 100*float64(kept)/float64(due))
}

func counted(l *promise.Line) string {
	if len(l.Marks) == 0 {
		return "nothing was due"
	}
	text := fmt.Sprintf("%d kept, %d late, %d broken", l.Kept, l.Late, l.Broken)
	if l.Unproven {
		text = "unproven: " + text
	}
	return text
}

func stateFill(s promise.State) color.NRGBA {
	switch s {
	case promise.Kept:
		return teal
	case promise.Late:
		return ochre
	case promise.Broken:
		return coral
	case promise.Held:
		return violet
	}
	return sky
}
