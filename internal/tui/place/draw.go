package place

import (
	"fmt"
	"time"

	"andamio/internal/core/cost"
	"andamio/internal/core/printable"
	"andamio/internal/core/usage"
	"andamio/internal/tui/part"
)

// Widths of the matrix: what names a row, a site's column at its narrowest and widest, and the panel beside it.
const (
	wideFrom  = 120
	panelWide = 44
	cellWide  = 16
	cellThin  = 14
)

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, _ time.Time) {
	v.spots = v.spots[:0]
	if v.now == nil || v.now.Placement == nil {
		v.drawNothing(c, r)
		return
	}
	v.drawTitle(c, r)
	body := part.Rect{X: r.X, Y: r.Y + 1, W: r.W, H: r.H - 1}
	if r.W >= wideFrom {
		panel := part.Rect{X: r.X + r.W - panelWide, Y: body.Y, W: panelWide, H: body.H}
		c.Downward(panel.X-1, body.Y, body.H, part.In(part.Dim), c.Look.Glyphs.Down)
		v.drawPanel(c, panel)
		body.W -= panelWide + 2
	}
	p := &page{v: v, c: c, r: body}
	p.draw(r.W < wideFrom)
}

func (v *View) drawNothing(c *part.Canvas, r part.Rect) {
	text := "nothing to place yet: the template is being worked out, or none is open"
	switch {
	case v.draft != nil && v.draft.Diagnostics.Errors() > 0:
		text = "nothing can be placed while the template has mistakes; 2 shows them"
	case v.draft != nil && v.draft.Problem == nil:
		text = "there are no sites to place at: connect some, or start stand-ins with andamio sandbox"
	case v.now != nil && v.now.Err != nil:
		c.Text(r.X+2, r.Y+1, part.In(part.Coral).Strong(), "there is no placement")
		text = v.now.Err.Error()
		r.Y += 2
	}
	for i, l := range part.Wrap(text, r.W-6) {
		c.Text(r.X+2, r.Y+1+i, part.In(part.Text), l)
	}
}

// drawTitle says how good the placement is, and what it costs.
func (v *View) drawTitle(c *part.Canvas, r part.Rect) {
	p, end := v.now.Placement, r.X+r.W
	x := c.Cut(r.X+1, r.Y, 24, part.In(part.Text).Strong(), v.draft.Template.Name) + 2
	if v.draft.Preset != "" {
		x = c.Cut(x, r.Y, 18, part.In(part.Dim), v.draft.Preset) + 2
	}
	switch {
	case v.busy:
		x = c.Text(x, r.Y, part.In(part.Sky), "◩ working it out")
	case v.now.Err != nil:
		x = c.Text(x, r.Y, part.In(part.Coral).Strong(), "✕ no placement with these choices, the last one is shown")
	case p.Proven:
		x = c.Text(x, r.Y, part.In(part.Teal), "■ the best, proven")
	default:
		x = c.Text(x, r.Y, part.In(part.Ochre), fmt.Sprintf("◐ at most %.1f %% from the best", 100*p.Gap()))
	}
	x = c.Cut(x+3, r.Y, end-x-3, part.In(part.Text).Strong(), fmt.Sprintf("%.3f %s/h", v.money(p.CostPerHour), v.unit()))
	for _, span := range []struct {
		hours float64
		word  string
	}{{cost.Month, " a month"}, {cost.Year, " a year"}, {cost.ThreeYears, " in 3 years"}} {
		text := fmt.Sprintf("%.0f%s", v.money(p.CostPerHour).Times(span.hours), span.word)
		if x+2+part.Width(text) > end {
			break
		}
		x = c.Text(x+2, r.Y, part.In(part.Dim), text)
	}
	if n := v.now.Choices.Count(); n > 0 {
		word := printable.Count(n, "choice")
		if v.changed() > 0 {
			word += ", not in the plan yet"
		}
		c.Cut(x+3, r.Y, end-x-3, part.In(part.Ochre), word)
	}
}

