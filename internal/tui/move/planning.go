package move

import (
	"fmt"
	"strings"

	"andamio/internal/core/run"
	"andamio/internal/service/sites"
	"andamio/internal/tui/part"
)

// planning draws the two banks to choose from: workloads on the one, sites on the other, and how between them.
func (p *page) planning() {
	v := p.v
	x := p.c.Text(p.r.X+1, p.r.Y, p.ink(part.Text).Strong(), "a new move")
	p.c.Cut(x+3, p.r.Y, p.r.W-(x-p.r.X)-4, p.ink(part.Dim), v.hint())
	top := part.Rect{X: p.r.X, Y: p.r.Y + 2, W: p.r.W, H: p.r.H - 3}
	if p.r.W < wideFrom {
		p.planningNarrow(top)
		return
	}
	side := p.r.W * 36 / 100
	left := part.Rect{X: top.X, Y: top.Y, W: side, H: top.H}
	right := part.Rect{X: top.X + top.W - side, Y: top.Y, W: side, H: top.H}
	mid := part.Rect{X: left.X + side + 2, Y: top.Y, W: top.W - 2*side - 4, H: top.H}
	p.c.Fill(left, part.Panel)
	p.c.Fill(right, part.Panel)
	p.c.Downward(left.X+side, top.Y, top.H, p.ink(part.Steel), p.c.Look.Glyphs.Post)
	p.c.Downward(right.X-1, top.Y, top.H, p.ink(part.Steel), p.c.Look.Glyphs.Post)
	p.sources(left)
	p.targets(right)
	p.how(mid)
}

// planningNarrow draws one bank and how, where there is no room for both banks.
func (p *page) planningNarrow(top part.Rect) {
	side := top.W * 45 / 100
	bank := part.Rect{X: top.X, Y: top.Y, W: side, H: top.H}
	p.c.Fill(bank, part.Panel)
	p.c.Downward(bank.X+side, top.Y, top.H, p.ink(part.Steel), p.c.Look.Glyphs.Post)
	if p.v.focus == onTargets {
		p.targets(bank)
	} else {
		p.sources(bank)
	}
	p.how(part.Rect{X: top.X + side + 2, Y: top.Y, W: top.W - side - 2, H: top.H})
}

// hint says what is to be done where the arrows are.
func (v *View) hint() string {
	switch v.focus {
	case onSettings:
		all := v.settings()
		s := all[min(v.knob, len(all)-1)]
		return s.name + ": " + s.says
	case onTargets:
		return "choose where it goes; nothing is done before you have seen it"
	}
	return "mark what is to be moved, choose where it goes, and work it out; nothing is done before you have seen it"
}

// sources lists what stands and is on, by deployment.
func (p *page) sources(r part.Rect) {
	v := p.v
	on := func(i part.Ink) part.Style { return p.ink(i).On(part.Panel) }
	if len(v.rows) == 0 {
		for i, l := range part.Wrap("nothing stands that could be moved; deploy something first", r.W-4) {
			p.c.Text(r.X+2, r.Y+1+i, on(part.Dim), l)
		}
		return
	}
	last := -1
	y := r.Y + 1
	from := max(v.cursor-(r.H-8), 0)
	for i := from; i < len(v.rows) && y < r.Y+r.H-1; i++ {
		row := v.rows[i]
		d := &v.deployments[row.deployment]
		if row.deployment != last {
			last = row.deployment
			title := fmt.Sprintf("%s  deployment %d", d.Name, d.ID)
			if d.ID == 0 {
				title = nobodysTitle(d)
			}
			p.c.Cut(r.X+2, y, r.W-4, on(part.Dim), title)
			y++
		}
		res := d.Stand.Plan.Resource(row.id)
		picked := i == v.cursor && v.focus == onSources
		if picked {
			p.c.Fill(part.Rect{X: r.X, Y: y, W: r.W, H: 1}, part.OnSelected)
		}
		ground := func(i part.Ink) part.Style {
			if picked {
				return p.ink(i).On(part.OnSelected)
			}
			return on(i)
		}
		if i == v.cursor {
			p.c.Rune(r.X, y, ground(part.Ochre).Strong(), p.c.Look.Glyphs.PickLeft)
		}
		if v.marked[row.id] {
			p.c.Text(r.X+2, y, ground(part.Ochre), "▣")
		}
		p.c.Text(r.X+4, y, ground(part.InkOf(run.Standing)), p.c.Look.Mark(run.Standing))
		x := p.c.Cut(r.X+6, y, min(22, r.W-8), ground(part.Text), row.id)
		x = p.c.Cut(max(x+2, r.X+24), y, r.X+r.W-max(x+2, r.X+24)-1, ground(part.Steel), res.Site)
		p.c.Cut(max(x+2, r.X+38), y, r.X+r.W-max(x+2, r.X+38)-1, ground(part.Dim), res.Detail)
		at := i
		v.spots = append(v.spots, spot{part.Rect{X: r.X, Y: y, W: r.W, H: 1}, func() { v.cursor, v.focus = at, onSources }})
		y++
	}
}

