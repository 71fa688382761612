package move

import (
	"fmt"
	"math"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/moves"
	"andamio/internal/tui/part"
)

// either is the move that is shown, or the one that is drafted.
func (v *View) either() *moves.Move {
	if m := v.shown(); m != nil {
		return m
	}
	if v.draft != nil {
		return v.draft.Move
	}
	return nil
}

// fromCopies says what a workload begins with that fails over to its copies, and what is lost.
func (p *page) fromCopies(r part.Rect, m *moves.Move) {
	p.c.Text(r.X, r.Y, p.ink(part.Dim).Strong(), "nothing is copied any more")
	y := r.Y + 2
	say := func(ink part.Ink, text string) {
		for _, row := range part.Wrap(text, r.W-2) {
			if y < r.Y+r.H {
				p.c.Text(r.X, y, p.ink(ink), row)
				y++
			}
		}
		y++
	}
	pl := p.v.planOf()
	if pl == nil {
		return
	}
	if s := pl.Step(op.Restore.On(p.v.selected())); s != nil {
		if at := change.MomentOf(s.Restoring.Set); !at.IsZero() {
			say(part.Text, "It begins with what its copies held "+part.Age(at, p.now)+", "+at.Local().Format("Mon 2 Jan 15:04")+".")
		}
	}
	say(part.Coral, "What was written since then is lost where it goes on. It stays where it was, until that is committed.")
	for id, from := range m.From {
		if pl.Step(op.Halt.On(id+"@"+from)) == nil && pl.Resource(id+"@"+from) != nil {
			say(part.Violet, from+" does not answer: what runs there is switched off as soon as it does, while andamio serve goes on.")
			break
		}
	}
	say(part.Dim, "Going back copies what is otherwise by then.")
}

// chart draws what is left to copy of the selected workload, round by round, with what is expected to the right of now.
func (p *page) chart(r part.Rect) {
	if m := p.v.either(); m != nil && m.Request.Mode == change.FromCopy {
		p.fromCopies(r, m)
		return
	}
	id := p.v.selected()
	state := p.v.state
	if p.v.shown() == nil {
		state = nil
	}
	c := migrate.CurveOf(state, id, p.v.loadOf(id), p.now)
	x := p.c.Text(r.X, r.Y, p.ink(part.Dim).Strong(), "what is left to copy")
	p.c.Cut(x+2, r.Y, r.W-24, p.ink(part.Dim), "logarithmic · dots: expected")
	if c.Whole <= 0 || c.Most <= 0 {
		p.c.Text(r.X, r.Y+2, p.ink(part.Dim), "nothing has been copied yet")
		return
	}
	box := part.Rect{X: r.X + 8, Y: r.Y + 1, W: r.W - 10, H: r.H - 4}
	low, high := c.Scale()
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
		p.c.Right(box.X-2, row(v), p.ink(part.Dim), migrate.Bytes(v))
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
	if x+20 > box.X+box.W {
		x = max(at-20, box.X+1)
	}
	y := box.Y + box.H - 4 // below what was copied so far, which falls from the left
	p.c.Text(x, y, p.ink(part.Dim), "if cut over now")
	p.c.Text(x, y+1, p.ink(part.Text).Strong(), "not serving "+span(p.standstill(c.Pause)))
}

// standstill is for how many seconds the selected workload would not serve if it were cut over now.
func (p *page) standstill(last float64) float64 {
	if pl := p.v.planOf(); pl != nil {
		return migrate.DownWith(pl, p.v.selected(), last)
	}
	return last
}

func clock(t time.Duration) string {
	if t < time.Minute {
		return fmt.Sprintf("%.1f s", t.Seconds())
	}
	return fmt.Sprintf("%d:%02d", int(t.Minutes()), int(t.Seconds())%60)
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
	p.factLines(part.Rect{X: r.X + 1, Y: y + 1, W: r.W - 2, H: r.Y + r.H - y - 1})
}

// factLines lists what will be otherwise for the selected workload, a line each, as far as there is room.
func (p *page) factLines(r part.Rect) {
	lanes := p.lanesOf()
	if len(lanes) == 0 || r.H < 1 {
		return
	}
	for i, d := range p.facts(lanes[min(p.v.pick, len(lanes)-1)]) {
		if i >= r.H {
			return
		}
		p.c.Cut(r.X, r.Y+i, 22, p.ink(part.Dim), d.What)
		ink := map[string]part.Ink{"worse": part.Ochre, "better": part.Teal, "": part.Text}[d.Weight]
		x := p.c.Cut(r.X+23, r.Y+i, 24, p.ink(part.Steel), d.Here)
		p.c.Cut(x, r.Y+i, r.X+r.W-x, p.ink(ink), " → "+d.There)
	}
}