// page is one drawing of the matrix and what stands below it.
type page struct {
	v       *View
	c       *part.Canvas
	r       part.Rect
	y       int
	name    int // the width of what names a row
	cell    int
	from, n int // the sites that are shown
}

func (p *page) draw(narrow bool) {
	sites := len(p.v.sites())
	p.name = min(max(p.longest()+4, 16), 28)
	if !narrow {
		p.name += 11
	}
	room := p.r.W - p.name - 3
	p.cell = min(max(room/max(sites, 1), cellThin), cellWide)
	p.n = min(max(room/p.cell, 1), sites)
	p.from = min(max(p.v.site-p.n+1, 0), sites-p.n)
	p.y = p.r.Y + 1
	p.heads(narrow)
	foot := p.foot(narrow)
	p.matrix(p.r.Y+p.r.H-foot, narrow)
	p.below(narrow)
}

func (p *page) longest() int {
	n := 0
	for _, r := range p.v.rows {
		n = max(n, part.Width(r.title))
	}
	return n
}

// foot is how many rows are kept for what stands below the matrix.
func (p *page) foot(narrow bool) int {
	if narrow {
		return 6
	}
	return min(15, p.r.H/2)
}

func (p *page) x(site int) int { return p.r.X + p.name + 2 + (site-p.from)*p.cell }

func (p *page) heads(narrow bool) {
	for i := p.from; i < p.from+p.n; i++ {
		s := p.v.sites()[i]
		style := part.In(part.Text).Strong()
		if i == p.v.site {
			style = part.In(part.Ochre).Strong()
		}
		p.c.Cut(p.x(i), p.y, p.cell-1, style, s.Name)
		p.c.Cut(p.x(i), p.y+1, p.cell-1, part.In(part.Dim), string(s.Kind))
	}
	head := "workload"
	p.c.Text(p.r.X+2, p.y+1, part.In(part.Dim), head)
	if !narrow {
		p.c.Right(p.r.X+p.name, p.y+1, part.In(part.Dim), "cores  GiB")
	}
	if more := len(p.v.sites()) - p.n; more > 0 {
		p.c.Cut(p.r.X+2, p.y, p.name-2, part.In(part.Dim), printable.Count(more, "more site")+" ←→")
	}
	p.c.Across(p.r.X+1, p.y+2, p.r.W-2, part.In(part.Steel), p.c.Look.Glyphs.Thin)
	p.y += 3
}

// lines are the rows with a line between tiers where there is room for it.
func (p *page) lines(room int) []int {
	var out []int
	for i, r := range p.v.rows {
		if i > 0 && r.tier != p.v.rows[i-1].tier {
			out = append(out, -1)
		}
		out = append(out, i)
	}
	if len(out) <= room {
		return out
	}
	out = out[:0]
	for i := range p.v.rows {
		out = append(out, i)
	}
	return out
}

func (p *page) matrix(end int, narrow bool) {
	room := end - p.y
	lines := p.lines(room)
	at := 0
	for i, l := range lines {
		if l == p.v.at {
			at = i
		}
	}
	p.v.top = min(max(p.v.top, at-room+1), at, max(len(lines)-room, 0))
	p.v.top = max(p.v.top, 0)
	for _, l := range lines[p.v.top:min(p.v.top+room, len(lines))] {
		if l < 0 {
			p.c.Across(p.r.X+2, p.y, p.r.W-4, part.In(part.Dim), '┄')
		} else {
			p.row(l, narrow)
		}
		p.y++
	}
	p.c.Across(p.r.X+1, p.y, p.r.W-2, part.In(part.Steel), p.c.Look.Glyphs.Thin)
	if left := len(lines) - p.v.top - room; left > 0 {
		p.c.Right(p.r.X+p.r.W-3, p.y, part.In(part.Ochre), fmt.Sprintf(" ↓ %d more ", left))
	}
}

