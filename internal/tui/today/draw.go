package today

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/money"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/tui/part"
)

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, now time.Time) {
	v.now = now
	items := v.items(now)
	v.rows = map[int]int{}
	d := &page{v: v, c: c, r: r, y: r.Y, now: now}
	d.summary(items)
	d.queue(items)
	for i, title := range []string{"under way", "standing", "earlier"} {
		d.runs(title, i, len(items))
	}
	d.due()
	d.done()
}

// page writes the view from the top.
type page struct {
	v   *View
	c   *part.Canvas
	r   part.Rect
	y   int
	now time.Time
}

// columns of the page: the title, the reason, the act.
func (d *page) columns() (why, act int) {
	if d.r.W < 110 {
		return d.r.X + 38, d.r.X + d.r.W
	}
	return d.r.X + max(d.r.W*3/10, 38), d.r.X + d.r.W*7/10
}

func (d *page) summary(items []item) {
	needs, going := len(items), 0
	for _, r := range d.v.runs {
		if d.v.section(r) == 0 {
			going++
		}
	}
	x := d.c.Text(d.r.X+1, d.y, part.In(part.Text).Strong(), d.now.Format("Monday 2 January")) + 3
	text := fmt.Sprintf("%s · %s%s", plural(needs, "thing waits for you", "things wait for you"), plural(going, "run under way", "runs under way"), d.costs())
	d.c.Cut(x, d.y, d.r.X+d.r.W-x-1, part.In(part.Dim), text)
	d.y += 2
}

// costs is what all that stands costs together: each deployment as its last run left it.
func (d *page) costs() string {
	sum, currency := money.Amount(0), ""
	for _, h := range d.v.health {
		sum, currency = sum+h.Cost, cmp.Or(h.Currency, currency)
	}
	if d.v.health != nil {
		return costing(sum, currency)
	}
	counted := map[int64]bool{}
	for _, r := range d.v.runs { // the newest first
		if r.State == run.Standing && !r.Void && (r.Deployment == 0 || !counted[r.Deployment]) {
			counted[r.Deployment] = true
			sum, currency = sum+r.CostPerHour, r.Currency
		}
	}
	return costing(sum, currency)
}

func costing(sum money.Amount, currency string) string {
	if sum == 0 {
		return ""
	}
	return fmt.Sprintf(" · what stands costs %.3f %s/h", sum, currency)
}

func plural(n int, one, many string) string {
	switch n {
	case 0:
		return "no " + many
	case 1:
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func (d *page) head(title, why, act string) {
	atWhy, atAct := d.columns()
	d.c.Text(d.r.X+2, d.y, part.In(part.Steel).Strong(), title)
	d.c.Text(atWhy, d.y, part.In(part.Dim), why)
	d.c.Text(atAct, d.y, part.In(part.Dim), act)
	d.c.Across(d.r.X+1, d.y+1, d.r.W-2, part.In(part.Dim), d.c.Look.Glyphs.Thin)
	d.y += 2
}

func (d *page) queue(items []item) {
	d.head("needs you", "why now", "settles it")
	if len(items) == 0 {
		text := "nothing needs you"
		if !d.v.known {
			text = "looking"
		}
		d.c.Text(d.r.X+2, d.y, part.In(part.Dim), text)
		d.y += 2
		return
	}
	atWhy, atAct := d.columns()
	for i, it := range items {
		d.select2(i)
		x := d.c.Text(d.r.X+2, d.y, part.In(part.InkOf(it.status)), d.c.Look.Mark(it.status))
		d.c.Cut(x+1, d.y, atWhy-x-3, part.In(part.Text).Strong(), it.title)
		d.c.Cut(x+1, d.y+1, atWhy-x-3, part.In(part.Dim), it.below)
		lines := part.Wrap(it.why, min(atAct, d.r.X+d.r.W)-atWhy-2)
		for j, l := range lines[:min(len(lines), 2)] {
			d.c.Text(atWhy, d.y+j, part.In(part.Text), l)
		}
		at := d.c.Text(atAct, d.y, part.In(part.Ochre), "enter")
		d.c.Cut(at+1, d.y, d.r.X+d.r.W-at-2, part.In(part.Text), it.acts)
		d.y += 3
	}
}

// select2 marks the two rows of an item if it is selected.
func (d *page) select2(i int) {
	d.v.rows[d.y], d.v.rows[d.y+1] = i, i
	if d.v.at == i {
		d.c.Fill(part.Rect{X: d.r.X + 1, Y: d.y, W: d.r.W - 2, H: 2}, part.OnSelected)
		d.c.Rune(d.r.X, d.y, part.In(part.Ochre).Strong(), d.c.Look.Glyphs.PickLeft)
		d.c.Rune(d.r.X, d.y+1, part.In(part.Ochre).Strong(), d.c.Look.Glyphs.PickLeft)
	}
}

func (d *page) runs(title string, part, before int) {
	shown := false
	for i, r := range d.v.listed() {
		if d.v.section(r) != part || d.y >= d.r.Y+d.r.H-1 {
			continue
		}
		if !shown {
			act := ""
			if title == "standing" && len(d.v.wholes) > 0 {
				act = strings.Repeat(" ", 16) + usedHead
			}
			d.head(title, "", act)
			shown = true
		}
		d.run(r, before+i)
	}
	if shown {
		d.y++
	}
}

func (d *page) run(r app.Run, index int) {
	d.v.rows[d.y] = index
	if d.v.at == index {
		d.c.Fill(part.Rect{X: d.r.X + 1, Y: d.y, W: d.r.W - 2, H: 1}, part.OnSelected)
		d.c.Rune(d.r.X, d.y, part.In(part.Ochre).Strong(), d.c.Look.Glyphs.PickLeft)
	}
	atWhy, atAct := d.columns()
	state, word := deployments.EndOf(r), string(deployments.EndOf(r))
	if state == run.Standing && d.v.section(r) > 1 { // what it left was changed since
		state, word = run.Passed, "ended well"
	}
	cost, currency := r.CostPerHour, r.Currency
	h, read := d.v.health[r.Deployment]
	if read = read && d.v.section(r) == 1; read { // what stands is as it was read last
		state, word, cost, currency = h.Status, h.Word, h.Cost, h.Currency
	}
	if runs.Abandoned(r, d.now) {
		state = run.Failed
	}
	x := d.c.Text(d.r.X+2, d.y, part.In(part.InkOf(state)), d.c.Look.Mark(state))
	d.c.Cut(x+1, d.y, atWhy-x-3, part.In(part.Text).Strong(), fmt.Sprintf("%s run %d", r.Name, r.ID))
	text := word
	if runs.Abandoned(r, d.now) {
		text = "worker silent"
	}
	if r.Preset != "" {
		text += " · " + r.Preset
	}
	text += " · " + printable.Count(r.Steps, "step")
	if r.Ended.IsZero() {
		text += " · begun " + part.Age(r.Created, d.now)
	} else {
		text += fmt.Sprintf(" · took %s · ended %s", part.Clock(r.Ended.Sub(r.Created)), part.Age(r.Ended, d.now))
	}
	d.c.Cut(atWhy, d.y, min(atAct, d.r.X+d.r.W)-atWhy-1, part.In(part.Dim), text)
	if (state == run.Standing || read) && atAct < d.r.X+d.r.W {
		at := d.c.Text(atAct, d.y, part.In(part.Text), fmt.Sprintf("%8.3f %s/h", cost, currency))
		if read {
			d.used(r.Deployment, at+3)
		}
	}
	d.y++
}
