package move

import (
	"fmt"

	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/run"
	"andamio/internal/tui/part"
)

// modes says of each mode what it means.
var modes = []struct {
	mode change.Mode
	says string
}{
	{change.Warm, "copied while it runs, stops for the last round"},
	{change.Live, "answers throughout, held up for the last round"},
	{change.Cold, "stops first, then is copied"},
}

// planning draws the two banks to choose from: workloads on the one, sites on the other, and how between them.
func (p *page) planning() {
	v := p.v
	p.c.Text(p.r.X+1, p.r.Y, p.ink(part.Text).Strong(), "a new move")
	p.c.Cut(p.r.X+14, p.r.Y, p.r.W-16, p.ink(part.Dim), "mark what is to be moved, choose where it goes, and work it out; nothing is done before you have seen it")
	side := p.r.W * 36 / 100
	top := part.Rect{X: p.r.X, Y: p.r.Y + 2, W: p.r.W, H: p.r.H - 3}
	left := part.Rect{X: top.X, Y: top.Y, W: side, H: top.H}
	right := part.Rect{X: top.X + top.W - side, Y: top.Y, W: side, H: top.H}
	mid := part.Rect{X: left.X + side + 2, Y: top.Y, W: top.W - 2*side - 4, H: top.H}
	p.c.Fill(left, part.Panel)
	p.c.Fill(right, part.Panel)
	p.c.Downward(left.X+side, top.Y, top.H, p.ink(part.Steel), p.c.Look.Glyphs.Post)
	p.c.Downward(right.X-1, top.Y, top.H, p.ink(part.Steel), p.c.Look.Glyphs.Post)
	if len(v.rows) == 0 {
		p.c.Cut(left.X+2, left.Y+1, left.W-4, p.ink(part.Dim).On(part.Panel), "nothing stands that could be moved; deploy something first")
	}
	p.sources(left)
	p.targets(right)
	p.how(mid)
}

// sources lists what stands and is on, by deployment.
func (p *page) sources(r part.Rect) {
	v := p.v
	on := func(i part.Ink) part.Style { return p.ink(i).On(part.Panel) }
	last := -1
	y := r.Y + 1
	from := max(v.cursor-(r.H-8), 0)
	for i := from; i < len(v.rows) && y < r.Y+r.H-1; i++ {
		row := v.rows[i]
		d := &v.deployments[row.deployment]
		if row.deployment != last {
			last = row.deployment
			p.c.Cut(r.X+2, y, r.W-4, on(part.Dim), fmt.Sprintf("%s  deployment %d", d.Name, d.ID))
			y++
		}
		res := d.Stand.Plan.Resource(row.id)
		if i == v.cursor && !v.onTarget {
			p.c.Fill(part.Rect{X: r.X, Y: y, W: r.W, H: 1}, part.OnSelected)
			p.c.Rune(r.X, y, p.ink(part.Ochre).Strong().On(part.OnSelected), p.c.Look.Glyphs.PickLeft)
		}
		mark := " "
		if v.marked[row.id] {
			mark = "▣"
		}
		p.c.Text(r.X+2, y, p.ink(part.Ochre), mark)
		p.c.Text(r.X+4, y, p.ink(part.InkOf(run.Standing)), p.c.Look.Mark(run.Standing))
		x := p.c.Cut(r.X+6, y, 22, p.ink(part.Text), row.id)
		p.c.Cut(max(x+2, r.X+26), y, 14, p.ink(part.Steel), res.Site)
		p.c.Cut(r.X+40, y, r.W-41, p.ink(part.Dim), res.Detail)
		at := i
		v.spots = append(v.spots, spot{part.Rect{X: r.X, Y: y, W: r.W, H: 1}, func() { v.cursor, v.onTarget = at, false }})
		y++
	}
}

// targets lists the sites with what is left there, and whether they are paired with where the workloads are.
func (p *page) targets(r part.Rect) {
	v := p.v
	on := func(i part.Ink) part.Style { return p.ink(i).On(part.Panel) }
	y := r.Y + 1
	for i, name := range v.sites {
		if y+2 > r.Y+r.H {
			return
		}
		s := v.estate.Site(name)
		if i == v.to {
			ink := part.Ochre
			if !v.onTarget {
				ink = part.Steel
			}
			p.c.Rune(r.X, y, on(ink).Strong(), p.c.Look.Glyphs.PickLeft)
		}
		x := p.c.Text(r.X+2, y, on(part.Text).Strong(), name)
		p.c.Cut(x+2, y, r.W-(x-r.X)-3, on(part.Dim), string(s.Kind)+" · "+s.Title)
		p.c.Cut(r.X+2, y+1, r.W-4, on(part.Steel), free(s)+" free")
		text, ink := p.pairing(name)
		p.c.Cut(r.X+2, y+2, r.W-4, on(ink), text)
		at := i
		v.spots = append(v.spots, spot{part.Rect{X: r.X, Y: y, W: r.W, H: 3}, func() { v.to, v.onTarget = at, true }})
		y += 4
	}
}