func (p *page) row(i int, narrow bool) {
	r := &p.v.rows[i]
	style := part.In(part.Text)
	if i == p.v.at {
		style = part.In(part.Ochre).Strong()
	}
	room := p.name - 3
	if !narrow {
		room -= 11
		p.c.Right(p.r.X+p.name-6, p.y, part.In(part.Dim), fmt.Sprint(r.cores))
		p.c.Right(p.r.X+p.name, p.y, part.In(part.Dim), fmt.Sprintf("%g", r.memory))
	}
	p.c.Cut(p.r.X+2, p.y, room, style, r.title)
	for s := p.from; s < p.from+p.n; s++ {
		p.box(i, s)
	}
}

// box is a cell of the matrix: a glyph and a word or a number for each of its states.
func (p *page) box(i, s int) {
	r, v := &p.v.rows[i], &p.v.rows[i].sites[s]
	x := p.x(s)
	rect := part.Rect{X: x - 1, Y: p.y, W: p.cell - 1, H: 1}
	p.v.spots = append(p.v.spots, spot{rect, i, s})
	picked := i == p.v.at && s == p.v.site && p.v.dial < 0
	ms, at := "", x
	if v.Ms >= 0 && p.cell >= 15 {
		ms = fmt.Sprintf("%g ms", v.Ms)
	}
	switch {
	case v.Site == r.site:
		p.ground(rect, part.OnStanding, picked)
		at = p.c.Text(x, p.y, part.In(part.Teal), "■ ")
		at = p.c.Text(at, p.y, part.In(part.Text).Strong(), fmt.Sprintf("%.3f", r.cost))
		if r.pinned {
			p.c.Text(at+1, p.y, part.In(part.Ochre), "pin")
			ms = ""
		}
	case v.Fits:
		p.ground(rect, part.None, picked)
		at = p.c.Cut(x, p.y, p.cell-2, part.In(part.Text), fmt.Sprintf("▱ %+.3f", v.More))
	default:
		p.ground(rect, part.None, picked)
		p.c.Cut(x, p.y, p.cell-2, part.In(part.Dim), "· "+v.Short)
		ms = ""
	}
	if at+1 < rect.X+rect.W-part.Width(ms) { // where the one does not run into the other
		p.c.Right(rect.X+rect.W, p.y, part.In(part.Dim), ms)
	}
	if p.v.other != nil && p.otherAt(r) == v.Site && v.Site != r.site {
		p.c.Rune(rect.X+rect.W-1, p.y, part.In(part.Violet).Strong(), '◇')
	}
}

// ground lights a cell; the selected one stands in brackets too.
func (p *page) ground(r part.Rect, ink part.Ink, picked bool) {
	if picked {
		ink = part.OnSelected
	}
	if ink != part.None {
		p.c.Fill(r, ink)
	}
	if picked {
		p.c.Rune(r.X, r.Y, part.In(part.Ochre).Strong(), p.c.Look.Glyphs.PickLeft)
		p.c.Rune(r.X+r.W, r.Y, part.In(part.Ochre).Strong(), p.c.Look.Glyphs.PickRight)
	}
}

// otherAt is where the alternative has a row's first workload.
func (p *page) otherAt(r *row) string {
	if c := p.v.other.Placement.Choice(r.workloads[0]); c != nil {
		return c.Site
	}
	return ""
}

// below draws totals, capacity and dials under the matrix.
func (p *page) below(narrow bool) {
	loads := usage.Of(p.v.now.Problem.Estate, p.v.now.Placement, p.v.draft.Stands)
	p.y++
	p.c.Text(p.r.X+2, p.y, part.In(part.Steel).Strong(), "a site, an hour")
	for i := p.from; i < p.from+p.n; i++ {
		text := "–"
		if loads[i].Instances > 0 {
			text = fmt.Sprintf("%.3f", loads[i].CostPerHour)
		}
		p.c.Text(p.x(i)+2, p.y, part.In(part.Text).Strong(), text)
	}
	p.y++
	if !narrow {
		p.y++
		p.capacity(loads)
		p.y++
	}
	p.dials(narrow)
}

