package part

import "time"

// PastBar says over a row that what is shown was, at a moment, and is not.
func PastBar(c *Canvas, r Rect, past, now time.Time) {
	c.Fill(Rect{X: r.X, Y: r.Y, W: r.W, H: 1}, OnHeld)
	form := "15:04:05"
	if now.Sub(past) > 20*time.Hour {
		form = "Mon 2 Jan 15:04"
	}
	x := c.Text(r.X+1, r.Y, In(Violet).Strong(), "as it was at "+past.Local().Format(form))
	keys := "{ back  } forth  esc now"
	c.Cut(x+3, r.Y, r.W-(x-r.X)-Width(keys)-6, In(Dim), Age(past, now)+" · from the journal and what was measured · nothing can be done in the past")
	c.Right(r.X+r.W-1, r.Y, In(Ochre), keys)
}

// Times draws a line of time with marks, and the times below it.
func Times(c *Canvas, r Rect, marks []Mark, from, to, now time.Time) {
	Marks(c, r.X, r.Y, r.W, marks)
	long := to.Sub(from)
	form := "15:04"
	if long > 36*time.Hour {
		form = "2 Jan 15:04"
	}
	for k := range 4 {
		text := from.Add(time.Duration(k) * long / 4).Local().Format(form)
		x := r.X + k*r.W/4
		if k > 0 {
			x -= Width(text) / 2
		}
		c.Text(x, r.Y+1, In(Dim), text)
	}
	last := "now"
	if now.Sub(to) > time.Minute {
		last = to.Local().Format(form)
	}
	c.Right(r.X+r.W, r.Y+1, In(Dim), last)
}

// PastLine draws the line of time up to now, over a span, with marks and where on it what is shown was. Somebody who went further back than that sees a longer one. The marks are asked for with the time that it covers.
func PastLine(c *Canvas, r Rect, past, now time.Time, over time.Duration, marks func(from, to time.Time) []Mark) {
	from := now.Add(-over)
	if past.Before(from) {
		from = past.Add(-over / 4)
	}
	where := float64(past.Sub(from)) / float64(now.Sub(from))
	x := r.X + 1 + min(int(where*float64(r.W-2)), r.W-3)
	c.Text(min(max(x-2, r.X+1), r.X+r.W-6), r.Y, In(Violet).Strong(), past.Local().Format("15:04"))
	all := append(marks(from, now), Mark{At: where, Glyph: string(c.Look.Glyphs.PickLeft), Ink: Violet})
	Times(c, Rect{X: r.X + 1, Y: r.Y + 1, W: r.W - 2, H: 2}, all, from, now, now)
}

// PastRows is how many rows [PastLine] takes.
const PastRows = 3