func free(s *estate.Site) string {
	var sum estate.Capacity
	for _, r := range s.Rooms() {
		sum = sum.Plus(r.Free)
	}
	return sum.String()
}

// pairing says how a site is paired with where the chosen workloads are.
func (p *page) pairing(to string) (string, part.Ink) {
	deployment, ids := p.v.chosen()
	if deployment < 0 {
		return "", part.Dim
	}
	text, ink := "", part.Dim
	for _, id := range ids {
		from := p.v.deployments[deployment].Stand.Plan.Resource(id).Site
		if from == to {
			return id + " is here", part.Dim
		}
		pair := p.pairOf(from, to)
		if pair == nil {
			return "not paired with " + from, part.Ochre
		}
		if !pair.Well() {
			return pair.Trouble(), part.Coral
		}
		if t := pair.Into(to); text == "" {
			text, ink = fmt.Sprintf("paired with %s: %.0f MB/s, %.0f ms", from, t.BytesPerSecond/1e6, float64(t.RoundTrip)/1e6), part.Teal
		}
	}
	return text, ink
}

func (p *page) pairOf(a, b string) *app.Pair {
	for i := range p.v.pairs {
		if x := &p.v.pairs[i]; x.A == min(a, b) && x.B == max(a, b) {
			return x
		}
	}
	return nil
}

// how says what has been chosen and what can be done with it.
func (p *page) how(r part.Rect) {
	v := p.v
	y := r.Y + 1
	_, ids := v.chosen()
	p.c.Text(r.X, y, p.ink(part.Dim).Strong(), "how")
	y += 2
	for _, m := range modes {
		ink, mark := part.Dim, " "
		if m.mode == v.mode {
			ink, mark = part.Text, "▸"
		}
		p.c.Text(r.X, y, p.ink(part.Ochre), mark)
		p.c.Text(r.X+2, y, p.ink(ink).Strong(), string(m.mode))
		for _, l := range part.Wrap(m.says, r.W-9) {
			p.c.Text(r.X+8, y, p.ink(part.Dim), l)
			y++
		}
		y++
	}
	if len(v.sites) > 0 && len(ids) > 0 {
		text := ids[0]
		if len(ids) > 1 {
			text = fmt.Sprintf("%d workloads, in waves", len(ids))
		}
		p.c.Cut(r.X, y, r.W, p.ink(part.Text), text+" → "+v.sites[v.to])
		y += 2
	}
	if v.window != "" {
		p.c.Cut(r.X, y, r.W, p.ink(part.Text), fmt.Sprintf("window: %g h, %s", v.hours, v.window))
		y += 2
	}
	switch {
	case v.drafting:
		p.c.Cut(r.X, y, r.W, p.ink(part.Sky), p.c.Look.Mark(run.UnderWay)+" measuring disks and links")
	case v.problem != "":
		for _, l := range part.Wrap(v.problem, r.W-2) {
			if y < r.Y+r.H {
				p.c.Text(r.X, y, p.ink(part.Coral), l)
			}
			y++
		}
	default:
		p.c.Text(r.X, y, p.ink(part.Ochre).Strong(), "enter")
		p.c.Cut(r.X+6, y, r.W-6, p.ink(part.Dim), "works it out")
		p.c.Text(r.X, y+1, p.ink(part.Ochre).Strong(), "p")
		p.c.Cut(r.X+6, y+1, r.W-6, p.ink(part.Dim), "pairs the sites")
		p.c.Text(r.X, y+2, p.ink(part.Ochre).Strong(), "m")
		p.c.Cut(r.X+6, y+2, r.W-6, p.ink(part.Dim), "cold, warm or live")
		p.c.Text(r.X, y+3, p.ink(part.Ochre).Strong(), "t")
		p.c.Cut(r.X+6, y+3, r.W-6, p.ink(part.Dim), "when copying may go on")
	}
}
