package catalogue

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/decide"
	"andamio/internal/core/offer"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/offers"
	"andamio/internal/tui/part"
)

// listWidth is how wide the list of offers is.
const listWidth = 40

func number(n int64) string { return strconv.FormatInt(n, 10) }

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, _ time.Time) {
	v.rows, v.asks = map[int]int{}, map[int]int{}
	c.Text(r.X+1, r.Y, part.In(part.Text).Strong(), "what do you need?")
	switch {
	case !v.known:
		c.Text(r.X+21, r.Y, part.In(part.Dim), "looking")
		return
	case len(v.offers) == 0:
		c.Text(r.X+21, r.Y, part.In(part.Dim), "nothing is offered to you")
		return
	}
	if v.preview != "" {
		c.Cut(r.X+21, r.Y, r.W-22, part.In(part.Ochre), v.preview)
	} else {
		v.title(c, r)
	}
	list := part.Rect{X: r.X, Y: r.Y + 2, W: listWidth, H: r.H - 2}
	if r.W < 100 {
		list.W = 26
	}
	v.list(c, list)
	c.Downward(list.X+list.W, list.Y, list.H, part.In(part.Dim), c.Look.Glyphs.Down)
	p := &page{v: v, c: c.Clip(part.Rect{X: list.X + list.W + 1, Y: r.Y, W: r.W - list.W - 1, H: r.H}), x: list.X + list.W + 2, y: r.Y + 2, w: r.W - list.W - 3, end: r.Y + r.H}
	p.questions()
	p.comes()
	if p.tight() { // what is decided comes before what it would be elsewhere
		p.happens()
		p.y++
		p.sites()
		return
	}
	p.sites()
	p.happens()
}

// tightBelow is how many rows the page must have for all that can be said.
const tightBelow = 34

// tight reports that there is no room for all of it: what matters less is said shorter, or last.
func (p *page) tight() bool { return p.end < tightBelow }

// title says how much is offered, and whose answers these are.
func (v *View) title(c *part.Canvas, r part.Rect) {
	x := c.Text(r.X+21, r.Y, part.In(part.Dim), offered(len(v.offers)))
	if v.instead != 0 {
		c.Cut(x+3, r.Y, r.X+r.W-x-3, part.In(part.Ochre), "other answers for request "+number(v.instead))
	}
}

func offered(n int) string {
	if n == 1 {
		return "1 offer for you"
	}
	return fmt.Sprintf("%d offers for you", n)
}

