package sites

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/printable"
	"andamio/internal/core/usage"
	"andamio/internal/tui/part"
)

// wideFrom is the width from which prices and pools stand beside the bars.
const wideFrom = 120

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, now time.Time) {
	v.spots, v.drawn = v.spots[:0], time.Now()
	if v.path != nil {
		v.drawPath(c, r)
		return
	}
	if len(v.loads) == 0 {
		v.drawUnloaded(c, r, now)
		return
	}
	v.drawTotals(c, r)
	p := &page{v: v, c: c, r: part.Rect{X: r.X, Y: r.Y + 2, W: r.W, H: r.H - 2}, now: now}
	p.draw()
}

// drawTotals is the logical view over all sites.
func (v *View) drawTotals(c *part.Canvas, r part.Rect) {
	sum := usage.Sum(v.loads)
	count := printable.Count(len(v.loads), "site")
	if not := len(v.unloaded()); not > 0 && v.draft == nil {
		count = fmt.Sprintf("%d of %s", len(v.loads), printable.Count(len(v.loads)+not, "site"))
	}
	x := c.Text(r.X+1, r.Y, part.In(part.Text).Strong(), count)
	end := r.X + r.W
	x = c.Cut(x+3, r.Y, end-x-3, part.In(part.Text), fmt.Sprintf("%.0f of %.0f cores · %s of %s memory · %s of %s disk used", sum.Cores.Used, sum.Cores.Total,
		estate.GiB(sum.Memory.Used), estate.GiB(sum.Memory.Total), estate.GiB(sum.Disk.Used), estate.GiB(sum.Disk.Total)))
	if sum.Cores.Paused > 0 {
		x = c.Cut(x+3, r.Y, end-x-3, part.In(part.Violet), fmt.Sprintf("%.0f cores paused", sum.Cores.Paused))
	}
	if sum.Cores.Held > 0 {
		x = c.Cut(x+3, r.Y, end-x-3, part.In(part.Teal), fmt.Sprintf("%.0f cores held", sum.Cores.Held))
	}
	if sum.Instances > 0 {
		x = c.Cut(x+3, r.Y, end-x-3, part.In(part.Sky), fmt.Sprintf("this plan %.0f cores, %s memory", sum.Cores.Plan, estate.GiB(sum.Memory.Plan)))
		c.Cut(x+3, r.Y, end-x-3, part.In(part.Text).Strong(), fmt.Sprintf("%.3f %s/h", sum.CostPerHour, v.estate().Currency))
	}
}

// page is one drawing.
type page struct {
	v   *View
	c   *part.Canvas
	r   part.Rect
	now time.Time
	y   int
}

// height is how many rows a site's strip takes, with the rule below.
func (p *page) height(s usage.Site) int {
	if p.r.W < wideFrom {
		return max(len(s.Rooms), 2) + 1
	}
	return max(len(s.Rooms), 3) + 1
}

func (p *page) draw() {
	p.scroll()
	p.y = p.r.Y
	p.c.Across(p.r.X+1, p.y, p.r.W-2, part.In(part.Steel), p.c.Look.Glyphs.Thin)
	p.legend()
	p.y++
	for i := p.v.top; i < len(p.v.loads) && p.y+2 < p.r.Y+p.r.H; i++ {
		p.strip(i)
	}
	p.unanswered()
	if left := p.r.Y + p.r.H - p.y; left > 6 && p.r.W >= wideFrom {
		p.detail()
	}
}

// unanswered are the sites that are connected and do not say what they have: a line each, since nothing else is known of them now.
func (p *page) unanswered() {
	for _, c := range p.v.unloaded() {
		if p.v.draft != nil || p.y+1 >= p.r.Y+p.r.H { // a design is made with sites of its own
			return
		}
		x := p.c.Cut(p.r.X+2, p.y, 16, part.In(part.Text).Strong(), c.Site)
		x = p.c.Text(max(x+2, p.r.X+18), p.y, part.In(part.Dim), string(c.Kind))
		x = p.c.Text(x+2, p.y, part.In(part.Coral), "✕ does not answer")
		how, ink := p.v.through(&c, p.now)
		if how == nil {
			how, ink = []string{c.Address()}, part.Dim
		}
		x = p.c.Cut(x+2, p.y, p.r.X+p.r.W-x-3, part.In(ink), how[0])
		if _, surveyed := p.v.surveys[c.Site]; surveyed {
			text, tone := p.v.surveyLine(c.Site, p.now)
			p.c.Cut(x+2, p.y, p.r.X+p.r.W-x-3, part.In(tone), text)
		}
		p.y++
	}
	if len(p.v.unloaded()) > 0 && p.v.draft == nil && p.y < p.r.Y+p.r.H {
		p.c.Across(p.r.X+1, p.y, p.r.W-2, part.In(part.Dim), p.c.Look.Glyphs.Thin)
		p.y++
	}
}

