package govern

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/elevation"
	"andamio/internal/core/run"
	"andamio/internal/service/requests"
	"andamio/internal/tui/part"
)

// side draws the selected request: what it would build, what a yes does to quotas, why it asks, and what was said.
func (v *View) side(c *part.Canvas, r part.Rect, now time.Time) {
	x := v.selected()
	if x == nil {
		return
	}
	p := &panel{c: c.Clip(r), r: r, y: r.Y}
	p.line(part.In(part.Text).Strong(), x.Title)
	p.line(part.In(part.Dim), fmt.Sprintf("%s · %s · request %d", orNobody(x.Person), orNobody(x.Owner.Team), x.ID))
	if x.Why != "" {
		p.wrap(part.In(part.Text), x.Why, 3)
	}
	p.y++
	v.effectPanel(p)
	if x.Decision.Say != "" {
		p.head("why")
		p.wrap(part.In(part.Text), x.Decision.Say, 4)
		p.y++
	}
	v.threadPanel(p, now)
}

func orNobody(s string) string {
	if s == "" {
		return "nobody's"
	}
	return s
}

// effectPanel draws what a yes to the selected request would do.
func (v *View) effectPanel(p *panel) {
	x := v.selected()
	if v.of == x.ID && v.have != nil {
		v.havePanel(p)
		return
	}
	if v.of != x.ID || v.effect == nil {
		p.pair("costs", fmt.Sprintf("%.3f %s/h", x.PerHour, x.Currency), part.Text)
		p.y++
		return
	}
	q := v.effect.Quote
	if q.Cannot != "" {
		p.head("it cannot be had now")
		p.wrap(part.In(part.Coral), q.Cannot, 5)
		p.y++
		return
	}
	p.head("what it would build")
	if s := v.state(); s != nil {
		h := min(10, max(p.r.H/4, 7))
		v.elev.By = elevation.BySite
		v.elev.Draw(p.c, part.Rect{X: p.r.X, Y: p.y, W: p.r.W, H: h}, s)
		p.y += h + 1
	}
	p.wrap(part.In(part.Text), q.Size.Says(), 2)
	cost := part.Text
	if v.effect.Dearer {
		cost = part.Coral
	}
	p.pair("costs", fmt.Sprintf("%.3f %s/h, %.2f a month", q.PerHour, q.Currency, q.PerMonth), cost)
	p.pair("serves", "after about "+part.Clock(time.Duration(q.Seconds*float64(time.Second))), part.Text)
	p.y++
	if len(v.effect.Left) > 0 {
		p.head("left of quotas, with it")
		for _, u := range v.effect.Left {
			ink := part.Text
			if u.Free() < 0 {
				ink = part.Coral
			}
			p.pair(plainName(u.Account), u.Measure.Says(u.Free(), q.Currency), ink)
		}
		p.y++
	}
}

// havePanel draws what somebody has of the selected request.
func (v *View) havePanel(p *panel) {
	h := v.have
	p.head("what is there")
	p.pair("how it is", p.c.Look.Mark(h.Status)+" "+h.Word, part.InkOf(h.Status))
	if !h.Hidden {
		p.pair("costs", fmt.Sprintf("%.3f %s/h", h.PerHour, h.Currency), part.Text)
		p.pair("so far", fmt.Sprintf("%.2f %s", h.Cost, h.Currency), part.Text)
	}
	if h.Level != "" {
		p.pair("kept at", h.Level, part.Teal)
	}
	if h.Ends != nil {
		p.pair("ends", h.Ends.Local().Format("2 Jan 2006 15:04"), part.Violet)
	}
	if len(h.Turns) > 0 || h.Extensions > 0 {
		var words []string
		if h.Extensions > 0 {
			words = append(words, "extend")
		}
		for _, t := range h.Turns {
			words = append(words, string(t))
		}
		p.pair("a  you may", strings.Join(words, ", "), part.Ochre)
	}
	p.y++
}

// state is what a yes would build, as a state that can be drawn.
func (v *View) state() *run.State {
	d := v.effect.Quote.Draft()
	if d == nil || d.Plan == nil {
		return nil
	}
	if v.drawn == nil || v.drawn.Plan != d.Plan {
		v.drawn = run.New(d.Plan)
	}
	return v.drawn
}

func (v *View) threadPanel(p *panel, now time.Time) {
	x := v.selected()
	if v.of != x.ID || len(v.thread) == 0 {
		return
	}
	p.head("thread")
	room := max(p.r.Y+p.r.H-p.y, 1)
	said := slices.DeleteFunc(slices.Clone(v.thread), func(e requests.Event) bool { return e.Stage == requests.StageWaiting }) // that is why it asks
	for _, e := range said[max(len(said)-room, 0):] {
		who := e.By.Name
		switch {
		case e.Rule != "":
			who = "rule " + e.Rule
		case who == "":
			who = "then"
		}
		text := e.Text
		if e.Stage != "" && e.Stage != text {
			text = e.Stage + ": " + e.Text
		}
		p.line(part.In(part.Dim), fmt.Sprintf("%s %s %s", part.Age(e.At, now), who, text))
	}
}

// panel writes lines from the top.
type panel struct {
	c *part.Canvas
	r part.Rect
	y int
}

func (p *panel) line(s part.Style, text string) {
	p.c.Cut(p.r.X, p.y, p.r.W, s, text)
	p.y++
}

func (p *panel) head(text string) { p.line(part.In(part.Steel).Strong(), text) }

func (p *panel) pair(name, value string, ink part.Ink) {
	const at = 13
	p.c.Cut(p.r.X, p.y, at-1, part.In(part.Dim), name)
	p.c.Cut(p.r.X+at, p.y, p.r.W-at, part.In(ink), value)
	p.y++
}

// wrap writes text in at most so many lines.
func (p *panel) wrap(s part.Style, text string, most int) {
	rows := part.Wrap(text, p.r.W)
	for i, row := range rows {
		if i == most-1 && len(rows) > most {
			p.line(s, row+" …")
			return
		}
		p.line(s, row)
	}
}