func (p *page) capacity(loads []usage.Site) {
	x := p.c.Text(p.r.X+2, p.y, part.In(part.Steel).Strong(), "capacity")
	x = p.c.Text(x+2, p.y, part.In(part.Steel), "used")
	p.c.Text(x+2, p.y, part.In(part.Sky), "this plan")
	p.y++
	for _, d := range []struct {
		word string
		of   func(usage.Site) usage.Load
	}{{"cores", func(s usage.Site) usage.Load { return s.Cores }}, {"memory", func(s usage.Site) usage.Load { return s.Memory }},
		{"disk", func(s usage.Site) usage.Load { return s.Disk }}} {
		p.c.Text(p.r.X+4, p.y, part.In(part.Text), d.word)
		for i := p.from; i < p.from+p.n; i++ {
			part.LoadBar(p.c, p.x(i), p.y, p.cell-3, d.of(loads[i]))
		}
		p.y++
	}
}

// dials draws the questions of the selected node and the weights, in two columns.
func (p *page) dials(narrow bool) {
	dials, _ := p.v.dials()
	questions := len(p.v.draft.Rules.Questions)
	r := p.v.row()
	if narrow {
		p.oneDial(dials)
		return
	}
	p.c.Cut(p.r.X+2, p.y, p.r.W/2-4, part.In(part.Steel).Strong(), "questions of "+r.node)
	p.c.Text(p.r.X+2+p.r.W/2, p.y, part.In(part.Steel).Strong(), "weights, times the usual")
	p.y++
	for i := range dials {
		x, y := p.r.X+4, p.y+i
		if i >= questions {
			x, y = p.r.X+4+p.r.W/2, p.y+i-questions
		}
		if y < p.r.Y+p.r.H {
			p.dial(x, y, i, &dials[i])
		}
	}
}

func (p *page) dial(x, y, i int, d *dial) {
	style := part.In(part.Text)
	if i == p.v.dial {
		p.c.Fill(part.Rect{X: x - 1, Y: y, W: p.r.W/2 - 6, H: 1}, part.OnSelected)
		p.c.Rune(x-2, y, part.In(part.Ochre).Strong(), p.c.Look.Glyphs.PickLeft)
		style = part.In(part.Ochre).Strong()
	}
	if d.weight != nil {
		p.c.Cut(x, y, 17, style, d.word)
		p.slider(x+18, y, d)
		return
	}
	ink := part.Dim
	if d.yes || d.question == "" {
		ink = part.Teal
	}
	at := p.c.Text(x, y, part.In(ink).Strong(), d.value)
	p.c.Cut(max(at+1, x+5), y, 40, style, d.word)
}

// slider draws a weight on the scale of its steps.
func (p *page) slider(x, y int, d *dial) {
	at := 0
	for i, s := range steps {
		if s <= *d.weight/d.usual+1e-9 {
			at = i
		}
	}
	p.c.Across(x, y, 2*len(steps)-1, part.In(part.Ochre), p.c.Look.Glyphs.Rule)
	p.c.Rune(x+2*at, y, part.In(part.Text).Strong(), '┃')
	p.c.Text(x+2*len(steps), y, part.In(part.Dim), d.value)
}

// oneDial shows the selected dial only, where there is no room for all.
func (p *page) oneDial(dials []dial) {
	if p.v.dial < 0 {
		p.c.Cut(p.r.X+2, p.y, p.r.W-4, part.In(part.Dim), p.v.line())
		return
	}
	d := dials[min(p.v.dial, len(dials)-1)]
	p.c.Cut(p.r.X+2, p.y, p.r.W-4, part.In(part.Ochre).Strong(), fmt.Sprintf("%s  %s   ↑↓ others, ←→ change", d.value, d.word))
}