// scroll brings the selected site into view.
func (p *page) scroll() {
	p.v.top = min(p.v.top, p.v.at)
	for {
		h := 1
		for i := p.v.top; i <= p.v.at; i++ {
			h += p.height(p.v.loads[i])
		}
		if h <= p.r.H || p.v.top == p.v.at {
			return
		}
		p.v.top++
	}
}

// legend says what the inks of the bars are; where there is little room only of what there is.
func (p *page) legend() {
	l := dims[p.v.dim].sum(usage.Sum(p.v.loads))
	unit, narrow := " "+dims[p.v.dim].word+" ←→ ", p.r.W < wideFrom
	x := p.bar()
	if narrow {
		x = p.c.Text(x, p.y, part.In(part.Ochre), unit)
	}
	for _, k := range []struct {
		ink   part.Ink
		word  string
		there bool
	}{{part.Steel, " used ", true}, {part.Violet, " paused ", l.Paused > 0}, {part.Teal, " held ", l.Held > 0}, {part.Sky, " this plan ", l.Plan > 0}, {part.Dim, " free ", true}} {
		if k.there || !narrow {
			x = p.c.Cut(x, p.y, p.r.X+p.r.W-x, part.In(k.ink), k.word)
		}
	}
	if !narrow {
		p.c.Text(x, p.y, part.In(part.Ochre), unit)
	}
}

// Columns: the rooms' names, their bars, and what stands beside those.
func (p *page) rooms() int {
	if p.r.W < wideFrom {
		return p.r.X + 32
	}
	return p.r.X + 62
}

func (p *page) bar() int { return p.rooms() + 14 }

func (p *page) barWidth() int {
	if p.r.W < wideFrom {
		return max(p.r.W-p.bar()-22, 8)
	}
	return p.r.W - p.bar() - 58
}

func (p *page) strip(i int) {
	s := p.v.loads[i]
	from, h := p.y, p.height(s)-1
	if i == p.v.at {
		for y := from; y < min(from+h, p.r.Y+p.r.H); y++ {
			p.c.Rune(p.r.X, y, part.In(part.Ochre).Strong(), p.c.Look.Glyphs.PickLeft)
		}
	}
	p.name(s, from)
	for k, r := range s.Rooms {
		if from+k < p.r.Y+p.r.H {
			p.room(r, from+k)
		}
	}
	if p.r.W >= wideFrom {
		p.beside(s, from)
	}
	p.v.spots = append(p.v.spots, spot{from, h, i})
	p.y = from + h
	if p.y < p.r.Y+p.r.H {
		p.c.Across(p.r.X+1, p.y, p.r.W-2, part.In(part.Dim), p.c.Look.Glyphs.Thin)
	}
	p.y++
}

