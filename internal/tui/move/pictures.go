package move

import (
	"fmt"
	"math"
	"strings"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/migrate"
	"andamio/internal/tui/part"
)

// chart draws what is left to copy of the selected workload, round by round, with what is expected to the right of now.
func (p *page) chart(r part.Rect) {
	id := p.v.selected()
	state := p.v.state
	if p.v.shown() == nil {
		state = nil
	}
	c := migrate.CurveOf(state, id, p.v.loadOf(id), p.now)
	x := p.c.Text(r.X, r.Y, p.ink(part.Dim).Strong(), "what is left to copy")
	p.c.Cut(x+2, r.Y, r.W-24, p.ink(part.Dim), "MB, logarithmic · pale: expected")
	if c.Whole <= 0 || c.Most <= 0 {
		p.c.Text(r.X, r.Y+2, p.ink(part.Dim), "nothing has been copied yet")
		return
	}
	box := part.Rect{X: r.X + 8, Y: r.Y + 1, W: r.W - 10, H: r.H - 4}
	low, high := 1e5, math.Pow(10, math.Ceil(math.Log10(c.Most)))
	for _, s := range c.Stretches {
		low = min(low, max(s.Left, 4096))
	}
	low = math.Pow(10, math.Floor(math.Log10(low)))
	row := func(bytes float64) int {
		share := (math.Log10(max(bytes, low)) - math.Log10(low)) / max(math.Log10(high)-math.Log10(low), 1e-9)
		return box.Y + int(math.Round((1-share)*float64(box.H-1)))
	}
	col := func(t time.Duration) int {
		return box.X + int(float64(t)/float64(c.Whole)*float64(box.W-1))
	}
	p.c.Downward(box.X-1, box.Y, box.H, p.ink(part.Steel), p.c.Look.Glyphs.Down)
	p.c.Across(box.X-1, box.Y+box.H, box.W+1, p.ink(part.Steel), p.c.Look.Glyphs.Thin)
	for v := high; v >= low*0.999; v /= 10 {
		p.c.Right(box.X-2, row(v), p.ink(part.Dim), fmt.Sprintf("%g", v/1e6))
	}
	for _, s := range c.Stretches {
		ink, g := part.Sky, p.c.Look.Glyphs.Bar
		if s.Forecast {
			ink, g = part.Ochre, p.c.Look.Glyphs.Dot
		}
		p.c.Across(col(s.From), row(s.Left), max(col(s.To)-col(s.From), 1), p.ink(ink), g)
	}
	if c.Now > 0 {
		at := min(col(c.Now), box.X+box.W-1)
		p.c.Downward(at, box.Y, box.H, p.ink(part.Text), p.c.Look.Glyphs.Now)
		p.pause(c, at, box)
	}
	for i := range 4 {
		t := c.Whole * time.Duration(i) / 4
		p.c.Text(col(t), box.Y+box.H+1, p.ink(part.Dim), clock(t))
	}
}

// pause says what would be if it were cut over now, where there is room beside the line of now.
func (p *page) pause(c migrate.Curve, at int, box part.Rect) {
	if c.Pause < 0 || c.Whole == c.Now {
		return
	}
	x := at + 2
	if x+16 > box.X+box.W {
		x = max(at-18, box.X)
	}
	p.c.Text(x, box.Y, p.ink(part.Text), "now")
	p.c.Text(x, box.Y+1, p.ink(part.Dim), "if cut over now")
	p.c.Text(x, box.Y+2, p.ink(part.Text).Strong(), fmt.Sprintf("%.2f s to copy", c.Pause))
}

func clock(t time.Duration) string {
	if t < time.Minute {
		return fmt.Sprintf("%.1f s", t.Seconds())
	}
	return fmt.Sprintf("%d:%02d", int(t.Minutes()), int(t.Seconds())%60)
}

// calendar draws the waves, each with when it can be and how long it takes.
func (p *page) calendar(r part.Rect) {
	var waves []migrate.Wave
	var states []app.WaveState
	if m := p.v.shown(); m != nil {
		waves, states = m.Waves, m.States
	} else {
		waves, states = p.v.draft.Move.Waves, p.v.draft.Move.States
	}
	x := p.c.Text(r.X, r.Y, p.ink(part.Dim).Strong(), "waves")
	p.c.Cut(x+2, r.Y, r.W-10, p.ink(part.Dim), "what is needed moves first; bars: how long each takes")
	longest := 1.0
	for _, w := range waves {
		longest = max(longest, w.Seconds)
	}
	y := r.Y + 2
	for i, w := range waves {
		if y+2 > r.Y+r.H {
			p.c.Text(r.X, y, p.ink(part.Dim), fmt.Sprintf("and %d more", len(waves)-i))
			return
		}
		state := states[i]
		p.c.Text(r.X, y, p.ink(inkOf(state)), p.c.Look.Mark(markOf(state)))
		at := p.c.Text(r.X+2, y, p.ink(part.Text).Strong(), fmt.Sprintf("wave %d", i+1))
		at = p.c.Text(at+2, y, p.ink(inkOf(state)), string(state))
		if begins := p.opens(i); begins != "" {
			at = p.c.Text(at+2, y, p.ink(part.Dim), begins)
		}
		if w.TooLong {
			p.c.Text(at+2, y, p.ink(part.Coral), "longer than a window")
		}
		if w.Seconds > 0 {
			p.c.Right(r.X+r.W, y, p.ink(part.Dim), span(w.Seconds))
			part.Bar(p.c, r.X+2, y+1, r.W/3, w.Seconds, longest, part.Sky)
		}
		p.c.Cut(r.X+4+r.W/3, y+1, r.W-r.W/3-5, p.ink(part.Dim), strings.Join(w.Instances, ", "))
		y += 3
	}
}

// opens says when the window of a wave opens: each wave has the next one.
func (p *page) opens(wave int) string {
	if d := p.v.draft; d != nil && p.v.shown() == nil && wave < len(d.Windows) {
		return d.Windows[wave].From.Format("Mon 2 Jan 15:04")
	}
	return ""
}

// lanes draws the workloads one below the other, where there is no room for two banks.
func (p *page) lanes(r part.Rect) {
	y := r.Y
	for i, l := range p.fitting(p.lanesOf(), r.H-2) {
		if y >= r.Y+r.H {
			return
		}
		if i == 0 || l.id == p.v.selected() {
			p.c.Text(r.X+1, y, p.ink(part.Dim), l.from+" → "+l.to)
			y++
		}
		if l.id == p.v.selected() {
			p.c.Rune(r.X, y, p.ink(part.Ochre).Strong(), p.c.Look.Glyphs.PickLeft)
		}
		p.c.Text(r.X+1, y, p.ink(part.InkOf(l.hereMark)), p.c.Look.Mark(l.hereMark))
		x := p.c.Cut(r.X+3, y, 20, p.ink(part.Text).Strong(), l.id)
		x = p.c.Text(x+1, y, p.ink(part.Dim), l.hereWord+" → ")
		x = p.c.Text(x, y, p.ink(part.InkOf(l.thMark)), p.c.Look.Mark(l.thMark)+" "+l.thWord)
		p.c.Cut(x+2, y, r.X+r.W-x-3, p.ink(part.Dim), l.there)
		for _, d := range l.disks {
			if y++; y >= r.Y+r.H {
				return
			}
			p.c.Cut(r.X+3, y, 18, p.ink(part.Steel), d.title)
			p.copy(part.Rect{X: r.X + 22, Y: y, W: r.W - 36, H: 1}, y, d)
			p.c.Right(r.X+r.W-1, y, p.ink(part.Dim), d.note)
		}
		y++
	}
}
