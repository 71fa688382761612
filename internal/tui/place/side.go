package place

import (
	"fmt"
	"slices"

	"andamio/internal/core/cost"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/core/printable"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// panel is the column beside the matrix: why the selected cell is as it is, and what would follow from choosing it.
type panel struct {
	c *part.Canvas
	r part.Rect
	y int
}

func (p *panel) full() bool { return p.y >= p.r.Y+p.r.H }

func (p *panel) head(text string) {
	p.y++
	if !p.full() {
		p.c.Cut(p.r.X+1, p.y, p.r.W-2, part.In(part.Steel).Strong(), text)
	}
	p.y++
}

func (p *panel) say(ink part.Ink, text string) {
	for _, l := range part.Wrap(text, p.r.W-3) {
		if p.full() {
			return
		}
		p.c.Text(p.r.X+1, p.y, part.In(ink), l)
		p.y++
	}
}

// pair is a word with what is said of it.
func (p *panel) pair(ink part.Ink, word, text string) {
	if p.full() {
		return
	}
	p.c.Cut(p.r.X+1, p.y, 14, part.In(part.Text), word)
	p.c.Cut(p.r.X+16, p.y, p.r.W-17, part.In(ink), text)
	p.y++
}

// move is a workload with where it goes from and to, below it if the line is too short for both.
func (p *panel) move(m templates.Shift) {
	way := m.From + " → " + m.To
	if part.Width(m.Workload)+part.Width(way)+4 <= p.r.W {
		if !p.full() {
			p.c.Text(p.r.X+1, p.y, part.In(part.Text), m.Workload)
			p.c.Right(p.r.X+p.r.W-1, p.y, part.In(part.Dim), way)
			p.y++
		}
		return
	}
	p.say(part.Text, m.Workload)
	p.say(part.Dim, "  "+way)
}

func (v *View) drawPanel(c *part.Canvas, r part.Rect) {
	p := &panel{c: c, r: r, y: r.Y}
	row := v.row()
	if row == nil {
		return
	}
	cell := row.sites[v.site]
	x := c.Text(r.X+1, p.y, part.In(part.Ochre).Strong(), "why")
	c.Cut(x+2, p.y, r.W-6, part.In(part.Text).Strong(), row.title+" at "+cell.Site)
	p.y++
	switch {
	case v.now.Err != nil:
		p.say(part.Coral, v.now.Err.Error())
		return
	case cell.Site == row.site:
		for _, reason := range row.first.Reasons {
			p.say(part.Text, reason)
		}
	default:
		p.say(inkOf(cell), cell.Reason)
	}
	v.drawElsewhere(p, row)
	if v.other != nil {
		v.drawOther(p)
	} else if cell.Site != row.site {
		v.drawEffect(p)
	}
	v.drawPrices(p, row)
	v.drawBroken(p)
	v.drawTiers(p)
}

// drawTiers says what each tier costs, the dearest first.
func (v *View) drawTiers(p *panel) {
	lines := cost.Sums(v.now.Problem, v.now.Placement, "tier")
	if len(lines) < 2 {
		return
	}
	p.head("by tier, in " + v.unit() + " an hour")
	for _, l := range lines {
		if p.full() {
			return
		}
		p.c.Cut(p.r.X+1, p.y, 14, part.In(part.Text), l.Of)
		part.Bar(p.c, p.r.X+16, p.y, p.r.W-26, l.PerHour.Units(), lines[0].PerHour.Units(), part.Dim)
		p.c.Right(p.r.X+p.r.W-1, p.y, part.In(part.Text), fmt.Sprintf("%.3f", v.money(l.PerHour)))
		p.y++
	}
}

func inkOf(c placement.Verdict) part.Ink {
	if c.Fits {
		return part.Text
	}
	return part.Coral
}

func (v *View) drawElsewhere(p *panel, row *row) {
	p.head("elsewhere")
	for i, s := range row.sites {
		if i == v.site {
			continue
		}
		switch {
		case s.Site == row.site:
			p.pair(part.Teal, s.Site, "chosen")
		case s.Fits:
			p.pair(part.Text, s.Site, fmt.Sprintf("%+.3f %s/h", s.More, v.currency()))
		default:
			p.pair(part.Dim, s.Site, s.Short)
		}
	}
}

// drawEffect says what choosing the selected cell comes to.
func (v *View) drawEffect(p *panel) {
	p.head("if it were pinned here")
	switch {
	case v.effect == nil:
		p.say(part.Dim, "working it out")
		return
	case v.effect.Err != nil:
		p.say(part.Coral, v.effect.Err.Error())
		return
	}
	v.difference(p, v.now.Placement, v.effect.Placement)
}

// difference says what moves from one placement to another, and what that comes to.
func (v *View) difference(p *panel, from, to *placement.Placement) {
	moves := templates.Shifts(from, to)
	d := to.CostPerHour - from.CostPerHour
	ink := part.Teal
	if d > 0 {
		ink = part.Coral
	}
	p.say(ink, fmt.Sprintf("%+.3f %s/h, %+.0f a month", d, v.currency(), d.Times(cost.Month)))
	if len(moves) == 0 {
		p.say(part.Text, "nothing moves")
		return
	}
	p.say(part.Text, printable.Count(len(moves), "workload")+" would move")
	for i, m := range moves {
		if i == 5 && len(moves) > 6 {
			p.say(part.Dim, fmt.Sprintf("and %d more", len(moves)-5))
			break
		}
		p.move(m)
	}
	for _, b := range to.Broken {
		if !slices.ContainsFunc(from.Broken, func(o placement.Broken) bool { return o.Rule == b.Rule && len(o.Workloads) >= len(b.Workloads) }) {
			p.say(part.Coral, "no longer met: "+b.Rule)
		}
	}
}

// drawOther sets the alternative beside what is shown.
func (v *View) drawOther(p *panel) {
	if v.other.Placement == nil {
		return
	}
	p.head("beside the alternative ◇")
	a, b := v.now.Placement, v.other.Placement
	for _, l := range []struct {
		word string
		a, b any // amounts, and numbers
	}{{"cost an hour", a.CostPerHour, b.CostPerHour}, {"  instances", a.Cost.Compute, b.Cost.Compute}, {"  volumes", a.Cost.Storage, b.Cost.Storage},
		{"  traffic", a.Cost.Egress, b.Cost.Egress}, {"objective", a.Objective, b.Objective}, {"not met", float64(unmet(a)), float64(unmet(b))}} {
		p.pair(part.Text, l.word, fmt.Sprintf("%8.3f  ◇ %8.3f", l.a, l.b))
	}
	p.head("if the alternative were taken instead")
	v.difference(p, a, b)
}

// unmet is how many workloads do not meet a preference.
func unmet(p *placement.Placement) int {
	n := 0
	for _, b := range p.Broken {
		n += len(b.Workloads)
	}
	return n
}

// drawPrices compares what the workload costs at every site that it may use.
func (v *View) drawPrices(p *panel, row *row) {
	most := money.Amount(0)
	for _, s := range row.sites {
		most = max(most, s.CostPerHour)
	}
	p.head("the same, at every site it may use")
	for _, s := range row.sites {
		if !s.Fits || p.full() {
			continue
		}
		ink := part.Dim
		if s.Site == row.site {
			ink = part.Teal
		}
		p.c.Cut(p.r.X+1, p.y, 14, part.In(part.Text), s.Site)
		part.Bar(p.c, p.r.X+16, p.y, p.r.W-26, s.CostPerHour.Units(), most.Units(), ink)
		p.c.Right(p.r.X+p.r.W-1, p.y, part.In(part.Text), fmt.Sprintf("%.4f", s.CostPerHour))
		p.y++
	}
}

func (v *View) drawBroken(p *panel) {
	if len(v.now.Placement.Broken) == 0 {
		return
	}
	p.head("preferences that are not met")
	for _, b := range v.now.Placement.Broken {
		p.say(part.Ochre, fmt.Sprintf("%s, by %s", b.Rule, printable.Count(len(b.Workloads), "workload")))
	}
}

// line says the most important of the selected cell, where there is no panel.
func (v *View) line() string {
	r := v.row()
	if r == nil {
		return ""
	}
	if v.now.Err != nil {
		return "no placement with these choices: w says why, u undoes"
	}
	c := r.sites[v.site]
	if c.Site == r.site {
		return r.title + ": " + r.first.Reasons[len(r.first.Reasons)-2]
	}
	return fmt.Sprintf("%s at %s: %s", r.title, c.Site, c.Reason)
}

// Why explains the selected cell.
func (v *View) Why() view.Note {
	if v.now != nil && v.now.Err != nil {
		note := view.Note{Title: "why there is no placement"}
		for _, l := range part.Wrap(v.now.Err.Error(), 88) {
			note.Lines = append(note.Lines, view.Say(l))
		}
		return note
	}
	r := v.row()
	if r == nil {
		return view.Note{Title: "why", Lines: []view.Line{view.Say("nothing is placed yet")}}
	}
	var lines []view.Line
	cell := r.sites[v.site]
	if cell.Site != r.site { // the one that is selected first: it is what was asked about
		lines = append(lines, view.Head("why not at "+cell.Site), view.Say("  "+cell.Reason), view.Say(""))
	}
	lines = append(lines, view.Head("why at "+r.site))
	for _, reason := range r.first.Reasons {
		lines = append(lines, view.Say("  "+reason))
	}
	lines = append(lines, view.Listed("what the template's policies changed", v.draft.Effects(r.workloads[0]))...)
	lines = append(lines, view.Say(""), view.Head("elsewhere"))
	for _, s := range r.sites {
		if s.Site != r.site && s.Site != cell.Site {
			lines = append(lines, view.Say(fmt.Sprintf("  %-14s %s", s.Site, s.Reason)))
		}
	}
	c := r.first.Cost
	lines = append(lines, view.Say(""), view.Head("what each costs an hour"), view.Say(fmt.Sprintf("  instance %.4f, volumes and disk %.4f, address %.4f, half of what passes to others %.4f %s",
		c.Compute, c.Storage, c.Address, c.Egress, v.currency())))
	for _, m := range templates.Shifts(v.draft.Placement, v.now.Placement) {
		if slices.Contains(r.workloads, m.Workload) {
			lines = append(lines, view.Say(fmt.Sprintf("  %s is at %s in the plan", m.Workload, m.From)))
		}
	}
	return view.Note{Title: r.title + " and " + cell.Site, Lines: lines}
}