func (p *page) name(s usage.Site, y int) {
	w := p.rooms() - p.r.X - 3
	x := p.c.Cut(p.r.X+2, y, 16, part.In(part.Text).Strong(), s.Site.Name)
	x = p.c.Text(max(x+2, p.r.X+18), y, part.In(part.Dim), string(s.Site.Kind))
	if mark := p.v.exposedSite(s.Site.Name); mark != "" {
		x = p.c.Text(x+2, y, part.In(part.Coral), mark)
	}
	word, ink := health(s)
	if why := p.v.unreached(s.Site.Name, p.now); why != "" { // what room it has helps nobody
		word, ink = p.c.Look.Mark("failed")+" "+why, part.Coral
	}
	if p.r.W >= wideFrom {
		end := p.v.drawAnswers(p.c, p.rooms()-2, y, s.Site.Name)
		p.c.Cut(x+3, y, end-x-4, part.In(ink), word)
		p.c.Cut(p.r.X+2, y+1, w, part.In(part.Steel), about(s.Site))
		line, tone := p.v.surveyLine(s.Site.Name, p.now)
		if p.v.app == nil {
			line, tone = ageOf(s.Site, p.now)+" · "+orDash(strings.Join(s.Site.Features, ", ")), part.Dim
		}
		p.c.Cut(p.r.X+2, y+2, w, part.In(tone), line)
		return
	}
	p.c.Cut(p.r.X+2, y+1, w, part.In(ink), word+" · "+ageOf(s.Site, p.now))
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func reach(s *estate.Site) string {
	if s.Network == estate.Ports {
		return "port-mapped"
	}
	return "own address each"
}

// health says how full a site will be.
func health(s usage.Site) (string, part.Ink) {
	full := 0
	for _, r := range s.Rooms {
		if r.Cores.Free() < 1 || r.Memory.Free() < 1 {
			full++
		}
	}
	switch {
	case full == len(s.Rooms):
		return "✕ full", part.Coral
	case full > 0:
		return fmt.Sprintf("◐ %d of %d full", full, len(s.Rooms)), part.Ochre
	}
	return "■ has room", part.Teal
}

func (p *page) room(r usage.Room, y int) {
	word := r.Zone
	if r.Host != "" {
		word = r.Zone + " · " + r.Host
	}
	p.c.Cut(p.rooms(), y, 13, part.In(part.Text), word)
	l := dims[p.v.dim].of(r)
	w := p.barWidth()
	part.LoadBar(p.c, p.bar(), y, w, l)
	ink := part.Text
	if l.Free() < 1 {
		ink = part.Coral
	}
	p.c.Cut(p.bar()+w+1, y, 20, part.In(ink), fmt.Sprintf("%.0f of %.0f", l.Total-l.Free(), l.Total))
	if l.Plan > 0 {
		p.c.Right(p.bar()+w+17, y, part.In(part.Sky), fmt.Sprintf("+%.0f", l.Plan))
	}
}

// beside is what else is left at a site, and what it costs.
func (p *page) beside(s usage.Site, y int) {
	x := p.bar() + p.barWidth() + 19
	w := p.r.X + p.r.W - x - 1
	lines := []string{pools(s), prices(s.Site), offers(s.Site)}
	for i, l := range lines {
		p.c.Cut(x, y+i, w, part.In([]part.Ink{part.Text, part.Steel, part.Dim}[i]), l)
	}
}

// about says what a site is, of what is known of it.
func about(s *estate.Site) string {
	words := []string{reach(s)}
	if s.Title != "" {
		words = append([]string{s.Title}, words...)
	}
	if s.Jurisdiction != "" {
		words = append(words, "under "+s.Jurisdiction)
	}
	if s.Provider != "" {
		words = append(words, s.Provider)
	}
	return strings.Join(words, " · ")
}

// pools says what is left of addresses, VLANs and quotas.
func pools(s usage.Site) string {
	var out []string
	if free, all := s.Site.Addresses(); all > 0 {
		out = append(out, fmt.Sprintf("%d of %d addresses", free-s.Instances, all))
	}
	if free, all := s.Site.VLANs(); all > 0 {
		out = append(out, fmt.Sprintf("%d of %d VLANs", free, all))
	}
	for _, name := range slices.Sorted(maps.Keys(s.Site.Quotas)) {
		q := s.Site.Quotas[name]
		out = append(out, fmt.Sprintf("%s %.0f of %.0f", name, q.Used, q.Limit))
	}
	if len(out) == 0 {
		return "no pools, no quotas"
	}
	return strings.Join(out, " · ")
}

func prices(s *estate.Site) string {
	if s.FreeForm {
		return fmt.Sprintf("%.3f a core · %.3f a GiB", s.Prices.Core, s.Prices.Memory)
	}
	least := s.Sizes[0]
	for _, z := range s.Sizes {
		if z.PricePerHour < least.PricePerHour {
			least = z
		}
	}
	text := fmt.Sprintf("from %.3f (%s)", least.PricePerHour, least.Name)
	for _, p := range estate.Payments[1:] {
		if x, ok := least.Price(p); ok {
			text += fmt.Sprintf(" · %.3f %s", x, strings.TrimPrefix(string(p), "reserved-"))
		}
	}
	return text
}

func offers(s *estate.Site) string {
	if s.FreeForm {
		return "any size · " + printable.Count(len(s.Images), "image")
	}
	return printable.Count(len(s.Sizes), "size") + " · " + printable.Count(len(s.Images), "image")
}

// mostSleepers is of how many deployments it is said that they sleep.
const mostSleepers = 4

// asleep says whose capacity is paused, and when it is to serve again, and returns the row after that.
func (p *page) asleep(s *usage.Site, y int) int {
	all := s.Sleepers()
	for i, x := range all {
		if y >= p.r.Y+p.r.H {
			break
		}
		if i == mostSleepers {
			p.c.Text(p.r.X+2, y, part.In(part.Dim), fmt.Sprintf("and %s more", printable.Count(len(all)-i, "deployment")))
			return y + 1
		}
		of := x.Of
		if of == "" {
			of = "another team's"
		}
		until := ""
		if at := p.v.wakesAt(x.Deployment, s.Site.Name); !at.IsZero() {
			until = " until " + at.In(p.now.Location()).Format("Mon 15:04")
		}
		p.c.Cut(p.r.X+2, y, p.rooms()-p.r.X-4, part.In(part.Violet), fmt.Sprintf("%s sleeps%s: %d cores, %s", of, until, x.Takes.Cores, estate.GiB(x.Takes.MemoryGiB)))
		y++
	}
	return y
}

// detail is the selected site: all that is left of it in every dimension, and how far it is from the others.
func (p *page) detail() {
	s := p.v.loads[p.v.at]
	y := p.y + 1
	x := p.c.Text(p.r.X+2, y, part.In(part.Text).Strong(), s.Site.Name)
	p.c.Text(x+2, y, part.In(part.Dim), "all of it")
	for i, d := range dims {
		l := d.sum(s)
		p.c.Text(p.r.X+2, y+1+i, part.In(part.Text), d.word)
		part.LoadBar(p.c, p.r.X+14, y+1+i, 28, l)
		p.c.Text(p.r.X+44, y+1+i, part.In(part.Dim), fmt.Sprintf("%.0f free", l.Free()))
	}
	row := p.asleep(&s, y+1+len(dims))
	lowest := row + 1 + p.connected(s.Site.Name, row+1)
	x = p.rooms()
	p.c.Text(x, y, part.In(part.Steel).Strong(), "to the others, and a GiB there")
	p.c.Text(x+35, y, part.In(part.Steel).Strong(), "paired for moves")
	row = y + 1
	for _, o := range p.v.estate().Sites {
		if o.Name == s.Site.Name || row >= p.r.Y+p.r.H {
			continue
		}
		ms, known := estate.Distance(s.Site, o)
		far := fmt.Sprintf("%5.1f ms", ms)
		if !known {
			far = "    ? ms"
		}
		p.c.Cut(x, row, 16, part.In(part.Text), o.Name)
		p.c.Text(x+17, row, part.In(part.Text), far)
		p.c.Text(x+28, row, part.In(part.Dim), fmt.Sprintf("%.3f", s.Site.EgressTo(o)))
		p.paired(s.Site.Name, o.Name, x+35, row)
		row++
	}
	lowest = max(lowest, row)
	x += 66
	p.c.Text(x, y, part.In(part.Steel).Strong(), "what it can do")
	for i, f := range s.Site.Features {
		if y+1+i < p.r.Y+p.r.H {
			p.c.Text(x, y+1+i, part.In(part.Teal), "■ "+f)
		}
	}
	if s.CostPerHour > 0 {
		p.c.Text(x, y+2+len(s.Site.Features), part.In(part.Steel).Strong(), "this plan here")
		p.c.Text(x, y+3+len(s.Site.Features), part.In(part.Text), fmt.Sprintf("%d instances, %.3f %s/h", s.Instances, s.CostPerHour, p.v.estate().Currency))
	}
	p.overview(s.Site.Name, max(lowest, y+len(s.Site.Features)+4)+1)
}