// targets lists the sites with what is left there, and whether they are paired with where the workloads are; and then
// placement, which chooses among them.
func (p *page) targets(r part.Rect) {
	v := p.v
	on := func(i part.Ink) part.Style { return p.ink(i).On(part.Panel) }
	y := r.Y + 1
	per := 5
	if r.H < 6*per {
		per = 3
	}
	for i := range len(v.sites) + 1 {
		if y+2 > r.Y+r.H {
			return
		}
		if i == v.to {
			ink := part.Steel
			if v.focus == onTargets {
				ink = part.Ochre
			}
			p.c.Rune(r.X, y, on(ink).Strong(), p.c.Look.Glyphs.PickLeft)
		}
		at := i
		v.spots = append(v.spots, spot{part.Rect{X: r.X, Y: y, W: r.W, H: 3}, func() { v.to, v.focus = at, onTargets }})
		if i == len(v.sites) {
			p.c.Cut(r.X+2, y, r.W-4, on(part.Text).Strong(), "wherever placement puts it")
			p.c.Cut(r.X+2, y+1, r.W-4, on(part.Steel), "the best site but its own, everything else staying")
			return
		}
		s := v.estate.Site(v.sites[i])
		x := p.c.Text(r.X+2, y, on(part.Text).Strong(), s.Name)
		p.c.Cut(x+2, y, r.W-(x-r.X)-3, on(part.Dim), string(s.Kind)+" · "+s.Title)
		p.c.Cut(r.X+2, y+1, r.W-4, on(part.Steel), s.Free().String()+" free")
		text, ink := p.pairing(s.Name)
		p.c.Cut(r.X+2, y+2, r.W-4, on(ink), text)
		if per > 4 {
			text, ink = p.verdict(s.Name)
			p.c.Cut(r.X+2, y+3, r.W-4, on(ink), text)
		}
		y += per
	}
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
			text, ink = fmt.Sprintf("paired with %s: %s, %.0f ms", from, pair.Through(to), float64(t.RoundTrip)/1e6), part.Teal
		}
	}
	return text, ink
}

// verdict is what placement said of the workload under the cursor at a site when it was placed.
func (p *page) verdict(site string) (string, part.Ink) {
	if len(p.v.rows) == 0 {
		return "", part.Dim
	}
	row := p.v.rows[p.v.cursor]
	r := p.v.deployments[row.deployment].Stand.Plan.Resource(row.id)
	for _, x := range r.Elsewhere {
		switch {
		case x.Site != site:
		case x.Fits:
			return "when it was placed: " + x.Reason, part.Dim
		default:
			_, why, named := strings.Cut(x.Reason, ": ")
			if !named {
				why = x.Reason
			}
			return p.c.Look.Mark(run.Failed) + " " + why, part.Coral
		}
	}
	return "", part.Dim
}

func (p *page) pairOf(a, b string) *sites.Pair {
	for i := range p.v.pairs {
		if x := &p.v.pairs[i]; x.A == min(a, b) && x.B == max(a, b) {
			return x
		}
	}
	return nil
}

// how lists what can be chosen beside what and where, and says what comes of it.
func (p *page) how(r part.Rect) {
	v := p.v
	y := r.Y + 1
	_, ids := v.chosen()
	if len(v.sites) > 0 && len(ids) > 0 {
		text := ids[0]
		if len(ids) > 1 {
			text = fmt.Sprintf("%d workloads, in waves", len(ids))
		}
		to := v.target()
		if to == "" {
			to = "wherever placement puts it"
		}
		p.c.Cut(r.X, y, r.W, p.ink(part.Text).Strong(), text+" → "+to)
	}
	y += 2
	all := v.settings()
	from := 0
	if room := r.H - 6; v.focus == onSettings && v.knob >= room { // the one that the arrows are on is always to be seen
		from = v.knob - room + 1
	}
	for i, s := range all[min(from, len(all)):] {
		if y >= r.Y+r.H-2 {
			break
		}
		if s.head != "" {
			if r.H >= 24 {
				y++
			}
			p.c.Cut(r.X, y, r.W, p.ink(part.Dim).Strong(), s.head)
			y++
		}
		p.setting(part.Rect{X: r.X, Y: y, W: r.W, H: 1}, from+i, s)
		y++
	}
	p.outcome(part.Rect{X: r.X, Y: y + 1, W: r.W, H: r.Y + r.H - y - 1})
}

func (p *page) setting(r part.Rect, i int, s setting) {
	v := p.v
	const names = 18
	picked := v.focus == onSettings && i == min(v.knob, len(v.settings())-1)
	ink := part.Dim
	if s.own {
		ink = part.Text
	}
	style, name := p.ink(ink), p.ink(part.Steel)
	if picked {
		p.c.Fill(r, part.OnSelected)
		p.c.Rune(r.X-1, r.Y, p.ink(part.Ochre).Strong(), p.c.Look.Glyphs.PickLeft)
		style, name = style.On(part.OnSelected), name.On(part.OnSelected)
	}
	p.c.Cut(r.X, r.Y, names-1, name, s.name)
	p.c.Cut(r.X+names, r.Y, r.W-names, style, s.value)
	v.spots = append(v.spots, spot{r, func() { v.knob, v.focus = i, onSettings }})
}

// outcome says what came of working it out, or how to.
func (p *page) outcome(r part.Rect) {
	v := p.v
	y := r.Y
	switch {
	case v.drafting:
		p.c.Cut(r.X, y, r.W, p.ink(part.Sky), p.c.Look.Mark(run.UnderWay)+" measuring disks and links")
	case v.problem != "":
		for _, l := range part.Wrap(v.problem, r.W-1) {
			if y < r.Y+r.H {
				p.c.Text(r.X, y, p.ink(part.Coral), l)
			}
			y++
		}
		if v.broken != nil && y < r.Y+r.H {
			x := p.c.Text(r.X, y, p.ink(part.Ochre).Strong(), "l")
			p.c.Cut(x+1, y, r.W-2, p.ink(part.Text), "lifts the rule for this move")
		}
	default:
		x := p.c.Text(r.X, y, p.ink(part.Ochre).Strong(), "enter")
		p.c.Cut(x+1, y, r.W-6, p.ink(part.Dim), "works it out: what differs, how long, every step")
	}
}