func (v *View) list(c *part.Canvas, r part.Rect) {
	const each = 4
	room := max(r.H/each, 1)
	first := max(min(v.at-room/2, len(v.offers)-room), 0)
	y := r.Y
	for i := first; i < len(v.offers) && y+2 < r.Y+r.H; i++ {
		o := &v.offers[i]
		for k := range 3 {
			v.rows[y+k] = i
		}
		if i == v.at {
			c.Fill(part.Rect{X: r.X + 1, Y: y, W: r.W - 1, H: 3}, part.OnSelected)
			for k := range 3 {
				c.Rune(r.X, y+k, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
			}
		}
		c.Cut(r.X+2, y, r.W-3, part.In(part.Text).Strong(), o.Title)
		c.Cut(r.X+2, y+1, r.W-3, part.In(part.Dim), o.Note)
		c.Cut(r.X+2, y+2, r.W-3, part.In(part.Steel), o.Category)
		y += each
	}
}

// page writes what the selected offer is, from the top.
type page struct {
	v       *View
	c       *part.Canvas
	x, y, w int
	end     int
}

func (p *page) head(text string) {
	p.c.Text(p.x, p.y, part.In(part.Steel).Strong(), text)
	p.y++
}

// questions are asked one below another, with the answers as they are.
func (p *page) questions() {
	o := p.v.selected()
	x := p.c.Text(p.x, p.y, part.In(part.Text).Strong(), o.Title)
	p.c.Cut(x+3, p.y, p.x+p.w-x-3, part.In(part.Dim), version(o))
	p.y += 2
	at := min(34, p.w/2)
	for i, q := range p.v.questions() {
		p.v.asks[p.y] = i
		ink := part.In(part.Dim)
		on := part.Panel
		if p.v.pane == atQuestions && p.v.ask == i {
			ink, on = part.In(part.Text).Strong(), part.OnSelected
		}
		p.c.Cut(p.x, p.y, at-2, ink, q.Ask)
		p.c.Fill(part.Rect{X: p.x + at, Y: p.y, W: min(34, p.w-at), H: 1}, on)
		p.c.Cut(p.x+at+1, p.y, min(32, p.w-at-2), part.In(part.Text).On(on), shown(q, p.v.value(q)))
		p.y++
		p.help(q, at+1, on == part.OnSelected)
	}
	if hidden := len(o.Asked()) - len(p.v.questions()); hidden > 0 {
		p.c.Text(p.x, p.y, part.In(part.Ochre), "m")
		p.c.Text(p.x+3, p.y, part.In(part.Dim), fmt.Sprintf("more: %d that need not be answered", hidden))
		p.y++
	}
	p.y++
}

// help writes the help of a question below its answer: all of it while it is being answered, else one row.
func (p *page) help(q *offer.Question, at int, all bool) {
	w := p.w - at - 1
	if !all {
		p.c.Cut(p.x+at, p.y, w, part.In(part.Dim), below(q))
		p.y++
		return
	}
	for _, row := range part.Wrap(below(q), w) {
		p.c.Text(p.x+at, p.y, part.In(part.Dim), row)
		p.y++
	}
}

// shown is an answer as people read it.
func shown(q *offer.Question, value string) string {
	for _, c := range q.Choices {
		if offer.Written(c.Value) == value && c.Title != "" {
			return c.Title + " · " + value
		}
	}
	if value == "" {
		return "as usual"
	}
	return value
}

// below is the help of a question, or which answers there are.
func below(q *offer.Question) string {
	if q.Help != "" {
		return q.Help
	}
	var titles []string
	for _, c := range q.Choices {
		titles = append(titles, offer.Written(c.Value))
	}
	if len(titles) > 0 {
		return strings.Join(titles, ", ")
	}
	return q.Says()
}

// comes says what the answers come to.
func (p *page) comes() {
	v := p.v
	p.head("what it comes to")
	if text := v.trouble(); v.foreseen == nil || text != "" {
		ink := part.Coral
		if v.foreseen == nil && v.wrong == "" {
			ink = part.Dim
		}
		p.paragraph(ink, text)
		p.y++
		if v.foreseen == nil || v.foreseen.Quote.Draft() == nil {
			return
		}
	}
	q := v.foreseen.Quote
	if q.Hidden {
		p.c.Text(p.x, p.y, part.In(part.Dim), "its price is not shown")
	} else {
		x := p.c.Text(p.x, p.y, part.In(part.Text).Strong(), fmt.Sprintf("%.3f %s/h", q.PerHour, q.Currency))
		x = p.c.Text(x+3, p.y, part.In(part.Text), fmt.Sprintf("%.2f %s a month", q.PerMonth, q.Currency))
		if p.tight() {
			p.c.Cut(x+3, p.y, p.x+p.w-x-3, part.In(part.Text), "at "+strings.Join(placed(q), ", "))
		}
	}
	p.y++
	if p.tight() {
		p.c.Cut(p.x, p.y, p.w, part.In(part.Dim), q.Size.Says())
		p.y++
	} else {
		p.paragraph(part.Dim, q.Size.Says())
	}
	p.left()
	p.y++
}

// placed are the sites at which it would stand, each once.
func placed(q *offers.Quote) []string {
	var out []string
	for _, pl := range q.Places {
		if !slices.Contains(out, pl.Site) {
			out = append(out, pl.Site)
		}
	}
	return out
}

// left is what is left of each quota after it, one paragraph a quota; what is too many has a row of its own.
func (p *page) left() {
	currency := p.v.foreseen.Quote.Currency
	var names []string
	left := map[string][]string{}
	for _, u := range p.v.foreseen.Left {
		name, _, _ := strings.Cut(u.Account, "#")
		if u.Free() < 0 {
			p.paragraph(part.Coral, fmt.Sprintf("%s too many for %s", u.Measure.Says(-u.Free(), currency), name))
			continue
		}
		if len(left[name]) == 0 {
			names = append(names, name)
		}
		left[name] = append(left[name], u.Measure.Says(u.Free(), currency))
	}
	for _, name := range names {
		if p.tight() {
			text := "left of " + name + ": " + left[name][0]
			if more := len(names) - 1; more > 0 {
				text += ", and of " + printable.Count(more, "more quota")
			}
			p.c.Cut(p.x, p.y, p.w, part.In(part.Dim), text)
			p.y++
			return
		}
		p.paragraph(part.Dim, "left of "+name+": "+strings.Join(left[name], ", "))
	}
}

// paragraph writes text in as many rows as it takes.
func (p *page) paragraph(ink part.Ink, text string) {
	for _, row := range part.Wrap(text, p.w) {
		p.c.Text(p.x, p.y, part.In(ink), row)
		p.y++
	}
}

// sites are where it would stand, and what it would cost elsewhere.
func (p *page) sites() {
	f := p.v.foreseen
	if f == nil || len(f.Quote.Sites) == 0 {
		return
	}
	p.head("where it would stand, and what all of it would cost at one site")
	most := f.Quote.PerHour
	here := map[string]bool{}
	for _, s := range f.Quote.Sites {
		most = max(most, s.PerHour)
	}
	for _, pl := range f.Quote.Places {
		here[pl.Site] = true
	}
	const at, bar = 16, 24
	for _, s := range f.Quote.Sites {
		ink, fill := part.Dim, part.Steel
		if here[s.Site] {
			ink, fill = part.Text, part.Teal
		}
		p.c.Cut(p.x, p.y, at-1, part.In(ink), s.Site)
		if s.Cannot == "" && !f.Quote.Hidden && p.w > at+bar+20 {
			part.Bar(p.c, p.x+at, p.y, bar, s.PerHour.Units(), most.Units(), fill)
		}
		text := atSite(&s, f.Quote)[len(s.Site):]
		switch {
		case here[s.Site] && s.Cannot != "":
			text = "a part of it; not all: " + strings.TrimSpace(text)
		case here[s.Site]:
			text += "  here"
		}
		p.c.Cut(p.x+at+bar+1, p.y, p.w-at-bar-1, part.In(ink), strings.TrimSpace(text))
		p.y++
	}
	p.y++
}

// atSite says what it would cost at a site, or why it cannot stand there.
func atSite(s *offers.AtSite, q *offers.Quote) string {
	switch {
	case s.Cannot != "":
		first, _, _ := strings.Cut(s.Cannot, "\n")
		return s.Site + "  " + first
	case q.Hidden:
		return s.Site + "  fits"
	}
	return fmt.Sprintf("%s  %.3f %s/h", s.Site, s.PerHour, q.Currency)
}

// outlook says in a sentence what happens when it is asked for.
func (v *View) outlook() string {
	f := v.foreseen
	took := part.Clock(time.Duration(f.Quote.Seconds * float64(time.Second)))
	switch f.Decision.Then {
	case decide.Approve:
		return fmt.Sprintf("%s It serves after about %s, and is called %s.", f.Decision.Say, took, f.Name)
	case decide.Refuse:
		return "It is refused by rule: " + f.Decision.Say
	}
	return fmt.Sprintf("%s It serves about %s after a yes, and is called %s.", f.Decision.Say, took, f.Name)
}

// happens draws what happens when it is asked for.
func (p *page) happens() {
	f := p.v.foreseen
	if f == nil || f.Quote.Draft() == nil || f.Over != "" || p.y+2 >= p.end {
		return
	}
	p.head("what happens when you ask")
	mark, ink := run.Standing, part.Teal
	switch f.Decision.Then {
	case decide.Ask:
		mark, ink = run.Held, part.Violet
	case decide.Refuse:
		mark, ink = run.Failed, part.Coral
	}
	x := p.c.Text(p.x, p.y, part.In(part.Teal), p.c.Look.Mark(run.Standing))
	x = p.c.Text(x+1, p.y, part.In(part.Text), "checked")
	p.c.Across(x+1, p.y, 3, part.In(part.Dim), p.c.Look.Glyphs.Thin)
	x = p.c.Text(x+5, p.y, part.In(ink), p.c.Look.Mark(mark))
	word := map[decide.Then]string{decide.Approve: "approved by rule", decide.Ask: "waits for " + who(f.Decision.Ask), decide.Refuse: "refused by rule"}[f.Decision.Then]
	x = p.c.Text(x+1, p.y, part.In(part.Text), word)
	if f.Decision.Then != decide.Refuse {
		p.c.Across(x+1, p.y, 3, part.In(part.Dim), p.c.Look.Glyphs.Thin)
		x = p.c.Text(x+5, p.y, part.In(part.Dim), p.c.Look.Mark(run.Planned))
		x = p.c.Text(x+1, p.y, part.In(part.Text), "serving")
		p.c.Whole(x, p.y, p.x+p.w-x, part.In(part.Text), ", "+part.Clock(time.Duration(f.Quote.Seconds*float64(time.Second)))+" later")
	}
	p.y++
	p.paragraph(part.Dim, f.Decision.Say)
	switch kept := f.Quote.Kept; {
	case kept == nil:
	case p.tight():
		p.c.Cut(p.x, p.y, p.w, part.In(part.Teal), kept.Short())
		p.y++
	default:
		p.paragraph(part.Teal, kept.Says(f.Quote.Currency, f.Quote.Hidden))
	}
	switch {
	case f.Lease == nil:
	case p.tight():
		p.paragraph(part.Violet, f.Lease.Short()+".")
	default:
		p.paragraph(part.Violet, f.Lease.Words())
	}
}

func who(names []string) string {
	if len(names) == 0 {
		return "somebody who may approve"
	}
	return strings.Join(names, ", ")
}

// version says which of its versions an offer is.
func version(o *offers.Offer) string {
	if o.Number == 0 {
		return "not published yet"
	}
	return fmt.Sprintf("version %d, %s", o.Number, o.Published.Local().Format("2 January"))
}
